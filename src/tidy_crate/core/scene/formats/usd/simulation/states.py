"""The simulations of a USD scene, with the state that each is in under a staging plan."""

from __future__ import annotations

import hashlib
import math
from functools import lru_cache
from pathlib import Path

from pxr import Sdf, Tf, Usd

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.clips import TEMPLATE, filled, template_numbers
from tidy_crate.core.scene.formats.usd.quiet import open_layer, reason
from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation as Found
from tidy_crate.core.scene.formats.usd.simulation.registry import dependencies, find_all, kinds
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState
from tidy_crate.core.scene.staging import StagingPlan, UseCache

# samples in a frame where the shutter is open for part of it
PER_FRAME_WITH_BLUR = 4


def per_frame(blurred: bool) -> int:
    """Return how many samples a frame needs."""
    return PER_FRAME_WITH_BLUR if blurred else 1


def find_simulations(
    source: Usd.Stage, staged: Usd.Stage, plan: StagingPlan, frames: FrameRange, blurred: bool = False
) -> tuple[Simulation, ...]:
    """All simulations with their state under the plan.

    Fingerprints are taken from the source: a staged scene has the simulation's own result among its inputs.
    blurred: whether frames are rendered with motion blur, so that caches need samples between frames.
    """
    found = find_all(source)
    needs = dependencies(found)
    marks, troubles = _fingerprints(source, found, needs, frames, blurred)
    after_by_path = {one.path: one for one in find_all(staged)}
    simulations = []
    for one in found:
        after = after_by_path.get(one.path, one)
        edit = plan.cache(one.path)
        cache = Path(after.cache) if after.cache and not after.live else None
        covers, gaps = coverage(cache) if cache else (None, ())
        simulations.append(
            Simulation(
                name=one.path,
                kind=one.kind,
                state=_state(after, edit, marks[one.path], covers, gaps, frames),
                start=math.floor(one.start),
                cache=cache,
                covers=covers,
                gaps=gaps,
                depends_on=tuple(dict.fromkeys((*one.targets, *needs[one.path]))),
                prims=one.prims,
                why=one.why,
                # what the bake met counts for as long as its cache does
                trouble=tuple(
                    dict.fromkeys(
                        (*one.trouble, *troubles.get(one.path, ()), *(edit.unsolved if edit is not None else ()))
                    )
                ),
                refused=one.refused,
                fingerprint=marks[one.path],
                cache_named=bool(after.live and after.cache),
            )
        )
    return tuple(simulations)


def _state(
    after: Found,
    edit: UseCache | None,
    mark: str,
    covers: tuple[int, int] | None,
    gaps: tuple[int, ...],
    frames: FrameRange,
) -> SimulationState:
    if after.live:
        return SimulationState.LIVE
    if edit is not None and edit.fingerprint != mark:
        return SimulationState.STALE
    whole = edit is None or all(path.is_file() and path.stat().st_size == size for path, size in edit.files.items())
    if covers is None or gaps or not whole or not _covers(covers, frames):
        return SimulationState.PARTIAL
    return SimulationState.CACHED


def _fingerprints(
    stage: Usd.Stage, found: list[Found], needs: dict[str, tuple[str, ...]], frames: FrameRange, blurred: bool
) -> tuple[dict[str, str], dict[str, tuple[str, ...]]]:
    """By name a digest of all that a result depends on, what it depends on included; empty where that makes no sense.

    And by name, what of that cannot be evaluated.
    """
    own: dict[str, str] = {}
    troubles: dict[str, tuple[str, ...]] = {}
    for one in found:
        digest = hashlib.blake2b(digest_size=16)
        digest.update(
            repr((one.path, one.kind, frames.start, frames.end, frames.codes_per_second, per_frame(blurred))).encode()
        )
        end = frames.end + 1 if frames.end is not None else one.start
        try:
            for part in kinds()[one.kind].inputs(stage, one, float(end)):
                digest.update(part)
        except UnreadableInput:
            own[one.path] = ""
            continue
        except Tf.ErrorException as error:
            own[one.path] = ""
            troubles[one.path] = (f"{one.path}: what it depends on cannot be evaluated ({reason(error)})",)
            continue
        own[one.path] = digest.hexdigest()
    whole: dict[str, str] = {}
    for one in found:
        chain = sorted(_all_needed(one.path, needs))
        joined = "".join(own[name] for name in chain)
        mark = own[one.path]
        whole[one.path] = (
            hashlib.blake2b((mark + joined).encode(), digest_size=16).hexdigest() if mark and chain else mark
        )
    return whole, troubles


def _all_needed(name: str, needs: dict[str, tuple[str, ...]]) -> set[str]:
    found: set[str] = set()
    queue = list(needs[name])
    while queue:
        other = queue.pop()
        if other not in found:
            found.add(other)
            queue.extend(needs[other])
    return found - {name}


def _covers(covers: tuple[int, int], frames: FrameRange) -> bool:
    return frames.start is None or frames.end is None or (covers[0] <= frames.start and covers[1] >= frames.end)


def coverage(cache: Path) -> tuple[tuple[int, int] | None, tuple[int, ...]]:
    """First and last cached frame and the gaps between, by files and sample times: values interpolate silently."""
    try:
        found = cache.stat()
    except OSError:
        return None, ()
    frames = _frames_in(cache, found.st_size, found.st_mtime_ns)
    if not frames:
        return None, ()
    first, last = min(frames), max(frames)
    return (first, last), tuple(frame for frame in range(first, last + 1) if frame not in frames)


@lru_cache(256)
def _sample_frames(cache: Path, _size: int, _changed: int) -> tuple[frozenset[int] | None, tuple[tuple[str, str], ...]]:
    """Frames at which all sampled attributes have a sample (None where none is sampled), and clips: number and path."""
    try:
        layer = open_layer(cache)
    except (UnreadableInput, Tf.ErrorException):
        return frozenset(), ()
    paths: list[Sdf.Path] = []
    layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
    common: set[float] | None = None
    clips: list[tuple[str, str]] = []
    for path in paths:
        if path.IsPrimPropertyPath():
            times = layer.ListTimeSamplesForPath(path)
            if times:
                common = set(times) if common is None else common.intersection(times)
        elif path.IsPrimPath() and (spec := layer.GetPrimAtPath(path)).HasInfo("clips"):
            for clip_set in spec.GetInfo("clips").values():
                template = str(clip_set.get(TEMPLATE, ""))
                clips += [(number, filled(template, number)) for number in template_numbers(clip_set)]
    if common is None:
        return None, tuple(clips)
    return frozenset(int(time) for time in common if float(time).is_integer()), tuple(clips)


def _frames_in(cache: Path, size: int, changed: int) -> set[int]:
    sampled, clips = _sample_frames(cache, size, changed)
    if not clips:
        return set(sampled or ())
    there: dict[int, bool] = {}
    for number, name in clips:
        path = cache.parent / name
        whole = path.is_file() and path.stat().st_size > 0
        frame = int(float(number))
        there[frame] = there.get(frame, True) and whole
    frames = {frame for frame, whole in there.items() if whole}
    return frames if sampled is None else frames & sampled
