"""Baking the simulations of a scene into caches, one pass each from its own start."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

from tidy_crate import __version__
from tidy_crate.core.context.outside import HeldBack
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import hash_file, inside, only_one, remove_drafts
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.scene.caches import CacheFile, CacheRecord, cache_folder, read_records, write_record
from tidy_crate.core.scene.formats.baking import BakeOrder, Baker, CacheRange
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState, Survey
from tidy_crate.core.scene.request import need_few_frames
from tidy_crate.core.work.trust import NotTrusted

# one frame beyond each end, for the shutter
MARGIN = 1
# writes a staged copy of a scene, and returns its path
Stager = Callable[[SceneContext], Path]


class Baked(Model):
    """One cache that was written."""

    simulation: str
    kind: str
    layer: Path
    first: int
    """First cached frame."""
    last: int
    """Last cached frame."""
    bytes: int
    files: int = 1
    unbaked: tuple[str, ...] = ()
    """Parts that could not be solved here."""


class Failed(Model):
    """One simulation that could not be baked."""

    simulation: str
    why: str


class BakeResult(Model):
    """Result of a bake."""

    baked: tuple[Baked, ...]
    up_to_date: tuple[str, ...]
    failed: tuple[Failed, ...]


def bake(
    context: SceneContext,
    only: Iterable[str] = (),
    again: bool = False,
    progress: Progress = silent,
    *,
    staged_copy: Stager | None = None,
    baker: Baker | None = None,
) -> BakeResult:
    """Bake all simulations, or those named, and skip what is up to date unless `again`.

    staged_copy: writes a staged copy of a scene and returns its path, for formats whose host application bakes.
    baker: in place of the format's own.
    Raises WrongUsage on a name that no simulation has. A simulation that fails keeps its earlier cache.
    """
    survey = context.survey()
    wanted = chosen(survey.simulations, tuple(only))
    if wanted and not survey.frames.count:
        raise WrongUsage("the scene has no frame range to bake for", context.scene, "set its start and end")
    need_few_frames(survey)
    folder = cache_folder(context.tidy)
    if not wanted:
        return BakeResult(baked=(), up_to_date=(), failed=())
    context.file.may_write()
    with only_one(folder / ".bake.lock", "bakes this scene", context.scene):
        remove_drafts(folder)
        return _bake(context, survey, wanted, folder, again, progress, staged_copy, baker or baker_of(context))


def _bake(
    context: SceneContext,
    survey: Survey,
    wanted: list[Simulation],
    folder: Path,
    again: bool,
    progress: Progress,
    staged_copy: Stager | None,
    baker: Baker | None,
) -> BakeResult:
    baked: list[Baked] = []
    up_to_date: list[str] = []
    failed: list[Failed] = []
    for simulation in wanted:
        if not again and is_up_to_date(simulation, folder, survey.frames):
            up_to_date.append(simulation.name)
            continue
        lost = next((one.simulation for one in failed if one.simulation in simulation.depends_on), None)
        if lost is not None:
            failed.append(Failed(simulation=simulation.name, why=f"it depends on {lost}, which could not be baked"))
            continue
        try:
            # what was baked just now is on top of the scene that the next one is solved from
            now = context.with_caches_of_now()
            assert baker is not None
            baked.append(_bake_one(now, simulation, survey, baker, folder, staged_copy, progress))
        except (NotTrusted, HeldBack):
            raise
        except TidyCrateError as error:
            failed.append(Failed(simulation=simulation.name, why=str(error)))
    return BakeResult(baked=tuple(baked), up_to_date=tuple(up_to_date), failed=tuple(failed))


def chosen(simulations: tuple[Simulation, ...], only: tuple[str, ...]) -> list[Simulation]:
    """All simulations, or those named with their dependencies, in dependency order.

    Raises WrongUsage on a name that no simulation has, and on a cycle, which it names.
    """
    known = {simulation.name: simulation for simulation in simulations}
    for name in only:
        if name not in known:
            raise WrongUsage("no simulation has that name", name, "the survey lists them: " + ", ".join(known))
    needs = {name: [other for other in one.depends_on if other in known] for name, one in known.items()}
    wanted = set(only or known)
    queue = list(wanted)
    while queue:
        more = set(needs[queue.pop()]) - wanted
        wanted |= more
        queue.extend(more)
    return [known[name] for name in in_order({name: needs[name] for name in known if name in wanted})]


def in_order(needs: Mapping[str, Iterable[str]]) -> list[str]:
    """Return names so that each comes after what it depends on, otherwise as they came.

    Raises WrongUsage on a cycle, which it names.
    """
    try:
        return list(TopologicalSorter(needs).static_order())
    except CycleError as error:
        # the library names a cycle against the direction of the dependencies
        cycle = " -> ".join(reversed(error.args[1]))
        what = "simulations depend on each other in a cycle"
        raise WrongUsage(what, cycle, "break the cycle in the scene") from error


def is_up_to_date(simulation: Simulation, folder: Path, frames: FrameRange) -> bool:
    """Return whether a cache is whole, to the bit as it was written, and of the scene as it is now."""
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


def baker_of(context: SceneContext) -> Baker:
    """Return what bakes in scenes of this format. Raises WrongUsage where the format has none."""
    found = context.format.baker()
    if found is None:
        raise WrongUsage("scenes of this format cannot be baked here", context.scene)
    return found


def cache_range(frames: FrameRange, samples: int) -> CacheRange:
    """Return the frames that a cache must hold: the range, and one beyond each end for the shutter."""
    return CacheRange((frames.start or 0) - MARGIN, (frames.end if frames.end is not None else 0) + MARGIN, samples)


def _bake_one(
    context: SceneContext,
    simulation: Simulation,
    survey: Survey,
    baker: Baker,
    folder: Path,
    staged_copy: Stager | None,
    progress: Progress,
) -> Baked:
    frames, samples = survey.frames, baker.per_frame(survey)
    wanted = cache_range(frames, samples)
    order = BakeOrder(
        scene=context.scene,
        plan=context.plan,
        simulation=simulation,
        wanted=wanted,
        folder=folder,
        survey_cache=context.survey_cache,
        tokens=context.tokens,
        commands=context.commands,
        staged_copy=None if staged_copy is None else lambda plan: staged_copy(replace(context, plan=plan)),
    )
    written = baker.bake(order, progress)
    before = next((r for r in read_records(folder) if r.simulation == simulation.name), None)
    record = CacheRecord(
        simulation=simulation.name,
        kind=simulation.kind,
        fingerprint=simulation.fingerprint,
        first=wanted.first,
        last=wanted.last,
        fps=frames.codes_per_second,
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
