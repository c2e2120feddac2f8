"""From a plain description of rigid bodies to a model of MuJoCo.

MuJoCo's contacts are springs with dampers. Their stiffness here follows from the step, and their damping from the
restitution asked for: a contact that may push but not pull, sprung with w and damped with z, gives back a share of the
speed. Schwager and Pöschel ("Coefficient of restitution and linear-dashpot model revisited", 2007) have it in closed
form; in steps of a twentieth of a contact it is up to 0.03 less, so that it is worked out step by step here.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np

from tidy_crate.core.solve.bodies import Body, Joint, Shape, Surface, World, conjugate, multiply, rotate

# a contact takes so many steps from touch to release
_STEPS_IN_CONTACT = 20
# share of the wanted acceleration that a contact brings about; the rest keeps the equations well-natured
_IMPEDANCE = 0.95
# places within a step where a touch may fall, and steps after which a contact that holds on gives nothing back
_PHASES, _MOST_STEPS = 16, 400
_DRIVEN_MASS_RATIO = 1e5
_MOST_PAIRS = 20_000
_SMALLEST = 1e-5


@lru_cache(1024)
def damping_for(restitution: float) -> float:
    """The damping ratio of a contact that gives back this share of the speed."""
    if restitution >= 1:
        return 0.0
    # more than three would overshoot within a step
    low, high = 0.0, 3.0
    if restitution <= _given_back(high):
        return high
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if _given_back(middle) > restitution else (low, middle)
    return low


def _given_back(damping: float) -> float:
    """The share of the speed that a contact gives back, stepped as MuJoCo steps it: a mean over where the touch falls.

    A touch is noticed with the step after it, up to a step's way deep, which costs some speed beside the closed form.
    """
    step = math.pi / _STEPS_IN_CONTACT
    depth = (np.arange(_PHASES) + 0.5) / _PHASES * step
    speed, left = np.ones(_PHASES), np.zeros(_PHASES)
    inside = np.ones(_PHASES, bool)
    for _ in range(_MOST_STEPS):
        # time in units of 1/w; depth and speed along the way in; a contact pushes only
        speed = np.where(inside, speed - step * np.maximum(depth + 2 * damping * speed, 0), speed)
        depth = np.where(inside, depth + step * speed, depth)
        out = inside & (depth <= 0)
        left[out] = -speed[out]
        inside &= ~out
        if not inside.any():
            break
    return float(left.mean())


def joint_tree(world: World) -> tuple[list[Joint], list[Joint]]:
    """The joints that hang a body on another one, each body at most once and in no cycle; and all others."""
    hung: dict[str, Joint] = {}
    driven = {body.name for body in world.bodies if body.driven}
    tree, loops = [], []
    for joint in world.joints:
        above = joint.parent
        while above is not None and above != joint.child:
            above = hung[above].parent if above in hung else None
        cycle = above == joint.child
        first = hung.get(joint.child)
        # several hinges between the same two bodies are the axes of one joint, one after the other
        stacks = (
            first is not None
            and first.parent == joint.parent
            and {first.kind, joint.kind} <= {"revolute", "prismatic"}
            and joint.child not in driven
        )
        if stacks or not (joint.kind == "distance" or cycle or first is not None or joint.child in driven):
            hung.setdefault(joint.child, joint)
            tree.append(joint)
        else:
            loops.append(joint)
    return tree, loops


class Builder:
    """Makes MuJoCo's model of a world."""

    def __init__(self, world: World, seconds: float) -> None:
        import mujoco

        self._mujoco = mujoco
        self._world = world
        self._spec = mujoco.MjSpec()
        self._surfaces: dict[str, Surface] = {}
        self._colliders: dict[str, str] = {}
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
        # what blows up must be seen to, and not begin again by itself
        option.disableflags |= mujoco.mjtDisableBit.mjDSBL_AUTORESET
        self._spec.compiler.degree = False
        self._spec.compiler.boundmass = 1e-9
        self._spec.compiler.boundinertia = 1e-12
        self._spec.compiler.balanceinertia = True

    def model(self) -> Any:
        world = self._world
        tree, loops = joint_tree(world)
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
            position, orientation = body.position, body.orientation
            if above is not None:
                back = conjugate(above.orientation)
                position, orientation = rotate(back, body.position - above.position), multiply(back, body.orientation)
            made[name] = found = parent.add_body(name=name, pos=position, quat=orientation)
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
        partly = self._partly_apart()
        for one, other in (*world.apart, *partly):
            self._spec.add_exclude(bodyname1=one or "world", bodyname2=other)
        self._pairs(partly)
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
            "pos": shape.position, "quat": shape.orientation,
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
        self._colliders[name] = shape.collider
        self._owner[name] = owner

    def _reference(self, surface: Surface) -> list[float]:
        frequency = math.sqrt(self._stiffness)
        return [-self._stiffness, -2 * damping_for(round(surface.restitution, 6)) * frequency]

    def _partly_apart(self) -> list[tuple[str, str]]:
        """Pairs of bodies of which some colliders meet and some do not: each pair that meets is then said by name."""
        found: dict[tuple[str, str], None] = {}
        owners: dict[str, set[str]] = {}
        for name, collider in self._colliders.items():
            owners.setdefault(collider, set()).add(self._owner[name])
        for pair in self._world.apart_colliders:
            one, other = (*pair, *pair)[:2]
            for a in owners.get(one, ()):
                for b in owners.get(other, ()):
                    if a != b:
                        found[min(a, b), max(a, b)] = None
        return list(found)

    def _pairs(self, partly: list[tuple[str, str]]) -> None:
        """Say for each pair of colliders what counts between them, where not all surfaces or not all pairs are alike.

        partly: pairs of bodies that are kept apart but for the pairs said here.
        """
        alike = len(set(self._surfaces.values())) < 2
        if alike and not partly:
            return
        needed = {frozenset(pair) for pair in partly}
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
            if self._owner[a] != self._owner[b]
            and frozenset((self._owner[a], self._owner[b])) not in apart
            and frozenset((self._colliders[a], self._colliders[b])) not in self._world.apart_colliders
        ]
        if alike or len(pairs) > _MOST_PAIRS:
            pairs = [(a, b) for a, b in pairs if frozenset((self._owner[a], self._owner[b])) in needed]
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
        axis = rotate(joint.child_orientation, np.array([1.0, 0.0, 0.0]))
        given: dict[str, Any] = {"name": joint.name, "type": kind, "pos": joint.child_position}
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
        """A joint that closes a cycle, as a condition on two bodies that hang elsewhere."""
        mujoco, spec = self._mujoco, self._spec
        if joint.kind == "distance":
            ends = []
            for name, position, label in (
                (joint.parent, joint.parent_position, "a"),
                (joint.child, joint.child_position, "b"),
            ):
                holder = spec.worldbody if name is None else spec.body(name)
                ends.append(holder.add_site(name=f"{joint.name}.{label}", pos=position).name)
            low, high = joint.limits
            tendon = spec.add_tendon(name=joint.name, limited=True, range=[low or 0.0, 1e3 if high is None else high])
            for end in ends:
                tendon.wrap_site(end)
            return
        points = [joint.child_position]
        if joint.kind == "revolute":
            along = rotate(joint.child_orientation, np.array([0.1, 0.0, 0.0]))
            points = [joint.child_position - along, joint.child_position + along]
        if joint.kind == "prismatic":
            raise ValueError(f"the joint {joint.name} slides in a cycle of joints")
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
    """Return how far a joint is turned or drawn out at the start, by the frames of its two bodies."""
    position, orientation = (
        (np.zeros(3), np.array([1.0, 0, 0, 0])) if above is None else (above.position, above.orientation)
    )
    first = multiply(orientation, joint.parent_orientation)
    second = multiply(body.orientation, joint.child_orientation)
    if joint.kind == "prismatic":
        apart = (
            body.position
            + rotate(body.orientation, joint.child_position)
            - position
            - rotate(orientation, joint.parent_position)
        )
        return float(rotate(conjugate(first), apart)[0])
    difference = multiply(conjugate(first), second)
    return float(2 * math.atan2(difference[1], difference[0]))
