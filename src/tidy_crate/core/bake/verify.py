"""Verifying caches that are there: whole, of this scene, for all frames, and holding numbers."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from statistics import median

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.bake.run import damaged
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.files import inside
from tidy_crate.core.model import Model
from tidy_crate.core.scene.caches import CacheRecord, cache_folder, read_records
from tidy_crate.core.scene.formats.baking import Baker
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState

# a file of a sequence smaller than this share of its fellows is odd
_ODD = 0.5


class VerifiedCache(Model):
    """One simulation and its cache."""

    simulation: str
    state: str
    covers: tuple[int, int] | None
    files: int
    bytes: int
    troubles: tuple[str, ...]
    """Empty when frames can be rendered from the cache in any order."""
    unbaked: tuple[str, ...] = ()
    """Parts of the simulation that were not solved and are not in the cache."""


def verify_caches(context: SceneContext) -> tuple[VerifiedCache, ...]:
    """Look at every cache of a scene again, down to its bytes."""
    survey = context.survey()
    folder = cache_folder(context.tidy)
    records = {record.simulation: record for record in read_records(folder)} if folder.is_dir() else {}
    baker = context.format.baker()
    return tuple(_verified(one, records.get(one.name), folder, survey.frames, baker) for one in survey.simulations)


def _verified(
    one: Simulation, record: CacheRecord | None, folder: Path, frames: FrameRange, baker: Baker | None
) -> VerifiedCache:
    return VerifiedCache(
        simulation=one.name,
        state=one.state.value,
        covers=one.covers,
        files=1 + len(record.files) if record is not None else int(one.cache is not None),
        bytes=record.bytes + sum(file.bytes for file in record.files) if record is not None else 0,
        unbaked=record.unbaked if record is not None else (),
        troubles=tuple(dict.fromkeys(_troubles(one, record, folder, frames, baker))),
    )


def _troubles(
    one: Simulation, record: CacheRecord | None, folder: Path, frames: FrameRange, baker: Baker | None
) -> Iterator[str]:
    if one.state is SimulationState.LIVE:
        yield "there is no cache: bake it"
        return
    if one.state is SimulationState.STALE:
        yield "the scene has changed since it was baked"
    if one.covers is None:
        yield "the cache is gone or holds no frames"
    elif frames.count and (one.covers[0] > frames.start or one.covers[1] < frames.end):  # type: ignore[operator]
        yield f"it covers {one.covers[0]}-{one.covers[1]} of {frames.start}-{frames.end}"
    if one.gaps:
        yield f"frames are missing: {format_frames(one.gaps[:50])}"
    if record is not None:
        yield from (f"{name} is gone or not as it was written" for name in damaged(record, folder))
        yield from _odd_sizes(record)
        if baker is not None:
            yield from _values(record, folder, baker)


def _odd_sizes(record: CacheRecord) -> Iterator[str]:
    clips = [file for file in record.files if not file.path.endswith("manifest.usda")]
    if len(clips) < 3:
        return
    for at, file in enumerate(clips):
        near = [clips[n].bytes for n in range(max(0, at - 2), min(len(clips), at + 3)) if n != at]
        if file.bytes < _ODD * median(near):
            yield f"{file.path} is oddly small: {file.bytes} bytes, its neighbours have {median(near):.0f}"


def _values(record: CacheRecord, folder: Path, baker: Baker) -> Iterator[str]:
    """Samples that hold something else than finite numbers."""
    for name in (record.layer, *(file.path for file in record.files)):
        yield from baker.bad_values(inside(folder, name))
