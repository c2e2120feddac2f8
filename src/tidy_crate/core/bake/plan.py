"""What a bake would do: in which order, how long it may take, how large it gets. Nothing is written."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from tidy_crate.core.bake.records import cache_folder
from tidy_crate.core.bake.run import MARGIN, chosen, is_up_to_date, per_frame_of
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.model import Model
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.model import FrameRange, Simulation

if TYPE_CHECKING:
    from pxr import Usd

# frames that are solved to see how long one takes, and seconds after which that is known well enough
_TRIAL_FRAMES = 4
_TRIAL_SECONDS = 1.0
# bytes a second at which samples go to the disk and come back once
_WRITING = 60e6


class PlannedBake(Model):
    """One simulation. after: those that must be baked before it. start: where it begins; first, last: cached frames.

    seconds, bytes: what it may take, None where it cannot be tried. trouble: what of it cannot be solved, or why it
    cannot be baked at all.
    """

    simulation: str
    kind: str
    state: str
    up_to_date: bool
    after: tuple[str, ...]
    start: int
    first: int
    last: int
    samples: int
    seconds: float | None
    bytes: int | None
    trouble: tuple[str, ...] = ()


def plan_bake(context: SceneContext, only: tuple[str, ...] = ()) -> tuple[PlannedBake, ...]:
    """The bakes of a scene in the order they would be done. Raises WrongUsage on a circle or an unknown name."""
    survey = context.survey()
    folder, samples = cache_folder(context.tidy), per_frame_of(survey)
    wanted = chosen(survey.simulations, only)
    names = {one.name for one in survey.simulations}
    done = {one.name: is_up_to_date(one, folder, survey.frames) for one in wanted}
    # composed once for all that are tried
    stage = _stage(context) if context.format.name == "openusd" and not all(done.values()) else None
    return tuple(_planned(stage, one, survey.frames, samples, done[one.name], names) for one in wanted)


def _planned(
    stage: Usd.Stage | None, one: Simulation, frames: FrameRange, per_frame: int, up_to_date: bool, names: set[str]
) -> PlannedBake:
    first = (frames.start or 0) - MARGIN
    last = (frames.end if frames.end is not None else 0) + MARGIN
    samples = (last - first) * per_frame + 1
    seconds: float | None = None
    size: int | None = None
    trouble = one.trouble
    if not up_to_date and stage is not None:
        try:
            seconds, size, more = _tried(stage, one, last, samples)
            trouble = tuple(dict.fromkeys((*trouble, *more)))
        except TidyCrateError as error:
            trouble = (*trouble, f"cannot be baked: {error.what}")
    return PlannedBake(
        simulation=one.name,
        kind=one.kind,
        state=one.state.value,
        up_to_date=up_to_date,
        after=tuple(name for name in one.depends_on if name in names),
        start=one.start,
        first=first,
        last=last,
        samples=samples,
        seconds=seconds,
        bytes=size,
        trouble=trouble,
    )


def _tried(stage: Usd.Stage, one: Simulation, last: int, samples: int) -> tuple[float, int, tuple[str, ...]]:
    """Seconds and bytes of the whole, judged by the first frames, and what would be left out."""
    from tidy_crate.core.bake.kinds.registry import find_all
    from tidy_crate.core.bake.running import Running
    from tidy_crate.core.scene.formats.usd.quiet import usd_messages

    with usd_messages():
        simulation = next(found for found in find_all(stage) if found.path == one.name)
        began = time.perf_counter()
        running = Running(stage, simulation, simulation.start)
        ready = time.perf_counter()
        done = 0
        while done < _TRIAL_FRAMES and time.perf_counter() - ready < _TRIAL_SECONDS:
            done += 1
            running.go_to(simulation.start + done)
        each = (time.perf_counter() - ready) / done
        size = running.sample_bytes() * samples
        frames = max(0.0, last - simulation.start)
        return (ready - began) + each * frames + size / _WRITING, size, running.trouble()


def _stage(context: SceneContext) -> Usd.Stage:
    from tidy_crate.core.asset.resolve import Disk
    from tidy_crate.core.scene.formats.usd.compose import compose_source
    from tidy_crate.core.scene.formats.usd.layers import walk_layers
    from tidy_crate.core.scene.staging import Relink, StagingPlan

    return compose_source(
        walk_layers(context.scene, StagingPlan(edits=context.plan.of(Relink)), Disk(), context.memory)
    ).stage
