"""The timings that a probe leaves beside its crate."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Annotated

from pydantic import Field

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.crate.test_frames import probe_folder
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.estimate.machine import ProbeMachine
from tidy_crate.core.estimate.timings import PRACTICE, FrameTiming, Timings
from tidy_crate.core.farm.prices import MOST_SECONDS
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.model import FrameNumber, Wire, validated
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.request import MOST_PIXELS, RenderRequest

TIMINGS = "timings.json"
VERSION = 3

Seconds = Annotated[float, Field(ge=0, le=MOST_SECONDS)]
Count = Annotated[int, Field(ge=0, lt=2**63)]
Place = Annotated[float, Field(ge=0, le=1)]


class ProbeFrame(Wire):
    """One measured frame."""

    request: str
    frame: FrameNumber
    seconds: Seconds
    """Wall clock, without starting the renderer and loading the scene; processor time for the practice renderer."""
    memory_bytes: Count
    """Memory of the renderer and all that it started, at its peak."""
    width: Annotated[int, Field(ge=1, le=MOST_PIXELS)]
    height: Annotated[int, Field(ge=1, le=MOST_PIXELS)]
    samples: Count | None
    """Per pixel; None where nothing states them."""
    basis: str
    """Kind of renderer."""
    bytes: Count = 0
    """Bytes of all files that it left; 0 while unknown."""
    why: str = ""
    """Why this frame was chosen."""

    @property
    def timing(self) -> FrameTiming:
        """The same for the timing model."""
        return FrameTiming(
            self.request, self.frame, max(self.seconds, 1e-6), self.width, self.height, self.samples,
            self.memory_bytes or None,
        )  # fmt: skip


class Expected(Wire):
    """Total of all frames of a request on this machine, in seconds: 10th, 50th and 90th percentile."""

    request: str
    frames: Count
    low: Seconds
    likely: Seconds
    high: Seconds
    width: Annotated[float, Field(ge=0)]
    """(high - low) / likely."""


# share of a machine's processor time that other programs may take before timings are called into question
BUSY = 0.1
# share of a machine's memory from which on it may run out in a frame beside
NEARLY_ALL = 0.75


class ProbeResult(Wire):
    """All measured frames, and what they were measured with."""

    probe: int = VERSION
    crate: str
    frames: tuple[ProbeFrame, ...]
    load_seconds: Seconds
    """To start the renderer and load the scene, once per batch."""
    startup_seconds: Seconds = 0.0
    """Part of it: until the renderer printed its first line; 0 where it printed none before its first frame."""
    cores_used: Annotated[float, Field(ge=0, le=1e6)]
    """Processor seconds for each second of wall clock."""
    others: Annotated[float, Field(ge=0, le=1)] = 0.0
    """Share of this machine's processor time that other programs took meanwhile."""
    basis: str
    renderer: str
    """Name and version."""
    contents: str = ""
    """Digest of the crate's packing list; empty where it was not noted."""
    command: tuple[str, ...] = ()
    """The render command, with its placeholders."""
    machine: ProbeMachine = ProbeMachine()
    expected: tuple[Expected, ...] = ()
    """For each request."""
    noise_target: bool = False
    """True if a frame ends at a noise target."""
    load_known: bool = True
    """False for timings from elsewhere that do not tell how long loading takes."""
    score: Annotated[float, Field(gt=0)] | None = None
    """Score of the machine that they are of, where that is not this one."""
    source: str = ""
    """Their source, in words; empty for test frames."""
    views: dict[str, dict[str, Annotated[float, Field(gt=0, le=1e6)]]] = Field(default_factory=dict)
    """By request and view, how many times as long a frame takes as in the first view; only those that were timed."""
    positions: dict[str, tuple[Place, ...]] = Field(default_factory=dict)
    """By request, where its frames stand along the shot, from 0 to 1: far apart where much changes on screen."""

    def outdated(self, content: PackingList) -> tuple[str, ...]:
        """Return why these timings say nothing about this crate; nothing where they do."""
        if not self.contents:
            return ("they do not say which state of the crate they are of",)
        found = []
        if self.contents != content.digest:
            found.append("the crate was collected again since, and holds something else")
        command = content.render
        if command is not None and command.program != self.renderer:
            found.append(f"they were made with {self.renderer or 'another renderer'}")
        if command is not None and command.command != self.command:
            found.append("they were made with another command line")
        return tuple(found)

    @property
    def warning(self) -> str:
        """Return why the timings may be too long, in words; empty where nothing says so."""
        most = max((one.memory_bytes for one in self.frames), default=0)
        if self.machine.memory_bytes and most >= NEARLY_ALL * self.machine.memory_bytes:
            return (
                f"a test frame took {most / self.machine.memory_bytes:.0%} of this machine's memory: "
                "frames that take a little more may take many times as long"
            )
        # processor time hardly hangs on what else runs
        if self.others < BUSY or self.basis == PRACTICE:
            return ""
        return (
            f"other programs took {self.others:.0%} of this machine while the test frames were rendered: "
            "their times may be too long; probe again while it is idle"
        )

    def timings(self, requests: tuple[RenderRequest, ...]) -> Timings:
        """Return them for an estimate."""
        sizes: dict[str, list[float]] = {}
        by_name = {request.name: request for request in requests}
        for one in self.frames:
            if one.bytes and one.request in by_name:
                asked = by_name[one.request]
                pixels = asked.width * asked.height / (one.width * one.height)
                sizes.setdefault(one.request, []).append(one.bytes * pixels)
        return Timings(
            tuple(one.timing for one in self.frames),
            self.load_seconds if self.load_known else None,
            self.basis,
            self.source or f"{len(self.frames)} test frames of {self.renderer or 'a renderer'} on this machine",
            noise_target=self.noise_target,
            home_bytes={name: sum(each) / len(each) for name, each in sizes.items()},
            score=self.score,
            warning=self.warning,
            views={(request, view): one for request, each in self.views.items() for view, one in each.items()},
        )


def keep_timings(crate: Path, content: PackingList, timings: Timings) -> ProbeResult:
    """Keep timings from elsewhere as those of a crate, in place of test frames of its own."""
    requests = {request.name: request for request in content.to_render()}
    frames = []
    for one in timings.frames:
        for request in [requests[one.request]] if one.request else requests.values():
            frames.append(
                ProbeFrame(
                    request=request.name, frame=one.frame, seconds=one.seconds, memory_bytes=one.memory_bytes or 0,
                    width=one.width or request.width, height=one.height or request.height,
                    samples=one.samples or request.samples, basis=timings.basis, why=timings.source,
                )
            )  # fmt: skip
    command = content.render
    result = ProbeResult(
        crate=crate.name,
        frames=tuple(frames),
        load_seconds=timings.load_seconds or 0.0,
        cores_used=0.0,
        basis=timings.basis,
        renderer=command.program if command is not None else "",
        contents=content.digest,
        command=command.command if command is not None else (),
        load_known=timings.load_seconds is not None,
        score=timings.score,
        source=timings.source,
    )
    write_json(probe_folder(crate.absolute()) / TIMINGS, result.model_dump(mode="json"))
    return result


# from version 1, which noted nothing of what the timings belong to; version 3 notes more of each frame
SCHEMA = Schema("timings", "probe", VERSION, {1: lambda content: content, 2: lambda content: content})


def read_probe(crate: Path, content: PackingList, *, accept_old: bool = False) -> ProbeResult:
    """Return the timings of a crate. accept_old: also those that are of another state of it.

    Raises UnreadableInput when there are none, or they are of something else.
    """
    path = probe_folder(crate.absolute()) / TIMINGS
    if not path.is_file():
        raise UnreadableInput(
            "there are no timings for this crate yet", crate,
            f"run tidy-crate probe {shlex.quote(str(crate))}, or give times with --seconds-per-frame, --timing or "
            "--timings",
        )  # fmt: skip
    found = validated(ProbeResult, SCHEMA.upgraded(read_json(path, SCHEMA.what), path), SCHEMA.what, path)
    reasons = found.outdated(content)
    if reasons and not accept_old:
        what = "the timings are of something else: " + "; ".join(reasons)
        raise UnreadableInput(what, crate, "run probe on it again, or add --accept-old-timings")
    return found
