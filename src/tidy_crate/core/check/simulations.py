"""C6 simulations, B11 generators."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.model import Simulation, SimulationState, Status

# reasons of one simulation that are listed one by one
SHOWN = 10


@check("simulation-live", Severity.ERROR, "C6", Next.BAKE)
def simulation_live(scene: Checked) -> Iterator[Trouble]:
    """Machines that start in the middle of the shot compute a different motion than their neighbours."""
    for one in scene.survey.simulations:
        # what cannot be baked here is told as that
        if one.state is SimulationState.LIVE and one.kind != "unknown":
            yield Trouble(one.name, f"{one.kind}, solved again by every machine{_named(one)}", "bake it")


@check("simulation-refused", Severity.ERROR, "C6", Next.SCENE)
def simulation_refused(scene: Checked) -> Iterator[Trouble]:
    """This simulation cannot be solved correctly here. It stays live until its own program bakes it."""
    for one in scene.survey.simulations:
        if one.state is not SimulationState.CACHED:
            yield from _listed(one.name, one.refused, "reasons", "bake it in the program it was made in")


@check("simulation-stale", Severity.ERROR, "C6", Next.BAKE)
def simulation_stale(scene: Checked) -> Iterator[Trouble]:
    """The cache was made from an older scene: its motion no longer matches."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.STALE:
            yield Trouble(one.name, f"{one.kind}: the scene has changed since it was baked", "bake it again")


@check("simulation-partial", Severity.ERROR, "C6", Next.BAKE)
def simulation_partial(scene: Checked) -> Iterator[Trouble]:
    """At frames that the cache lacks, the motion freezes, vanishes or is interpolated, and nothing reports it."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.PARTIAL:
            if one.covers is None:
                what = "the cache is missing or holds no frames"
            elif one.gaps:
                what = f"the cache lacks frames {format_frames(one.gaps[:50])}"
            else:
                what = f"the cache covers {one.covers[0]}-{one.covers[1]} only"
            yield Trouble(one.name, what, "bake it again")


@check("simulation-range-not-covered", Severity.ERROR, "C6", Next.BAKE)
def simulation_range_not_covered(scene: Checked) -> Iterator[Trouble]:
    """Outside the frames that the cache covers its motion freezes while everything else moves."""
    frames = scene.survey.frames
    if frames.start is None or frames.end is None:
        return
    for one in scene.survey.simulations:
        if one.state is not SimulationState.CACHED or one.covers is None:
            continue
        if one.covers[0] > frames.start or one.covers[1] < frames.end:
            what = f"the cache covers {one.covers[0]}-{one.covers[1]}, the range is {frames.start}-{frames.end}"
            yield Trouble(one.name, what, "bake it for the whole range")


@check("simulation-solves-beside-cache", Severity.ERROR, "C6", Next.BAKE)
def simulation_solves_beside_cache(scene: Checked) -> Iterator[Trouble]:
    """The solver is still on beside its cache: the effect is applied twice."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.LIVE and one.cache_named:
            yield Trouble(one.name, "it has a cache and is still solved", "switch the solver off, or bake it")


@check("simulation-cache-stays-behind", Severity.ERROR, "C6")
def simulation_cache_stays_behind(scene: Checked) -> Iterator[Trouble]:
    """No path of the scene leads to the cache: it is not collected, and the nodes have nothing to play."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.CACHED and one.cache is None and not _travels(scene, one.slot):
            yield Trouble(
                one.name, "it is cached, and its cache is not named", "name the cache among the scene's files"
            )


@check("simulation-starts-late", Severity.WARNING, "C6")
def simulation_starts_late(scene: Checked) -> Iterator[Trouble]:
    """The simulation starts inside the range: it stands still at first, and then moves in the middle of the shot."""
    start = scene.survey.frames.start
    for one in scene.survey.simulations:
        if start is not None and one.start > start and scene.survey.frames.count > 1:
            yield Trouble(one.name, f"it starts at {one.start}, the shot at {start}", "let it start before the shot")


@check("simulation-unsolved", Severity.WARNING, "C6")
def simulation_unsolved(scene: Checked) -> Iterator[Trouble]:
    """The bake cannot solve this part: it stands still in the cache, or is left out."""
    for one in scene.survey.simulations:
        yield from _listed(
            one.name, one.trouble, "parts that the bake cannot solve", "bake it in the program it was made in, or waive"
        )


@check("simulation-unknown", Severity.WARNING, "C6", Next.DECIDE)
def simulation_unknown(scene: Checked) -> Iterator[Trouble]:
    """A plug-in's own schema speaks of a simulation. Nothing here sees on which earlier frames it depends."""
    for name, where in scene.survey.unknown_simulations.items():
        what = f"{name} is known to no schema here, and may depend on the frame before"
        yield Trouble(where, what, "bake it in the program it was made in, or waive where it does not move")


@check("generator-not-frozen", Severity.ERROR, "B11")
def generator_not_frozen(scene: Checked) -> Iterator[Trouble]:
    """A node without the plug-in, font or script renders nothing here, or something else."""
    for one in scene.survey.generators:
        if not one.frozen and not one.can_freeze:
            what = f"no node can evaluate this {one.kind}, and the sheet names no command that turns it into plain data"
            yield Trouble(one.name, what, "freeze it in the host application, or add commands.freeze to the sheet")


@check("generator-will-be-frozen", Severity.NOTE, "B11", Next.NOTHING)
def generator_will_be_frozen(scene: Checked) -> Iterator[Trouble]:
    """The generator becomes plain data in the staged copy. Changes made after that are not included."""
    for one in scene.survey.generators:
        if not one.frozen and one.can_freeze:
            yield Trouble(
                one.name, f"the {one.kind} becomes plain data in the staged copy", "look at it in a test frame"
            )


def _listed(name: str, all_of_them: Sequence[str], of: str, remedy: str) -> Iterator[Trouble]:
    """Yield the first ones, and how many more there are."""
    for what in all_of_them[:SHOWN]:
        yield Trouble(name, what, remedy)
    if len(all_of_them) > SHOWN:
        yield Trouble(name, f"and {len(all_of_them) - SHOWN} more {of}", "see all of them with survey --json")


def _named(one: Simulation) -> str:
    """The prims that it moves, where these are others than the one that stands for it."""
    prims = [prim for prim in one.prims if prim != one.name]
    if not prims:
        return ""
    more = f" and {len(prims) - 3} more" if len(prims) > 3 else ""
    return f": {', '.join(prims[:3])}{more}"


def _travels(scene: Checked, slot: str) -> bool:
    """Return whether a place in the scene, or any that holds a cache where none is named, leads to files that are
    there.
    """
    return any(
        asset.owner == slot if slot else asset.kind == "cache"
        for asset in scene.survey.assets
        if asset.status is not Status.MISSING
    )
