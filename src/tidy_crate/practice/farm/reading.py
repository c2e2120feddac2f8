"""The farm's own reading of a crate, by plain USD calls and none of the survey's code: a second pair of eyes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.protocol import Reading
from tidy_crate.practice.farm.settings import FarmProgram, FarmSettings
from tidy_crate.practice.render.image import knows

if TYPE_CHECKING:
    from pxr import Sdf, Usd


def program_for(scene: Path, settings: FarmSettings) -> FarmProgram | None:
    """Return the farm's own program for a scene sheet, by the renderer or host that the sheet names; None for others.

    Raises WrongUsage for a sheet that none of its programs renders.
    """
    if not scene.name.endswith(".sheet.json"):
        return None
    sheet = json.loads(scene.read_bytes())
    wanted = [one["name"] for one in (sheet.get("renderer"), sheet.get("host")) if one]
    for name in wanted:
        for program in settings.programs:
            if program.name.casefold() == str(name).casefold():
                return program
    known = ", ".join(program.name for program in settings.programs) or "none but the practice renderer"
    raise WrongUsage(f"this farm has no program for {' or '.join(wanted)}", scene.name, f"it has {known}")


def read_scene(folder: Path, scene: str) -> Reading:
    """Return what the farm understands of a scene. Runs in a node's process, since a broken scene may end it."""
    if scene.endswith(".sheet.json"):
        return _read_sheet(folder, scene)
    return _read_usd(folder, scene)


def _read_sheet(folder: Path, scene: str) -> Reading:
    """A scene sheet, as plain JSON."""
    path = folder / scene
    sheet = json.loads(path.read_bytes())
    outputs = sheet.get("outputs", [])
    frames = sheet.get("frames") or {}
    size = sheet.get("resolution")
    scale = size.get("scale", 1.0) if size else 1.0
    first = outputs[0].get("camera") if outputs else None
    cameras = sheet.get("cameras", [])
    lost = [one["path"] for one in sheet.get("assets", []) if not (path.parent / one["path"]).exists()]
    return Reading(
        start=frames.get("start"),
        end=frames.get("end"),
        fps=frames.get("fps", 24.0),
        outputs={one["name"]: tuple(each["name"] for each in one.get("passes", [])) for one in outputs},
        resolution=(round(size["width"] * scale), round(size["height"] * scale)) if size else None,
        camera=first or (cameras[0]["name"] if len(cameras) == 1 else None),
        missing=tuple(sorted(lost)),
    )


def _read_usd(folder: Path, scene: str) -> Reading:
    from pxr import Sdf, Usd, UsdRender

    from tidy_crate.core.scene.formats.usd.quiet import usd_messages

    with usd_messages():
        stage = Usd.Stage.Open(str(folder / scene))
        settings = UsdRender.Settings.GetStageRenderSettings(stage)
        outputs, resolution, camera = {}, None, None
        if settings:
            for path in settings.GetProductsRel().GetForwardedTargets():
                product = UsdRender.Product(stage.GetPrimAtPath(path))
                # a pass that its nodes cannot render is not among those it understood
                targets = product.GetOrderedVarsRel().GetForwardedTargets()
                outputs[path.name] = tuple(target.name for target in targets if knows(_source(stage, target)))
            size = settings.GetResolutionAttr().Get()
            resolution = (int(size[0]), int(size[1])) if size else None
            # a product's own camera comes before that of the settings
            first = settings.GetProductsRel().GetForwardedTargets()[:1]
            holders = [UsdRender.Product(stage.GetPrimAtPath(path)) for path in first]
            cameras = [path for one in (*holders, settings) for path in one.GetCameraRel().GetForwardedTargets()]
            camera = str(cameras[0]) if cameras else None
        missing = set()
        for prim in stage.TraverseAll():
            for attribute in prim.GetAuthoredAttributes():
                if attribute.GetTypeName() == Sdf.ValueTypeNames.Asset:
                    value = attribute.Get()
                    if value and value.path and not value.resolvedPath:
                        layer = attribute.GetPropertyStack()[0].layer
                        missing.add(_place(layer.ComputeAbsolutePath(value.path), folder))
        top = stage.GetRootLayer()
        return Reading(
            start=int(stage.GetStartTimeCode()) if stage.HasAuthoredTimeCodeRange() else None,
            end=int(stage.GetEndTimeCode()) if stage.HasAuthoredTimeCodeRange() else None,
            fps=stage.GetFramesPerSecond() if top.HasFramesPerSecond() else stage.GetTimeCodesPerSecond(),
            outputs=outputs,
            resolution=resolution,
            camera=camera,
            missing=tuple(sorted(missing)),
        )


def _place(path: str, folder: Path) -> str:
    found = Path(path)
    return found.relative_to(folder).as_posix() if found.is_relative_to(folder) else path


def _source(stage: Usd.Stage, path: Sdf.Path) -> str:
    from pxr import UsdRender

    return str(UsdRender.Var(stage.GetPrimAtPath(path)).GetSourceNameAttr().Get() or "")
