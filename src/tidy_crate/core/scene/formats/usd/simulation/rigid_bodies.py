"""Rigid bodies as UsdPhysics describes them, solved by MuJoCo: one simulation per physics scene.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.outputs import pose_times
from tidy_crate.core.scene.formats.usd.simulation.attributes import cache_of, is_live, start_of, way, world
from tidy_crate.core.scene.formats.usd.simulation.interface import (
    Pose,
    Simulation,
    State,
    Value,
    quarters,
    stage_matrix,
)
from tidy_crate.core.scene.formats.usd.simulation.joints import gaps
from tidy_crate.core.scene.formats.usd.simulation.members import Members, by_owner, listed
from tidy_crate.core.scene.formats.usd.simulation.physics import NOTHING, build, gravity_at, gravity_is_keyed
from tidy_crate.core.scene.formats.usd.simulation.units import rigid_part
from tidy_crate.core.solve.rigid import Poses, RigidRun

WHY = "the position of a body depends on every earlier contact; a machine in the middle begins from its start"
_POSE_BYTES = 80
# nothing that falls on a stage is faster, metres per second
FASTEST = 100.0
FASTEST_OF_ALL = 10_000.0  # whatever it begins with
_OVERLAP = 0.02  # metres
_FALLEN = 5.0  # metres that a body has fallen, at least, before it is told that nothing stops it


class RigidBodies:
    """The kind."""

    name = "rigid bodies"

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find."""
        found = []
        for owner, members in by_owner(stage).items():
            plan = Members.of(stage, members)
            prim = stage.GetPrimAtPath(owner)
            # once baked all its bodies are moved by their cache, and it is a simulation all the same
            if not plan.free and not plan.refused and is_live(prim):
                continue
            found.append(
                Simulation(
                    path=owner,
                    kind=self.name,
                    start=start_of(prim),
                    live=is_live(prim),
                    cache=cache_of(prim),
                    targets=(),
                    moved_by=tuple(dict.fromkeys((*plan.driven, *plan.still_moving, *map(_above, plan.free)))),
                    prims=tuple(plan.free),
                    why=WHY,
                    trouble=tuple(plan.trouble),
                    refused=(*plan.refused, *gaps(stage, plan, start_of(prim))),
                    bodies=tuple(plan.bodies),
                )
            )
        return found

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """Everything that the model is built from, and the way of what is animated."""
        built = build(stage, simulation, simulation.start)
        yield repr((simulation.start, simulation.trouble, built.world.gravity.tolist())).encode()
        for body in built.world.bodies:
            yield _bytes_of(body)
            for shape in body.shapes:
                yield _bytes_of(shape)
        for shape in built.world.still:
            yield _bytes_of(shape)
        for joint in built.world.joints:
            yield _bytes_of(joint)
        yield repr((built.world.apart, sorted(map(sorted, built.world.apart_colliders)))).encode()
        times = quarters(simulation.start, max(simulation.start, end))
        if gravity_is_keyed(stage, simulation):
            for time in times:
                yield gravity_at(stage, simulation, float(time)).tobytes()
        for path in (*built.driven, *(_above(path) for path in built.free)):
            prim = stage.GetPrimAtPath(path)
            # what stands still is said once: a range may have a million frames
            for matrix in way(prim, times if pose_times(prim) else times[:1]):
                yield stage_matrix(matrix).tobytes()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> RigidSolver:
        """See SimulationKind.solver."""
        return RigidSolver(stage, simulation)

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """Every body is off by the standard's own switch, so that no program that knows nothing of ours solves it."""
        return [(prim, "physics:rigidBodyEnabled", Sdf.ValueTypeNames.Bool, False) for prim in simulation.bodies]


def _above(path: str) -> str:
    return str(Sdf.Path(path).GetParentPath())


def _bytes_of(value: Any) -> bytes:
    parts = []
    for name, one in vars(value).items():
        if name != "shapes":
            parts.append(name.encode() + (one.tobytes() if isinstance(one, np.ndarray) else repr(one).encode()))
    return b"|".join(parts)


class RigidSolver:
    """Runs the bodies of one physics scene."""

    def __init__(self, stage: Usd.Stage, simulation: Simulation) -> None:
        self._stage, self._simulation = stage, simulation
        self._unit = UsdGeom.GetStageMetersPerUnit(stage)
        self._rate = stage.GetTimeCodesPerSecond()
        self._built = NOTHING
        self._run: RigidRun | None = None
        self._fastest = FASTEST
        self._gravity_changes = gravity_is_keyed(stage, simulation)
        self._inside_each_other: tuple[str, ...] = ()

    def begin(self, time: float) -> None:
        """See Solver.begin."""
        self._built = build(self._stage, self._simulation, time)
        try:
            self._run = RigidRun(self._built.world, 0.25 / self._rate)
        except ValueError as error:
            raise UnreadableInput(str(error), self._simulation.path) from error
        fastest = max(float(np.linalg.norm(body.velocity)) for body in self._built.world.bodies)
        self._fastest = min(FASTEST + 2 * fastest, FASTEST_OF_ALL)
        self._inside_each_other = tuple(
            f"{other}: begins {depth:.2g} m inside {one}".replace("inside world", "inside what is still")
            for one, other, depth in self._run.overlaps(_OVERLAP)
        )

    def step(self, before: float, after: float) -> None:
        """See Solver.step."""
        assert self._run is not None
        if self._gravity_changes:
            # halfway through the step, which is right to the second order
            self._run.set_gravity(gravity_at(self._stage, self._simulation, (before + after) / 2))
        self._run.advance(self._driven_at(before), self._driven_at(after), (after - before) * 4)
        if not self._run.fastest() < self._fastest:
            known = "; ".join(self.trouble()[:5])
            raise UnreadableInput(
                f"the bodies fly apart at frame {after:g}: one is faster than {self._fastest:.0f} m/s",
                self._simulation.path,
                f"of this simulation is known: {known}" if known else "look for bodies that begin inside each other",
            )

    def _driven_at(self, time: float) -> Poses:
        return {
            path: rigid_part(stage_matrix(world(self._stage.GetPrimAtPath(path), time)), self._unit)[:2]
            for path in self._built.driven
        }

    def values(self, time: float) -> list[Value]:
        """The matrix of every body, below whatever its parent is at that time."""
        assert self._run is not None
        worlds: dict[str, NDArray[np.float64]] = {}
        found: list[Value] = []
        cache = UsdGeom.XformCache(float(time))
        for path in self._built.free:
            position, orientation = self._run.pose(path)
            pose = np.eye(4)
            pose[:3, :3] = np.array(Gf.Matrix3d(Gf.Quatd(float(orientation[0]), *map(float, orientation[1:]))))
            pose[3, :3] = position / self._unit
            worlds[path] = self._built.residue[path] @ pose
            prim = self._stage.GetPrimAtPath(path)
            parent = stage_matrix(cache.GetParentToWorldTransform(prim))
            above = self._built.inside.get(path)
            if above is not None:
                # its parent hangs on another body of this simulation, which has moved with it
                authored = stage_matrix(cache.GetLocalToWorldTransform(self._stage.GetPrimAtPath(above)))
                parent = parent @ np.linalg.inv(authored) @ worlds[above]
            local = worlds[path] @ np.linalg.inv(parent)
            found.append(Pose(path, Gf.Matrix4d(local.tolist())))
        return found

    def state(self) -> State:
        """See Solver.state."""
        assert self._run is not None
        return {"mujoco": self._run.state()}

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""
        assert self._run is not None
        try:
            self._run.restore(state["mujoco"])
        except (ValueError, TypeError) as error:
            raise UnreadableInput("the kept state does not fit the bodies", self._simulation.path) from error

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble."""
        return (*self._built.trouble, *self._inside_each_other, *self._fallen())

    def _fallen(self) -> Iterator[str]:
        """Tell of bodies that are below everything that could stop them, and fall on."""
        if self._run is not None and (fallen := self._run.fallen(_FALLEN)):
            deepest = max(fallen.values())
            yield f"{listed(list(fallen))}: falls past everything that could stop it, up to {deepest:.3g} m deep"

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes."""
        return _POSE_BYTES * len(self._built.free)
