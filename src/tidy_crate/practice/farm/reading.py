"""The farm's own reading of a crate, by plain USD calls and none of the survey's code: a second pair of eyes."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.farm.protocol import Reading


def read_scene(folder: Path, scene: str) -> Reading:
    """What the farm understands of a scene. Runs in a node's process, since a broken scene may end it."""
    from pxr import Sdf, Usd, UsdRender

    from tidy_crate.core.scene.formats.usd.quiet import usd_messages

    with usd_messages():
        stage = Usd.Stage.Open(str(folder / scene))
        settings = UsdRender.Settings.GetStageRenderSettings(stage)
        outputs, resolution, camera = {}, None, None
        if settings:
            for path in settings.GetProductsRel().GetForwardedTargets():
                product = UsdRender.Product(stage.GetPrimAtPath(path))
                names = [target.name for target in product.GetOrderedVarsRel().GetForwardedTargets()]
                outputs[path.name] = tuple(names)
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
