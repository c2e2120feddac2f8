"""Baking the simulations of a scene into caches, one pass each from its own start."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from tidy_crate import __version__
from tidy_crate.core.bake.records import CacheRecord, cache_folder, read_records, slug, write_record
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import hash_file
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState

# one frame beyond each end, for the shutter
MARGIN = 1


class Baked(Model):
    """One cache that was written. first, last: cached frames, both counted."""

    simulation: str
    kind: str
    layer: Path
    first: int
    last: int
    bytes: int


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
    wanted = _chosen(survey.simulations, tuple(only))
    if wanted and not survey.frames.count:
        raise WrongUsage("the scene has no frame range to bake for", context.scene, "set its start and end")
    folder = cache_folder(context.tidy)
    baked, up_to_date, failed = [], [], []
    for simulation in wanted:
        if not again and _is_up_to_date(simulation, folder, survey.frames):
            up_to_date.append(simulation.name)
            continue
        try:
            baked.append(_bake_one(context, simulation, survey.frames, folder, progress))
        except TidyCrateError as error:
            failed.append(Failed(simulation=simulation.name, why=str(error)))
    return BakeResult(baked=tuple(baked), up_to_date=tuple(up_to_date), failed=tuple(failed))


def _chosen(simulations: tuple[Simulation, ...], only: tuple[str, ...]) -> list[Simulation]:
    """In dependency order: what another one follows comes first."""
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


def _is_up_to_date(simulation: Simulation, folder: Path, frames: FrameRange) -> bool:
    if simulation.state is not SimulationState.CACHED or frames.start is None or frames.end is None:
        return False
    record = next((r for r in read_records(folder) if r.simulation == simulation.name), None)
    if record is None:
        # cached by the scene itself, not by us
        return True
    layer = folder / record.layer
    same = layer.is_file() and layer.stat().st_size == record.bytes and hash_file(layer) == record.blake3
    return same and record.fingerprint == simulation.fingerprint


def _bake_one(
    context: SceneContext, simulation: Simulation, frames: FrameRange, folder: Path, progress: Progress
) -> Baked:
    # here, so that the USD library is loaded only when there is something to bake
    from tidy_crate.core.bake.usd_cache import bake_spring

    assert frames.start is not None and frames.end is not None
    layer = folder / f"{slug(simulation.name)}.usda"
    first, last = frames.start - MARGIN, frames.end + MARGIN
    bake_spring(context, simulation.name, first, last, layer, progress)
    record = CacheRecord(
        simulation=simulation.name,
        kind=simulation.kind,
        fingerprint=simulation.fingerprint,
        first=first,
        last=last,
        fps=frames.fps,
        layer=layer.name,
        bytes=layer.stat().st_size,
        blake3=hash_file(layer),
        tool=f"tidy-crate {__version__}",
    )
    write_record(folder, record)
    return Baked(
        simulation=simulation.name,
        kind=simulation.kind,
        layer=layer,
        first=first,
        last=last,
        bytes=record.bytes,
    )
