"""Render settings, products, variables and cameras of a composed stage (UsdRender, UsdGeomCamera)."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdRender

from tidy_crate.core.asset import paths
from tidy_crate.core.scene.formats.usd.quiet import reason
from tidy_crate.core.scene.model import Camera, Output, Pass, Resolution, Setting
from tidy_crate.core.scene.settings import UNKNOWN, SettingsMap, canonical, setting


@dataclass(frozen=True)
class RenderOutputs:
    """Render settings and outputs of a scene."""

    settings: Usd.Prim | None
    """The prim in force, None where there is none to choose."""
    outputs: tuple[Output, ...]
    resolution: Resolution | None
    choices: tuple[str, ...] = ()
    """The render settings that there are, where there are several and none is chosen."""
    inactive: tuple[str, ...] = ()
    """Products that the settings name and that are switched off."""


def find_outputs(
    stage: Usd.Stage,
    maps: tuple[SettingsMap, ...] = (),
    among: Iterable[Usd.Prim] | None = None,
    times: tuple[float, float] | None = None,
) -> RenderOutputs:
    """The outputs of the render settings in force: those the scene's metadata names, else the only ones there are.

    among: the prims that may be render settings, where they are known already. times: first and last frame, at which
    values that are given over time are read.
    """
    settings, choices = _settings_in_force(stage, among)
    if settings is None:
        return RenderOutputs(None, (), None, choices)
    schema = UsdRender.Settings(settings)
    products = [stage.GetPrimAtPath(path) for path in schema.GetProductsRel().GetForwardedTargets()]
    # one below something that is switched off is not on the stage at all, and told with the links that lead nowhere
    inactive = tuple(str(prim.GetPath()) for prim in products if prim and not prim.IsActive())
    products = [prim for prim in products if prim and prim.IsA(UsdRender.Product)]
    names = Counter(prim.GetName() for prim in products)
    known = canonical(raw_settings([settings], maps)) | schema_settings(settings)
    outputs = []
    for prim in products:
        name = prim.GetName() if names[prim.GetName()] == 1 else str(prim.GetPath())
        own = {key: value for key, value in canonical(raw_settings([prim], maps)).items() if value != UNKNOWN}
        outputs.append(_output(stage, settings, prim, name, times, known | own))
    return RenderOutputs(settings, tuple(outputs), _resolution((settings,), _scale(known), times), (), inactive)


def _settings_in_force(stage: Usd.Stage, among: Iterable[Usd.Prim] | None) -> tuple[Usd.Prim | None, tuple[str, ...]]:
    """Return the settings in force, else those that could be chosen."""
    named = UsdRender.Settings.GetStageRenderSettings(stage)
    if named:
        return named.GetPrim(), ()
    every = [prim for prim in (stage.Traverse() if among is None else among) if prim.IsA(UsdRender.Settings)]
    return (every[0], ()) if len(every) == 1 else (None, tuple(str(prim.GetPath()) for prim in every))


def _scale(known: dict[str, Any]) -> float:
    scale = known["resolution_scale"]
    return float(scale) if isinstance(scale, int | float) and not isinstance(scale, bool) and scale > 0 else 1.0


def _value(attribute: Usd.Attribute, times: tuple[float, float] | None) -> Any:
    """Return a value as a renderer reads it for the first frame: what is given over time counts before a default."""
    return attribute.Get(Usd.TimeCode.EarliestTime() if times is None else times[0])


def _changing(attribute: Usd.Attribute, times: tuple[float, float] | None) -> bool:
    if times is None or not attribute.ValueMightBeTimeVarying():
        return False
    inside = [time for time in attribute.GetTimeSamples() if times[0] <= time <= times[1]]
    first = attribute.Get(times[0])
    return any(attribute.Get(time) != first for time in (*inside, times[1]))


def _output(
    stage: Usd.Stage,
    settings: Usd.Prim,
    prim: Usd.Prim,
    name: str,
    times: tuple[float, float] | None,
    known: dict[str, Any],
) -> Output:
    product = UsdRender.Product(prim)
    text = str(_value(product.GetProductNameAttr(), times) or "")
    passes, depths = [], []
    for path in product.GetOrderedVarsRel().GetForwardedTargets():
        var = UsdRender.Var(stage.GetPrimAtPath(path))
        if var:
            data_type = var.GetDataTypeAttr()
            passes.append(
                Pass(
                    name=var.GetPrim().GetName(),
                    source=str(var.GetSourceNameAttr().Get() or ""),
                    data_type=str(data_type.Get() or ""),
                )
            )
            depths.append(_bits(passes[-1].data_type) if data_type.HasAuthoredValue() else None)
    suffix = paths.file_name(text).rpartition(".")[2].lower() if "." in paths.file_name(text) else None
    stated = [bits for bits in depths if bits is not None]
    size = _resolution((prim, settings), _scale(known), times)
    camera = _camera(stage, prim) or _camera(stage, settings)
    over_time = {
        "name": product.GetProductNameAttr(),
        "size": _owner((prim, settings), "resolution"),
        "crop": _owner((prim, settings), "dataWindowNDC"),
    }
    return Output(
        name=name,
        prim=str(prim.GetPath()),
        path=text,
        format=suffix,
        passes=tuple(one.name for one in passes),
        variables=tuple(passes),
        camera=camera,
        resolution=size,
        region=_region((prim, settings), times),
        colour_space=_said(known["colour_space"]),
        compression=_said(known["compression"]),
        bit_depth=known["bit_depth"] if type(known["bit_depth"]) is int else min(stated, default=None),
        product_type=str(product.GetProductTypeAttr().Get() or "raster"),
        pixel_aspect=_pixel_aspect(stage, (prim, settings), camera, size),
        changing=tuple(what for what, one in over_time.items() if one is not None and _changing(one, times)),
    )


def _bits(data_type: str) -> int | None:
    """Return the bits of a channel by a pass's data type, None for a type that says nothing of them."""
    if data_type.startswith("half") or data_type.endswith(("3h", "4h", "2h")):
        return 16
    known = ("float", "int", "uint", "color3f", "color4f", "normal3f", "point3f", "vector3f", "texCoord2f")
    return 32 if data_type.startswith(known) else None


def _owner(prims: tuple[Usd.Prim, ...], name: str) -> Usd.Attribute | None:
    """Return the attribute of the first prim that authors it: a product's own opinion counts before the settings'."""
    for prim in prims:
        attribute = prim.GetAttribute(name)
        if attribute and attribute.HasAuthoredValue():
            return attribute
    return None


def _pixel_aspect(stage: Usd.Stage, prims: tuple[Usd.Prim, ...], camera: str | None, size: Resolution | None) -> float:
    """Return a pixel's width by its height, as the standard's policy for a differing aspect has it."""
    stated, policy = _owner(prims, "pixelAspectRatio"), _owner(prims, "aspectRatioConformPolicy")
    lens = UsdGeom.Camera(stage.GetPrimAtPath(camera)) if camera and Sdf.Path.IsValidPathString(camera) else None
    if policy is not None and str(policy.Get()) == UsdRender.Tokens.adjustPixelAspectRatio and lens and size:
        wide, high = lens.GetHorizontalApertureAttr().Get(), lens.GetVerticalApertureAttr().Get()
        if wide and high:
            return float(wide / high * size.height / size.width)
    found = float(stated.Get() or 1.0) if stated is not None else 1.0
    return found if found > 0 else 1.0


def _said(value: Any) -> str | None:
    return None if value in (UNKNOWN, None, "") else str(value)


def _region(prims: tuple[Usd.Prim, ...], times: tuple[float, float] | None) -> tuple[float, float, float, float] | None:
    """The part of the picture that is rendered, where it is not all of it."""
    attribute = _owner(prims, "dataWindowNDC")
    value = _value(attribute, times) if attribute is not None else None
    found = tuple(float(number) for number in value) if value is not None else (0.0, 0.0, 1.0, 1.0)
    return None if found == (0.0, 0.0, 1.0, 1.0) else found  # type: ignore[return-value]


def schema_settings(settings: Usd.Prim | None) -> dict[str, Any]:
    """Return what the attributes of UsdRenderSettings themselves say, in canonical terms; what they leave open is
    left out.
    """
    if not settings:
        return {}
    schema = UsdRender.Settings(settings)
    found: dict[str, Any] = {}
    blur, space = schema.GetDisableMotionBlurAttr(), schema.GetRenderingColorSpaceAttr()
    if blur and blur.HasAuthoredValue():
        found["motion_blur"] = not blur.Get()
    if space and space.HasAuthoredValue() and space.Get():
        found["colour_space"] = str(space.Get())
    for name, attribute in (
        ("render_purposes", schema.GetIncludedPurposesAttr()),
        ("material_purposes", schema.GetMaterialBindingPurposesAttr()),
    ):
        if attribute and attribute.Get() is not None:
            found[name] = [str(one) for one in attribute.Get()]
    return found


def _camera(stage: Usd.Stage, prim: Usd.Prim) -> str | None:
    targets = UsdRender.SettingsBase(prim).GetCameraRel().GetForwardedTargets()
    return str(targets[0]) if targets else None


def _resolution(prims: tuple[Usd.Prim, ...], scale: float, times: tuple[float, float] | None) -> Resolution | None:
    attribute = _owner(prims, "resolution")
    value = _value(attribute, times) if attribute is not None else None
    if isinstance(value, Gf.Vec2i) and value[0] > 0 and value[1] > 0:
        return Resolution(width=value[0], height=value[1], scale=scale)
    return None


def raw_settings(prims: list[Usd.Prim], maps: tuple[SettingsMap, ...]) -> tuple[Setting, ...]:
    """Every namespaced attribute on render prims that no USD schema declares, as the renderer's own settings."""
    found = []
    for prim in prims:
        schema = set(prim.GetPrimDefinition().GetPropertyNames())
        for attribute in prim.GetAuthoredAttributes():
            name = attribute.GetName()
            if ":" not in name or name in schema or name.startswith(("tidy:", "xformOp:", "primvars:")):
                continue
            found.append(setting(str(prim.GetPath()), name, plain(attribute.Get()), maps))
    return tuple(found)


def plain(value: Any) -> Any:
    """A value that JSON can hold."""
    if isinstance(value, bool | int | float | str) or value is None:
        return value
    try:
        return [plain(item) for item in value]
    except TypeError:
        return str(value)


def find_cameras(
    prims: Iterable[Usd.Prim], outputs: tuple[Output, ...], first: float | None, last: float | None
) -> tuple[Camera, ...]:
    """The cameras of the scene, with the frames over which their pose in the world changes."""
    found = []
    for prim in prims:
        path = str(prim.GetPath())
        renders = tuple(output.name for output in outputs if output.camera == path)
        lens = UsdGeom.Camera(prim)
        times = (lens.GetShutterOpenAttr().Get(), lens.GetShutterCloseAttr().Get())
        shutter = None if None in times else (float(times[0]), float(times[1]))
        trouble = None
        try:
            keyed, moves = _keyed(prim), _moves(prim, first, last)
            zooms = _lens(prim, first, last)
        except Tf.ErrorException as error:
            # one strange operation must not hide all else that is to be said about the scene
            keyed, moves, zooms, trouble = None, None, None, reason(error)
        found.append(
            Camera(path=path, shutter=shutter, moves=moves, lens=zooms, keyed=keyed, renders=renders, trouble=trouble)
        )
    return tuple(found)


def _lens(prim: Usd.Prim, first: float | None, last: float | None) -> tuple[int, int] | None:
    """First and last frame between which a value of the camera's own, other than its pose, changes."""
    frames: list[float] = []
    for attribute in prim.GetAuthoredAttributes():
        name = attribute.GetName()
        if name.startswith(("xformOp", "tidy:")) or not attribute.ValueMightBeTimeVarying():
            continue
        times = sorted(attribute.GetTimeSamples())
        if first is not None and last is not None:
            times = sorted({first, last, *(t for t in times if first <= t <= last)})
        values = [attribute.Get(time) for time in times]
        changes = [i for i in range(1, len(times)) if values[i] != values[i - 1]]
        frames += [times[changes[0] - 1], times[changes[-1]]] if changes else []
    return (int(min(frames)), int(max(frames))) if frames else None


def _keyed(prim: Usd.Prim) -> tuple[int, int] | None:
    times = pose_times(prim)
    return (math.floor(min(times)), math.ceil(max(times))) if len(times) > 1 else None


def _moves(prim: Usd.Prim, first: float | None, last: float | None) -> tuple[int, int] | None:
    times = sorted(pose_times(prim))
    if first is not None and last is not None:
        times = sorted({first, last, *(t for t in times if first <= t <= last)})
    matrices = [UsdGeom.XformCache(t).GetLocalToWorldTransform(prim) for t in times]
    changes = [i for i in range(1, len(times)) if matrices[i] != matrices[i - 1]]
    return (int(times[changes[0] - 1]), int(times[changes[-1]])) if changes else None


def pose_times(prim: Usd.Prim) -> set[float]:
    """The time codes at which the pose of a prim or of anything above it is keyed."""
    times: set[float] = set()
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(UsdGeom.Xformable):
            times.update(UsdGeom.Xformable(prim).GetTimeSamples())
        prim = prim.GetParent()
    return times
