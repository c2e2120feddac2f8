"""Reading the attributes that the tool documents for simulations (docs/simulations.md)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Usd, UsdGeom

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.compose import CACHE, LIVE
from tidy_crate.core.scene.formats.usd.outputs import pose_times

KIND = "tidy:simulation"
START = "tidy:simulation:start"


def of_kind(stage: Usd.Stage, token: str) -> list[Usd.Prim]:
    """The prims that say they are a simulation of a kind."""
    every = stage.Traverse(Usd.TraverseInstanceProxies())
    return [prim for prim in every if (kind := prim.GetAttribute(KIND)) and kind.Get() == token]


def value(prim: Usd.Prim, name: str, otherwise: Any) -> Any:
    """The value of an attribute, or another one where it has none."""
    attribute = prim.GetAttribute(name)
    found = attribute.Get() if attribute else None
    return otherwise if found is None else found


def number(prim: Usd.Prim, name: str, otherwise: float) -> float:
    """A number. Raises UnreadableInput when the attribute holds something else."""
    found = value(prim, name, otherwise)
    try:
        return float(found)
    except (TypeError, ValueError) as error:
        raise UnreadableInput(f"{name} is not a number", str(prim.GetPath())) from error


def vector(prim: Usd.Prim, name: str, otherwise: tuple[float, float, float]) -> NDArray[np.float64]:
    """Three numbers. Raises UnreadableInput when the attribute holds something else."""
    found = value(prim, name, otherwise)
    try:
        three = np.array([float(item) for item in found])
    except (TypeError, ValueError) as error:
        raise UnreadableInput(f"{name} is not a vector", str(prim.GetPath())) from error
    if three.shape != (3,):
        raise UnreadableInput(f"{name} is not a vector of three numbers", str(prim.GetPath()))
    return three


def start_of(prim: Usd.Prim) -> float:
    """The time code at which a simulation begins: its own, or the scene's first."""
    return number(prim, START, prim.GetStage().GetStartTimeCode())


def is_live(prim: Usd.Prim) -> bool:
    """Return whether machines solve it again."""
    return bool(value(prim, LIVE, True))


def cache_of(prim: Usd.Prim) -> str | None:
    """The cache in force, as an absolute path."""
    attribute = prim.GetAttribute(CACHE)
    asset = attribute.Get() if attribute else None
    return asset.resolvedPath if asset and asset.resolvedPath else None


def target_of(prim: Usd.Prim, name: str) -> str | None:
    """The first prim that a relationship leads to."""
    relationship = prim.GetRelationship(name)
    paths = relationship.GetForwardedTargets() if relationship else []
    return str(paths[0]) if paths else None


def world(prim: Usd.Prim, time: float) -> Gf.Matrix4d:
    """Return where a prim is, from its own space to the world's."""
    return Gf.Matrix4d(UsdGeom.XformCache(float(time)).GetLocalToWorldTransform(prim))


def way(prim: Usd.Prim, times: Iterable[float]) -> Iterator[Gf.Matrix4d]:
    """Yield where a prim is at each of many time codes; asked of the scene just once for a prim that stands still."""
    still: Gf.Matrix4d | None = None
    wanted = list(times)
    # of a few it costs less to ask than to find out
    moves = len(wanted) < 4 or bool(pose_times(prim))
    for time in wanted:
        if moves or still is None:
            still = world(prim, time)
        yield still


def up_axis(stage: Usd.Stage) -> int:
    """1 for Y, 2 for Z."""
    return 1 if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y else 2
