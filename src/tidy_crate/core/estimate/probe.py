"""Probe: a few representative test frames, rendered and measured on this machine."""

from __future__ import annotations

import statistics
from pathlib import Path
from typing import Annotated

from pydantic import Field

from tidy_crate.core.context.scene import need_render_command
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.machine import ProbeMachine, this_machine
from tidy_crate.core.files import inside, read_json, write_json
from tidy_crate.core.model import FrameNumber, Wire, validated
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.rendering import RenderRun, products, run
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.request import MOST_PIXELS, RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.task import Task

FIRST_FRAMES = 4
MOST_FRAMES = 12
# enough test frames when the mean is known to this share of itself
GOOD_ENOUGH = 0.08
TIME_LIMIT = 6 * 3600.0
TIMINGS = "timings.json"
VERSION = 2


# ten years
Seconds = Annotated[float, Field(ge=0, le=3.2e8)]
Count = Annotated[int, Field(ge=0, lt=2**63)]


class ProbeFrame(Wire):
    """One measured frame. seconds: wall clock without loading the scene; basis: what kind of renderer it was."""

    request: str
    frame: FrameNumber
    seconds: Seconds
    memory_bytes: Count
    width: Annotated[int, Field(ge=1, le=MOST_PIXELS)]
    height: Annotated[int, Field(ge=1, le=MOST_PIXELS)]
    samples: Count | None
    basis: str


class ProbeResult(Wire):
    """All measured frames, and what they were measured with."""

    probe: int = VERSION
    crate: str
    frames: tuple[ProbeFrame, ...]
    load_seconds: Seconds
    """To start the renderer and load the scene, once per batch."""
    cores_used: Annotated[float, Field(ge=0, le=1e6)]
    basis: str
    renderer: str
    """Name and version."""
    contents: str = ""
    """Digest of the crate's packing list; empty where it was not noted."""
    command: tuple[str, ...] = ()
    """The render command, with its placeholders."""
    machine: ProbeMachine = ProbeMachine()

    def outdated(self, content: PackingList) -> tuple[str, ...]:
        """Return why these timings say nothing about this crate; nothing where they do."""
        if not self.contents:
            return ("they do not say which state of the crate they are of",)
        found = []
        if self.contents != content.digest:
            found.append("the crate was collected again since, and holds something else")
        command = content.render
        if command is not None and f"{command.name} {command.version}".strip() != self.renderer:
            found.append(f"they were made with {self.renderer or 'another renderer'}")
        if command is not None and command.command != self.command:
            found.append("they were made with another command line")
        return tuple(found)


# from version 1, which noted nothing of what the timings belong to
SCHEMA = Schema("timings", "probe", VERSION, {1: lambda content: content})


def probe_folder(crate: Path) -> Path:
    """Where timings and test frames of a crate lie: beside it, since the crate itself knows no machine."""
    return crate.parent / f"{crate.name.removesuffix('.crate')}.probe"


def choose_frames(numbers: tuple[int, ...], count: int) -> tuple[int, ...]:
    """`count` frames in the middle of as many equal stretches of the range: spread, and not just its ends."""
    count = min(count, len(numbers))
    return tuple(numbers[(2 * at + 1) * len(numbers) // (2 * count)] for at in range(count))


def probe(
    crate: Path, commands: Commands, count: int | None = None, scale: float = 1.0, progress: Progress = silent
) -> ProbeResult:
    """Render test frames and measure them, more of them until the mean is known well enough.

    commands: runs the crate's render command, where it is trusted.
    count: exactly so many; None lets the spread decide. scale: of width and height, to save time.
    Raises WrongUsage without a render command, TidyCrateError when a frame fails.
    """
    if not 0 < scale <= 1:
        raise WrongUsage("the scale of test frames lies above 0 and goes up to 1", scale)
    crate = crate.absolute()
    content = read_packing_list(crate)
    need_render_command(content.render, crate)
    if probe_folder(crate).is_symlink():
        raise Blocked(
            "a link stands where test frames would be written", probe_folder(crate), "look at it, and remove it"
        )
    measured: list[ProbeFrame] = []
    loads: list[float] = []
    cores: list[float] = []
    for request in content.to_render():
        small = request.model_copy(
            update={
                "width": max(1, round(request.width * scale)),
                "height": max(1, round(request.height * scale)),
            }
        )
        numbers = small.numbers()
        chosen = choose_frames(numbers, count or FIRST_FRAMES)
        of_this: list[ProbeFrame] = []
        while chosen:
            frames, load, used = _measure(crate, content, small, chosen, commands, progress)
            of_this += frames
            loads.append(load)
            cores.append(used)
            done = {one.frame for one in of_this}
            if count is not None or len(of_this) >= min(MOST_FRAMES, len(numbers)) or _well_known(of_this):
                break
            denser = choose_frames(numbers, 2 * len(of_this))
            chosen = tuple(frame for frame in denser if frame not in done)[: MOST_FRAMES - len(of_this)]
        measured += of_this
    command = need_render_command(content.render, crate)
    result = ProbeResult(
        crate=crate.name,
        frames=tuple(sorted(measured, key=lambda one: (one.request, one.frame))),
        load_seconds=statistics.median(loads),
        cores_used=statistics.fmean(cores),
        basis=command.basis,
        renderer=f"{command.name} {command.version}".strip(),
        contents=content.digest,
        command=command.command,
        machine=this_machine(),
    )
    write_json(probe_folder(crate) / TIMINGS, result.model_dump(mode="json"))
    return result


def _measure(
    crate: Path,
    content: PackingList,
    request: RenderRequest,
    frames: tuple[int, ...],
    commands: Commands,
    progress: Progress,
) -> tuple[list[ProbeFrame], float, float]:
    command = need_render_command(content.render, crate)
    scene = inside(crate, content.scene)
    into = probe_folder(crate) / "frames" / request.name
    # with times per frame one run does; else each frame is a run of its own, loading included
    groups = [frames] if command.frame_done else [(frame,) for frame in frames]
    measured: list[ProbeFrame] = []
    load, cores = 0.0, []
    for group in groups:
        progress(Step("probe", len(measured), len(frames), "frames", f"{request.name} {group[0]}"))
        done = run(command, scene, request, group, into, TIME_LIMIT, commands, view=request.view_names[0])
        _check_products(content, request, into, group)
        measured += [_frame(request, frame, done, group, command.basis) for frame in group]
        if done.frame_seconds:
            load = max(0.0, done.seconds - sum(done.frame_seconds.values()))
        cores.append(done.cpu_seconds / done.seconds if done.seconds else 0.0)
    progress(Step("probe", len(frames), len(frames), "frames", request.name))
    return measured, load, statistics.fmean(cores)


def _frame(request: RenderRequest, frame: int, done: RenderRun, group: tuple[int, ...], basis: str) -> ProbeFrame:
    return ProbeFrame(
        request=request.name,
        frame=frame,
        seconds=done.frame_seconds.get(frame, done.seconds / len(group)),
        memory_bytes=done.memory_bytes,
        width=request.width,
        height=request.height,
        samples=request.samples,
        basis=basis,
    )


def _check_products(content: PackingList, request: RenderRequest, into: Path, frames: tuple[int, ...]) -> None:
    outputs = tuple(content.output(name) for name in request.outputs)
    for frame in frames:
        task = Task(request.name, frame, request.view_names[0])
        lost = [name for name, path in products(into, outputs, task, content.tokens).items() if path is None]
        if lost:
            raise TidyCrateError(f"the render command wrote nothing for {', '.join(lost)} at frame {frame}", into)


def _well_known(frames: list[ProbeFrame]) -> bool:
    seconds = [one.seconds for one in frames]
    if len(seconds) < 2:
        return False
    mean = statistics.fmean(seconds)
    return mean == 0 or statistics.stdev(seconds) / len(seconds) ** 0.5 / mean <= GOOD_ENOUGH


def read_probe(crate: Path, content: PackingList, *, accept_old: bool = False) -> ProbeResult:
    """Return the timings of a crate. accept_old: also those that are of another state of it.

    Raises UnreadableInput when there are none, or they are of something else.
    """
    path = probe_folder(crate.absolute()) / TIMINGS
    if not path.is_file():
        raise UnreadableInput("there are no timings for this crate yet", crate, "run probe on it first")
    found = validated(ProbeResult, SCHEMA.upgraded(read_json(path, SCHEMA.what), path), SCHEMA.what, path)
    reasons = found.outdated(content)
    if reasons and not accept_old:
        what = "the timings are of something else: " + "; ".join(reasons)
        raise UnreadableInput(what, crate, "run probe on it again, or add --accept-old-timings")
    return found
