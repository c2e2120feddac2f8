"""Colliders of a physics scene that do not collide: by collision groups and by filtered pairs.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from pxr import Sdf, Usd, UsdPhysics

from tidy_crate.core.scene.formats.usd.simulation.members import Members, joint_ends

Pair = frozenset[str]


def kept_apart(stage: Usd.Stage, members: Members) -> tuple[tuple[tuple[str, str], ...], frozenset[Pair]]:
    """Return pairs of bodies that never collide, and pairs of colliders of bodies that otherwise do.

    The empty name stands for everything that is still.
    """
    colliders = {**members.colliders, "": members.still}
    owner = {path: body for body, paths in colliders.items() for path in paths}
    apart = {*_filtered(stage, owner), *_grouped(stage, owner), *_joined(stage, members, owner)}
    between: dict[tuple[str, str], set[Pair]] = {}
    for pair in apart:
        one, other = sorted(owner[path] for path in pair) if len(pair) == 2 else ("", "")
        if one != other:
            between.setdefault((one, other), set()).add(pair)
    whole, partly = [], set()
    for (one, other), pairs in sorted(between.items()):
        if len(pairs) == len(colliders[one]) * len(colliders[other]):
            whole.append((one, other))
        else:
            partly |= pairs
    return tuple(whole), frozenset(partly)


def _filtered(stage: Usd.Stage, owner: dict[str, str]) -> Iterator[Pair]:
    """Pairs that a prim, a body or anything below which there are colliders, says do not collide."""
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        relationship = prim.GetRelationship("physics:filteredPairs")
        for target in relationship.GetForwardedTargets() if relationship else ():
            for one in _below(prim.GetPath(), owner):
                for other in _below(target, owner):
                    if one != other:
                        yield frozenset((one, other))


def _joined(stage: Usd.Stage, members: Members, owner: dict[str, str]) -> Iterator[Pair]:
    """Pairs of a body and something still that a joint holds together: these do not collide unless the joint says so.

    Two bodies of one joint are kept apart with the joint itself.
    """
    for path in members.joints:
        prim = stage.GetPrimAtPath(path)
        if bool(UsdPhysics.Joint(prim).GetCollisionEnabledAttr().Get()):
            continue
        ends = joint_ends(prim)
        bodies = [end for end in ends if end in members.colliders and owner.get(members.colliders[end][0]) == end]
        for still in (end for end in ends if end not in bodies):
            for one in _below(Sdf.Path(still), owner):
                for body in bodies:
                    if owner[one] == "":
                        yield from (frozenset((one, other)) for other in members.colliders[body])


def _below(path: Sdf.Path, owner: dict[str, str]) -> list[str]:
    return [one for one in owner if Sdf.Path(one).HasPrefix(path)]


def _grouped(stage: Usd.Stage, owner: dict[str, str]) -> Iterator[Pair]:
    """Pairs that collision groups keep apart: those of which any two groups do not collide."""
    groups = [prim for prim in stage.Traverse() if prim.IsA(UsdPhysics.CollisionGroup)]
    if not groups:
        return
    table = UsdPhysics.CollisionGroup.ComputeCollisionGroupTable(stage)
    queries = [
        (prim.GetPath(), UsdPhysics.CollisionGroup(prim).GetCollidersCollectionAPI().ComputeMembershipQuery())
        for prim in groups
    ]
    alike: dict[frozenset[Sdf.Path], list[str]] = {}
    for path in owner:
        inside = frozenset(group for group, query in queries if query.IsPathIncluded(Sdf.Path(path)))
        alike.setdefault(inside, []).append(path)
    for one, other in [*combinations(alike, 2), *((kind, kind) for kind in alike)]:
        if any(not table.IsCollisionEnabled(a, b) for a in one for b in other):
            for a in alike[one]:
                for b in alike[other]:
                    if a != b:
                        yield frozenset((a, b))
