"""Rigid bodies by MuJoCo: a world of bodies on its way through time."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.solve.bodies import Vector, World, conjugate, multiply
from tidy_crate.core.solve.rigid_model import Builder, joint_tree

LONGEST_STEP = 0.00025
_STILL = 1e-6  # metres or radians per second below which nothing is woken


Poses = Mapping[str, tuple[Vector, Vector]]


class RigidRun:
    """A world on its way through time."""

    def __init__(self, world: World, quarter: float) -> None:
        """quarter: seconds of a quarter of a frame, divided evenly into steps. Raises ValueError when it cannot be."""
        import mujoco

        # left to itself the library writes its warnings into a file in whatever folder the program runs in
        mujoco.set_mju_user_warning(lambda message: None)
        self._mujoco = mujoco
        self._hung = {joint.child for joint in joint_tree(world)[0]}
        self.steps = max(1, math.ceil(quarter / LONGEST_STEP - 1e-9))
        self.seconds = quarter / self.steps
        self._world = world
        try:
            self._model = Builder(world, self.seconds).model()
        except (ValueError, mujoco.FatalError) as error:
            raise ValueError(f"the bodies cannot be simulated ({str(error).splitlines()[0]})") from error
        self._data = mujoco.MjData(self._model)
        self._asleep = {body.name for body in world.bodies if body.asleep and not body.driven}
        self._driven = [body.name for body in world.bodies if body.driven]
        self._begin()

    def _begin(self) -> None:
        mujoco, model, data = self._mujoco, self._model, self._data
        mujoco.mj_forward(model, data)
        for body in self._world.bodies:
            if body.driven or body.name in self._hung or body.name in self._asleep:
                continue
            at = self._dof(body.name)
            # half a step of gravity back: places then are on the true parabola, not half a step beside it
            # the velocity is that of the centre of mass, and what is set here that of the body's origin
            own = data.body(body.name)
            velocity = body.velocity - np.cross(body.spin, own.xipos - own.xpos)
            data.qvel[at : at + 3] = velocity - self._world.gravity * self.seconds / 2
            orientation = own.xmat.reshape(3, 3)
            data.qvel[at + 3 : at + 6] = orientation.T @ body.spin
        mujoco.mj_forward(model, data)

    def _dof(self, name: str) -> int:
        return int(self._model.body_dofadr[self._model.body(name).id])

    def _free(self, name: str) -> int:
        return int(self._model.jnt_qposadr[self._model.body_jntadr[self._model.body(name).id]])

    def advance(self, before: Poses, after: Poses, share: float = 1.0) -> None:
        """Go on for a quarter of a frame, or a share of one. before, after: where the driven bodies are at its ends."""
        mujoco, model, data = self._mujoco, self._model, self._data
        count = max(1, round(self.steps * share))
        ways = [_way(before[name], after[name], count, self.seconds) for name in self._driven]
        addresses = [(self._free(name), self._dof(name)) for name in self._driven]
        for step in range(count):
            for (at, dof), (positions, orientations, velocity, spins) in zip(addresses, ways, strict=True):
                data.qpos[at : at + 3], data.qpos[at + 3 : at + 7] = positions[step], orientations[step]
                data.qvel[dof : dof + 3], data.qvel[dof + 3 : dof + 6] = velocity, spins[step]
            if self._asleep:
                self._step_with_sleepers()
            else:
                mujoco.mj_step(model, data)
        for (at, _), (positions, orientations, _, _) in zip(addresses, ways, strict=True):
            data.qpos[at : at + 3], data.qpos[at + 3 : at + 7] = positions[-1], orientations[-1]
        mujoco.mj_kinematics(model, data)

    def set_gravity(self, gravity: Vector) -> None:
        """Let another gravity act from here on, in metres per second squared."""
        self._model.opt.gravity = gravity

    def _step_with_sleepers(self) -> None:
        """One step in which sleeping bodies stay, unless something that moves is about to touch them."""
        mujoco, model, data = self._mujoco, self._model, self._data
        mujoco.mj_step1(model, data)
        while awake := [name for name in self._asleep if self._is_touched(name)]:
            self._asleep.difference_update(awake)
        held = [(self._free(name), self._dof(name)) for name in self._asleep]
        kept = [data.qpos[at : at + 7].copy() for at, _ in held]
        mujoco.mj_step2(model, data)
        for (at, dof), pose in zip(held, kept, strict=True):
            data.qpos[at : at + 7], data.qvel[dof : dof + 6] = pose, 0.0
            data.qacc_warmstart[dof : dof + 6] = 0.0

    def _is_touched(self, name: str) -> bool:
        """Return whether a body that moves touches this one."""
        own = self._model.body(name).id
        for number in range(self._data.ncon):
            pair = [int(self._model.geom_bodyid[geom]) for geom in self._data.contact[number].geom]
            if own in pair:
                other = pair[0] if pair[1] == own else pair[1]
                moving = np.linalg.norm(self._data.cvel[other]) > _STILL
                if other and moving and self._model.body(other).name not in self._asleep:
                    return True
        return False

    def pose(self, name: str) -> tuple[Vector, Vector]:
        """Return where a body is and how it is turned."""
        body = self._data.body(name)
        return np.array(body.xpos), np.array(body.xquat)

    def fastest(self) -> float:
        """The highest speed of any body, in metres per second."""
        return float(np.linalg.norm(self._data.cvel[1:, 3:], axis=1).max(initial=0.0))

    def overlaps(self, least: float) -> list[tuple[str, str, float]]:
        """Pairs of bodies that are inside each other by at least so many metres, `world` for what is still."""
        found: dict[tuple[str, str], float] = {}
        for number in range(self._data.ncon):
            contact = self._data.contact[number]
            if contact.dist < -least:
                bodies = [self._model.body(self._model.geom_bodyid[geom]).name for geom in contact.geom]
                one, other = sorted(bodies, key=lambda name: (name != "world", name))
                found[one, other] = max(found.get((one, other), 0.0), float(-contact.dist))
        return [(one, other, depth) for (one, other), depth in sorted(found.items())]

    def fallen(self, least: float) -> dict[str, float]:
        """Return the bodies that fall freely and are below all else, by name, with how many metres they have fallen.

        least: metres below which a fall is not counted.
        """
        gravity = np.array(self._model.opt.gravity)
        pull = float(np.linalg.norm(gravity))
        if pull <= 0:
            return {}
        down = gravity / pull
        falling = {one.name for one in self._world.bodies if not one.driven}
        of_body = [self._model.body(at).name for at in range(self._model.nbody)]
        solid = [at for at in range(self._model.ngeom) if of_body[self._model.geom_bodyid[at]] not in falling]
        lowest = max((float(self._data.geom_xpos[at] @ down + self._model.geom_rbound[at]) for at in solid),
                     default=-math.inf)  # fmt: skip
        found = {}
        for body in self._world.bodies:
            if body.driven or body.name in self._hung or body.name in self._asleep:
                continue
            place = self.pose(body.name)[0]
            deep = float((place - body.position) @ down)
            speed = float(self._data.qvel[self._dof(body.name) : self._dof(body.name) + 3] @ down)
            # what was stopped on the way is slower than a free fall from where it began
            if deep >= least and place @ down > lowest and speed >= 0.8 * math.sqrt(2 * pull * deep):
                found[body.name] = deep
        return found

    def energy(self) -> float:
        """Kinetic and potential energy of all bodies that are not driven, in joules."""
        self._mujoco.mj_energyPos(self._model, self._data)
        self._mujoco.mj_energyVel(self._model, self._data)
        return float(self._data.energy.sum())

    def momentum(self) -> Vector:
        """Mass times velocity, summed over all bodies that are free."""
        total = np.zeros(3)
        for update in (self._mujoco.mj_kinematics, self._mujoco.mj_comPos, self._mujoco.mj_comVel):
            update(self._model, self._data)
        for body in self._world.bodies:
            if not body.driven:
                velocity = np.zeros(6)
                number = self._model.body(body.name).id
                kind = self._mujoco.mjtObj.mjOBJ_BODY
                self._mujoco.mj_objectVelocity(self._model, self._data, kind, number, velocity, 0)
                total += self._model.body_mass[number] * velocity[3:]
        return total

    def state(self) -> NDArray[np.float64]:
        """All that is needed to go on from here."""
        kind = self._mujoco.mjtState.mjSTATE_INTEGRATION
        found = np.empty(self._mujoco.mj_stateSize(self._model, kind))
        self._mujoco.mj_getState(self._model, self._data, found, kind)
        sleepers = [float(body.name in self._asleep) for body in self._world.bodies]
        return np.concatenate([found, sleepers])

    def restore(self, state: NDArray[np.float64]) -> None:
        """Go on from a state of the same world."""
        bodies = self._world.bodies
        state, sleepers = state[: -len(bodies)], state[-len(bodies) :]
        self._asleep = {body.name for body, asleep in zip(bodies, sleepers, strict=True) if asleep}
        self._mujoco.mj_setState(self._model, self._data, state, self._mujoco.mjtState.mjSTATE_INTEGRATION)
        self._mujoco.mj_kinematics(self._model, self._data)


def _way(
    before: tuple[Vector, Vector], after: tuple[Vector, Vector], count: int, seconds: float
) -> tuple[Vector, Vector, Vector, Vector]:
    """Places and turns at the ends of all steps, and the speed and spin (in the body's own axes) between."""
    shares = np.arange(count + 1) / count
    positions = before[0] + shares[:, None] * (after[0] - before[0])
    first = before[1]
    last = after[1] if float(first @ after[1]) >= 0 else -after[1]
    orientations = np.array([_between(first, last, share) for share in shares])
    spin = _spin(first, last) / (count * seconds)
    return positions, orientations, (after[0] - before[0]) / (count * seconds), np.tile(spin, (count + 1, 1))


def _between(first: Vector, last: Vector, share: float) -> Vector:
    """The turn a share of the way from one to another, at an even rate."""
    cosine = min(1.0, float(first @ last))
    angle = math.acos(cosine)
    if angle < 1e-9:
        return first
    return np.asarray((math.sin((1 - share) * angle) * first + math.sin(share * angle) * last) / math.sin(angle))


def _spin(first: Vector, last: Vector) -> Vector:
    """The rotation vector, in the body's axes, that leads from one turn to another."""
    difference = multiply(conjugate(first), last)
    size = float(np.linalg.norm(difference[1:]))
    angle = 2 * math.atan2(size, float(difference[0]))
    return np.asarray(difference[1:] * (angle / size)) if size > 1e-12 else np.zeros(3)
