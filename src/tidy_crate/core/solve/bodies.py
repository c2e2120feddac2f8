"""The parts of a rigid body simulation: metres, kilograms, seconds, radians; quaternions with the real part first.

A body that is driven by animation is a very heavy one whose place and speed are given at each step, so that what
lies on it feels it move.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Vector = NDArray[np.float64]


@dataclass(frozen=True)
class Surface:
    """Surface of a collider."""

    friction: float = 0.5
    """Coefficient."""
    restitution: float = 0.0
    """Share of the speed that is kept in a bounce."""

    def against(self, other: Surface) -> Surface:
        """Return what counts between two surfaces: the mean, as UsdPhysics has it where nothing else is said."""
        return Surface((self.friction + other.friction) / 2, (self.restitution + other.restitution) / 2)


@dataclass(frozen=True)
class Shape:
    """One convex collider in its body's space."""

    kind: str
    """sphere, box, capsule, cylinder, ellipsoid, plane or hull."""
    size: tuple[float, ...]
    """By kind: radius; half edges; radius and half height (along z), twice; half axes; nothing; nothing."""
    position: Vector
    orientation: Vector
    surface: Surface
    density: float
    points: Vector | None = None
    """Points of a hull, shape (n, 3), in the body's space."""
    mass: float | None = None
    """None for what the density makes it."""
    collider: str = ""
    """The name by which pairs of colliders are kept apart."""
    triangles: NDArray[np.int64] | None = None
    """Corners of all faces of a hull, shape (n, 3), where they are known."""


@dataclass(frozen=True)
class Body:
    """One body."""

    name: str
    position: Vector
    orientation: Vector
    shapes: tuple[Shape, ...]
    driven: bool = False
    """True if it is moved by animation."""
    mass: float | None = None
    """None for the mass of its shapes."""
    centre: Vector | None = None
    """None for the centre of mass of its shapes."""
    inertia: Vector | None = None
    """About each of the axes `axes`, shape (3,). None for the inertia of its shapes."""
    axes: Vector | None = None
    """Orientation of the axes of inertia."""
    velocity: Vector = field(default_factory=lambda: np.zeros(3))
    spin: Vector = field(default_factory=lambda: np.zeros(3))
    asleep: bool = False
    """True if it stays at rest until something that moves touches it."""


@dataclass(frozen=True)
class Joint:
    """A link between two bodies (None is the world), by a frame in each."""

    name: str
    kind: str
    """fixed, revolute (about the frames' x), prismatic (along it), spherical, distance."""
    parent: str | None
    child: str
    parent_position: Vector
    parent_orientation: Vector
    child_position: Vector
    child_orientation: Vector
    limits: tuple[float | None, float | None] = (None, None)
    """Radians or metres, None for no limit at that end."""
    collide: bool = False


@dataclass(frozen=True)
class World:
    """Everything that takes part."""

    gravity: Vector
    bodies: tuple[Body, ...]
    still: tuple[Shape, ...] = ()
    """Colliders that never move, in world space."""
    joints: tuple[Joint, ...] = ()
    apart: tuple[tuple[str, str], ...] = ()
    """Pairs of bodies that do not collide. An empty name stands for all that is still."""
    apart_colliders: frozenset[frozenset[str]] = frozenset()
    """Pairs of colliders that do not collide, of bodies of which others do."""


def mass_of(shape: Shape) -> tuple[float, Vector, Vector]:
    """Volume in cubic metres, centre in the body's space, and inertia about it at a density of one, shape (3, 3)."""
    if shape.kind == "hull":
        return _hull_mass(shape)
    size = shape.size
    third = 4 / 3 * np.pi
    if shape.kind in ("sphere", "ellipsoid"):
        axes = np.array(size * 3 if shape.kind == "sphere" else size)
        volume = third * float(np.prod(axes))
        squares = volume / 5 * axes**2
    elif shape.kind == "box":
        volume = 8 * float(np.prod(size))
        squares = volume / 3 * np.array(size) ** 2
    elif shape.kind == "cylinder":
        volume = np.pi * size[0] ** 2 * 2 * size[1]
        squares = volume * np.array([size[0] ** 2 / 4, size[0] ** 2 / 4, size[1] ** 2 / 3])
    elif shape.kind == "capsule":
        rod, ball = np.pi * size[0] ** 2 * 2 * size[1], third * size[0] ** 3
        volume = rod + ball
        # the integral of each coordinate squared; of half a ball beyond the end of the rod, its centre is 3/8 r out
        across = rod * size[0] ** 2 / 4 + ball * size[0] ** 2 / 5
        along = rod * size[1] ** 2 / 3 + ball * (size[0] ** 2 / 5 + size[1] ** 2 + 3 / 4 * size[0] * size[1])
        squares = np.array([across, across, along])
    else:
        return 0.0, np.zeros(3), np.zeros((3, 3))
    orientation = np.array([rotate(shape.orientation, axis) for axis in np.eye(3)])
    return float(volume), shape.position, _inertia(orientation.T @ np.diag(squares) @ orientation)


def _inertia(squares: Vector) -> Vector:
    """Inertia from the integrals of the products of coordinates."""
    return np.asarray(np.trace(squares) * np.eye(3) - squares)


def _hull_mass(shape: Shape) -> tuple[float, Vector, Vector]:
    """Sum the tetrahedra between a hull's triangles and a point inside it."""
    assert shape.points is not None
    triangles = _triangles(shape.points) if shape.triangles is None else shape.triangles
    if not len(triangles):
        return 0.0, np.zeros(3), np.zeros((3, 3))
    inner = shape.points[np.unique(triangles)].mean(axis=0)
    corners = shape.points[triangles] - inner
    volumes = np.abs(np.linalg.det(corners)) / 6
    volume = float(volumes.sum())
    if volume <= 0:
        return 0.0, np.zeros(3), np.zeros((3, 3))
    total = corners.sum(axis=1)
    centre = (volumes[:, None] * total).sum(axis=0) / 4 / volume
    # of a tetrahedron with one corner in the origin: V/20 (sum of a a^T over its corners + the same of their sum)
    each = np.einsum("nki,nkj->nij", corners, corners) + np.einsum("ni,nj->nij", total, total)
    squares = np.einsum("n,nij->ij", volumes / 20, each) - volume * np.outer(centre, centre)
    return volume, centre + inner, _inertia(squares)


def _triangles(points: Vector) -> NDArray[np.int64]:
    """The faces of the hull of points; none where they are flat."""
    # a fifth of a second to load, and most colliders know their faces
    from scipy.spatial import ConvexHull, QhullError

    try:
        return np.asarray(ConvexHull(points).simplices)
    except QhullError:
        return np.empty((0, 3), dtype=np.int64)


def multiply(a: Vector, b: Vector) -> Vector:
    """The turn b, then a, as quaternions."""
    w, v = a[0] * b[0] - a[1:] @ b[1:], a[0] * b[1:] + b[0] * a[1:] + np.cross(a[1:], b[1:])
    return np.concatenate([[w], v])


def conjugate(a: Vector) -> Vector:
    """The turn back."""
    return np.asarray(a * np.array([1.0, -1.0, -1.0, -1.0]))


def rotate(orientation: Vector, vector: Vector) -> Vector:
    """A vector turned."""
    w, v = orientation[0], orientation[1:]
    return np.asarray(vector + 2 * np.cross(v, np.cross(v, vector) + w * vector))
