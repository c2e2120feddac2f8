"""From collision prims to convex shapes, in a body's space and in metres.

MuJoCo closes every mesh by its hull. A mesh that is its own hull goes in as it is; one that is not goes in face by
face, each a thin convex plate, so that an open box stays open. Only where the scene asks for a hull, a box or a sphere
by `physics:approximation` is the shape changed.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Usd, UsdGeom, UsdPhysics

from tidy_crate.core.solve.bodies import Shape, Surface

Points = NDArray[np.float64]

MOST_FACES = 3000
# a point is before a face when it is off its plane by more than this share of the mesh's size
_FILLS = 1e-3
# a plate is so thick, as a share of the size of its mesh
_PLATE = 0.02
_FLAT = 1e-6
_UNTURNED = np.array([1.0, 0.0, 0.0, 0.0])


class Unfit(Exception):
    """A collider that cannot be simulated; its text says why."""


def shapes_of(
    prim: Usd.Prim, matrix: NDArray[np.float64], surface: Surface, density: float, time: float
) -> list[Shape]:
    """The shapes of one collision prim. Raises Unfit.

    matrix: from the prim's space to the body's, in metres, shape (4, 4), rows as vectors.
    """
    if not np.isfinite(matrix).all():
        raise Unfit("it is placed by values that are no numbers")
    plain = Shape("hull", (), np.zeros(3), _UNTURNED, surface, density, collider=str(prim.GetPath()))
    if prim.IsA(UsdGeom.Plane):
        axis = str(UsdGeom.Plane(prim).GetAxisAttr().Get() or "Z")
        normal = np.eye(3)["XYZ".index(axis)] @ matrix[:3, :3]
        return [replace(plain, kind="plane", position=matrix[3, :3].copy(), orientation=_turn_to(normal))]
    if prim.IsA(UsdGeom.Mesh):
        return _mesh(prim, matrix, plain, time)
    found = _primitive(prim, matrix, plain, time)
    if found is None:
        raise Unfit(f"a collider of type {prim.GetTypeName() or 'none'} is not known here")
    return [found]


def _primitive(prim: Usd.Prim, matrix: NDArray[np.float64], plain: Shape, time: float) -> Shape | None:
    scale = np.linalg.norm(matrix[:3, :3], axis=1)
    square = np.allclose((matrix[:3, :3] / scale[:, None]) @ (matrix[:3, :3] / scale[:, None]).T, np.eye(3), atol=1e-6)
    turned = (
        replace(plain, position=matrix[3, :3].copy(), orientation=_turn(matrix[:3, :3] / scale[:, None]))
        if square
        else None
    )

    def get(name: str) -> float:
        return float(prim.GetAttribute(name).Get(time))

    if prim.IsA(UsdGeom.Sphere):
        radius = get("radius")
        if turned is not None:
            if np.ptp(scale) < 1e-6 * scale.max():
                return replace(turned, kind="sphere", size=(radius * float(scale[0]),))
            return replace(turned, kind="ellipsoid", size=tuple(radius * scale))
        return _hull(plain, _ball_points(radius) @ matrix[:3, :3] + matrix[3, :3])
    if prim.IsA(UsdGeom.Cube):
        half = get("size") / 2
        if turned is not None:
            return replace(turned, kind="box", size=tuple(half * scale))
        corners = half * np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=np.float64)
        return _hull(plain, corners @ matrix[:3, :3] + matrix[3, :3])
    if not (prim.IsA(UsdGeom.Capsule) or prim.IsA(UsdGeom.Cylinder) or prim.IsA(UsdGeom.Cone)):
        return None
    radius, height = get("radius"), get("height")
    axis = "XYZ".index(str(prim.GetAttribute("axis").Get() or "Z"))
    across = [at for at in range(3) if at != axis]
    even = turned is not None and abs(scale[across[0]] - scale[across[1]]) < 1e-6 * scale.max()
    if even and not prim.IsA(UsdGeom.Cone) and (prim.IsA(UsdGeom.Cylinder) or np.ptp(scale) < 1e-6 * scale.max()):
        assert turned is not None
        along = np.eye(3)[axis] @ matrix[:3, :3]
        size = (radius * float(scale[across[0]]), height / 2 * float(scale[axis]))
        kind = "cylinder" if prim.IsA(UsdGeom.Cylinder) else "capsule"
        return replace(turned, kind=kind, orientation=_turn_to(along), size=size)
    points = _round_points(radius, height, axis, cone=prim.IsA(UsdGeom.Cone), capsule=prim.IsA(UsdGeom.Capsule))
    return _hull(plain, points @ matrix[:3, :3] + matrix[3, :3])


def _mesh(prim: Usd.Prim, matrix: NDArray[np.float64], plain: Shape, time: float) -> list[Shape]:
    mesh = UsdGeom.Mesh(prim)
    found = mesh.GetPointsAttr().Get(time)
    if found is None or len(found) < 3:
        raise Unfit("a mesh without points cannot collide")
    points = np.array(found, dtype=np.float64) @ matrix[:3, :3] + matrix[3, :3]
    if not np.isfinite(points).all():
        raise Unfit("a mesh has points that are no numbers")
    approximation = "none"
    if prim.HasAPI(UsdPhysics.MeshCollisionAPI):
        approximation = str(UsdPhysics.MeshCollisionAPI(prim).GetApproximationAttr().Get() or "none")
    if approximation == "boundingCube":
        low, high = points.min(axis=0), points.max(axis=0)
        return [replace(plain, kind="box", position=(low + high) / 2, size=tuple(np.maximum((high - low) / 2, 1e-4)))]
    if approximation == "boundingSphere":
        centre = (points.min(axis=0) + points.max(axis=0)) / 2
        return [
            replace(plain, kind="sphere", position=centre, size=(float(np.linalg.norm(points - centre, axis=1).max()),))
        ]
    faces = list(_faces(mesh, len(points), time))
    extent = float(np.ptp(points, axis=0).max())
    if extent <= 0:
        raise Unfit("a mesh has no size")
    if _is_its_own_hull(points, faces) and not _is_flat(points):
        fans = [(face[0], face[at], face[at + 1]) for face in faces for at in range(1, len(face) - 1)]
        return [replace(_hull(plain, points), triangles=np.array(fans))]
    if approximation == "convexHull":
        return [_hull(plain, points)]
    # concave, or flat: the faces themselves
    if len(faces) > MOST_FACES:
        raise Unfit(f"a concave mesh of {len(faces)} faces is more than the {MOST_FACES} that go in face by face")
    return [_hull(plain, plate) for face in faces for plate in _plates(points[face], extent * _PLATE)]


def _faces(mesh: UsdGeom.Mesh, count: int, time: float) -> Iterator[NDArray[np.int64]]:
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], dtype=np.int64)
    indices = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], dtype=np.int64)
    if counts.sum() != len(indices) or (counts < 3).any() or ((indices < 0) | (indices >= count)).any():
        raise Unfit("the faces of a mesh do not fit its points")
    at = 0
    for size in counts:
        yield indices[at : at + size]
        at += size


def _is_flat(points: Points) -> bool:
    if not np.isfinite(points).all():
        raise Unfit("it has points that are no numbers")
    values = np.linalg.svd(points - points.mean(axis=0), compute_uv=False)
    return len(values) < 3 or bool(values[-1] <= _FLAT * values[0])


def _is_its_own_hull(points: Points, faces: list[NDArray[np.int64]]) -> bool:
    """Return whether a mesh is closed and convex: every edge has a face on both sides, and no point is before
    any face.
    """
    # corners that are in one place are one corner, however often the mesh lists it
    extent = float(np.ptp(points, axis=0).max())
    _, same = np.unique(np.round(points / (extent * _FLAT)), axis=0, return_inverse=True)
    edges: dict[tuple[int, int], int] = {}
    planes = []
    for face in faces:
        corners = same[face].ravel().tolist()
        for one, other in zip(corners, corners[1:] + corners[:1], strict=True):
            if one != other:
                edges[one, other] = edges.get((one, other), 0) + 1
        normal = np.cross(points[face[1:-1]] - points[face[0]], points[face[2:]] - points[face[0]]).sum(axis=0)
        size = float(np.linalg.norm(normal))
        if size > 0:
            planes.append((normal / size, float(normal @ points[face[0]]) / size))
    if not planes or any(count != 1 or edges.get((b, a)) != 1 for (a, b), count in edges.items()):
        return False
    used = points[np.unique(np.concatenate(faces))]
    before = behind = False
    for normal, along in planes:
        away = used @ normal - along
        before = before or bool(away.max() > _FILLS * extent)
        behind = behind or bool(away.min() < -_FILLS * extent)
    return before != behind


def _plates(corners: Points, thickness: float) -> Iterator[Points]:
    """A face as thin convex bodies about its plane: whole where it is convex, else a triangle at a time."""
    normal = np.cross(corners[1:-1] - corners[0], corners[2:] - corners[0]).sum(axis=0)
    size = float(np.linalg.norm(normal))
    if size < 1e-14:
        return
    normal /= size
    bends = np.cross(
        np.roll(corners, -1, axis=0) - corners, np.roll(corners, -2, axis=0) - np.roll(corners, -1, axis=0)
    )
    pieces = (
        [corners]
        if (bends @ normal > -1e-12).all()
        else [corners[[0, at, at + 1]] for at in range(1, len(corners) - 1)]
    )
    for piece in pieces:
        yield np.concatenate([piece + normal * thickness / 2, piece - normal * thickness / 2])


def _hull(plain: Shape, points: Points) -> Shape:
    if _is_flat(points):
        raise Unfit("a flat collider has no inside")
    return replace(plain, points=points)


def _ball_points(radius: float, rings: int = 12, around: int = 24) -> Points:
    polar = np.linspace(0, np.pi, rings + 1)
    angles = np.arange(around) * 2 * np.pi / around
    return np.asarray(
        radius * np.array([[np.sin(p) * np.cos(t), np.sin(p) * np.sin(t), np.cos(p)] for p in polar for t in angles])
    )


def _round_points(radius: float, height: float, axis: int, *, cone: bool, capsule: bool) -> Points:
    if capsule:
        ball = _ball_points(radius)
        up = ball[:, 2:] >= 0
        points = ball + np.where(up, height / 2, -height / 2) * np.array([[0.0, 0.0, 1.0]])
    else:
        angles = np.arange(32) * 2 * np.pi / 32
        ring = radius * np.stack([np.cos(angles), np.sin(angles), np.zeros(32)], axis=1)
        half = np.array([0.0, 0.0, height / 2])
        low, high = ring - half, ring + half
        points = np.concatenate([low, np.array([[0, 0, height / 2]]) if cone else high])
    return np.asarray(np.roll(points, axis - 2, axis=1))


def _turn(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """A rotation, rows as vectors, as a quaternion."""
    matrix: Any = Gf.Matrix3d(*rows.ravel().tolist())
    quaternion = matrix.ExtractRotation().GetQuat().GetNormalized()
    return np.array([quaternion.GetReal(), *quaternion.GetImaginary()])


def _turn_to(direction: NDArray[np.float64]) -> NDArray[np.float64]:
    """The turn that leads z to a direction."""
    quaternion = Gf.Rotation(Gf.Vec3d(0, 0, 1), Gf.Vec3d(*map(float, direction))).GetQuat()
    return np.array([quaternion.GetReal(), *quaternion.GetImaginary()])
