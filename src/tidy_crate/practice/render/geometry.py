"""From a USD stage at one time code to triangles, materials, lights and a camera."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from pxr import Usd, UsdGeom, UsdLux, UsdShade

from tidy_crate.practice.render import textures


@dataclass
class Material:
    """Diffuse colour (a colour, or a texture) and emitted radiance."""

    colour: np.ndarray
    texture: np.ndarray | None
    glow: np.ndarray


@dataclass
class Shape:
    """One prim in its own space."""

    path: str
    corners: np.ndarray
    """Triangles, shape (n, 3, 3)."""
    normals: np.ndarray
    """Shape (n, 3, 3)."""
    st: np.ndarray
    """Shape (n, 3, 2)."""
    material: int


@dataclass
class Frame:
    """All a picture needs. Triangles in world space; `shape_of` and `material_of` say to what each belongs."""

    corners: np.ndarray
    normals: np.ndarray
    st: np.ndarray
    shape_of: np.ndarray
    material_of: np.ndarray
    materials: list[Material]
    names: list[str]
    suns: list[tuple[np.ndarray, np.ndarray]] = field(default_factory=list)  # towards the sun, radiance
    bulbs: list[tuple[np.ndarray, float, np.ndarray]] = field(default_factory=list)  # place, radius, power
    sky: np.ndarray | None = None  # (height, width, 3) radiance, latitude-longitude, first row up
    sky_colour: np.ndarray = field(default_factory=lambda: np.zeros(3))


class SceneReader:
    """Reads a stage frame by frame; what does not change with time is read once."""

    def __init__(self, stage: Usd.Stage) -> None:
        self.stage = stage
        self._shapes: dict[str, Shape] = {}
        self._materials: list[Material] = [Material(np.array([0.5, 0.5, 0.5]), None, np.zeros(3))]
        self._material_index: dict[str, int] = {}
        self._textures: dict[str, np.ndarray] = {}

    def at(self, time: float) -> Frame:
        """The scene at a time code."""
        cache = UsdGeom.XformCache(time)
        corners, normals, st, shape_of, material_of = [], [], [], [], []
        names: list[str] = []
        frame = Frame(*(np.zeros(0),) * 5, self._materials, names)
        for prim in Usd.PrimRange(self.stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()):
            if not self._shows(prim, time):
                continue
            if prim.HasAPI(UsdLux.LightAPI):
                self._light(prim, time, cache, frame)
                continue
            shape = self._shape(prim, time)
            if shape is None:
                continue
            matrix = np.array(cache.GetLocalToWorldTransform(prim))
            corners.append(shape.corners @ matrix[:3, :3] + matrix[3, :3])
            turned = shape.normals @ np.linalg.inv(matrix[:3, :3]).T
            normals.append(turned / np.maximum(np.linalg.norm(turned, axis=-1, keepdims=True), 1e-12))
            st.append(shape.st)
            shape_of.append(np.full(len(shape.corners), len(names)))
            material_of.append(np.full(len(shape.corners), shape.material))
            names.append(shape.path)
        if corners:
            frame.corners, frame.normals, frame.st = (
                np.concatenate(x).astype(np.float32) for x in (corners, normals, st)
            )
            frame.shape_of, frame.material_of = np.concatenate(shape_of), np.concatenate(material_of)
        return frame

    @staticmethod
    def _shows(prim: Usd.Prim, time: float) -> bool:
        if not prim.IsA(UsdGeom.Imageable):
            return False
        image = UsdGeom.Imageable(prim)
        if image.ComputePurpose() in (UsdGeom.Tokens.guide, UsdGeom.Tokens.proxy):
            return False
        return bool(image.ComputeVisibility(time) != UsdGeom.Tokens.invisible)

    def _shape(self, prim: Usd.Prim, time: float) -> Shape | None:
        path = str(prim.GetPath())
        if path in self._shapes:
            return self._shapes[path]
        if prim.IsA(UsdGeom.Mesh):
            built = _mesh(UsdGeom.Mesh(prim), time)
        elif prim.IsA(UsdGeom.Sphere):
            built = _ball(np.zeros((1, 3)), np.array([UsdGeom.Sphere(prim).GetRadiusAttr().Get(time)]), 24, 14)
        elif prim.IsA(UsdGeom.Cube):
            built = _cube(float(UsdGeom.Cube(prim).GetSizeAttr().Get(time)))
        elif prim.IsA(UsdGeom.Points):
            built = _points(UsdGeom.Points(prim), time)
        else:
            return None
        if built is None:
            return None
        shape = Shape(path, *built, self._material(prim))
        if not any(attribute.ValueMightBeTimeVarying() for attribute in _form_attributes(prim)):
            self._shapes[path] = shape
        return shape

    def _material(self, prim: Usd.Prim) -> int:
        bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        key = str(bound.GetPath()) if bound else f"display {prim.GetPath()}"
        if key not in self._material_index:
            self._material_index[key] = len(self._materials)
            self._materials.append(self._read_material(bound) if bound else _display_colour(prim))
        return self._material_index[key]

    def _read_material(self, bound: UsdShade.Material) -> Material:
        surface = bound.ComputeSurfaceSource()[0]
        if not surface:
            return self._materials[0]
        glow = surface.GetInput("emissiveColor")
        diffuse = surface.GetInput("diffuseColor")
        texture = None
        if diffuse and diffuse.HasConnectedSource():
            node = UsdShade.Shader(diffuse.GetConnectedSources()[0][0].source.GetPrim())
            asset = node.GetInput("file").Get() if node.GetInput("file") else None
            texture = self._texture(asset.resolvedPath if asset else "")
        value = diffuse.Get() if diffuse and texture is None else None
        return Material(
            np.array(value if value is not None else (0.5, 0.5, 0.5), dtype=float),
            texture,
            np.array(glow.Get() if glow and glow.Get() is not None else (0, 0, 0), dtype=float),
        )

    def _texture(self, path: str) -> np.ndarray:
        if path not in self._textures:
            self._textures[path] = textures.load(path)
        return self._textures[path]

    def _light(self, prim: Usd.Prim, time: float, cache: UsdGeom.XformCache, frame: Frame) -> None:
        light = UsdLux.LightAPI(prim)
        scale = light.GetIntensityAttr().Get(time) * 2 ** light.GetExposureAttr().Get(time)
        radiance = np.array(light.GetColorAttr().Get(time)) * scale
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        if prim.IsA(UsdLux.DistantLight):
            towards = matrix[2, :3]
            frame.suns.append((towards / np.linalg.norm(towards), radiance))
        elif prim.IsA(UsdLux.SphereLight):
            size = float(np.linalg.norm(matrix[0, :3]))
            radius = UsdLux.SphereLight(prim).GetRadiusAttr().Get(time) * size
            frame.bulbs.append((matrix[3, :3], radius, radiance * np.pi * radius**2))
        elif prim.IsA(UsdLux.DomeLight):
            asset = UsdLux.DomeLight(prim).GetTextureFileAttr().Get(time)
            if asset and asset.path:
                frame.sky = self._texture(asset.resolvedPath) * radiance.astype(np.float32)
            else:
                frame.sky_colour = frame.sky_colour + radiance


def camera_rays(
    stage: Usd.Stage, path: str, time: float, width: int, height: int, pixels: np.ndarray, jitter: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Origins and unit directions of one ray per pixel, each of shape (pixels, 3).

    pixels: their numbers, counted row by row from the top left; jitter: (pixels, 2) in 0..1.
    """
    camera = UsdGeom.Camera(stage.GetPrimAtPath(path)).GetCamera(time)
    window = camera.frustum.GetWindow()
    # the horizontal field of view holds; the vertical one follows from the picture's shape
    half = (window.GetMax()[0] - window.GetMin()[0]) / 2
    centre_x = (window.GetMax()[0] + window.GetMin()[0]) / 2
    y, x = np.divmod(pixels, width)
    px = ((x + jitter[:, 0]) / width * 2 - 1) * half + centre_x
    py = (1 - (y + jitter[:, 1]) / height * 2) * half * height / width
    matrix = np.array(camera.transform)
    local = np.stack([px, py, np.full(len(px), -1.0)], axis=1)
    directions = local @ matrix[:3, :3]
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    origins = np.broadcast_to(matrix[3, :3].astype(np.float32), directions.shape)
    return origins, directions.astype(np.float32)


Triangles = tuple[np.ndarray, np.ndarray, np.ndarray]


def _mesh(mesh: UsdGeom.Mesh, time: float) -> Triangles | None:
    points = np.array(mesh.GetPointsAttr().Get(time) or [], dtype=float).reshape(-1, 3)
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], dtype=int)
    indices = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], dtype=int)
    if not len(points) or not len(counts) or indices.min() < 0 or indices.max() >= len(points):
        return None
    if counts.sum() != len(indices):
        return None
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    # a fan per face: corner 0 with each pair of neighbours
    faces = [(s, np.arange(1, n - 1)) for s, n in zip(starts, counts, strict=True) if n >= 3]
    if not faces:
        return None
    fans = np.concatenate([np.stack([np.full(len(i), s), s + i, s + i + 1], 1) for s, i in faces])
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        fans = fans[:, ::-1]
    corners = points[indices[fans]]
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.repeat(flat[:, None, :], 3, axis=1)
    st = np.zeros((len(fans), 3, 2))
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st")
    values = primvar.ComputeFlattened(time) if primvar and primvar.HasValue() else None
    if values is not None:
        table = np.array(values, dtype=float).reshape(-1, 2)
        where = fans if primvar.GetInterpolation() == UsdGeom.Tokens.faceVarying else indices[fans]
        if len(table) > where.max(initial=-1):
            st = table[where]
    return corners, normals, st


def _ball(centres: np.ndarray, radii: np.ndarray, around: int, down: int) -> Triangles:
    """Spheres as triangles, with smooth normals."""
    theta = np.linspace(0, np.pi, down + 1)
    phi = np.linspace(0, 2 * np.pi, around + 1)
    grid = np.stack(
        [np.outer(np.sin(theta), np.cos(phi)), np.outer(np.sin(theta), np.sin(phi)),
         np.outer(np.cos(theta), np.ones_like(phi))], axis=-1)  # fmt: skip
    coords = np.stack(np.meshgrid(np.linspace(0, 1, around + 1), np.linspace(1, 0, down + 1)), axis=-1)
    quads = [(slice(0, -1), slice(0, -1)), (slice(1, None), slice(0, -1)), (slice(1, None), slice(1, None)),
             (slice(0, -1), slice(1, None))]  # fmt: skip
    p = [grid[q].reshape(-1, 3) for q in quads]
    c = [coords[q].reshape(-1, 2) for q in quads]
    unit = np.concatenate([np.stack([p[0], p[1], p[2]], 1), np.stack([p[0], p[2], p[3]], 1)])
    st = np.concatenate([np.stack([c[0], c[1], c[2]], 1), np.stack([c[0], c[2], c[3]], 1)])
    corners = unit[None] * radii[:, None, None, None] + centres[:, None, None, :]
    count = len(centres)
    return corners.reshape(-1, 3, 3), np.tile(unit, (count, 1, 1)), np.tile(st, (count, 1, 1))


def _cube(size: float) -> Triangles:
    sides, st = [], []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            quad = np.zeros((4, 3))
            quad[:, axis] = sign
            quad[:, (axis + 1) % 3] = np.array([-1, 1, 1, -1]) * sign
            quad[:, (axis + 2) % 3] = [-1, -1, 1, 1]
            sides += [quad[[0, 1, 2]], quad[[0, 2, 3]]]
            st += [np.array([(0, 0), (1, 0), (1, 1)]), np.array([(0, 0), (1, 1), (0, 1)])]
    corners = np.array(sides) * size / 2
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return corners, np.repeat(flat[:, None, :], 3, axis=1), np.array(st, dtype=float)


def _points(points: UsdGeom.Points, time: float) -> Triangles | None:
    centres = np.array(points.GetPointsAttr().Get(time) or [], dtype=float).reshape(-1, 3)
    if not len(centres):
        return None
    widths = np.array(points.GetWidthsAttr().Get(time) or [1.0], dtype=float)
    radii = np.broadcast_to(widths if len(widths) == len(centres) else widths[:1], len(centres)) / 2
    return _ball(centres, radii, 8, 4)


def _form_attributes(prim: Usd.Prim) -> list[Usd.Attribute]:
    names = ("points", "faceVertexCounts", "faceVertexIndices", "radius", "size", "widths", "primvars:st")
    return [attribute for name in names if (attribute := prim.GetAttribute(name))]


def _display_colour(prim: Usd.Prim) -> Material:
    value = UsdGeom.Gprim(prim).GetDisplayColorAttr().Get() if prim.IsA(UsdGeom.Gprim) else None
    colour = np.array(value[0] if value else (0.5, 0.5, 0.5), dtype=float)
    return Material(colour, None, np.zeros(3))
