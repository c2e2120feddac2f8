"""From the joints of UsdPhysics to a plain description of them.

Source: "Rigid Body Physics in USD", the specification of the UsdPhysics schemas.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdPhysics

from tidy_crate.core.scene.formats.usd.simulation.attributes import world
from tidy_crate.core.scene.formats.usd.simulation.interface import stage_matrix
from tidy_crate.core.scene.formats.usd.simulation.members import Members, joint_kind
from tidy_crate.core.scene.formats.usd.simulation.units import Units, rigid_part
from tidy_crate.core.solve.bodies import Joint, conjugate, multiply, rotate

_MEET = 0.01  # metres by which the frames of a joint may miss each other at the start


def joint_of(stage: Usd.Stage, path: str, members: Members, units: Units, time: float) -> Joint | None:
    """Return a joint as it is at a time code; None for one that holds nothing."""
    prim = stage.GetPrimAtPath(path)
    kind = joint_kind(prim)
    assert kind is not None
    schema = UsdPhysics.Joint(prim)
    first, second = _ends(stage, schema, members, units, time)
    swapped = second[0] is None
    if swapped:
        first, second = second, first
    if second[0] is None or first[0] == second[0]:
        return None
    axis = _axis_turn(str(prim.GetAttribute("physics:axis").Get() or "X"))
    low, high = _limits(prim, kind, units)
    if swapped and kind in ("revolute", "prismatic"):
        low, high = (None if high is None else -high), (None if low is None else -low)
    return Joint(
        name=path, kind=kind, parent=first[0], child=second[0],
        parent_position=first[1], parent_orientation=multiply(first[2], axis),
        child_position=second[1], child_orientation=multiply(second[2], axis),
        limits=(low, high), collide=bool(schema.GetCollisionEnabledAttr().Get()),
    )  # fmt: skip


def gaps(stage: Usd.Stage, members: Members, time: float) -> list[str]:
    """Return what is wrong with joints whose two ends do not meet at a time code: no body can be in two places."""
    found, units = [], Units.of(stage)
    for path in members.joints:
        prim = stage.GetPrimAtPath(path)
        if joint_kind(prim) in ("distance", "prismatic"):
            continue
        first, second = _ends(stage, UsdPhysics.Joint(prim), members, units, time)
        apart = float(np.linalg.norm(first[3] - second[3]))
        if apart > _MEET or math.isnan(apart):
            found.append(f"{path}: its two ends are {apart:.3g} m apart at the start")
    return found


_End = tuple[str | None, NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]


def _ends(stage: Usd.Stage, schema: UsdPhysics.Joint, members: Members, units: Units, time: float) -> tuple[_End, _End]:
    """See `_end`, of both ends of a joint."""
    bodies = {*members.free, *members.driven}
    found = []
    for targets, position, orientation in (
        (schema.GetBody0Rel(), schema.GetLocalPos0Attr(), schema.GetLocalRot0Attr()),
        (schema.GetBody1Rel(), schema.GetLocalPos1Attr(), schema.GetLocalRot1Attr()),
    ):
        paths = targets.GetForwardedTargets()
        found.append(
            _end(stage, str(paths[0]) if paths else None, position.Get(), orientation.Get(), bodies, units, time)
        )
    return found[0], found[1]


def _end(
    stage: Usd.Stage, target: str | None, position: Any, orientation: Any, bodies: set[str], units: Units, time: float
) -> _End:
    """Body (None for the world), place and turn of the frame in it, and the frame's place in the world."""
    at = np.array(position if position is not None else (0, 0, 0), dtype=np.float64)
    quaternion = np.array(
        [orientation.GetReal(), *orientation.GetImaginary()] if orientation is not None else [1, 0, 0, 0],
        dtype=np.float64,
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


def _limits(prim: Usd.Prim, kind: str, units: Units) -> tuple[float | None, float | None]:
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


def _axis_turn(axis: str) -> NDArray[np.float64]:
    """The turn that leads x to an axis."""
    half = math.sqrt(0.5)
    return np.array({"X": [1, 0, 0, 0], "Y": [half, 0, 0, half], "Z": [half, 0, -half, 0]}.get(axis, [1, 0, 0, 0]))
