"""Particles: a Points prim that fills itself."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom, UsdPhysics

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import (
    cache_of,
    is_live,
    number,
    of_kind,
    start_of,
    target_of,
    up_axis,
    value,
    vector,
    way,
    world,
)
from tidy_crate.core.scene.formats.usd.simulation.interface import (
    Array,
    Simulation,
    State,
    Value,
    quarters,
    stage_matrix,
)
from tidy_crate.core.solve.particles import Law, Swarm, advance, no_particles

TOKEN = "particles"
WHY = "which particles there are and where depends on all frames before; a machine that starts late has an empty sky"
EARTH = 9.81  # metres per second squared


class Particles:
    """The kind."""

    name = "particles"
    token = TOKEN

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find."""
        found = []
        for prim in of_kind(stage, TOKEN):
            emitter = target_of(prim, "tidy:particles:emitter")
            found.append(
                Simulation(
                    path=str(prim.GetPath()),
                    kind=self.name,
                    start=start_of(prim),
                    live=is_live(prim),
                    cache=cache_of(prim),
                    targets=(emitter,) if emitter else (),
                    moved_by=(*((emitter,) if emitter else ()), str(prim.GetPath())),
                    prims=(str(prim.GetPath()),),
                    why=WHY,
                )
            )
        return found

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """Parameters, and where emitter and prim are at each moment."""
        prim = stage.GetPrimAtPath(simulation.path)
        law = _law(prim)
        yield repr((simulation.start, sorted(vars(law).items()), number(prim, "tidy:particles:width", 1.0))).encode()
        times = quarters(simulation.start, max(simulation.start, end))
        for one in (_emitter(stage, prim), prim):
            for matrix in way(one, times):
                yield stage_matrix(matrix).tobytes()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> ParticleSolver:
        """See SimulationKind.solver."""
        return ParticleSolver(stage, simulation)

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """Nothing but the live flag."""
        return []


class ParticleSolver:
    """Runs one, in world space."""

    def __init__(self, stage: Usd.Stage, simulation: Simulation) -> None:
        self._path = simulation.path
        self._prim = stage.GetPrimAtPath(simulation.path)
        self._emitter = _emitter(stage, self._prim)
        self._rate = stage.GetTimeCodesPerSecond()
        self._law = _law(self._prim)
        self._width = number(self._prim, "tidy:particles:width", 1.0)
        self._swarm = no_particles()
        self._began = simulation.start

    def begin(self, time: float) -> None:
        """See Solver.begin."""
        self._swarm, self._began = no_particles(), time

    def step(self, before: float, after: float) -> None:
        """See Solver.step."""
        begin, end = ((time - self._began) / self._rate for time in (before, after))
        self._swarm = advance(self._law, self._swarm, begin, end, stage_matrix(world(self._emitter, after)))

    def values(self, time: float) -> list[Value]:
        """Places and velocities in the prim's own space, and numbers to tell the particles apart."""
        inverse = np.linalg.inv(stage_matrix(world(self._prim, time)))
        swarm, kinds = self._swarm, Sdf.ValueTypeNames
        positions = (swarm.position @ inverse[:3, :3] + inverse[3, :3]).astype(np.float32)
        speeds = (swarm.velocity @ inverse[:3, :3]).astype(np.float32)
        widths = np.full(len(positions), self._width, dtype=np.float32)
        return [
            Array(self._path, "points", kinds.Point3fArray, positions, varying=True),
            Array(self._path, "velocities", kinds.Vector3fArray, speeds, varying=True),
            Array(self._path, "widths", kinds.FloatArray, widths, varying=True),
            Array(self._path, "ids", kinds.Int64Array, swarm.number, varying=True),
        ]

    def state(self) -> State:
        """See Solver.state."""
        return {**vars(self._swarm), "began": np.array(self._began)}

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""
        self._began = float(state["began"])
        self._swarm = Swarm(state["position"], state["velocity"], state["number"], state["born"])

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble: all of it is solved."""
        return ()

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes."""
        return int(self._law.rate * self._law.life + 1) * (12 + 12 + 4 + 8)


def _emitter(stage: Usd.Stage, prim: Usd.Prim) -> Usd.Prim:
    target = target_of(prim, "tidy:particles:emitter")
    found = stage.GetPrimAtPath(target) if target else prim
    if not found:
        raise UnreadableInput("the emitter of the particles is not in the scene", f"{prim.GetPath()} -> {target}")
    return found


def scene_gravity(stage: Usd.Stage) -> NDArray[np.float64]:
    """Gravity in scene units per second squared: the physics scene's, or the Earth's along the up axis."""
    prim = next((prim for prim in stage.Traverse() if prim.IsA(UsdPhysics.Scene)), None)
    return gravity_of(stage, prim, Usd.TimeCode.Default())


def gravity_of(stage: Usd.Stage, prim: Usd.Prim | None, time: Usd.TimeCode) -> NDArray[np.float64]:
    """Gravity of one physics scene at a time code, in scene units per second squared; the Earth's where there is none.

    Without a default value the first sample counts.
    """
    up = up_axis(stage)
    down = np.zeros(3)
    down[up] = -1.0
    earth = EARTH / UsdGeom.GetStageMetersPerUnit(stage)
    if not prim or not prim.IsA(UsdPhysics.Scene):
        return np.asarray(down * earth)
    scene = UsdPhysics.Scene(prim)
    direction = np.array(scene.GetGravityDirectionAttr().Get(time) or (0, 0, 0), dtype=np.float64)
    size = float(np.linalg.norm(direction))
    amount = scene.GetGravityMagnitudeAttr().Get(time)
    # the schema: no direction is down, and an amount below zero is the Earth's
    along = direction / size if size > 0 else down
    return np.asarray(along * (earth if amount is None or amount < 0 else float(amount)))


def _law(prim: Usd.Prim) -> Law:
    path, stage = str(prim.GetPath()), prim.GetStage()
    if not prim.IsA(UsdGeom.Points):
        raise UnreadableInput("particles live in a Points prim", path)
    gravity = value(prim, "tidy:particles:gravity", None)
    floor = value(prim, "tidy:particles:floor", None)
    seed = value(prim, "tidy:particles:seed", 0)
    if not isinstance(seed, int) or isinstance(seed, bool) or seed < 0:
        raise UnreadableInput("the seed of particles is a whole number of zero or more", path)
    try:
        return Law(
            seed=seed,
            rate=number(prim, "tidy:particles:rate", 100.0),
            life=number(prim, "tidy:particles:life", 1.0),
            size=vector(prim, "tidy:particles:size", (0.0, 0.0, 0.0)),
            velocity=vector(prim, "tidy:particles:velocity", (0.0, 0.0, 0.0)),
            spread=number(prim, "tidy:particles:spread", 0.0),
            gravity=scene_gravity(stage) if gravity is None else vector(prim, "tidy:particles:gravity", (0, 0, 0)),
            wind=vector(prim, "tidy:particles:wind", (0.0, 0.0, 0.0)),
            drag=number(prim, "tidy:particles:drag", 0.0),
            floor=None if floor is None else float(floor),
            bounce=number(prim, "tidy:particles:bounce", 0.0),
            up=up_axis(stage),
        )
    except ValueError as error:
        raise UnreadableInput(str(error), path) from error
