"""Simulations in a USD scene, and what each is computed from.

USD has no schema for a spring follow, so the tool documents one of its own (docs/simulations.md):

    token tidy:simulation = "springFollow"
    bool tidy:simulation:live        whether machines solve it anew (default true)
    asset tidy:simulation:cache      the cache in force once it is not live
    double tidy:simulation:start     time code at which it starts, at rest
    rel tidy:spring:target           the prim that is followed
    double tidy:spring:frequency     natural frequency in hertz, undamped
    double tidy:spring:dampingRatio  1 is critically damped
    vector3d tidy:spring:offset      from the target's origin, world axes, scene units
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Tf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.compose import CACHE, LIVE
from tidy_crate.core.scene.formats.usd.quiet import open_layer
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState
from tidy_crate.core.scene.staging import StagingPlan

SPRING_FOLLOW = "springFollow"
WHY = "a machine that starts in the middle of the shot starts it at rest, so its frames do not meet its neighbours'"
# the target may be keyed between frames: it is looked at this often per frame
SUBSTEPS = 4


@dataclass(frozen=True)
class SpringFollow:
    """A prim that follows another on a spring. frequency in hertz; start in time codes; offset in scene units."""

    path: str
    target: str | None
    frequency: float
    damping_ratio: float
    offset: tuple[float, float, float]
    start: float
    live: bool
    cache: Path | None


def find_springs(stage: Usd.Stage) -> list[SpringFollow]:
    """All spring follows, in the order of the scene."""
    found = []
    for prim in stage.Traverse():
        kind = prim.GetAttribute("tidy:simulation")
        if not kind or kind.Get() != SPRING_FOLLOW:
            continue
        targets = prim.GetRelationship("tidy:spring:target")
        paths = targets.GetForwardedTargets() if targets else []
        offset = _value(prim, "tidy:spring:offset", (0.0, 0.0, 0.0))
        cache = prim.GetAttribute(CACHE)
        asset = cache.Get() if cache else None
        found.append(
            SpringFollow(
                path=str(prim.GetPath()),
                target=str(paths[0]) if paths else None,
                frequency=float(_value(prim, "tidy:spring:frequency", 1.0)),
                damping_ratio=float(_value(prim, "tidy:spring:dampingRatio", 1.0)),
                offset=(float(offset[0]), float(offset[1]), float(offset[2])),
                start=float(_value(prim, "tidy:simulation:start", stage.GetStartTimeCode())),
                live=bool(_value(prim, LIVE, True)),
                cache=Path(asset.resolvedPath) if asset and asset.resolvedPath else None,
            )
        )
    return found


def _value(prim: Usd.Prim, name: str, otherwise: Any) -> Any:
    attribute = prim.GetAttribute(name)
    value = attribute.Get() if attribute else None
    return otherwise if value is None else value


def sample_times(start: float, end: float) -> np.ndarray:
    """Time codes from start to end, `SUBSTEPS` per frame, all whole frames among them."""
    count = max(0, round((end - start) * SUBSTEPS))
    return np.asarray(start + np.arange(count + 1) / SUBSTEPS)


def target_positions(stage: Usd.Stage, spring: SpringFollow, times: Sequence[float] | np.ndarray) -> np.ndarray:
    """Where the spring pulls to, in world space, at each time code: an array of shape (len(times), 3)."""
    prim = stage.GetPrimAtPath(spring.target) if spring.target else None
    if not prim:
        raise UnreadableInput(
            "a spring follow has no target",
            spring.path,
            "point its tidy:spring:target at the prim it follows",
        )
    goal = np.empty((len(times), 3))
    for at, time in enumerate(times):
        goal[at] = UsdGeom.XformCache(float(time)).GetLocalToWorldTransform(prim).ExtractTranslation()
    return np.asarray(goal + np.asarray(spring.offset))


def find_simulations(
    source: Usd.Stage, staged: Usd.Stage, plan: StagingPlan, frames: FrameRange
) -> tuple[Simulation, ...]:
    """All simulations with their state under the plan.

    Fingerprints are taken from the source: a staged scene has the simulation's own result among its inputs.
    """
    staged_by_path = {spring.path: spring for spring in find_springs(staged)}
    simulations = []
    for spring in find_springs(source):
        after = staged_by_path.get(spring.path, spring)
        mark = fingerprint(source, spring, frames) if spring.target else ""
        edit = plan.cache(spring.path)
        covers, gaps = _coverage(after.cache, spring.path) if after.cache and not after.live else (None, ())
        if after.live:
            state = SimulationState.LIVE
        elif edit is not None and edit.fingerprint != mark:
            state = SimulationState.STALE
        elif covers is None or gaps or not _covers(covers, frames):
            state = SimulationState.PARTIAL
        else:
            state = SimulationState.CACHED
        simulations.append(
            Simulation(
                name=spring.path,
                kind="spring follow",
                state=state,
                start=int(np.floor(spring.start)),
                cache=None if after.live else after.cache,
                covers=covers,
                gaps=gaps,
                depends_on=(spring.target,) if spring.target else (),
                why=WHY,
                fingerprint=mark,
            )
        )
    return tuple(simulations)


def fingerprint(stage: Usd.Stage, spring: SpringFollow, frames: FrameRange) -> str:
    """Digest of all that the result depends on, as composed: parameters, the target's way, the parent's, the rate."""
    digest = hashlib.blake2b(digest_size=16)
    digest.update(repr((spring.path, spring.target, spring.frequency, spring.damping_ratio, spring.offset)).encode())
    digest.update(repr((spring.start, frames.start, frames.end, frames.fps, SUBSTEPS)).encode())
    end = frames.end + 1 if frames.end is not None else spring.start
    times = sample_times(spring.start, max(spring.start, end))
    digest.update(target_positions(stage, spring, times).tobytes())
    prim = stage.GetPrimAtPath(spring.path)
    for time in times[::SUBSTEPS]:
        cache = UsdGeom.XformCache(float(time))
        digest.update(np.array(cache.GetParentToWorldTransform(prim)).tobytes())
        local, _ = cache.GetLocalTransformation(prim)
        # the spring sets where the prim is; its own pose adds only the way it is turned and scaled
        digest.update(np.array(local)[:3, :3].tobytes())
    return digest.hexdigest()


def _covers(covers: tuple[int, int], frames: FrameRange) -> bool:
    return frames.start is None or frames.end is None or (covers[0] <= frames.start and covers[1] >= frames.end)


def _coverage(cache: Path, prim: str) -> tuple[tuple[int, int] | None, tuple[int, ...]]:
    """First and last cached frame and the gaps between, judged by the sample times: values interpolate silently."""
    try:
        layer = open_layer(cache)
    except (UnreadableInput, Tf.ErrorException):
        return None, ()
    common: set[float] | None = None
    spec = layer.GetPrimAtPath(prim)
    for attribute in spec.attributes if spec else ():
        times = set(layer.ListTimeSamplesForPath(attribute.path))
        if times:
            common = times if common is None else common & times
    frames = {int(time) for time in common or () if float(time).is_integer()}
    if not frames:
        return None, ()
    first, last = min(frames), max(frames)
    return (first, last), tuple(frame for frame in range(first, last + 1) if frame not in frames)
