"""Light: one bounce from suns, bulbs and sky, with shadows, by ray casting."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from tidy_crate.practice.render import textures
from tidy_crate.practice.render.geometry import Frame

FAR = 1e7
# how far a new ray starts from the surface, as a share of the distance travelled, against its own shadow
LIFT = 1e-4


@dataclass
class Picture:
    """Passes of one frame, each of shape (height * width,) or (height * width, 3)."""

    beauty: np.ndarray
    alpha: np.ndarray
    depth: np.ndarray
    normal: np.ndarray
    object_id: np.ndarray


class Caster:
    """A frame's triangles, ready for rays."""

    def __init__(self, frame: Frame) -> None:
        self.frame = frame
        self.scene = rtcore_scene.EmbreeScene()
        if len(frame.corners):
            vertices = frame.corners.reshape(-1, 3).astype(np.float32)
            TriangleMesh(self.scene, vertices, np.arange(len(vertices), dtype=np.int32).reshape(-1, 3))

    def nearest(self, origins: np.ndarray, directions: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Triangle hit (-1 for none), distance, and barycentric u, v as (n, 2)."""
        if not len(self.frame.corners):
            return (
                np.full(len(origins), -1),
                np.full(len(origins), FAR, np.float32),
                np.zeros((len(origins), 2), np.float32),
            )
        hit = self.scene.run(
            np.ascontiguousarray(origins, np.float32),
            np.ascontiguousarray(directions, np.float32),
            output=True,
        )
        return hit["primID"], hit["tfar"], np.stack([hit["u"], hit["v"]], axis=1)

    def blocked(self, origins: np.ndarray, directions: np.ndarray, distances: np.ndarray) -> np.ndarray:
        """Return whether something is within the distance along each ray."""
        if not len(origins):
            return np.zeros(0, bool)
        found = self.scene.run(
            np.ascontiguousarray(origins, np.float32),
            np.ascontiguousarray(directions, np.float32),
            np.ascontiguousarray(distances, np.float32),
            query="OCCLUDED",
        )
        return np.asarray(found) >= 0


def sky_radiance(frame: Frame, directions: np.ndarray, up_axis: int) -> np.ndarray:
    """Return what the sky sends from each direction, shape (n, 3)."""
    result = np.broadcast_to(frame.sky_colour.astype(np.float32), directions.shape).copy()
    if frame.sky is not None:
        up = directions[:, up_axis]
        a, b = directions[:, (up_axis + 1) % 3], directions[:, (up_axis + 2) % 3]
        u = np.arctan2(b, a) / (2 * np.pi) + 0.5
        v = np.arcsin(np.clip(up, -1, 1)) / np.pi + 0.5
        # a sky does not repeat from pole to pole
        result += textures.look_up(frame.sky, u, np.clip(v, 0.5 / len(frame.sky), 1 - 0.5 / len(frame.sky)))
    return result


def shade(caster: Caster, origins: np.ndarray, directions: np.ndarray, rng: np.random.Generator, up: int) -> Picture:
    """Follow one ray per pixel."""
    frame = caster.frame
    triangle, distance, uv = caster.nearest(origins, directions)
    hit = triangle >= 0
    colour = np.empty(directions.shape, np.float32)
    colour[~hit] = sky_radiance(frame, directions[~hit], up)
    normal = np.zeros(directions.shape, np.float32)
    object_id = np.zeros(len(directions), dtype=np.uint32)
    if hit.any():
        t = triangle[hit]
        n = _between(frame.normals, t, uv[hit])
        n /= np.maximum(_length(n), 1e-12)[:, None]
        n *= -np.sign(np.einsum("ij,ij->i", n, directions[hit]))[:, None]
        albedo, glow = _surface(frame, frame.material_of[t], _between(frame.st, t, uv[hit]))
        where = origins[hit] + directions[hit] * distance[hit, None]
        where += n * (LIFT * distance[hit, None] + 1e-3)
        colour[hit] = glow + albedo * _incoming(caster, where, n, rng, up)
        normal[hit] = n
        object_id[hit] = frame.shape_of[t] + 1
    return Picture(colour, hit.astype(float), np.where(hit, distance, FAR), normal, object_id)


def _between(corners: np.ndarray, triangle: np.ndarray, uv: np.ndarray) -> np.ndarray:
    """A corner value at a point inside each triangle, by its barycentric coordinates."""
    first = corners[triangle, 0]
    across = (corners[triangle, 1] - first) * uv[:, 0:1] + (corners[triangle, 2] - first) * uv[:, 1:2]
    return np.asarray(first + across)


def _length(vectors: np.ndarray) -> np.ndarray:
    return np.asarray(np.sqrt(np.einsum("ij,ij->i", vectors, vectors)))


def _surface(frame: Frame, materials: np.ndarray, st: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    albedo, glow = np.empty((len(st), 3), np.float32), np.empty((len(st), 3), np.float32)
    order = np.argsort(materials, kind="stable")
    starts = np.flatnonzero(np.diff(materials[order], prepend=-1))
    for chosen in np.split(order, starts[1:]):
        material = frame.materials[materials[chosen[0]]]
        if material.texture is None:
            albedo[chosen] = material.colour
        else:
            albedo[chosen] = textures.look_up(material.texture, st[chosen, 0], st[chosen, 1])
        glow[chosen] = material.glow * (albedo[chosen] if material.texture is not None else 1.0)
    return albedo, glow


def _incoming(caster: Caster, where: np.ndarray, n: np.ndarray, rng: np.random.Generator, up: int) -> np.ndarray:
    """Light that a white matte surface would send back, shape (n, 3)."""
    frame, count = caster.frame, len(where)
    # sky: one direction drawn by the cosine
    # a point on the unit sphere added to the normal is such a direction, once it has length one
    height, phi = 2 * rng.random(count, np.float32) - 1, 2 * np.float32(np.pi) * rng.random(count, np.float32)
    ring = np.sqrt(np.maximum(0, 1 - height * height))
    towards = n + np.stack([ring * np.cos(phi), ring * np.sin(phi), height], axis=1)
    towards /= np.maximum(_length(towards), 1e-6)[:, None]
    open_sky = ~caster.blocked(where, towards, np.full(count, FAR, np.float32))
    light = sky_radiance(frame, towards, up) * open_sky[:, None]
    for direction, radiance in frame.suns:
        cosine = n @ direction.astype(np.float32)
        lit = np.flatnonzero(cosine > 0)
        clear = ~caster.blocked(
            where[lit], np.broadcast_to(direction, (len(lit), 3)), np.full(len(lit), FAR, np.float32)
        )
        light[lit] += (cosine[lit] * clear)[:, None] * radiance
    if frame.bulbs:
        light += _from_bulbs(caster, where, n, rng)
    return np.asarray(light)


def _from_bulbs(caster: Caster, where: np.ndarray, n: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """One bulb per point, chosen at random, standing for all of them."""
    bulbs = caster.frame.bulbs
    places = np.array([place for place, _, _ in bulbs], np.float32)
    radii = np.array([radius for _, radius, _ in bulbs], np.float32)
    powers = np.array([power for _, _, power in bulbs], np.float32)
    chosen = rng.integers(0, len(bulbs), len(where))
    way = places[chosen] - where
    distance = _length(way)
    way /= np.maximum(distance, 1e-6)[:, None]
    cosine = np.maximum(0, np.einsum("ij,ij->i", n, way))
    reach = distance - radii[chosen] * 1.02
    lit = np.flatnonzero((cosine > 0) & (reach > 0))
    light = np.zeros(where.shape, np.float32)
    clear = ~caster.blocked(where[lit], way[lit], reach[lit])
    strength = len(bulbs) * cosine[lit] * clear / np.maximum(distance[lit], 1e-6) ** 2
    light[lit] = strength[:, None] * powers[chosen[lit]]
    return light
