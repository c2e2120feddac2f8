"""All kinds of simulation in a USD scene."""

from __future__ import annotations

from pxr import Sdf, Usd

from tidy_crate.core.bake.kinds.interface import Simulation, SimulationKind
from tidy_crate.core.bake.kinds.jiggle_points import Jiggle
from tidy_crate.core.bake.kinds.particle_emitter import Particles
from tidy_crate.core.bake.kinds.rigid_bodies import RigidBodies
from tidy_crate.core.bake.kinds.spring_follow import SpringFollow
from tidy_crate.core.errors import UnreadableInput

KINDS: dict[str, SimulationKind] = {kind.name: kind for kind in (RigidBodies(), SpringFollow(), Jiggle(), Particles())}


def find_all(stage: Usd.Stage) -> list[Simulation]:
    """Every simulation of a stage, kind by kind."""
    return [simulation for kind in KINDS.values() for simulation in kind.find(stage)]


def dependencies(simulations: list[Simulation]) -> dict[str, tuple[str, ...]]:
    """By name, the other simulations that must be solved first: those that set the pose of what it goes by."""
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
    """What others go by comes first. Raises UnreadableInput on a circle, which it names."""
    by_name = {one.path: one for one in simulations}
    needs = dependencies(simulations)
    ordered: dict[str, Simulation] = {}
    entered: list[str] = []

    def visit(name: str) -> None:
        if name in ordered:
            return
        if name in entered:
            circle = " -> ".join([*entered[entered.index(name) :], name])
            raise UnreadableInput(
                "simulations depend on each other in a circle", circle, "break the circle in the scene"
            )
        entered.append(name)
        for other in needs[name]:
            visit(other)
        entered.pop()
        ordered[name] = by_name[name]

    for name in by_name:
        visit(name)
    return list(ordered.values())
