"""A kind of simulation in USD scenes: a prim that swings around its Z axis, slower and slower.

`tidy:simulation = "swing"`, with `tidy:swing:degrees` and `tidy:swing:frequency` (Hz).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import cache_of, is_live, number, of_kind, start_of
from tidy_crate.core.scene.formats.usd.simulation.interface import Pose, Simulation, State, Value

DAMPING = 0.2


class Swing:
    """The kind."""

    name = "swing"

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find."""
        return [
            Simulation(
                path=(path := str(prim.GetPath())), kind=self.name, start=start_of(prim), live=is_live(prim),
                cache=cache_of(prim), targets=(), moved_by=(), prims=(path,),
                why="a machine that starts in the middle of the shot starts the swing at its widest",
            )
            for prim in of_kind(stage, "swing")
        ]  # fmt: skip

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """See SimulationKind.inputs: its two numbers, and the prim's own pose."""
        prim = stage.GetPrimAtPath(simulation.path)
        yield repr(_numbers(prim)).encode()
        yield np.array(UsdGeom.Xformable(prim).GetLocalTransformation(Usd.TimeCode(simulation.start))).tobytes()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> SwingSolver:
        """See SimulationKind.solver."""
        prim = stage.GetPrimAtPath(simulation.path)
        degrees, frequency = _numbers(prim)
        rest = UsdGeom.Xformable(prim).GetLocalTransformation(Usd.TimeCode(simulation.start))
        return SwingSolver(simulation.path, rest, degrees, frequency, stage.GetTimeCodesPerSecond())

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """See SimulationKind.switched_off: nothing but the live flag."""
        return []


def _numbers(prim: Usd.Prim) -> tuple[float, float]:
    degrees, frequency = number(prim, "tidy:swing:degrees", 20.0), number(prim, "tidy:swing:frequency", 1.0)
    if not (math.isfinite(degrees) and math.isfinite(frequency) and frequency > 0):
        raise UnreadableInput("a swing needs an angle, and a frequency above zero", str(prim.GetPath()))
    return degrees, frequency


@dataclass
class SwingSolver:
    """Carries the swing on from step to step. angle and speed: in degrees, and degrees a second."""

    path: str
    rest: Gf.Matrix4d
    degrees: float
    frequency: float
    rate: float
    angle: float = 0.0
    speed: float = 0.0

    def begin(self, time: float) -> None:
        """See Solver.begin."""
        self.angle, self.speed = self.degrees, 0.0

    def step(self, before: float, after: float) -> None:
        """See Solver.step: exact for a damped spring, so that the size of a step does not matter."""
        seconds, omega = (after - before) / self.rate, 2 * math.pi * self.frequency
        decay, damped = DAMPING * omega, omega * math.sqrt(1 - DAMPING**2)
        first, second = self.angle, (self.speed + decay * self.angle) / damped
        cosine, sine, fade = math.cos(damped * seconds), math.sin(damped * seconds), math.exp(-decay * seconds)
        self.angle = fade * (first * cosine + second * sine)
        self.speed = fade * damped * (second * cosine - first * sine) - decay * self.angle

    def values(self, time: float) -> list[Value]:
        """See Solver.values."""
        turned = Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d(0, 0, 1), self.angle))
        return [Pose(self.path, turned * self.rest)]

    def state(self) -> State:
        """See Solver.state."""
        return {"swing": np.array([self.angle, self.speed])}

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""
        self.angle, self.speed = map(float, state["swing"])

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble: all of it is solved."""
        return ()

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes: three numbers, four, and three again."""
        return 80
