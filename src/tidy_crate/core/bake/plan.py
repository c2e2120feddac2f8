"""Plan of a bake: order, expected time and size. Nothing is written."""

from __future__ import annotations

from tidy_crate.core.bake.run import cache_range, chosen, is_up_to_date
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.model import Model
from tidy_crate.core.scene.caches import cache_folder
from tidy_crate.core.scene.formats.baking import CacheRange, Trial
from tidy_crate.core.scene.model import Simulation


class PlannedBake(Model):
    """One simulation."""

    simulation: str
    kind: str
    state: str
    up_to_date: bool
    after: tuple[str, ...]
    """Simulations that must be baked before it."""
    start: int
    """The frame at which it begins."""
    first: int
    """First cached frame."""
    last: int
    """Last cached frame."""
    samples: int
    seconds: float | None
    """Expected time, None where it cannot be tried."""
    bytes: int | None
    """Expected size of the cache, None where it cannot be tried."""
    trouble: tuple[str, ...] = ()
    """Parts that cannot be solved, or the reason why it cannot be baked at all."""


def plan_bake(context: SceneContext, only: tuple[str, ...] = ()) -> tuple[PlannedBake, ...]:
    """The bakes of a scene in the order they would be done. Raises WrongUsage on a cycle or an unknown name."""
    survey = context.survey()
    folder, baker = cache_folder(context.tidy), context.format.baker()
    wanted = chosen(survey.simulations, only)
    if not wanted or baker is None:
        return ()
    names = {one.name for one in survey.simulations}
    done = {one.name for one in wanted if is_up_to_date(one, folder, survey.frames)}
    cached = cache_range(survey.frames, baker.per_frame(survey))
    tried = baker.trials(
        context.scene,
        context.plan,
        {one.name: cached for one in wanted if one.name not in done},
        context.survey_cache,
        context.tokens,
    )
    return tuple(_planned(one, cached, one.name in done, tried.get(one.name), names) for one in wanted)


def _planned(
    one: Simulation, cached: CacheRange, up_to_date: bool, trial: Trial | None, names: set[str]
) -> PlannedBake:
    trial = trial or Trial(None, None)
    return PlannedBake(
        simulation=one.name,
        kind=one.kind,
        state=one.state.value,
        up_to_date=up_to_date,
        after=tuple(name for name in one.depends_on if name in names),
        start=one.start,
        first=cached.first,
        last=cached.last,
        samples=len(cached.times),
        seconds=trial.seconds,
        bytes=trial.bytes,
        trouble=tuple(dict.fromkeys((*one.trouble, *trial.trouble))),
    )
