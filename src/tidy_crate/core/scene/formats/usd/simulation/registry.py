"""All kinds of simulation in a USD scene."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from graphlib import CycleError, TopologicalSorter
from types import MappingProxyType

from pxr import Sdf, Usd

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.plugins import plugins
from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation, SimulationKind
from tidy_crate.core.scene.formats.usd.simulation.jiggle_points import Jiggle
from tidy_crate.core.scene.formats.usd.simulation.particle_emitter import Particles
from tidy_crate.core.scene.formats.usd.simulation.rigid_bodies import RigidBodies
from tidy_crate.core.scene.formats.usd.simulation.spring_follow import SpringFollow
from tidy_crate.core.scene.formats.usd.simulation.unknown import Unknown

GROUP = "tidy_crate.usd_simulations"
_TOKENS = (Jiggle.token, Particles.token, SpringFollow.token)
_OWN: tuple[SimulationKind, ...] = (RigidBodies(), SpringFollow(), Jiggle(), Particles(), Unknown(_TOKENS))


@cache
def kinds() -> Mapping[str, SimulationKind]:
    """Return every kind by its name: our own, and those that other packages bring.

    Raises UnreadableInput for a kind that cannot be loaded, or has the name of another one.
    """
    found = {kind.name: kind for kind in _OWN}
    for entry, bring in plugins(GROUP).items():
        kind: SimulationKind = bring()
        if kind.name in found:
            raise UnreadableInput(f"two kinds of simulation are called {kind.name!r}", entry, "remove one package")
        found[kind.name] = kind
    return MappingProxyType(found)


def find_all(stage: Usd.Stage) -> list[Simulation]:
    """Every simulation of a stage, kind by kind; last those that say they are of a kind that there is none of."""
    found = [simulation for kind in kinds().values() for simulation in kind.find(stage)]
    claimed = {one.path for one in found if one.kind != Unknown.name}
    return [one for one in found if one.kind != Unknown.name or one.path not in claimed]


def dependencies(simulations: list[Simulation]) -> dict[str, tuple[str, ...]]:
    """By name, the other simulations that must be solved first: those that set the pose of what it depends on."""
    setters: dict[str, str] = {prim: one.path for one in simulations for prim in one.prims}
    found: dict[str, tuple[str, ...]] = {}
    for one in simulations:
        first = dict.fromkeys(
            setters[str(above)]
            for path in one.moved_by
            for above in Sdf.Path(path).GetPrefixes()
            if str(above) in setters and setters[str(above)] != one.path
        )
        found[one.path] = tuple(first)
    return found


def in_order(simulations: list[Simulation]) -> list[Simulation]:
    """Return simulations so that each comes after what it depends on. Raises UnreadableInput on a cycle, by name."""
    by_name = {one.path: one for one in simulations}
    try:
        return [by_name[name] for name in TopologicalSorter(dependencies(simulations)).static_order()]
    except CycleError as error:
        cycle = " -> ".join(reversed(error.args[1]))
        what = "simulations depend on each other in a cycle"
        raise UnreadableInput(what, cycle, "break the cycle in the scene") from error
