"""Render settings, products, variables and cameras of a composed stage (UsdRender, UsdGeomCamera)."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from pxr import Gf, Tf, Usd, UsdGeom, UsdRender

from tidy_crate.core.asset import paths
from tidy_crate.core.scene.formats.usd.quiet import reason
from tidy_crate.core.scene.model import Camera, Output, Pass, Resolution, Setting
from tidy_crate.core.scene.settings import UNKNOWN, SettingsMap, canonical, setting


@dataclass(frozen=True)
class RenderOutputs:
    """What a scene says about its rendering. settings: the prim in force, None where there is none to choose."""

    settings: Usd.Prim | None
    outputs: tuple[Output, ...]
    resolution: Resolution | None


def find_outputs(
    stage: Usd.Stage, maps: tuple[SettingsMap, ...] = (), among: Iterable[Usd.Prim] | None = None
) -> RenderOutputs:
    """The outputs of the render settings in force: those the scene's metadata names, else the only ones there are.

    among: the prims that may be render settings, where they are known already.
    """
    settings = _settings_in_force(stage, among)
    if settings is None:
        return RenderOutputs(None, (), None)
    schema = UsdRender.Settings(settings)
    products = [stage.GetPrimAtPath(path) for path in schema.GetProductsRel().GetForwardedTargets()]
    products = [prim for prim in products if prim and prim.IsA(UsdRender.Product)]
    names = Counter(prim.GetName() for prim in products)
    known = canonical(raw_settings([settings], maps)) | schema_settings(settings)
    scale = known["resolution_scale"]
    factor = float(scale) if isinstance(scale, int | float) and not isinstance(scale, bool) and scale > 0 else 1.0
    outputs = []
    for prim in products:
        name = prim.GetName() if names[prim.GetName()] == 1 else str(prim.GetPath())
        own = {key: value for key, value in canonical(raw_settings([prim], maps)).items() if value != UNKNOWN}
        outputs.append(_output(stage, settings, prim, name, factor, known | own))
    return RenderOutputs(settings, tuple(outputs), _resolution(settings, None, factor))


def _settings_in_force(stage: Usd.Stage, among: Iterable[Usd.Prim] | None) -> Usd.Prim | None:
    named = UsdRender.Settings.GetStageRenderSettings(stage)
    if named:
        return named.GetPrim()
    every = [prim for prim in (stage.Traverse() if among is None else among) if prim.IsA(UsdRender.Settings)]
    return every[0] if len(every) == 1 else None


def _output(
    stage: Usd.Stage, settings: Usd.Prim, prim: Usd.Prim, name: str, scale: float, known: dict[str, Any]
) -> Output:
    product = UsdRender.Product(prim)
    text = str(product.GetProductNameAttr().Get() or "")
    passes = []
    for path in product.GetOrderedVarsRel().GetForwardedTargets():
        var = UsdRender.Var(stage.GetPrimAtPath(path))
        if var:
            passes.append(
                Pass(
                    name=var.GetPrim().GetName(),
                    source=str(var.GetSourceNameAttr().Get() or ""),
                    data_type=str(var.GetDataTypeAttr().Get() or ""),
                )
            )
    suffix = paths.file_name(text).rpartition(".")[2].lower() if "." in paths.file_name(text) else None
    return Output(
        name=name,
        prim=str(prim.GetPath()),
        path=text,
        format=suffix,
        passes=tuple(one.name for one in passes),
        variables=tuple(passes),
        camera=_camera(stage, prim) or _camera(stage, settings),
        resolution=_resolution(settings, prim, scale),
        region=_region(prim) or _region(settings),
        colour_space=_said(known["colour_space"]),
        compression=_said(known["compression"]),
        bit_depth=known["bit_depth"] if type(known["bit_depth"]) is int else None,
    )


def _said(value: Any) -> str | None:
    return None if value in (UNKNOWN, None, "") else str(value)


def _region(prim: Usd.Prim) -> tuple[float, float, float, float] | None:
    """The part of the picture that is rendered, where it is not all of it."""
    attribute = UsdRender.SettingsBase(prim).GetDataWindowNDCAttr()
    value = attribute.Get() if attribute and attribute.HasAuthoredValue() else None
    found = tuple(float(number) for number in value) if value is not None else (0.0, 0.0, 1.0, 1.0)
    return None if found == (0.0, 0.0, 1.0, 1.0) else found  # type: ignore[return-value]


def schema_settings(settings: Usd.Prim | None) -> dict[str, Any]:
    """What the attributes of UsdRenderSettings themselves say, in canonical terms; what they leave open is left out."""
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


def _resolution(settings: Usd.Prim, product: Usd.Prim | None, scale: float) -> Resolution | None:
    for prim in (product, settings):
        attribute = UsdRender.SettingsBase(prim).GetResolutionAttr() if prim else None
        if attribute and attribute.HasAuthoredValue():
            value = attribute.Get()
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
        except Tf.ErrorException as error:
            # one strange operation must not hide all else that is to be said about the scene
            keyed, moves, trouble = None, None, reason(error)
        found.append(Camera(path=path, shutter=shutter, moves=moves, keyed=keyed, renders=renders, trouble=trouble))
    return tuple(found)


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
