"""Baking the simulations of a scene into caches, one pass each from its own start."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from pathlib import Path

from tidy_crate import __version__
from tidy_crate.core.bake.records import CacheFile, CacheRecord, cache_folder, read_records, write_record
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import hash_file, inside
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState, Survey

# one frame beyond each end, for the shutter
MARGIN = 1


class Baked(Model):
    """One cache that was written. first, last: cached frames, both counted. unbaked: what could not be solved here."""

    simulation: str
    kind: str
    layer: Path
    first: int
    last: int
    bytes: int
    files: int = 1
    unbaked: tuple[str, ...] = ()


class Failed(Model):
    """One simulation that could not be baked."""

    simulation: str
    why: str


class BakeResult(Model):
    """What a bake did."""

    baked: tuple[Baked, ...]
    up_to_date: tuple[str, ...]
    failed: tuple[Failed, ...]


def bake(
    context: SceneContext, only: Iterable[str] = (), again: bool = False, progress: Progress = silent
) -> BakeResult:
    """Bake all simulations, or those named, and skip what is up to date unless `again`.

    Raises WrongUsage on a name that no simulation has. A simulation that fails keeps its earlier cache.
    """
    survey = context.survey()
    wanted = chosen(survey.simulations, tuple(only))
    if wanted and not survey.frames.count:
        raise WrongUsage("the scene has no frame range to bake for", context.scene, "set its start and end")
    folder = cache_folder(context.tidy)
    samples = per_frame_of(survey)
    baked: list[Baked] = []
    up_to_date: list[str] = []
    failed: list[Failed] = []
    for simulation in wanted:
        if not again and is_up_to_date(simulation, folder, survey.frames):
            up_to_date.append(simulation.name)
            continue
        lost = next((one.simulation for one in failed if one.simulation in simulation.depends_on), None)
        if lost is not None:
            failed.append(Failed(simulation=simulation.name, why=f"it goes by {lost}, which could not be baked"))
            continue
        try:
            # what was baked just now lies over the scene that the next one is solved from
            now = context.with_caches_of_now()
            baked.append(_bake_one(now, simulation, survey.frames, samples, folder, progress))
        except TidyCrateError as error:
            failed.append(Failed(simulation=simulation.name, why=str(error)))
    return BakeResult(baked=tuple(baked), up_to_date=tuple(up_to_date), failed=tuple(failed))


def chosen(simulations: tuple[Simulation, ...], only: tuple[str, ...]) -> list[Simulation]:
    """All simulations, or those named and what they go by, in dependency order.

    Raises WrongUsage on a name that no simulation has, and on a circle, which it names.
    """
    known = {simulation.name: simulation for simulation in simulations}
    for name in only:
        if name not in known:
            raise WrongUsage("no simulation has that name", name, "the survey lists them: " + ", ".join(known))
    ordered: list[Simulation] = []
    entered: list[str] = []

    def visit(name: str) -> None:
        if known[name] in ordered:
            return
        if name in entered:
            circle = " -> ".join([*entered[entered.index(name) :], name])
            raise WrongUsage("simulations depend on each other in a circle", circle, "break the circle in the scene")
        entered.append(name)
        for other in known[name].depends_on:
            if other in known:
                visit(other)
        entered.remove(name)
        ordered.append(known[name])

    for name in only or known:
        visit(name)
    return ordered


def is_up_to_date(simulation: Simulation, folder: Path, frames: FrameRange) -> bool:
    """Whether a cache is whole, to the bit as it was written, and of the scene as it is now."""
    if simulation.state is not SimulationState.CACHED or frames.start is None or frames.end is None:
        return False
    record = next((r for r in read_records(folder) if r.simulation == simulation.name), None)
    if record is None:
        # cached by the scene itself, not by us
        return True
    return not damaged(record, folder) and record.fingerprint == simulation.fingerprint


def damaged(record: CacheRecord, folder: Path) -> list[str]:
    """The files of a cache that are gone or not as they were written."""
    whole = CacheFile(path=record.layer, bytes=record.bytes, blake3=record.blake3)
    found = []
    for file in (whole, *record.files):
        path = inside(folder, file.path)
        try:
            same = path.stat().st_size == file.bytes and hash_file(path) == file.blake3
        except OSError:
            same = False
        if not same:
            found.append(file.path)
    return found


def per_frame_of(survey: Survey) -> int:
    """Samples per frame that a cache of this scene needs."""
    from tidy_crate.core.scene.formats.usd.simulations import per_frame

    return per_frame(survey.canonical.get("motion_blur") is True)


def _bake_one(
    context: SceneContext, simulation: Simulation, frames: FrameRange, samples: int, folder: Path, progress: Progress
) -> Baked:
    # here, so that the USD library is loaded only when there is something to bake
    from tidy_crate.core.bake.usd_cache import Range, Written, bake_simulation

    assert frames.start is not None and frames.end is not None
    wanted = Range(frames.start - MARGIN, frames.end + MARGIN, samples)
    if context.format.name == "sheet":
        from tidy_crate.core.bake.host import bake_by_host

        layer, files = bake_by_host(context, simulation, wanted.first, wanted.last, folder, progress)
        written = Written(layer, files, (), ())
    else:
        written = bake_simulation(context, simulation.name, simulation.fingerprint, wanted, folder, progress)
    before = next((r for r in read_records(folder) if r.simulation == simulation.name), None)
    record = CacheRecord(
        simulation=simulation.name,
        kind=simulation.kind,
        fingerprint=simulation.fingerprint,
        first=wanted.first,
        last=wanted.last,
        fps=frames.fps,
        layer=written.layer.name,
        bytes=written.layer.stat().st_size,
        blake3=hash_file(written.layer),
        tool=f"tidy-crate {__version__}",
        per_frame=samples,
        prims=written.prims,
        files=tuple(
            CacheFile(path=path.relative_to(folder).as_posix(), bytes=path.stat().st_size, blake3=hash_file(path))
            for path in written.files
        ),
        unbaked=written.unbaked,
    )
    write_record(folder, record)
    if before is not None:
        _remove_files_of(before, record, folder)
    return Baked(
        simulation=simulation.name,
        kind=simulation.kind,
        layer=written.layer,
        first=wanted.first,
        last=wanted.last,
        bytes=record.bytes + sum(file.bytes for file in record.files),
        files=1 + len(record.files),
        unbaked=written.unbaked,
    )


def _remove_files_of(before: CacheRecord, now: CacheRecord, folder: Path) -> None:
    """Files of an earlier cache that the new one does not use."""
    kept = {file.path for file in now.files}
    for file in before.files:
        if file.path not in kept:
            path = inside(folder, file.path)
            path.unlink(missing_ok=True)
            with contextlib.suppress(OSError):
                path.parent.rmdir()
