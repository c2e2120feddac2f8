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
    """friction: coefficient; restitution: share of the speed kept in a bounce."""

    friction: float = 0.5
    restitution: float = 0.0

    def against(self, other: Surface) -> Surface:
        """What counts between two surfaces: the mean, as UsdPhysics has it where nothing else is said."""
        return Surface((self.friction + other.friction) / 2, (self.restitution + other.restitution) / 2)


@dataclass(frozen=True)
class Shape:
    """One convex collider in its body's space.

    kind: sphere, box, capsule, cylinder, ellipsoid, plane or hull. size: radius; half edges; radius and half height
    (along z); half axes; nothing; nothing. points: of a hull, shape (n, 3), in the body's space. mass: None for what
    the density makes it.
    """

    kind: str
    size: tuple[float, ...]
    place: Vector
    turn: Vector
    surface: Surface
    density: float
    points: Vector | None = None
    mass: float | None = None


@dataclass(frozen=True)
class Body:
    """One body. driven: moved by animation.

    mass, centre, inertia (three, about the axes `axes`): None for what its shapes make them.
    """

    name: str
    place: Vector
    turn: Vector
    shapes: tuple[Shape, ...]
    driven: bool = False
    mass: float | None = None
    centre: Vector | None = None
    inertia: Vector | None = None
    axes: Vector | None = None
    velocity: Vector = field(default_factory=lambda: np.zeros(3))
    spin: Vector = field(default_factory=lambda: np.zeros(3))


@dataclass(frozen=True)
class Joint:
    """A link between two bodies (None is the world), by a frame in each.

    kind: fixed, revolute (about the frames' x), prismatic (along it), spherical, distance. limits: radians or metres,
    None for none at that end.
    """

    name: str
    kind: str
    parent: str | None
    child: str
    parent_place: Vector
    parent_turn: Vector
    child_place: Vector
    child_turn: Vector
    limits: tuple[float | None, float | None] = (None, None)
    collide: bool = False


@dataclass(frozen=True)
class World:
    """Everything that takes part. still: colliders that never move, in world space.

    apart: pairs of bodies that do not collide; an empty name stands for all that is still.
    """

    gravity: Vector
    bodies: tuple[Body, ...]
    still: tuple[Shape, ...] = ()
    joints: tuple[Joint, ...] = ()
    apart: tuple[tuple[str, str], ...] = ()


def multiply(a: Vector, b: Vector) -> Vector:
    """The turn b, then a, as quaternions."""
    w, v = a[0] * b[0] - a[1:] @ b[1:], a[0] * b[1:] + b[0] * a[1:] + np.cross(a[1:], b[1:])
    return np.concatenate([[w], v])


def conjugate(a: Vector) -> Vector:
    """The turn back."""
    return np.asarray(a * np.array([1.0, -1.0, -1.0, -1.0]))


def rotate(turn: Vector, vector: Vector) -> Vector:
    """A vector turned."""
    w, v = turn[0], turn[1:]
    return np.asarray(vector + 2 * np.cross(v, np.cross(v, vector) + w * vector))
