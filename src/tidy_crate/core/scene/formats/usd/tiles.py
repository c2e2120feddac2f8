"""Tiles of a tiled texture that its shapes use, by their texture coordinates.

A tile number is 1001 + u + 10 v, for the whole parts u (0 to 9) and v of a face's texture coordinates.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdShade

from tidy_crate.core.asset.resolve import Resolution
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.scene.formats.usd.compose import Composed
from tidy_crate.core.scene.formats.usd.layers import Occurrence
from tidy_crate.core.scene.formats.usd.needed import Needed
from tidy_crate.core.scene.formats.usd.prims import Kind, ScenePrims

# faces of one mesh that are looked at; of more, so many spread over it
MOST_FACES = 200_000
# texture coordinates by which a corner may be off the edge of a tile
EDGE = 1e-3
# inputs of a texture that take coordinates, and what the nodes that merely read them are called
_INPUTS = ("inputs:st", "inputs:texcoord", "inputs:uv")
_READERS = ("primvarreader", "texcoord", "geompropvalue")
# names of texture coordinates that are usual, in the order in which they are tried where no reader names one
_USUAL = ("st", "st0", "uv", "UVMap", "map1", "Texture_uv")


@dataclass
class TilesInUse:
    """Answers for one scene which tiles a texture needs. Bindings are worked out when first asked for."""

    composed: Composed
    prims: ScenePrims
    needed: Needed
    settings: Usd.Prim | None
    _bound: dict[Sdf.Path, list[Usd.Prim]] | None = None
    _known: dict[tuple[Sdf.Path, str], frozenset[int]] = field(default_factory=dict)

    def held_to(self, occurrence: Occurrence) -> Resolution:
        """Return what an occurrence stands for, with the tiles that shapes use and that are not there as absent."""
        found = occurrence.resolution
        if "<" not in occurrence.value:
            return found
        location = found.location
        if location is None or not found.members or not STANDARD.has_tile(location.name):
            return found
        there = {member.number for member in found.members}
        if None in there:
            return found
        absent = sorted(self._used(occurrence) - there)
        if not absent:
            return found
        names = tuple(str(location.with_name(_name(location.name, tile))) for tile in absent)
        shown = ", ".join(map(str, absent[:5])) + (" and more" if len(absent) > 5 else "")
        return found._replace(absent=names, trouble=f"shapes use tiles that are not there: {shown}")

    def _used(self, occurrence: Occurrence) -> set[int]:
        tiles: set[int] = set()
        for user in self.prims.users.get(occurrence.site, ()):
            material = _material_above(self.composed.stage, user)
            if material is None:
                continue
            names = _coordinates(self.composed.stage.GetPrimAtPath(user))
            if names is None:
                continue
            for shape in self._shapes().get(material.GetPath(), ()):
                tiles |= self._of_shape(shape, names)
        return tiles

    def _shapes(self) -> dict[Sdf.Path, list[Usd.Prim]]:
        """The shapes and parts of shapes by the material that they are bound to."""
        if self._bound is None:
            self._bound = {}
            shown = [prim for prim, kind in self.needed.rendered.values() if kind & Kind.BINDS]
            materials, _ = UsdShade.MaterialBindingAPI.ComputeBoundMaterials(shown) if shown else ((), ())
            for prim, material in zip(shown, materials, strict=True):
                if material and (prim.IsA(UsdGeom.Mesh) or prim.IsA(UsdGeom.Subset)):
                    self._bound.setdefault(material.GetPath(), []).append(prim)
        return self._bound

    def _of_shape(self, shape: Usd.Prim, names: tuple[str, ...]) -> frozenset[int]:
        key = (shape.GetPath(), "/".join(names))
        if key not in self._known:
            self._known[key] = _tiles_of(shape, names)
        return self._known[key]


def _name(pattern: str, tile: int) -> str:
    for token in reversed(STANDARD.find(pattern)):
        if token.counts == "tile":
            pattern = f"{pattern[: token.start]}{tile}{pattern[token.end :]}"
    return pattern


def _material_above(stage: Usd.Stage, path: str) -> Usd.Prim | None:
    while path:
        prim = stage.GetPrimAtPath(path)
        if prim and prim.IsA(UsdShade.Material):
            return prim
        path = path.rpartition("/")[0]
    return None


def _coordinates(texture: Usd.Prim) -> tuple[str, ...] | None:
    """Return the names of the texture coordinates that a texture is looked up by.

    The usual ones where it names none; None where they are worked out on the way, so that nothing can be said.
    """
    if _id(texture).lower().startswith("nd_tiledimage"):
        return None
    for name in _INPUTS:
        attribute = texture.GetAttribute(name)
        if not attribute or not attribute.HasAuthoredConnections():
            continue
        sources = UsdShade.Utils.GetValueProducingAttributes(UsdShade.Input(attribute))
        reader = sources[0].GetPrim() if sources else None
        kind = _id(reader).lower() if reader else ""
        if not any(word in kind for word in _READERS):
            return None
        for called in ("inputs:varname", "inputs:geomprop"):
            value = reader.GetAttribute(called) if reader else None
            found = UsdShade.Utils.GetValueProducingAttributes(UsdShade.Input(value)) if value else ()
            text = found[0].Get() if found else None
            if text:
                return (str(text),)
    return _USUAL


def _id(shader: Usd.Prim) -> str:
    attribute = shader.GetAttribute("info:id")
    return str(attribute.Get() or "") if attribute else ""


def _tiles_of(shape: Usd.Prim, names: tuple[str, ...]) -> frozenset[int]:
    subset = UsdGeom.Subset(shape) if shape.IsA(UsdGeom.Subset) else None
    mesh = UsdGeom.Mesh(shape.GetParent() if subset else shape)
    counts = np.asarray(mesh.GetFaceVertexCountsAttr().Get(Usd.TimeCode.EarliestTime()) or ())
    if not len(counts):
        return frozenset()
    primvars = UsdGeom.PrimvarsAPI(mesh.GetPrim())
    corners = next((uv for name in names if (uv := _per_corner(mesh, primvars, name)) is not None), None)
    if corners is None or len(corners) != int(counts.sum()) or counts.min() < 1:
        return frozenset()
    starts = np.concatenate(([0], np.cumsum(counts)[:-1]))
    faces = np.asarray(subset.GetIndicesAttr().Get() or (), dtype=int) if subset else _own_faces(mesh, len(counts))
    faces = faces[(faces >= 0) & (faces < len(counts))]
    faces = faces[:: -(-len(faces) // MOST_FACES) or 1]
    low, high = (part.reduceat(corners, starts, axis=0)[faces] for part in (np.minimum, np.maximum))
    return _overlapped(low, high)


def _overlapped(low: np.ndarray, high: np.ndarray) -> frozenset[int]:
    """Return the tiles that boxes overlap. low, high: their corners, shape (n, 2)."""
    # a corner on the edge of a tile belongs to two, and is off it by rounding
    shrunk = np.minimum(EDGE, (high - low) / 2)
    first, last = np.floor(low + shrunk), np.floor(high - shrunk)
    whole = np.isfinite(first).all(axis=1) & np.isfinite(last).all(axis=1)
    # what is outside of all tiles has none
    first, last = np.maximum(first[whole], 0), np.minimum(last[whole], (9, 899))
    found = set()
    for u0, v0, u1, v1 in np.unique(np.concatenate([first, last], axis=1), axis=0).astype(int):
        found |= {1001 + u + 10 * v for u in range(u0, u1 + 1) for v in range(v0, v1 + 1)}
    return frozenset(found)


def _own_faces(mesh: UsdGeom.Mesh, count: int) -> np.ndarray:
    """Return the faces that no subset with a material of its own takes."""
    taken = [
        np.asarray(one.GetIndicesAttr().Get() or (), dtype=int)
        for one in UsdGeom.Subset.GetGeomSubsets(mesh, UsdGeom.Tokens.face)
        if UsdShade.MaterialBindingAPI(one.GetPrim()).GetDirectBinding().GetMaterial()
    ]
    return np.setdiff1d(np.arange(count), np.concatenate(taken)) if taken else np.arange(count)


def _per_corner(mesh: UsdGeom.Mesh, primvars: UsdGeom.PrimvarsAPI, name: str) -> np.ndarray | None:
    """Return texture coordinates by corner of faces, shape (corners, 2); None where the mesh has none of the name."""
    primvar = primvars.FindPrimvarWithInheritance(name)
    if not primvar or not primvar.HasValue():
        return None
    value = primvar.ComputeFlattened(Usd.TimeCode.EarliestTime())
    try:
        found = np.asarray(value, dtype=float)
    except (TypeError, ValueError):
        return None
    if found.ndim != 2 or found.shape[1] < 2:
        return None
    found = found[:, :2]
    interpolation = primvar.GetInterpolation()
    if interpolation in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying):
        corners = np.asarray(mesh.GetFaceVertexIndicesAttr().Get(Usd.TimeCode.EarliestTime()) or (), dtype=int)
        return found[corners] if len(corners) and corners.max() < len(found) and corners.min() >= 0 else None
    return found if interpolation == UsdGeom.Tokens.faceVarying else None
