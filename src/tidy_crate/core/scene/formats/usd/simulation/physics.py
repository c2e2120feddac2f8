"""From UsdPhysics to a plain description of rigid bodies.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, UsdPhysics, UsdShade

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import world
from tidy_crate.core.scene.formats.usd.simulation.colliders import Unfit, shapes_of, volume_of
from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation, stage_matrix
from tidy_crate.core.scene.formats.usd.simulation.particle_emitter import scene_gravity
from tidy_crate.core.solve.bodies import Body, Joint, Shape, Surface, World, conjugate, multiply, rotate

WATER = 1000.0  # kilograms per cubic metre: the density where nothing is said
_KINDS = {
    UsdPhysics.FixedJoint: "fixed",
    UsdPhysics.RevoluteJoint: "revolute",
    UsdPhysics.PrismaticJoint: "prismatic",
    UsdPhysics.SphericalJoint: "spherical",
    UsdPhysics.DistanceJoint: "distance",
}
_MEET = 0.01  # metres by which the frames of a joint may miss each other at the start


@dataclass
class Built:
    """A world, and how its bodies are prims. free: solved, parents first; driven: moved by animation.

    residue: of each free body what its matrix holds besides its pose, its scale above all. inside: for a body below
    another free one, that one.
    """

    world: World
    free: list[str]
    driven: list[str]
    residue: dict[str, NDArray[np.float64]]
    inside: dict[str, str]
    trouble: tuple[str, ...]


NOTHING = Built(World(np.zeros(3), ()), [], [], {}, {}, ())


@dataclass
class Members:
    """The prims of one physics scene. still: colliders of no body. trouble: what cannot be simulated here."""

    free: list[str] = field(default_factory=list)
    driven: list[str] = field(default_factory=list)
    still: list[str] = field(default_factory=list)
    still_moving: list[str] = field(default_factory=list)
    joints: list[str] = field(default_factory=list)
    colliders: dict[str, list[str]] = field(default_factory=dict)
    trouble: list[str] = field(default_factory=list)

    @classmethod
    def of(cls, stage: Usd.Stage, prims: list[Usd.Prim]) -> Members:
        found = cls()
        bodies: set[str] = set()
        for prim in prims:
            if prim.HasAPI(UsdPhysics.RigidBodyAPI) and _enabled(prim, "physics:rigidBodyEnabled"):
                path = str(prim.GetPath())
                bodies.add(path)
                moved = bool(_pose_samples(prim)) or bool(prim.GetAttribute("physics:kinematicEnabled").Get())
                (found.driven if moved else found.free).append(path)
        for prim in prims:
            path = str(prim.GetPath())
            if prim.IsA(UsdPhysics.Joint):
                if _enabled(prim, "physics:jointEnabled"):
                    found.joints.append(path)
            elif prim.HasAPI(UsdPhysics.CollisionAPI) and _enabled(prim, "physics:collisionEnabled"):
                body = next((str(p) for p in reversed(prim.GetPath().GetPrefixes()) if str(p) in bodies), None)
                if body is not None:
                    found.colliders.setdefault(body, []).append(path)
                elif any(_pose_samples(above) for above in _up(prim)):
                    found.still_moving.append(path)
                    found.driven.append(path)
                    found.colliders[path] = [path]
                else:
                    found.still.append(path)
        found._leave_out_what_hangs_on_unknown_joints(stage)
        return found

    def _leave_out_what_hangs_on_unknown_joints(self, stage: Usd.Stage) -> None:
        for path in list(self.joints):
            prim = stage.GetPrimAtPath(path)
            kind = _joint_kind(prim)
            ends = _joint_ends(prim)
            bodies = {*self.free, *self.driven}
            if prim.GetAppliedSchemas() and any(
                name.startswith("PhysicsDriveAPI") for name in prim.GetAppliedSchemas()
            ):
                self.trouble.append(f"{path}: its drive is not solved here, the joint moves freely")
            if kind is None:
                self.joints.remove(path)
                for body in ends:
                    if body in self.free:
                        self.free.remove(body)
                        self.driven.append(body)
                        self.trouble.append(
                            f"{body}: hangs on {path}, a joint of a kind that is not known here; it stays"
                        )
            elif not any(end in bodies for end in ends):
                self.joints.remove(path)


def by_owner(stage: Usd.Stage) -> dict[str, list[Usd.Prim]]:
    """All prims that have to do with physics, by the physics scene they belong to."""
    every = list(stage.Traverse(Usd.TraverseInstanceProxies()))
    scenes = [str(prim.GetPath()) for prim in every if prim.IsA(UsdPhysics.Scene)]
    bodies = [prim for prim in every if prim.HasAPI(UsdPhysics.RigidBodyAPI)]
    if not bodies:
        return {}
    default = scenes[0] if scenes else str(bodies[0].GetPath().GetPrefixes()[0])
    found: dict[str, list[Usd.Prim]] = {}
    shared: list[Usd.Prim] = []
    for prim in every:
        body = prim.HasAPI(UsdPhysics.RigidBodyAPI)
        related = (
            prim.HasAPI(UsdPhysics.CollisionAPI) or prim.IsA(UsdPhysics.Joint) or prim.IsA(UsdPhysics.CollisionGroup)
        )
        if not (body or related):
            continue
        relationship = prim.GetRelationship("physics:simulationOwner")
        targets = [str(path) for path in relationship.GetTargets()] if relationship else []
        if body:
            found.setdefault(next((path for path in targets if path in scenes), default), []).append(prim)
        else:
            shared.append(prim)
    if len(found) == 1:
        next(iter(found.values())).extend(shared)
        return found
    for members in found.values():
        own = {prim.GetPath() for prim in members}
        others = {prim.GetPath() for rest in found.values() if rest is not members for prim in rest}
        for prim in shared:
            holder = next((p for p in reversed(prim.GetPath().GetPrefixes()) if p in own or p in others), None)
            if holder is None or holder in own:
                members.append(prim)
    return found


def build(stage: Usd.Stage, simulation: Simulation, time: float) -> Built:
    """The world of a simulation as it is at a time code. Raises UnreadableInput when it makes no sense."""
    members = Members.of(stage, by_owner(stage).get(simulation.path, []))
    units = _Units.of(stage)
    trouble: list[str] = []
    bodies, residue, inside, free = [], {}, {}, []
    for path in sorted({*members.free, *members.driven}):
        driven = path not in members.free
        body, rest = _body(stage, path, members.colliders.get(path, []), units, time, driven, trouble)
        bodies.append(body)
        if not driven:
            free.append(path)
            residue[path] = rest
            above = next((str(p) for p in reversed(Sdf.Path(path).GetPrefixes()[:-1]) if str(p) in members.free), None)
            if above is not None:
                inside[path] = above
    still: list[Shape] = []
    for path in members.still:
        still += _shapes(stage, path, np.eye(4) * units.metres, units, time, trouble)
    joints = tuple(
        joint for path in members.joints if (joint := _joint(stage, path, members, units, time, trouble)) is not None
    )
    gravity = scene_gravity(stage) * units.metres
    apart = (*_apart(stage, members), *_grouped_apart(stage, members, trouble))
    found = World(gravity, tuple(bodies), tuple(still), joints, apart)
    return Built(found, free, sorted(members.driven), residue, inside, tuple(trouble))


@dataclass(frozen=True)
class _Units:
    """metres, kilograms: of one scene unit."""

    metres: float
    kilograms: float

    @classmethod
    def of(cls, stage: Usd.Stage) -> _Units:
        found = cls(UsdGeom.GetStageMetersPerUnit(stage), UsdPhysics.GetStageKilogramsPerUnit(stage))
        if not (found.metres > 0 and found.kilograms > 0):
            raise UnreadableInput(
                "the scene's units of length and mass must be above zero", stage.GetRootLayer().identifier
            )
        return found

    @property
    def density(self) -> float:
        return self.kilograms / self.metres**3


def rigid_part(
    matrix: NDArray[np.float64], unit: float
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Place in metres and turn of a matrix, and what is left of it: its scale, mirror and shear, in its own space."""
    whole = Gf.Matrix4d(matrix.tolist()).RemoveScaleShear()
    quaternion = whole.ExtractRotationQuat().GetNormalized()
    turn = np.array([quaternion.GetReal(), *quaternion.GetImaginary()])
    pose = np.eye(4)
    pose[:3, :3] = np.array(Gf.Matrix3d(quaternion))
    pose[3, :3] = matrix[3, :3]
    return matrix[3, :3] * unit, turn, matrix @ np.linalg.inv(pose)


def _body(
    stage: Usd.Stage, path: str, colliders: list[str], units: _Units, time: float, driven: bool, trouble: list[str]
) -> tuple[Body, NDArray[np.float64]]:
    prim = stage.GetPrimAtPath(path)
    matrix = stage_matrix(world(prim, time))
    if abs(np.linalg.det(matrix[:3, :3])) < 1e-12:
        raise UnreadableInput("a body is scaled to nothing", path)
    place, turn, residue = rigid_part(matrix, units.metres)
    # from the world to the body's own space, in metres
    pose = np.linalg.inv(residue) @ matrix
    inward = np.array(np.linalg.inv(pose), dtype=np.float64)
    inward[:, :3] *= units.metres
    shapes = [shape for one in colliders for shape in _shapes(stage, one, inward, units, time, trouble)]
    if any(shape.kind == "plane" for shape in shapes):
        trouble.append(f"{path}: a plane can be no part of a body that moves")
        shapes = [shape for shape in shapes if shape.kind != "plane"]
    mass, centre, inertia, axes = _mass(prim, residue, units)
    if mass is not None and inertia is None and shapes:
        volumes = np.array([volume_of(shape) for shape in shapes] if len(shapes) > 1 else [1.0])
        if volumes.sum() > 0:
            parts = mass * volumes / volumes.sum()
            shapes = [_with_mass(shape, float(part)) for shape, part in zip(shapes, parts, strict=True)]
    velocity, spin = _motion(prim, time, units)
    body = Body(path, place, turn, tuple(shapes), driven, mass, centre, inertia, axes, velocity, spin)
    return body, residue


def _with_mass(shape: Shape, mass: float) -> Shape:
    return Shape(**{**vars(shape), "mass": mass})


def _mass(
    prim: Usd.Prim, residue: NDArray[np.float64], units: _Units
) -> tuple[float | None, NDArray[np.float64] | None, NDArray[np.float64] | None, NDArray[np.float64] | None]:
    """Mass, centre, inertia and its axes where they are authored; zero and infinity mean by the shapes."""
    if not prim.HasAPI(UsdPhysics.MassAPI):
        return None, None, None, None
    given = UsdPhysics.MassAPI(prim)
    mass = float(given.GetMassAttr().Get() or 0.0) * units.kilograms
    if not math.isfinite(mass) or mass < 0:
        raise UnreadableInput("a mass must be a number above zero", str(prim.GetPath()))
    centre = np.array(given.GetCenterOfMassAttr().Get() or (-math.inf,) * 3, dtype=np.float64)
    inertia = np.array(given.GetDiagonalInertiaAttr().Get() or (0, 0, 0), dtype=np.float64)
    if mass <= 0:
        return None, None, None, None
    if not (inertia > 0).all():
        return mass, None, None, None
    turn = given.GetPrincipalAxesAttr().Get()
    axes = None
    if turn is not None and turn.GetReal() ** 2 + float(Gf.Dot(turn.GetImaginary(), turn.GetImaginary())) > 0.5:
        axes = np.array([turn.GetReal(), *turn.GetImaginary()], dtype=np.float64)
    at = centre @ residue[:3, :3] * units.metres if np.isfinite(centre).all() else np.zeros(3)
    return mass, at, inertia * units.kilograms * units.metres**2, axes


def _motion(prim: Usd.Prim, time: float, units: _Units) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Velocity in metres per second and spin in radians per second, in the world."""
    given = UsdPhysics.RigidBodyAPI(prim)
    velocity = np.array(given.GetVelocityAttr().Get() or (0, 0, 0), dtype=np.float64)
    spin = np.radians(np.array(given.GetAngularVelocityAttr().Get() or (0, 0, 0), dtype=np.float64))
    if not (np.isfinite(velocity).all() and np.isfinite(spin).all()):
        raise UnreadableInput("a body begins with a velocity that is no number", str(prim.GetPath()))
    parent = stage_matrix(UsdGeom.XformCache(float(time)).GetParentToWorldTransform(prim))
    turned = np.array(Gf.Matrix4d(parent.tolist()).RemoveScaleShear())[:3, :3]
    return velocity @ parent[:3, :3] * units.metres, spin @ turned


def _shapes(
    stage: Usd.Stage, path: str, inward: NDArray[np.float64], units: _Units, time: float, trouble: list[str]
) -> list[Shape]:
    prim = stage.GetPrimAtPath(path)
    surface, density = _material(prim, units)
    if prim.HasAPI(UsdPhysics.MassAPI):
        own = float(UsdPhysics.MassAPI(prim).GetDensityAttr().Get() or 0.0)
        density = own * units.density if own > 0 else density
    else:
        for above in _up(prim):
            if above.HasAPI(UsdPhysics.MassAPI):
                own = float(UsdPhysics.MassAPI(above).GetDensityAttr().Get() or 0.0)
                density = own * units.density if own > 0 else density
                break
    matrix = stage_matrix(world(prim, time)) @ inward
    try:
        shapes = shapes_of(prim, matrix, surface, density, time)
    except Unfit as error:
        trouble.append(f"{path}: {error}")
        return []
    mass = float(UsdPhysics.MassAPI(prim).GetMassAttr().Get() or 0.0) if prim.HasAPI(UsdPhysics.MassAPI) else 0.0
    if mass > 0 and not prim.HasAPI(UsdPhysics.RigidBodyAPI):
        share = mass * units.kilograms / len(shapes)
        shapes = [_with_mass(shape, share) for shape in shapes]
    return shapes


def _material(prim: Usd.Prim, units: _Units) -> tuple[Surface, float]:
    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial("physics")
    if not material or not material.GetPrim().HasAPI(UsdPhysics.MaterialAPI):
        return Surface(), WATER
    given = UsdPhysics.MaterialAPI(material.GetPrim())
    friction = given.GetDynamicFrictionAttr().Get() or 0.0
    steady = given.GetStaticFrictionAttr().Get() or 0.0
    density = float(given.GetDensityAttr().Get() or 0.0) * units.density
    restitution = min(1.0, max(0.0, float(given.GetRestitutionAttr().Get() or 0.0)))
    # there is one coefficient here, for a body that slides and one that sticks
    return Surface(max(0.0, float(friction or steady)), restitution), density if density > 0 else WATER


def _joint(
    stage: Usd.Stage, path: str, members: Members, units: _Units, time: float, trouble: list[str]
) -> Joint | None:
    prim = stage.GetPrimAtPath(path)
    kind = _joint_kind(prim)
    assert kind is not None
    schema = UsdPhysics.Joint(prim)
    bodies = {*members.free, *members.driven}
    ends = []
    for targets, place, turn in (
        (schema.GetBody0Rel(), schema.GetLocalPos0Attr(), schema.GetLocalRot0Attr()),
        (schema.GetBody1Rel(), schema.GetLocalPos1Attr(), schema.GetLocalRot1Attr()),
    ):
        paths = targets.GetForwardedTargets()
        ends.append(_end(stage, str(paths[0]) if paths else None, place.Get(), turn.Get(), bodies, units, time))
    first, second = ends
    swapped = second[0] is None
    if swapped:
        first, second = second, first
    if second[0] is None or first[0] == second[0]:
        return None
    apart = float(np.linalg.norm(first[3] - second[3]))
    if kind != "distance" and kind != "prismatic" and apart > _MEET:
        trouble.append(f"{path}: its two frames are {apart:.3g} m apart at the start")
    axis = _axis_turn(str(prim.GetAttribute("physics:axis").Get() or "X"))
    low, high = _limits(prim, kind, units)
    if swapped and kind in ("revolute", "prismatic"):
        low, high = (None if high is None else -high), (None if low is None else -low)
    return Joint(
        name=path, kind=kind, parent=first[0], child=second[0],
        parent_place=first[1], parent_turn=multiply(first[2], axis),
        child_place=second[1], child_turn=multiply(second[2], axis),
        limits=(low, high), collide=bool(schema.GetCollisionEnabledAttr().Get()),
    )  # fmt: skip


def _end(
    stage: Usd.Stage, target: str | None, place: Any, turn: Any, bodies: set[str], units: _Units, time: float
) -> tuple[str | None, NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Body (None for the world), place and turn of the frame in it, and the frame's place in the world."""
    at = np.array(place if place is not None else (0, 0, 0), dtype=np.float64)
    quaternion = np.array(
        [turn.GetReal(), *turn.GetImaginary()] if turn is not None else [1, 0, 0, 0], dtype=np.float64
    )
    prim = stage.GetPrimAtPath(target) if target else None
    if not prim:
        return None, at * units.metres, quaternion, at * units.metres
    matrix = stage_matrix(world(prim, time))
    spot = (at @ matrix[:3, :3] + matrix[3, :3]) * units.metres
    name = next((str(p) for p in reversed(prim.GetPath().GetPrefixes()) if str(p) in bodies), None)
    own = rigid_part(matrix, units.metres)[1]
    if name is None:
        return None, spot, multiply(own, quaternion), spot
    body_place, body_turn, _ = rigid_part(stage_matrix(world(stage.GetPrimAtPath(name), time)), units.metres)
    back = conjugate(body_turn)
    return name, rotate(back, spot - body_place), multiply(back, multiply(own, quaternion)), spot


def _limits(prim: Usd.Prim, kind: str, units: _Units) -> tuple[float | None, float | None]:
    if kind in ("revolute", "prismatic"):
        names, scale = (
            ("physics:lowerLimit", "physics:upperLimit"),
            math.pi / 180 if kind == "revolute" else units.metres,
        )
    elif kind == "distance":
        names, scale = ("physics:minDistance", "physics:maxDistance"), units.metres
    else:
        return None, None
    found: list[float | None] = []
    for name in names:
        attribute = prim.GetAttribute(name)
        value = attribute.Get() if attribute else None
        # a distance below zero is no limit
        usable = value is not None and math.isfinite(value) and not (kind == "distance" and value < 0)
        found.append(float(value) * scale if usable else None)  # type: ignore[arg-type]
    return found[0], found[1]


def _joint_kind(prim: Usd.Prim) -> str | None:
    return next((kind for schema, kind in _KINDS.items() if prim.IsA(schema)), None)


def _joint_ends(prim: Usd.Prim) -> list[str]:
    schema = UsdPhysics.Joint(prim)
    return [str(path) for rel in (schema.GetBody0Rel(), schema.GetBody1Rel()) for path in rel.GetForwardedTargets()]


def _axis_turn(axis: str) -> NDArray[np.float64]:
    """The turn that leads x to an axis."""
    half = math.sqrt(0.5)
    return np.array({"X": [1, 0, 0, 0], "Y": [half, 0, 0, half], "Z": [half, 0, -half, 0]}.get(axis, [1, 0, 0, 0]))


def _apart(stage: Usd.Stage, members: Members) -> tuple[tuple[str, str], ...]:
    """Pairs of bodies that the scene says do not collide."""
    bodies = {*members.free, *members.driven}
    found = []
    for path in sorted(bodies):
        prim = stage.GetPrimAtPath(path)
        relationship = prim.GetRelationship("physics:filteredPairs")
        for target in relationship.GetForwardedTargets() if relationship else ():
            if str(target) in bodies:
                found.append((path, str(target)))
    return tuple(found)


def _grouped_apart(stage: Usd.Stage, members: Members, trouble: list[str]) -> Iterator[tuple[str, str]]:
    """Pairs of bodies that collision groups keep from colliding; the empty name is all that is still."""
    if not any(prim.IsA(UsdPhysics.CollisionGroup) for prim in stage.Traverse()):
        return
    table = UsdPhysics.CollisionGroup.ComputeCollisionGroupTable(stage)
    prims = {body: [stage.GetPrimAtPath(path) for path in paths] for body, paths in members.colliders.items()}
    prims[""] = [stage.GetPrimAtPath(path) for path in members.still]
    names = sorted(prims)
    for at, one in enumerate(names):
        for other in names[at + 1 :]:
            meet = {bool(table.IsCollisionEnabled(a, b)) for a in prims[one] for b in prims[other]}
            if meet == {False}:
                yield one, other
            elif len(meet) == 2:
                trouble.append(
                    f"{other}: some of its colliders meet {one or 'what is still'} and some do not; all do here"
                )


def _enabled(prim: Usd.Prim, name: str) -> bool:
    attribute = prim.GetAttribute(name)
    value = attribute.Get() if attribute else None
    return value is None or bool(value)


def _pose_samples(prim: Usd.Prim) -> list[float]:
    return list(UsdGeom.Xformable(prim).GetTimeSamples()) if prim.IsA(UsdGeom.Xformable) else []


def _up(prim: Usd.Prim) -> Iterator[Usd.Prim]:
    while prim and not prim.IsPseudoRoot():
        yield prim
        prim = prim.GetParent()
