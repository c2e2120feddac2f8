"""Features of what is on screen at each frame, for choosing test frames."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Usd, UsdGeom, UsdLux

from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages

# frames that are looked at, shapes of which the size on screen is measured, and seconds for all of it
MOST_FRAMES = 96
MOST_SHAPES = 300
MOST_SECONDS = 10.0
_PURPOSES = [UsdGeom.Tokens.default_, UsdGeom.Tokens.render]

Array = NDArray[np.float64]


def activity(scene: Path, camera: str, frames: Sequence[int]) -> Array | None:
    """Return features of each frame, shape (frames, 4): shapes on screen, their area, points, and light.

    camera: path of the one that looks, empty for none. Of very many shapes a part is looked at. Area is a share of the
    picture for each shape, added up. Between frames that are looked at, features are interpolated. None where there is
    nothing to look at.
    """
    with usd_messages(scene):
        stage = open_stage(open_layer(scene), scene)
        shapes = [
            prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Boundable) and not prim.IsA(UsdLux.BoundableLightBase)
        ]
        if not shapes or not frames:
            return None
        chosen = shapes if len(shapes) <= MOST_SHAPES else [shapes[at] for at in _evenly(len(shapes), MOST_SHAPES)]
        points = [prim for prim in shapes if prim.IsA(UsdGeom.Points) or prim.IsA(UsdGeom.PointInstancer)][:MOST_SHAPES]
        lights = [prim for prim in stage.Traverse() if prim.HasAPI(UsdLux.LightAPI)][:MOST_SHAPES]
        eye = UsdGeom.Camera(stage.GetPrimAtPath(camera)) if camera else None
        looked = _evenly(len(frames), MOST_FRAMES)
        found: dict[int, list[float]] = {}
        began = time.monotonic()
        # from coarse to fine, so that whatever time there is covers all of the shot
        for at in _coarse_to_fine(looked):
            found[at] = _features(chosen, points, lights, eye, float(frames[at]))
            if time.monotonic() - began > MOST_SECONDS:
                break
    known = sorted(found)
    values = np.array([found[at] for at in known])
    return np.stack([np.interp(np.arange(len(frames)), known, column) for column in values.T], axis=1)


def _evenly(count: int, most: int) -> list[int]:
    return sorted({round(at) for at in np.linspace(0, count - 1, min(count, most))})


def _coarse_to_fine(places: list[int]) -> list[int]:
    order, stride = [places[0], places[-1]], max(1, len(places) // 2)
    while True:
        order += places[::stride]
        if stride == 1:
            return list(dict.fromkeys(order))
        stride = max(1, stride // 2)


def _features(
    shapes: list[Usd.Prim], points: list[Usd.Prim], lights: list[Usd.Prim], eye: UsdGeom.Camera | None, frame: float
) -> list[float]:
    at = Usd.TimeCode(frame)
    boxes = UsdGeom.BBoxCache(at, _PURPOSES, useExtentsHint=True)
    view = _projection(eye, at)
    seen, area = 0, 0.0
    for prim in shapes:
        if UsdGeom.Imageable(prim).ComputeVisibility(at) == UsdGeom.Tokens.invisible:
            continue
        size = 1.0 if view is None else _on_screen(boxes.ComputeWorldBound(prim), view)
        seen += size > 0
        area += size
    count = sum(_length(prim, at) for prim in points)
    light = 0.0
    for prim in lights:
        if UsdGeom.Imageable(prim).ComputeVisibility(at) != UsdGeom.Tokens.invisible:
            source = UsdLux.LightAPI(prim)
            light += float(source.GetIntensityAttr().Get(at) or 0.0) > 0
    return [float(seen), area, float(np.log1p(count)), light]


def _projection(eye: UsdGeom.Camera | None, at: Usd.TimeCode) -> Gf.Matrix4d | None:
    if not eye:
        return None
    frustum = eye.GetCamera(at).frustum
    return frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix()


def _on_screen(box: Gf.BBox3d, view: Gf.Matrix4d) -> float:
    """Return the share of the picture that a box covers, roughly: the rectangle around its corners."""
    if box.GetRange().IsEmpty():
        return 0.0
    matrix = np.array(box.GetMatrix() * view)
    low, high = np.array(box.GetRange().GetMin()), np.array(box.GetRange().GetMax())
    corners = np.array([[(low, high)[n >> axis & 1][axis] for axis in range(3)] + [1.0] for n in range(8)]) @ matrix
    if not np.isfinite(corners).all():
        return 0.0
    front = corners[:, 3] > 1e-9
    if not front.any():
        return 0.0
    if not front.all():
        # it reaches behind the camera, and fills the picture on that side
        return 1.0
    flat = np.clip(corners[:, :2] / corners[:, 3:], -1.0, 1.0)
    width, height = flat.max(axis=0) - flat.min(axis=0)
    return float(width * height / 4)


def _length(prim: Usd.Prim, at: Usd.TimeCode) -> int:
    attribute = (
        UsdGeom.PointInstancer(prim).GetProtoIndicesAttr()
        if prim.IsA(UsdGeom.PointInstancer)
        else prim.GetAttribute("points")
    )
    value = attribute.Get(at) if attribute else None
    return len(value) if value is not None else 0
