"""From UsdPhysics to a plain description of rigid bodies.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, UsdPhysics, UsdShade

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.attributes import world
from tidy_crate.core.scene.formats.usd.simulation.colliders import Unfit, shapes_of
from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation, stage_matrix
from tidy_crate.core.scene.formats.usd.simulation.joints import joint_of
from tidy_crate.core.scene.formats.usd.simulation.members import Members, by_owner
from tidy_crate.core.scene.formats.usd.simulation.pairs import kept_apart
from tidy_crate.core.scene.formats.usd.simulation.particle_emitter import gravity_of
from tidy_crate.core.scene.formats.usd.simulation.units import Units, rigid_part
from tidy_crate.core.solve.bodies import Body, Shape, Surface, World, mass_of

WATER = 1000.0  # kilograms per cubic metre: the density where nothing is said


@dataclass
class Built:
    """A world, and how its bodies are prims."""

    world: World
    free: list[str]
    """Solved bodies, parents first."""
    driven: list[str]
    """Bodies moved by animation."""
    residue: dict[str, NDArray[np.float64]]
    """The rest of each free body's matrix beside its pose, above all its scale."""
    inside: dict[str, str]
    """For a body below another free one, that one."""
    trouble: tuple[str, ...]


NOTHING = Built(World(np.zeros(3), ()), [], [], {}, {}, ())


def build(stage: Usd.Stage, simulation: Simulation, time: float) -> Built:
    """The world of a simulation as it is at a time code. Raises UnreadableInput when it makes no sense."""
    members = Members.of(stage, by_owner(stage).get(simulation.path, []))
    units = Units.of(stage)
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
        joint for path in members.joints if (joint := joint_of(stage, path, members, units, time)) is not None
    )
    gravity = gravity_at(stage, simulation, time)
    apart, apart_colliders = kept_apart(stage, members)
    found = World(gravity, tuple(bodies), tuple(still), joints, apart, apart_colliders)
    return Built(found, free, sorted(members.driven), residue, inside, tuple(trouble))


def gravity_at(stage: Usd.Stage, simulation: Simulation, time: float) -> NDArray[np.float64]:
    """Gravity of a simulation's own physics scene at a time code, in metres per second squared."""
    found = gravity_of(stage, stage.GetPrimAtPath(simulation.path), Usd.TimeCode(time))
    return np.asarray(found * UsdGeom.GetStageMetersPerUnit(stage))


def gravity_is_keyed(stage: Usd.Stage, simulation: Simulation) -> bool:
    """Return whether gravity changes over time."""
    prim = stage.GetPrimAtPath(simulation.path)
    names = ("physics:gravityDirection", "physics:gravityMagnitude")
    return any((one := prim.GetAttribute(name)) and one.ValueMightBeTimeVarying() for name in names)


def _body(
    stage: Usd.Stage, path: str, colliders: list[str], units: Units, time: float, driven: bool, trouble: list[str]
) -> tuple[Body, NDArray[np.float64]]:
    prim = stage.GetPrimAtPath(path)
    matrix = stage_matrix(world(prim, time))
    if abs(np.linalg.det(matrix[:3, :3])) < 1e-12:
        raise UnreadableInput("a body is scaled to nothing", path)
    position, orientation, residue = rigid_part(matrix, units.metres)
    # from the world to the body's own space, in metres
    pose = np.linalg.inv(residue) @ matrix
    inward = np.array(np.linalg.inv(pose), dtype=np.float64)
    inward[:, :3] *= units.metres
    by_collider = {one: _shapes(stage, one, inward, units, time, trouble) for one in colliders}
    shapes = [shape for found in by_collider.values() for shape in found]
    if any(shape.kind == "plane" for shape in shapes):
        trouble.append(f"{path}: a plane can be no part of a body that moves")
        shapes = [shape for shape in shapes if shape.kind != "plane"]
    mass, centre, inertia, axes = (None,) * 4 if driven else _mass(prim, by_collider, units)
    velocity, spin = _motion(prim, time, units)
    asleep = bool(UsdPhysics.RigidBodyAPI(prim).GetStartsAsleepAttr().Get())
    body = Body(path, position, orientation, tuple(shapes), driven, mass, centre, inertia, axes, velocity, spin, asleep)
    return body, residue


def _mass(
    prim: Usd.Prim, shapes: dict[str, list[Shape]], units: Units
) -> tuple[float | None, NDArray[np.float64] | None, NDArray[np.float64] | None, NDArray[np.float64] | None]:
    """Mass in kilograms, centre in metres, inertia about it and its axes, by the rules of the standard.

    What is not authored follows from the colliders' volumes and the densities that hold for them.
    shapes: by collider. Nothing at all for a body without a mass or a volume.
    """
    where = str(prim.GetPath())
    stated = float(UsdPhysics.MassAPI(prim).GetMassAttr().Get() or 0.0) if prim.HasAPI(UsdPhysics.MassAPI) else 0.0
    if not math.isfinite(stated) or stated < 0:
        raise UnreadableInput("a mass must be a number above zero", where)
    volumes = 0.0

    def of_collider(one: Usd.Prim) -> UsdPhysics.RigidBodyAPI.MassInformation:
        nonlocal volumes
        found = UsdPhysics.RigidBodyAPI.MassInformation()
        volume, centre, inertia = _together([mass_of(shape) for shape in shapes.get(str(one.GetPath()), ())])
        volumes += volume
        # everything in units of the scene, as the standard's own attributes are
        found.volume = volume / units.metres**3
        found.centerOfMass = Gf.Vec3f(*map(float, centre / units.metres))
        found.inertia = Gf.Matrix3f(*map(float, (inertia / units.metres**5).ravel()))
        found.localPos, found.localRot = Gf.Vec3f(0), Gf.Quatf(1)
        return found

    mass, diagonal, centre, axes = UsdPhysics.RigidBodyAPI(prim).ComputeMassProperties(of_collider)
    authored = np.array(UsdPhysics.MassAPI(prim).GetDiagonalInertiaAttr().Get() or (0, 0, 0))
    known = bool((authored > 0).all())
    if (volumes <= 0 and not (stated > 0 and known)) or not mass > 0:
        return (stated * units.kilograms if stated > 0 else None), None, None, None
    orientation = axes
    if known:
        # the library leaves the axes of an authored inertia open where none are authored
        orientation = UsdPhysics.MassAPI(prim).GetPrincipalAxesAttr().Get()
    length = (
        0.0
        if orientation is None
        else orientation.GetReal() ** 2 + float(Gf.Dot(orientation.GetImaginary(), orientation.GetImaginary()))
    )
    quaternion = (
        np.array([orientation.GetReal(), *orientation.GetImaginary()], dtype=np.float64) if length > 0.5 else None
    )
    position = np.array(centre, dtype=np.float64) * units.metres
    inertia = np.array(diagonal, dtype=np.float64) * units.kilograms * units.metres**2
    if not (np.isfinite(position).all() and np.isfinite(inertia).all() and (inertia > 0).all()):
        return float(mass) * units.kilograms, None, None, None
    return float(mass) * units.kilograms, position, inertia, quaternion


def _together(
    parts: list[tuple[float, NDArray[np.float64], NDArray[np.float64]]],
) -> tuple[float, NDArray[np.float64], NDArray[np.float64]]:
    """Volume, centre and inertia about it of several parts."""
    volume = sum(part[0] for part in parts)
    if volume <= 0:
        return 0.0, np.zeros(3), np.zeros((3, 3))
    centre = np.asarray(sum(part[0] * part[1] for part in parts) / volume)
    inertia = np.zeros((3, 3))
    for own, position, about in parts:
        away = position - centre
        inertia += about + own * (away @ away * np.eye(3) - np.outer(away, away))
    return volume, centre, inertia


def _motion(prim: Usd.Prim, time: float, units: Units) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Velocity in metres per second and spin in radians per second, in the world."""
    given = UsdPhysics.RigidBodyAPI(prim)
    velocity = np.array(given.GetVelocityAttr().Get(time) or (0, 0, 0), dtype=np.float64)
    spin = np.radians(np.array(given.GetAngularVelocityAttr().Get(time) or (0, 0, 0), dtype=np.float64))
    if not (np.isfinite(velocity).all() and np.isfinite(spin).all()):
        raise UnreadableInput("a body begins with a velocity that is not a number", str(prim.GetPath()))
    parent = stage_matrix(UsdGeom.XformCache(float(time)).GetParentToWorldTransform(prim))
    turned = np.array(Gf.Matrix4d(parent.tolist()).RemoveScaleShear())[:3, :3]
    return velocity @ parent[:3, :3] * units.metres, spin @ turned


def _shapes(
    stage: Usd.Stage, path: str, inward: NDArray[np.float64], units: Units, time: float, trouble: list[str]
) -> list[Shape]:
    prim = stage.GetPrimAtPath(path)
    surface = _surface(prim)
    matrix = stage_matrix(world(prim, time)) @ inward
    try:
        return shapes_of(prim, matrix, surface, WATER, time)
    except Unfit as error:
        trouble.append(f"{path}: {error}")
        return []


def _surface(prim: Usd.Prim) -> Surface:
    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial("physics")
    if not material or not material.GetPrim().HasAPI(UsdPhysics.MaterialAPI):
        return Surface()
    given = UsdPhysics.MaterialAPI(material.GetPrim())
    friction, steady = given.GetDynamicFrictionAttr(), given.GetStaticFrictionAttr()
    # there is one coefficient here, for a body that slides and one that sticks: that of sliding, where it is stated
    stated = friction if friction.HasAuthoredValue() else steady
    restitution = min(1.0, max(0.0, float(given.GetRestitutionAttr().Get() or 0.0)))
    return Surface(max(0.0, float(stated.Get() or 0.0)), restitution)
