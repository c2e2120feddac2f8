"""Rigid bodies by MuJoCo, described plainly: metres, kilograms, seconds, radians; quaternions with the real part first.

MuJoCo's contacts are springs with dampers. Their stiffness here follows from the step, and their damping from the
restitution asked for: a contact that may push but not pull, sprung with w and damped with z, gives back the share

    e(z) = exp(-z / sqrt(1 - z^2) * (pi - atan2(2 z sqrt(1 - z^2), 1 - 2 z^2)))        for z < 1

of the speed, and the closed form of the overdamped case above. Source: Schwager and Pöschel, "Coefficient of
restitution and linear-dashpot model revisited", 2007. A body that is driven by animation is a very heavy one whose
place and speed are given at each step, so that what lies on it feels it move.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

Vector = NDArray[np.float64]

LONGEST_STEP = 0.00025
# a contact takes so many steps from touch to release
_STEPS_IN_CONTACT = 20
# share of the wanted acceleration that a contact brings about; the rest keeps the equations well-natured
_IMPEDANCE = 0.95
_DRIVEN_MASS_RATIO = 1e5
_MOST_PAIRS = 20_000
_SMALLEST = 1e-5


@dataclass(frozen=True)
class Surface:
    """friction: coefficient; restitution: share of the speed kept in a bounce."""

    friction: float = 0.5
    restitution: float = 0.0

    def against(self, other: Surface) -> Surface:
        """What counts between two surfaces: the mean, as UsdPhysics has it where nothing else is said."""
        return Surface((self.friction + other.friction) / 2, (self.restitution + other.restitution) / 2)


@dataclass(frozen=True)
class Shape:
    """One convex collider in its body's space.

    kind: sphere, box, capsule, cylinder, ellipsoid, plane or hull. size: radius; half edges; radius and half height
    (along z); half axes; nothing; nothing. points: of a hull, shape (n, 3), in the body's space. mass: None for what
    the density makes it.
    """

    kind: str
    size: tuple[float, ...]
    place: Vector
    turn: Vector
    surface: Surface
    density: float
    points: Vector | None = None
    mass: float | None = None


@dataclass(frozen=True)
class Body:
    """One body. driven: moved by animation.

    mass, centre, inertia (three, about the axes `axes`): None for what its shapes make them.
    """

    name: str
    place: Vector
    turn: Vector
    shapes: tuple[Shape, ...]
    driven: bool = False
    mass: float | None = None
    centre: Vector | None = None
    inertia: Vector | None = None
    axes: Vector | None = None
    velocity: Vector = field(default_factory=lambda: np.zeros(3))
    spin: Vector = field(default_factory=lambda: np.zeros(3))


@dataclass(frozen=True)
class Joint:
    """A link between two bodies (None is the world), by a frame in each.

    kind: fixed, revolute (about the frames' x), prismatic (along it), spherical, distance. limits: radians or metres,
    None for none at that end.
    """

    name: str
    kind: str
    parent: str | None
    child: str
    parent_place: Vector
    parent_turn: Vector
    child_place: Vector
    child_turn: Vector
    limits: tuple[float | None, float | None] = (None, None)
    collide: bool = False


@dataclass(frozen=True)
class World:
    """Everything that takes part. still: colliders that never move, in world space.

    apart: pairs of bodies that do not collide; an empty name stands for all that is still.
    """

    gravity: Vector
    bodies: tuple[Body, ...]
    still: tuple[Shape, ...] = ()
    joints: tuple[Joint, ...] = ()
    apart: tuple[tuple[str, str], ...] = ()


Poses = Mapping[str, tuple[Vector, Vector]]


class RigidRun:
    """A world on its way through time."""

    def __init__(self, world: World, quarter: float) -> None:
        """quarter: seconds of a quarter of a frame, divided evenly into steps. Raises ValueError when it cannot be."""
        import mujoco

        self._mujoco = mujoco
        self.steps = max(1, math.ceil(quarter / LONGEST_STEP - 1e-9))
        self.seconds = quarter / self.steps
        self._world = world
        try:
            self._model = _Builder(world, self.seconds).model()
        except (ValueError, mujoco.FatalError) as error:
            raise ValueError(f"the bodies cannot be simulated ({str(error).splitlines()[0]})") from error
        self._data = mujoco.MjData(self._model)
        self._driven = [body.name for body in world.bodies if body.driven]
        self._begin()

    def _begin(self) -> None:
        mujoco, model, data = self._mujoco, self._model, self._data
        mujoco.mj_forward(model, data)
        children = {joint.child for joint in _tree(self._world)[0]}
        for body in self._world.bodies:
            if body.driven or body.name in children:
                continue
            at = self._dof(body.name)
            # half a step of gravity back: places then lie on the true parabola, not half a step beside it
            data.qvel[at : at + 3] = body.velocity - self._world.gravity * self.seconds / 2
            turn = data.body(body.name).xmat.reshape(3, 3)
            data.qvel[at + 3 : at + 6] = turn.T @ body.spin
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
            for (at, dof), (places, turns, velocity, spins) in zip(addresses, ways, strict=True):
                data.qpos[at : at + 3], data.qpos[at + 3 : at + 7] = places[step], turns[step]
                data.qvel[dof : dof + 3], data.qvel[dof + 3 : dof + 6] = velocity, spins[step]
            mujoco.mj_step(model, data)
        for (at, _), (places, turns, _, _) in zip(addresses, ways, strict=True):
            data.qpos[at : at + 3], data.qpos[at + 3 : at + 7] = places[-1], turns[-1]
        mujoco.mj_kinematics(model, data)

    def pose(self, name: str) -> tuple[Vector, Vector]:
        """Where a body is and how it is turned."""
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
        return found

    def restore(self, state: NDArray[np.float64]) -> None:
        """Go on from a state of the same world."""
        self._mujoco.mj_setState(self._model, self._data, state, self._mujoco.mjtState.mjSTATE_INTEGRATION)
        self._mujoco.mj_kinematics(self._model, self._data)


def _way(
    before: tuple[Vector, Vector], after: tuple[Vector, Vector], count: int, seconds: float
) -> tuple[Vector, Vector, Vector, Vector]:
    """Places and turns at the ends of all steps, and the speed and spin (in the body's own axes) between."""
    shares = np.arange(count + 1) / count
    places = before[0] + shares[:, None] * (after[0] - before[0])
    first = before[1]
    last = after[1] if float(first @ after[1]) >= 0 else -after[1]
    turns = np.array([_between(first, last, share) for share in shares])
    spin = _spin(first, last) / (count * seconds)
    return places, turns, (after[0] - before[0]) / (count * seconds), np.tile(spin, (count + 1, 1))


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


def multiply(a: Vector, b: Vector) -> Vector:
    """The turn b, then a, as quaternions."""
    w, v = a[0] * b[0] - a[1:] @ b[1:], a[0] * b[1:] + b[0] * a[1:] + np.cross(a[1:], b[1:])
    return np.concatenate([[w], v])


def conjugate(a: Vector) -> Vector:
    """The turn back."""
    return np.asarray(a * np.array([1.0, -1.0, -1.0, -1.0]))


def rotate(turn: Vector, vector: Vector) -> Vector:
    """A vector turned."""
    w, v = turn[0], turn[1:]
    return np.asarray(vector + 2 * np.cross(v, np.cross(v, vector) + w * vector))


@lru_cache(1024)
def damping_for(restitution: float) -> float:
    """The damping ratio of a contact that gives back this share of the speed."""
    if restitution >= 1:
        return 0.0
    # more than three would overshoot within a step; three gives back a fortieth
    low, high = 0.0, 3.0
    if restitution <= _given_back(high):
        return high
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if _given_back(middle) > restitution else (low, middle)
    return low


def _given_back(damping: float) -> float:
    if damping < 1:
        root = math.sqrt(1 - damping * damping)
        angle = math.pi - math.atan2(2 * damping * root, 1 - 2 * damping * damping)
        return math.exp(-damping / root * angle) if damping else 1.0
    if damping < 1 + 1e-9:
        return math.exp(-2)
    root = math.sqrt(damping * damping - 1)
    return math.exp(-damping / root * math.log((damping + root) / (damping - root)))


def _tree(world: World) -> tuple[list[Joint], list[Joint]]:
    """The joints that hang a body on another one, each body at most once and in no circle; and all others."""
    hung: dict[str, Joint] = {}
    driven = {body.name for body in world.bodies if body.driven}
    tree, loops = [], []
    for joint in world.joints:
        above = joint.parent
        while above is not None and above != joint.child:
            above = hung[above].parent if above in hung else None
        circle = above == joint.child
        first = hung.get(joint.child)
        # several hinges between the same two bodies are the axes of one joint, one after the other
        stacks = (
            first is not None
            and first.parent == joint.parent
            and {first.kind, joint.kind} <= {"revolute", "prismatic"}
            and joint.child not in driven
        )
        if stacks or not (joint.kind == "distance" or circle or first is not None or joint.child in driven):
            hung.setdefault(joint.child, joint)
            tree.append(joint)
        else:
            loops.append(joint)
    return tree, loops


class _Builder:
    """Makes MuJoCo's model of a world."""

    def __init__(self, world: World, seconds: float) -> None:
        import mujoco

        self._mujoco = mujoco
        self._world = world
        self._spec = mujoco.MjSpec()
        self._surfaces: dict[str, Surface] = {}
        self._owner: dict[str, str] = {}
        self._planes: set[str] = set()
        self._stiffness = (math.pi / (_STEPS_IN_CONTACT * seconds)) ** 2
        option = self._spec.option
        option.timestep = seconds
        option.gravity = world.gravity
        option.integrator = mujoco.mjtIntegrator.mjINT_EULER
        option.cone = mujoco.mjtCone.mjCONE_ELLIPTIC
        option.impratio = 10
        option.iterations, option.tolerance = 200, 1e-10
        self._spec.compiler.degree = False
        self._spec.compiler.boundmass = 1e-9
        self._spec.compiler.boundinertia = 1e-12
        self._spec.compiler.balanceinertia = True

    def model(self) -> Any:
        world = self._world
        tree, loops = _tree(world)
        hang: dict[str, list[Joint]] = {}
        for joint in tree:
            hang.setdefault(joint.child, []).append(joint)
        by_name = {body.name: body for body in world.bodies}
        made: dict[str, Any] = {}

        def make(name: str) -> Any:
            if name in made:
                return made[name]
            body, joints = by_name[name], hang.get(name, [])
            parents = [joint.parent for joint in joints if joint.parent is not None]
            above = by_name[parents[0]] if parents else None
            parent = make(above.name) if above is not None else self._spec.worldbody
            place, turn = body.place, body.turn
            if above is not None:
                back = conjugate(above.turn)
                place, turn = rotate(back, body.place - above.place), multiply(back, body.turn)
            made[name] = found = parent.add_body(name=name, pos=place, quat=turn)
            if not joints:
                found.add_freejoint()
            for joint in joints:
                if joint.kind != "fixed":
                    self._hang(found, body, above, joint)
            self._fill(found, body)
            return found

        for body in world.bodies:
            make(body.name)
        for number, shape in enumerate(world.still):
            self._geom(self._spec.worldbody, f"still{number}", shape, "")
        for joint in loops:
            self._loop(joint)
        for joint in world.joints:
            if not joint.collide and joint.parent is not None:
                self._spec.add_exclude(bodyname1=joint.parent, bodyname2=joint.child)
        for one, other in world.apart:
            self._spec.add_exclude(bodyname1=one or "world", bodyname2=other)
        self._pairs()
        return self._spec.compile()

    def _fill(self, made: Any, body: Body) -> None:
        for number, shape in enumerate(body.shapes):
            self._geom(made, f"{body.name}#{number}", shape, body.name)
        if body.driven:
            weights = [one.mass or 0.0 for one in self._world.bodies if not one.driven]
            heavy = _DRIVEN_MASS_RATIO * max([1.0, *weights])
            made.mass, made.ipos, made.inertia = heavy, np.zeros(3), np.full(3, heavy)
            made.explicitinertial, made.gravcomp = True, 1.0
            return
        if body.inertia is not None or not body.shapes:
            mass = body.mass if body.mass is not None else 1.0
            made.mass = mass
            made.ipos = body.centre if body.centre is not None else np.zeros(3)
            made.inertia = body.inertia if body.inertia is not None else np.full(3, 0.4 * mass * 0.01)
            if body.axes is not None:
                made.iquat = body.axes
            made.explicitinertial = True

    def _geom(self, made: Any, name: str, shape: Shape, owner: str) -> None:
        mujoco = self._mujoco
        kinds = mujoco.mjtGeom
        kind = {
            "sphere": kinds.mjGEOM_SPHERE, "box": kinds.mjGEOM_BOX, "capsule": kinds.mjGEOM_CAPSULE,
            "cylinder": kinds.mjGEOM_CYLINDER, "ellipsoid": kinds.mjGEOM_ELLIPSOID, "plane": kinds.mjGEOM_PLANE,
            "hull": kinds.mjGEOM_MESH,
        }[shape.kind]  # fmt: skip
        given: dict[str, Any] = {
            "name": name, "type": kind, "condim": 3, "friction": [shape.surface.friction, 0.005, 0.0001],
            "solref": self._reference(shape.surface), "solimp": _impedance(), "density": shape.density,
            "pos": shape.place, "quat": shape.turn,
        }  # fmt: skip
        if shape.mass is not None:
            given["mass"] = shape.mass
        if shape.kind == "hull":
            assert shape.points is not None
            self._spec.add_mesh(name=name, uservert=shape.points.ravel().tolist())
            given["meshname"] = name
        elif shape.kind == "plane":
            given["size"] = [0, 0, 1]
            self._planes.add(name)
        else:
            given["size"] = [max(_SMALLEST, one) for one in shape.size] + [0.0] * (3 - len(shape.size))
        made.add_geom(**given)
        self._surfaces[name] = shape.surface
        self._owner[name] = owner

    def _reference(self, surface: Surface) -> list[float]:
        frequency = math.sqrt(self._stiffness)
        return [-self._stiffness, -2 * damping_for(round(surface.restitution, 6)) * frequency]

    def _pairs(self) -> None:
        """Say for each pair of colliders what counts between them, where not all surfaces are alike."""
        if len(set(self._surfaces.values())) < 2:
            return
        apart = {frozenset(pair) for pair in self._world.apart}
        apart |= {
            frozenset((joint.parent, joint.child))
            for joint in self._world.joints
            if joint.parent is not None and not joint.collide
        }
        names = list(self._surfaces)
        pairs = [
            (a, b)
            for at, a in enumerate(names)
            for b in names[at + 1 :]
            if self._owner[a] != self._owner[b] and frozenset((self._owner[a], self._owner[b])) not in apart
        ]
        if len(pairs) > _MOST_PAIRS:
            return
        for a, b in pairs:
            between = self._surfaces[a].against(self._surfaces[b])
            self._spec.add_pair(
                name=f"{a}|{b}", geomname1=a, geomname2=b, condim=3,
                friction=[between.friction, between.friction, 0.005, 0.0001, 0.0001],
                solref=self._reference(between), solimp=_impedance(),
            )  # fmt: skip

    def _hang(self, made: Any, body: Body, above: Body | None, joint: Joint) -> None:
        kinds = self._mujoco.mjtJoint
        kind = {"revolute": kinds.mjJNT_HINGE, "prismatic": kinds.mjJNT_SLIDE, "spherical": kinds.mjJNT_BALL}[
            joint.kind
        ]
        axis = rotate(joint.child_turn, np.array([1.0, 0.0, 0.0]))
        given: dict[str, Any] = {"name": joint.name, "type": kind, "pos": joint.child_place}
        if joint.kind != "spherical":
            given["axis"] = axis
            low, high = joint.limits
            if low is not None or high is not None:
                now = _now(joint, body, above)
                far = 1e3 if joint.kind == "prismatic" else 100 * math.pi
                given["range"] = [(-far if low is None else low) - now, (far if high is None else high) - now]
                given["limited"] = True
        made.add_joint(**given)

    def _loop(self, joint: Joint) -> None:
        """A joint that closes a circle, as a condition on two bodies that hang elsewhere."""
        mujoco, spec = self._mujoco, self._spec
        if joint.kind == "distance":
            ends = []
            for name, place, label in ((joint.parent, joint.parent_place, "a"), (joint.child, joint.child_place, "b")):
                holder = spec.worldbody if name is None else spec.body(name)
                ends.append(holder.add_site(name=f"{joint.name}.{label}", pos=place).name)
            low, high = joint.limits
            tendon = spec.add_tendon(name=joint.name, limited=True, range=[low or 0.0, 1e3 if high is None else high])
            for end in ends:
                tendon.wrap_site(end)
            return
        points = [joint.child_place]
        if joint.kind == "revolute":
            along = rotate(joint.child_turn, np.array([0.1, 0.0, 0.0]))
            points = [joint.child_place - along, joint.child_place + along]
        if joint.kind == "prismatic":
            raise ValueError(f"the joint {joint.name} slides in a circle of joints")
        kinds = mujoco.mjtEq
        for number, point in enumerate(points):
            made = spec.add_equality(
                name=f"{joint.name}.{number}",
                type=kinds.mjEQ_WELD if joint.kind == "fixed" else kinds.mjEQ_CONNECT,
                objtype=mujoco.mjtObj.mjOBJ_BODY,
            )
            made.name1, made.name2 = joint.child, joint.parent or "world"
            # how many numbers a condition has differs between versions of the library; a relative pose of nothing but
            # zeros stands for the one they begin in
            data = np.zeros_like(made.data)
            if joint.kind == "fixed":
                data[10] = 1.0
            else:
                data[:3] = point
            made.data = data


def _impedance() -> list[float]:
    return [_IMPEDANCE, _IMPEDANCE, 0.001, 0.5, 2.0]


def _now(joint: Joint, body: Body, above: Body | None) -> float:
    """How far a joint is turned or drawn out at the start, by the frames of its two bodies."""
    place, turn = (np.zeros(3), np.array([1.0, 0, 0, 0])) if above is None else (above.place, above.turn)
    first = multiply(turn, joint.parent_turn)
    second = multiply(body.turn, joint.child_turn)
    if joint.kind == "prismatic":
        apart = body.place + rotate(body.turn, joint.child_place) - place - rotate(turn, joint.parent_place)
        return float(rotate(conjugate(first), apart)[0])
    difference = multiply(conjugate(first), second)
    return float(2 * math.atan2(difference[1], difference[0]))
