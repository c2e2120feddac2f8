"""Prims of a stage that take part in each physics scene, and their roles.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from pxr import Sdf, Usd, UsdGeom, UsdPhysics

_KINDS = {
    UsdPhysics.FixedJoint: "fixed",
    UsdPhysics.RevoluteJoint: "revolute",
    UsdPhysics.PrismaticJoint: "prismatic",
    UsdPhysics.SphericalJoint: "spherical",
    UsdPhysics.DistanceJoint: "distance",
}
_SHOWN = 3  # paths of several that a message names
# what is read when a body sets off may be keyed; a change of anything else would need another world in mid-run
_AT_START = ("physics:velocity", "physics:angularVelocity")


@dataclass
class Members:
    """The prims of one physics scene."""

    free: list[str] = field(default_factory=list)
    """Bodies that are solved."""
    driven: list[str] = field(default_factory=list)
    """Bodies and colliders that animation moves."""
    still: list[str] = field(default_factory=list)
    """Colliders of no body that do not move."""
    still_moving: list[str] = field(default_factory=list)
    """Colliders of no body that animation moves."""
    joints: list[str] = field(default_factory=list)
    colliders: dict[str, list[str]] = field(default_factory=dict)
    """By body, its colliders."""
    bodies: list[str] = field(default_factory=list)
    """All bodies that a host would solve or move."""
    trouble: list[str] = field(default_factory=list)
    """Parts that are left out, or solved otherwise than the scene asks for."""
    refused: list[str] = field(default_factory=list)
    """Parts that cannot be solved right here at all."""

    @classmethod
    def of(cls, stage: Usd.Stage, prims: list[Usd.Prim]) -> Members:
        """Sort prims into what they are."""
        found = cls()
        moved_as_one: set[str] = set()
        copied = _copied(stage)
        for prim in prims:
            path = str(prim.GetPath())
            for attribute in prim.GetAuthoredPropertiesInNamespace("physics"):
                name = attribute.GetName()
                keyed = isinstance(attribute, Usd.Attribute) and attribute.ValueMightBeTimeVarying()
                if keyed and name not in _AT_START:
                    found.refused.append(f"{path}: {name} is keyed, and a change of it on the way is not solved here")
            if prim.HasAPI(UsdPhysics.RigidBodyAPI):
                if _is_copied(prim, copied):
                    found.refused.append(f"{path}: a body that an instancer copies is not solved here")
                elif is_enabled(prim, "physics:rigidBodyEnabled"):
                    moved_as_one.add(path)
                    found._add_body(prim, path)
                elif pose_samples(prim):
                    # one that a cache moves: its colliders stay one thing, and joints hold on to it
                    moved_as_one.add(path)
                    found.driven.append(path)
        for prim in prims:
            path = str(prim.GetPath())
            if prim.IsA(UsdPhysics.Joint):
                if is_enabled(prim, "physics:jointEnabled"):
                    found.joints.append(path)
            elif prim.HasAPI(UsdPhysics.CollisionAPI) and is_enabled(prim, "physics:collisionEnabled"):
                body = next((str(p) for p in reversed(prim.GetPath().GetPrefixes()) if str(p) in moved_as_one), None)
                if body is not None:
                    found.colliders.setdefault(body, []).append(path)
                elif any(pose_samples(above) for above in up(prim)):
                    found.still_moving.append(path)
                    found.driven.append(path)
                    found.colliders[path] = [path]
                elif not _is_copied(prim, copied):
                    found.still.append(path)
        found._leave_out_what_hangs_on_unknown_joints(stage)
        found._tell_of_bodies_without_colliders(stage)
        return found

    def _add_body(self, prim: Usd.Prim, path: str) -> None:
        self.bodies.append(path)
        if bool(prim.GetAttribute("physics:kinematicEnabled").Get()):
            self.driven.append(path)
            return
        self.free.append(path)
        if pose_samples(prim):
            self.trouble.append(f"{path}: it has keys and is a dynamic body, which follows none but the first")

    def _leave_out_what_hangs_on_unknown_joints(self, stage: Usd.Stage) -> None:
        unknown, held, with_drives = [], [], []
        known, free = [], set(self.free)
        bodies = {*self.free, *self.driven}
        for path in self.joints:
            prim = stage.GetPrimAtPath(path)
            ends = joint_ends(prim)
            if joint_kind(prim) is None:
                unknown.append(path)
                held += [body for body in dict.fromkeys(ends) if body in free]
                free.difference_update(ends)
            elif any(end in bodies for end in ends):
                known.append(path)
                if any(name.startswith("PhysicsDriveAPI") for name in prim.GetAppliedSchemas()):
                    with_drives.append(path)
        self.joints = known
        self.free = [body for body in self.free if body in free]
        self.driven += held
        if held:
            why = f"{listed(held)}: held by a joint of a kind that is not known here ({listed(unknown)})"
            if self.free:
                self.trouble.append(f"{why}; these bodies stand still")
            else:
                self.refused.append(f"{why}; all of it would stand still")
        if with_drives:
            self.trouble.append(f"{listed(with_drives)}: a drive is not solved here, the joint moves freely")

    def _tell_of_bodies_without_colliders(self, stage: Usd.Stage) -> None:
        hung = {end for path in self.joints for end in joint_ends(stage.GetPrimAtPath(path))}
        bare = [body for body in self.free if body not in self.colliders and body not in hung]
        if bare:
            self.trouble.append(f"{listed(bare)}: no collider, so that nothing stops it on its way")


def by_owner(stage: Usd.Stage) -> dict[str, list[Usd.Prim]]:
    """Return all prims that have to do with physics, by the physics scene they belong to."""
    every = list(stage.Traverse(Usd.TraverseInstanceProxies()))
    every += _only_copied(stage, {prim.GetPath() for prim in every})
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


def _only_copied(stage: Usd.Stage, known: set[Sdf.Path]) -> Iterator[Usd.Prim]:
    """Bodies that an instancer brings in and that are abstract, or mere overrides, where they stand."""
    seen: set[Sdf.Path] = set()
    for instancer in stage.Traverse():
        if not instancer.IsA(UsdGeom.PointInstancer):
            continue
        for path in UsdGeom.PointInstancer(instancer).GetPrototypesRel().GetForwardedTargets():
            top = stage.GetPrimAtPath(path)
            if not top or path in seen:
                continue
            seen.add(path)
            for prim in Usd.PrimRange(top, Usd.TraverseInstanceProxies(Usd.PrimAllPrimsPredicate)):
                if prim.GetPath() not in known and prim.HasAPI(UsdPhysics.RigidBodyAPI):
                    yield prim


def _is_copied(prim: Usd.Prim, copied: set[Sdf.Path]) -> bool:
    """Return whether a prim is, or is below, what some instancer copies."""
    return bool(copied) and any(path in copied for path in prim.GetPath().GetPrefixes())


def _copied(stage: Usd.Stage) -> set[Sdf.Path]:
    return {
        path
        for prim in stage.Traverse()
        if prim.IsA(UsdGeom.PointInstancer)
        for path in UsdGeom.PointInstancer(prim).GetPrototypesRel().GetForwardedTargets()
    }


def joint_kind(prim: Usd.Prim) -> str | None:
    """Return what a joint is, None for a kind that is not known here."""
    return next((kind for schema, kind in _KINDS.items() if prim.IsA(schema)), None)


def listed(paths: list[str]) -> str:
    """Return the first of some paths by name, and how many more there are."""
    shown = ", ".join(paths[:_SHOWN])
    return f"{shown} and {len(paths) - _SHOWN} more" if len(paths) > _SHOWN else shown


def joint_ends(prim: Usd.Prim) -> list[str]:
    """Return the prims that a joint holds together: one or two."""
    schema = UsdPhysics.Joint(prim)
    return [str(path) for rel in (schema.GetBody0Rel(), schema.GetBody1Rel()) for path in rel.GetForwardedTargets()]


def is_enabled(prim: Usd.Prim, name: str) -> bool:
    """Return a switch of the standard, which is on where it says nothing."""
    attribute = prim.GetAttribute(name)
    value = attribute.Get() if attribute else None
    return value is None or bool(value)


def pose_samples(prim: Usd.Prim) -> list[float]:
    """Return the time codes at which a prim's own pose is keyed, where it is keyed more than once."""
    times = list(UsdGeom.Xformable(prim).GetTimeSamples()) if prim.IsA(UsdGeom.Xformable) else []
    return times if len(times) > 1 else []


def up(prim: Usd.Prim) -> Iterator[Usd.Prim]:
    """Yield a prim and all above it, from below."""
    while prim and not prim.IsPseudoRoot():
        yield prim
        prim = prim.GetParent()
