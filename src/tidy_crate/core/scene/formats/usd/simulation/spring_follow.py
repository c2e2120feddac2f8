"""Spring follow: a prim that goes after another one on a spring, in place, in turn, or both."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import (
    cache_of,
    is_live,
    number,
    of_kind,
    start_of,
    target_of,
    value,
    vector,
    way,
)
from tidy_crate.core.scene.formats.usd.simulation.interface import Pose, Simulation, State, Value, quarters
from tidy_crate.core.solve.spring import SpringState, advance, at_rest

TOKEN = "springFollow"
# three numbers, four, and three again
_POSE_BYTES = 80
FOLLOWS = ("place", "turn", "both")
WHY = "a machine that starts in the middle of the shot starts it at rest, so its frames do not meet its neighbours'"


class SpringFollow:
    """The kind."""

    name = "spring follow"
    token = TOKEN

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find."""
        return [self._one(prim) for prim in of_kind(stage, TOKEN)]

    def _one(self, prim: Usd.Prim) -> Simulation:
        path, target = str(prim.GetPath()), target_of(prim, "tidy:spring:target")
        return Simulation(
            path=path,
            kind=self.name,
            start=start_of(prim),
            live=is_live(prim),
            cache=cache_of(prim),
            targets=(target,) if target else (),
            moved_by=(*((target,) if target else ()), str(prim.GetPath().GetParentPath())),
            prims=(path,),
            why=WHY,
        )

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """Parameters, the target's way, the parent's, and how the prim itself is turned and scaled."""
        spring = _Parameters.of(stage, simulation)
        yield repr(spring).encode()
        times = quarters(simulation.start, max(simulation.start, end))
        yield _places(stage, spring, times).tobytes()
        if spring.orientations:
            yield _turns(stage, spring, times).tobytes()
        prim = stage.GetPrimAtPath(spring.path)
        for time in times:
            if float(time).is_integer():
                cache = UsdGeom.XformCache(float(time))
                yield np.array(cache.GetParentToWorldTransform(prim)).tobytes()
                local, _ = cache.GetLocalTransformation(prim)
                # the spring sets where the prim is; its own pose adds only the way it is turned and scaled
                yield np.array(local)[:3, :3].tobytes()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> SpringSolver:
        """See SimulationKind.solver."""
        return SpringSolver(stage, _Parameters.of(stage, simulation))

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """Nothing but the live flag."""
        return []


@dataclass(frozen=True)
class _Parameters:
    path: str
    target: str
    frequency: float
    damping_ratio: float
    offset: tuple[float, float, float]
    positions: bool
    orientations: bool

    @classmethod
    def of(cls, stage: Usd.Stage, simulation: Simulation) -> _Parameters:
        prim, path = stage.GetPrimAtPath(simulation.path), simulation.path
        target = target_of(prim, "tidy:spring:target")
        if target is None or not stage.GetPrimAtPath(target):
            remedy = "point its tidy:spring:target at the prim it follows"
            raise UnreadableInput("a spring follow has no target", path, remedy)
        if stage.GetPrimAtPath(target).GetPath().HasPrefix(prim.GetPath()):
            raise UnreadableInput("a spring follow follows itself", path, "point its target at another prim")
        frequency = number(prim, "tidy:spring:frequency", 1.0)
        damping_ratio = number(prim, "tidy:spring:dampingRatio", 1.0)
        if not (math.isfinite(frequency) and frequency > 0):
            raise UnreadableInput("a spring needs a frequency above zero", path)
        if not (math.isfinite(damping_ratio) and damping_ratio >= 0):
            raise UnreadableInput("a spring needs a damping ratio of zero or more", path)
        follows = str(value(prim, "tidy:spring:follows", "place"))
        if follows not in FOLLOWS:
            raise UnreadableInput(f"a spring follows {', '.join(FOLLOWS)}, not {follows!r}", path)
        x, y, z = vector(prim, "tidy:spring:offset", (0.0, 0.0, 0.0)).tolist()
        return cls(path, target, frequency, damping_ratio, (x, y, z), follows != "turn", follows != "place")


class SpringSolver:
    """Runs one. A turn is a spring on the four numbers of its quaternion, made one again when it is used."""

    def __init__(self, stage: Usd.Stage, spring: _Parameters) -> None:
        self._stage = stage
        self._spring = spring
        self._rate = stage.GetTimeCodesPerSecond()
        self._place: SpringState | None = None
        self._turn: SpringState | None = None

    def begin(self, time: float) -> None:
        """See Solver.begin."""
        if self._spring.positions:
            self._place = at_rest(_places(self._stage, self._spring, [time])[0])
        if self._spring.orientations:
            self._turn = at_rest(_turns(self._stage, self._spring, [time])[0])

    def step(self, before: float, after: float) -> None:
        """See Solver.step."""
        seconds = (after - before) / self._rate
        spring = self._spring
        if self._place is not None:
            goals = _places(self._stage, spring, [before, after])
            self._place = advance(self._place, goals[0], goals[1], seconds, spring.frequency, spring.damping_ratio)
        if self._turn is not None:
            goals = _turns(self._stage, spring, [before, after], self._turn.position)
            self._turn = advance(self._turn, goals[0], goals[1], seconds, spring.frequency, spring.damping_ratio)

    def values(self, time: float) -> list[Value]:
        """The prim's own matrix that puts it there, turned and scaled as the scene has it where it does not follow."""
        cache = UsdGeom.XformCache(float(time))
        prim = self._stage.GetPrimAtPath(self._spring.path)
        parent = cache.GetParentToWorldTransform(prim)
        local = Gf.Matrix4d(cache.GetLocalTransformation(prim)[0])
        if self._turn is not None:
            shape = local * parent
            position, scale = shape.ExtractTranslation(), Gf.Transform(shape).GetScale()
            turned = Gf.Matrix4d().SetScale(scale) * Gf.Matrix4d().SetRotate(_quaternion(self._turn.position))
            turned.SetTranslateOnly(position)
            local = turned * parent.GetInverse()
        if self._place is not None:
            at = Gf.Vec3d(*map(float, self._place.position))
            local.SetTranslateOnly(parent.GetInverse().Transform(at))
        return [Pose(self._spring.path, local)]

    def state(self) -> State:
        """See Solver.state."""
        held = {"place": self._place, "turn": self._turn}
        return {
            f"{name}.{part}": getattr(state, part)
            for name, state in held.items()
            if state is not None
            for part in ("position", "velocity")
        }

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""
        if "place.position" in state:
            self._place = SpringState(state["place.position"], state["place.velocity"])
        if "turn.position" in state:
            self._turn = SpringState(state["turn.position"], state["turn.velocity"])

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble: all of it is solved."""
        return ()

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes."""
        return _POSE_BYTES


def _places(stage: Usd.Stage, spring: _Parameters, times: Any) -> NDArray[np.float64]:
    """Return where the spring pulls to, in world space, shape (len(times), 3)."""
    prim = stage.GetPrimAtPath(spring.target)
    goals = [np.array(matrix.ExtractTranslation()) for matrix in way(prim, times)]
    return np.asarray(np.array(goals) + np.array(spring.offset))


def _turns(
    stage: Usd.Stage, spring: _Parameters, times: Any, near: NDArray[np.float64] | None = None
) -> NDArray[np.float64]:
    """Return how the target is turned in the world, as quaternions (real part first), shape (len(times), 4).

    Of the two quaternions of one turn each is the one closer to its neighbour, the first closer to `near`.
    """
    prim = stage.GetPrimAtPath(spring.target)
    found = np.empty((len(times), 4))
    for at, matrix in enumerate(way(prim, times)):
        quaternion = matrix.RemoveScaleShear().ExtractRotationQuat().GetNormalized()
        found[at] = [quaternion.GetReal(), *quaternion.GetImaginary()]
        last = found[at - 1] if at else near
        if last is not None and float(found[at] @ last) < 0:
            found[at] *= -1
    return found


def _quaternion(numbers: NDArray[np.float64]) -> Gf.Quatd:
    size = float(np.linalg.norm(numbers))
    if size < 1e-9:
        return Gf.Quatd(1)
    w, x, y, z = (float(n) / size for n in numbers)
    return Gf.Quatd(w, x, y, z)
