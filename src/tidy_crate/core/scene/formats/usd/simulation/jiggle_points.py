"""Jiggle: the points of a mesh or of curves, each on a spring, lengths between neighbours kept."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import (
    cache_of,
    is_live,
    number,
    of_kind,
    start_of,
    value,
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
from tidy_crate.core.solve.jiggle import JiggleBody, edges_of, shown, step
from tidy_crate.core.solve.spring import SpringState, at_rest

TOKEN = "jiggle"
WHY = "how far it has swung depends on all frames before; a machine that starts in the middle starts it unbent"


class Jiggle:
    """The kind."""

    name = "jiggle"
    token = TOKEN

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find."""
        return [
            Simulation(
                path=str(prim.GetPath()),
                kind=self.name,
                start=start_of(prim),
                live=is_live(prim),
                cache=cache_of(prim),
                targets=(),
                # what it is part of moves it, and so does its own pose
                moved_by=(str(prim.GetPath()),),
                prims=(str(prim.GetPath()),),
                why=WHY,
            )
            for prim in of_kind(stage, TOKEN)
        ]

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """Parameters, the shape, and where it is at each moment."""
        prim = stage.GetPrimAtPath(simulation.path)
        body = _body(prim)
        yield repr((simulation.start, body.frequency, body.damping_ratio, body.stretch)).encode()
        yield body.free.tobytes()
        yield body.edges.tobytes()
        moving = UsdGeom.PointBased(prim).GetPointsAttr().ValueMightBeTimeVarying()
        times = quarters(simulation.start, max(simulation.start, end))
        for matrix in way(prim, times):
            yield stage_matrix(matrix).tobytes()
        for time in times if moving else times[:1]:
            yield _points(prim, time).tobytes()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> JiggleSolver:
        """See SimulationKind.solver."""
        return JiggleSolver(stage, simulation)

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """Nothing but the live flag."""
        return []


class JiggleSolver:
    """Runs one, in world space."""

    def __init__(self, stage: Usd.Stage, simulation: Simulation) -> None:
        self._path = simulation.path
        self._prim = stage.GetPrimAtPath(simulation.path)
        self._rate = stage.GetTimeCodesPerSecond()
        self._body = _body(self._prim)
        self._state: SpringState | None = None
        self._rest: NDArray[np.float64] | None = None
        if not UsdGeom.PointBased(self._prim).GetPointsAttr().ValueMightBeTimeVarying():
            self._rest = _points(self._prim, simulation.start)

    def begin(self, time: float) -> None:
        """See Solver.begin."""
        self._state = at_rest(self._goal(time))

    def step(self, before: float, after: float) -> None:
        """See Solver.step."""
        assert self._state is not None
        seconds = (after - before) / self._rate
        self._state = step(self._body, self._state, self._goal(before), self._goal(after), seconds)

    def values(self, time: float) -> list[Value]:
        """The points in the prim's own space."""
        assert self._state is not None
        seen = shown(self._body, self._state, self._goal(time))
        inverse = np.linalg.inv(stage_matrix(world(self._prim, time)))
        local = seen @ inverse[:3, :3] + inverse[3, :3]
        return [Array(self._path, "points", Sdf.ValueTypeNames.Point3fArray, local.astype(np.float32))]

    def state(self) -> State:
        """See Solver.state."""
        assert self._state is not None
        return {"position": self._state.position, "velocity": self._state.velocity}

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""
        self._state = SpringState(state["position"], state["velocity"])

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble: all of it is solved."""
        return ()

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes."""
        return 12 * len(self._body.free)

    def _goal(self, time: float) -> NDArray[np.float64]:
        points = self._rest if self._rest is not None else _points(self._prim, time)
        if len(points) != len(self._body.free):
            raise UnreadableInput(f"the number of points changes at frame {time:g}, which cannot jiggle", self._path)
        matrix = stage_matrix(world(self._prim, time))
        return np.asarray(points @ matrix[:3, :3] + matrix[3, :3])


def _points(prim: Usd.Prim, time: float) -> NDArray[np.float64]:
    found = UsdGeom.PointBased(prim).GetPointsAttr().Get(float(time))
    if found is None or len(found) == 0:
        raise UnreadableInput("a jiggle has no points", str(prim.GetPath()))
    return np.array(found, dtype=np.float64)


def _body(prim: Usd.Prim) -> JiggleBody:
    path = str(prim.GetPath())
    if not prim.IsA(UsdGeom.PointBased):
        raise UnreadableInput("only meshes, curves and points can jiggle", path)
    count = len(_points(prim, start_of(prim)))
    weights = value(prim, "tidy:jiggle:weights", None)
    free = np.ones(count) if weights is None else np.array(weights, dtype=np.float64)
    if free.shape != (count,):
        raise UnreadableInput(f"a jiggle has {count} points and {free.size} weights", path)
    try:
        return JiggleBody.of(
            number(prim, "tidy:jiggle:frequency", 2.0),
            number(prim, "tidy:jiggle:dampingRatio", 0.2),
            number(prim, "tidy:jiggle:stretch", 0.1),
            free,
            _edges(prim, count),
        )
    except ValueError as error:
        raise UnreadableInput(str(error), path) from error


def _edges(prim: Usd.Prim, count: int) -> NDArray[np.int64]:
    if prim.IsA(UsdGeom.Mesh):
        mesh = UsdGeom.Mesh(prim)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get() or [], dtype=np.int64)
        indices = np.array(mesh.GetFaceVertexIndicesAttr().Get() or [], dtype=np.int64)
        if counts.sum() != len(indices) or (counts < 1).any() or ((indices < 0) | (indices >= count)).any():
            raise UnreadableInput("the faces of a jiggle do not fit its points", str(prim.GetPath()))
        return edges_of(counts, indices) if len(counts) else np.zeros((0, 2), dtype=np.int64)
    if prim.IsA(UsdGeom.Curves):
        lengths = np.array(UsdGeom.Curves(prim).GetCurveVertexCountsAttr().Get() or [], dtype=np.int64)
        if lengths.sum() != count or (lengths < 1).any():
            raise UnreadableInput("the curves of a jiggle do not fit its points", str(prim.GetPath()))
        pairs = np.stack([np.arange(count - 1), np.arange(1, count)], axis=1)
        return np.asarray(np.delete(pairs, np.cumsum(lengths)[:-1] - 1, axis=0), dtype=np.int64)
    return np.zeros((0, 2), dtype=np.int64)
