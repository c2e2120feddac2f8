"""Probe: test frames that represent the shot, measured on this machine until the estimate is good enough."""

from __future__ import annotations

import statistics
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType

import numpy as np

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.context.scene import need_render_command
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import TestFrame, keep_test_frames, probe_folder, taken_over
from tidy_crate.core.errors import CommandFailed, TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.choose import (
    along_the_shot,
    beside_much_memory,
    most_telling,
    spread_frames,
    with_earlier,
)
from tidy_crate.core.estimate.machine import this_machine
from tidy_crate.core.estimate.probe_result import NEARLY_ALL, TIMINGS, Expected, ProbeFrame, ProbeResult
from tidy_crate.core.estimate.timing import LOW_TO_HIGH, Array, ShotTimes, shot_times
from tidy_crate.core.estimate.timings import PRACTICE, Timings
from tidy_crate.core.files import inside, write_json
from tidy_crate.core.picture.judge import ALL_BLACK, judge_file
from tidy_crate.core.picture.judge import Expected as Form
from tidy_crate.core.process import machine_seconds
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.rendering import RenderRun, all_products, run
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.task import Task

FIRST_FRAMES = 4
MOST_FRAMES = 32
# of a long shot no more than this share is tested, unless asked for
MOST_SHARE = 0.25
# frames of a very long shot among which test frames are chosen
MOST_LOOKED_AT = 4000
# further frames of one run
TOGETHER = 3
# views beside the first one that are timed
MOST_VIEWS = 3
# draws of the timing model with which frames are chosen
DRAWS = 200
SEED = 7
# a run that takes so many times longer than all test frames together may is taken to hang, after this time at least
HANGS_AFTER, LEAST_LIMIT = 4.0, 600.0
SPREAD, CHANGE, TELLING, MEMORY, ASKED, FULL = (
    "spread over the shot",
    "spread over what changes in the shot",
    "tells most about the total",
    "memory may run out here",
    "as many as asked for",
    "the same frame at full quality",
)


NOTHING: Mapping[int, float] = MappingProxyType({})


@dataclass(frozen=True)
class ProbeWishes:
    """Options for test frames."""

    count: int | None = None
    """Exactly so many for each request; None lets the wanted width decide."""
    scale: float = 1.0
    """Scale of width and height, to save time."""
    samples: float = 1.0
    """Share of the samples, to save time."""
    width: float = 0.15
    """Wanted width of the 80 % range of the total, as a share of it."""
    seconds: float = 1800.0
    """No further test frame begins after so many seconds."""


@dataclass
class _Measuring:
    """One request under way."""

    request: RenderRequest
    small: RenderRequest
    positions: Array
    by_change: bool
    done: list[ProbeFrame] = field(default_factory=list)
    loads: list[float] = field(default_factory=list)
    shot: ShotTimes | None = None
    views: dict[str, float] = field(default_factory=dict)
    """By view, how many times as long a frame takes as in the first one."""


def probe(
    crate: Path,
    commands: Commands,
    wishes: ProbeWishes = ProbeWishes(),
    progress: Progress = silent,
    earlier: Mapping[int, float] = NOTHING,
) -> ProbeResult:
    """Render test frames and measure them, more of them until the total is known well enough or the time is over.

    The first ones are spread over the shot and over what changes on screen; each further one is the frame that tells
    most about the total. With a smaller scale or fewer samples one frame is rendered at full quality too, since not all
    of a frame's time shrinks with them. commands: runs the crate's render command, where it is trusted.
    earlier: seconds that frames of the shot took in an earlier job; where they change, test frames stand closer.
    Raises WrongUsage without a render command, CommandFailed with its last lines when it cannot start or fails.
    """
    if not 0 < wishes.scale <= 1 or not 0 < wishes.samples <= 1:
        raise WrongUsage("scale and samples of test frames are shares above 0 and up to 1", wishes.scale)
    if not 0 < wishes.width <= 2:
        raise WrongUsage("the wanted width of the range is a share above 0, such as 15 %", wishes.width)
    crate = crate.absolute()
    content = read_packing_list(crate)
    command = need_render_command(content.render, crate)
    folder = probe_folder(crate)
    known = _scene_facts(crate, content)
    began = time.monotonic()
    limit = max(LEAST_LIMIT, HANGS_AFTER * wishes.seconds)
    runs = _Runs(crate, content, command, commands, progress, known.samples, limit)
    requests = [_begun(crate, content, request, wishes, known, earlier) for request in content.to_render()]
    for one in requests:
        _first_frames(runs, one, wishes)
        _further_frames(runs, one, wishes, known, began)
        if (wishes.scale < 1 or one.small.samples != one.request.samples) and one.done:
            # the quickest of the small ones, again as it will be rendered
            quickest = min(one.done, key=lambda frame: frame.seconds)
            runs.measure(one, one.request, (quickest.frame,), FULL)
        _other_views(runs, one)
        _look(one, known)
    runs.refuse_black()
    result = ProbeResult(
        crate=crate.name,
        frames=tuple(sorted((f for one in requests for f in one.done), key=lambda f: (f.request, f.frame, f.width))),
        load_seconds=statistics.median(load for one in requests for load in one.loads),
        startup_seconds=statistics.median(runs.startups),
        cores_used=statistics.fmean(runs.cores),
        others=runs.share_of_others,
        basis=command.basis,
        renderer=command.program,
        contents=content.digest,
        command=command.command,
        machine=this_machine(),
        expected=tuple(_expected(one, whole) for one, whole in zip(requests, content.to_render(), strict=True)),
        noise_target=known.noise_target,
        views={one.request.name: one.views for one in requests if one.views},
        positions={
            one.request.name: tuple(one.positions.tolist())
            for one, whole in zip(requests, content.to_render(), strict=True)
            if one.by_change and len(one.positions) == len(whole.numbers())
        },
    )
    write_json(folder / TIMINGS, result.model_dump(mode="json"))
    keep_test_frames(crate, runs.kept)
    return result


@dataclass(frozen=True)
class _Facts:
    """Facts of the scene about its quality."""

    samples: int | None = None
    noise_target: bool = False


def _scene_facts(crate: Path, content: PackingList) -> _Facts:
    scene = inside(crate, content.scene)
    try:
        survey = format_of(scene).read(scene, maps=load_maps(maps=content.settings_maps), tokens=content.tokens)
    except UnreadableInput:
        return _Facts()
    samples = survey.canonical.get("samples")
    noise = survey.canonical.get("noise_target")
    whole = isinstance(samples, int | float) and not isinstance(samples, bool) and samples >= 1
    return _Facts(
        samples=int(samples) if whole and samples is not None else None,
        noise_target=isinstance(noise, int | float) and not isinstance(noise, bool) and noise > 0,
    )


def _begun(
    crate: Path,
    content: PackingList,
    request: RenderRequest,
    wishes: ProbeWishes,
    known: _Facts,
    earlier: Mapping[int, float],
) -> _Measuring:
    samples = request.samples or known.samples
    if len(request.numbers()) > MOST_LOOKED_AT:
        every = sorted(request.numbers())
        kept = [every[round(at)] for at in np.linspace(0, len(every) - 1, MOST_LOOKED_AT)]
        request = request.model_copy(update={"frames": format_frames(sorted(set(kept)))})
    update: dict[str, object] = {
        "width": max(1, round(request.width * wishes.scale)),
        "height": max(1, round(request.height * wishes.scale)),
    }
    if wishes.samples < 1:
        if samples is None:
            raise WrongUsage("the scene does not state its samples, so that no share of them can be rendered", crate)
        update["samples"] = max(1, round(samples * wishes.samples))
    numbers = sorted(request.numbers())
    scene = inside(crate, content.scene)
    camera = _camera(content, request)
    features = format_of(scene).activity(scene, camera, numbers) if len(numbers) > FIRST_FRAMES else None
    features = with_earlier(features, numbers, earlier)
    positions = along_the_shot(features, len(numbers))
    by_change = features is not None and not np.allclose(positions, along_the_shot(None, len(numbers)))
    return _Measuring(request, request.model_copy(update=update), positions, by_change)


def _camera(content: PackingList, request: RenderRequest) -> str:
    view = request.view(request.view_names[0])
    if view is not None and view.camera:
        return view.camera
    named = [content.output(name).camera for name in request.outputs]
    return next((camera for camera in named if camera), None) or ""


def most_frames(frames: int) -> int:
    """Return how many frames of a shot are tested at the most, unless asked for."""
    return min(frames, max(FIRST_FRAMES, min(MOST_FRAMES, round(frames * MOST_SHARE))))


def _first_frames(runs: _Runs, one: _Measuring, wishes: ProbeWishes) -> None:
    numbers = tuple(sorted(one.request.numbers()))
    count = wishes.count or FIRST_FRAMES
    chosen = spread_frames(numbers, count, one.positions if one.by_change else None)
    why = CHANGE if one.by_change else SPREAD
    runs.measure(one, one.small, chosen, why if wishes.count is None else f"{ASKED}, {why}")


def _further_frames(runs: _Runs, one: _Measuring, wishes: ProbeWishes, known: _Facts, began: float) -> None:
    if wishes.count is not None:
        return
    most = most_frames(len(one.request.numbers()))
    while len(one.done) < most:
        shot = _look(one, known)
        slowest = max(frame.seconds for frame in one.done) + statistics.median(one.loads)
        if time.monotonic() - began + slowest > wishes.seconds:
            return
        if shot.width <= wishes.width:
            # the total is known, unless memory runs out between two test frames
            memory = {frame.frame: frame.memory_bytes for frame in one.done}
            hidden = beside_much_memory(sorted(one.request.numbers()), memory, NEARLY_ALL * this_machine().memory_bytes)
            if not hidden:
                return
            together = TOGETHER if runs.command.frame_done else 1
            runs.measure(one, one.small, tuple(sorted(hidden[: min(together, most - len(one.done))])), MEMORY)
            continue
        # loading the scene is paid once per run, so that a run renders several where it tells them apart
        count = min(most - len(one.done), TOGETHER if runs.command.frame_done else 1)
        chosen = most_telling(shot, count)
        if not chosen:
            return
        runs.measure(one, one.small, chosen, TELLING)


def _other_views(runs: _Runs, one: _Measuring) -> None:
    """Time a usual frame in a few other views: how long they take beside the first one.

    A render command chooses cameras and no variants, so that views with other variants cannot be timed.
    """
    able = [view.name for view in one.request.views[1:] if view.camera and not view.variants]
    if not able or not one.done:
        return
    count = min(MOST_VIEWS, len(able))
    chosen = [able[(2 * at + 1) * len(able) // (2 * count)] for at in range(count)]
    small = [frame for frame in one.done if (frame.width, frame.height) == (one.small.width, one.small.height)]
    usual = sorted(small, key=lambda frame: frame.seconds)[len(small) // 2]
    for view in dict.fromkeys(chosen):
        seconds = runs.of_view(one, usual.frame, view)
        if seconds > 0 and usual.seconds > 0:
            one.views[view] = seconds / usual.seconds


def _look(one: _Measuring, known: _Facts) -> ShotTimes:
    """See what the frames measured so far say about all of them."""
    timings = Timings(tuple(frame.timing for frame in one.done), None, "measured", noise_target=known.noise_target)
    asked = one.request.model_copy(update={"samples": one.request.samples or known.samples})
    positions = one.positions if one.by_change else None
    one.shot = shot_times(asked, timings, np.random.default_rng(SEED), DRAWS, positions)
    return one.shot


def _expected(one: _Measuring, whole: RenderRequest) -> Expected:
    assert one.shot is not None
    frames = len(whole.numbers())
    every = frames / len(one.request.numbers())
    low, likely, high = np.quantile(one.shot.totals(np.random.default_rng(SEED)), LOW_TO_HIGH) * every
    return Expected(
        request=one.request.name, frames=frames, low=float(low), likely=float(likely),
        high=float(high), width=one.shot.width,
    )  # fmt: skip


@dataclass
class _Runs:
    """Runs the render command, and keeps what comes of it."""

    crate: Path
    content: PackingList
    command: RenderCommand
    commands: Commands
    progress: Progress
    scene_samples: int | None
    limit: float
    """Seconds after which a run is taken to hang."""
    cores: list[float] = field(default_factory=list)
    walls: list[float] = field(default_factory=list)
    """Seconds of each run."""
    others: list[float] = field(default_factory=list)
    """Processor seconds that other programs took during each run."""
    startups: list[float] = field(default_factory=list)
    """Seconds of each run until the renderer printed its first line."""
    kept: list[TestFrame] = field(default_factory=list)
    black: dict[str, list[bool]] = field(default_factory=dict)
    """By output, for each test frame whether it is black all over."""

    @property
    def share_of_others(self) -> float:
        """Return the share of this machine's processor time that other programs took during the runs."""
        there = sum(self.walls) * max(1, this_machine().cores)
        return min(1.0, max(0.0, sum(self.others) / there)) if there > 0 else 0.0

    def measure(self, one: _Measuring, request: RenderRequest, frames: Sequence[int], why: str) -> None:
        """Render frames of a request, at full size or smaller, and measure them."""
        scene = inside(self.crate, self.content.scene)
        full = (request.width, request.height, request.samples) == (
            one.request.width, one.request.height, one.request.samples,
        )  # fmt: skip
        into = probe_folder(self.crate) / "runs" / request.name / ("full" if full else "small")
        # with times per frame one run does; else each frame is a run of its own, loading included
        groups = [tuple(frames)] if self.command.frame_done else [(frame,) for frame in frames]
        for group in groups:
            self.progress(Step("probe", len(one.done), 0, "frames", f"{request.name} {', '.join(map(str, group))}"))
            view = request.view_names[0]
            done = self._run(scene, request, group, into, view)
            for frame in group:
                files = self._files(request, into, Task(request.name, frame, view))
                self._judge(request, frame, files)
                one.done.append(self._frame(request, frame, done, group, files, why))
                self.kept.append(
                    TestFrame(
                        request=request.name, view=view, frame=frame, width=request.width, height=request.height,
                        samples=request.samples, by="probe", contents=self.content.digest,
                        files=taken_over(self.crate, files, request.name, f"{request.width}x{request.height}"),
                    )
                )  # fmt: skip
            rendering = sum(done.frame_seconds.get(frame, 0.0) for frame in group)
            # the practice renderer tells processor seconds, which is what the practice farm bills
            took = done.cpu_seconds if self.command.basis == PRACTICE else done.seconds
            one.loads.append(max(0.0, took - rendering) if rendering else 0.0)
            self.startups.append(min(done.startup_seconds, one.loads[-1]))
            self.cores.append(done.cpu_seconds / done.seconds if done.seconds else 0.0)

    def of_view(self, one: _Measuring, frame: int, view: str) -> float:
        """Render a frame of another view, and return its seconds."""
        scene = inside(self.crate, self.content.scene)
        into = probe_folder(self.crate) / "runs" / one.request.name / f"view-{view}"
        self.progress(Step("probe", len(one.done), 0, "frames", f"{one.request.name} {view} {frame}"))
        done = self._run(scene, one.small, (frame,), into, view)
        return done.frame_seconds.get(frame, done.seconds)

    def _run(self, scene: Path, request: RenderRequest, group: tuple[int, ...], into: Path, view: str) -> RenderRun:
        before = machine_seconds() - time.process_time()
        try:
            done = run(self.command, scene, request, group, into, self.limit, self.commands, view=view)
            self.walls.append(done.seconds)
            self.others.append(machine_seconds() - time.process_time() - before - done.cpu_seconds)
            return done
        except CommandFailed as error:
            if error.started:
                error.remedy = error.remedy or "see what it says above; check the crate with prove, then probe it again"
            raise

    def _judge(self, request: RenderRequest, frame: int, files: dict[str, Path]) -> None:
        """Raise TidyCrateError for a test frame that is no picture: its time would be that of something else.

        A frame may be black, as the first one of a fade; not all that were rendered.
        """
        for name, path in files.items():
            expected = Form(width=request.width, height=request.height, passes=self.content.output(name).variables)
            found = judge_file(path, expected)
            reasons = [one for one in found.reasons if one != ALL_BLACK]
            if reasons and found.verdict is Verdict.BAD:
                what = f"the test frame {frame} of {name} is bad: {'; '.join(reasons)}"
                raise TidyCrateError(what, path, "correct the scene or its render command, then probe it again")
            self.black.setdefault(name, []).append(found.black)

    def refuse_black(self) -> None:
        """Raise TidyCrateError where every test frame of an output is black."""
        for name, found in self.black.items():
            if len(found) > 1 and all(found):
                what = f"all {len(found)} test frames of {name} are black all over"
                remedy = "look at one: see whether its camera, lights and textures are those of the scene"
                raise TidyCrateError(what, self.crate, remedy)

    def _files(self, request: RenderRequest, into: Path, task: Task) -> dict[str, Path]:
        outputs = tuple(self.content.output(name) for name in request.outputs)
        return all_products(into, outputs, task, self.content.tokens)

    def _frame(
        self,
        request: RenderRequest,
        frame: int,
        done: RenderRun,
        group: tuple[int, ...],
        files: dict[str, Path],
        why: str,
    ) -> ProbeFrame:
        return ProbeFrame(
            request=request.name,
            frame=frame,
            seconds=done.frame_seconds.get(frame, done.seconds / len(group)),
            memory_bytes=done.memory_bytes,
            width=request.width,
            height=request.height,
            samples=request.samples or self.scene_samples,
            basis=self.command.basis,
            bytes=sum(path.stat().st_size for path in files.values()),
            why=why,
        )
