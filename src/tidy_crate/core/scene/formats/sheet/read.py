"""From a scene sheet to a survey."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, resolve
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.files import hash_file
from tidy_crate.core.scene.assets import along_search_path, asset_of
from tidy_crate.core.scene.following import follow
from tidy_crate.core.scene.formats.sheet.model import (
    Sheet,
    SheetAsset,
    SheetFrames,
    SheetOutput,
    SheetPass,
    SheetResolution,
    host_scene,
    read_sheet,
)
from tidy_crate.core.scene.ids import Ids, stem_of
from tidy_crate.core.scene.model import (
    Asset,
    Camera,
    Feature,
    FrameRange,
    Generator,
    Material,
    Output,
    Pass,
    Resolution,
    Setting,
    Simulation,
    SimulationState,
    Software,
    Survey,
    totals,
)
from tidy_crate.core.scene.settings import UNKNOWN, SettingsMap, canonical, features_of, setting
from tidy_crate.core.scene.staging import PICTURE, USUAL_RATE, StagingPlan

FIELD = "slot"
# by which the sheet's own resolution scale is named where settings are
OWN, SCALE = "sheet", "resolution.scale"
HOST_SCENE = "the host's scene"


def read(scene: Path, plan: StagingPlan | None, maps: tuple[SettingsMap, ...], tokens: FrameTokens) -> Survey:
    """Survey what a sheet says, and look at every file it names."""
    path, in_force = scene.absolute(), plan or StagingPlan()
    sheet = ordered(read_sheet(path), in_force)
    disk, ids, stem = Disk(tokens), Ids(), stem_of(path, path)
    host = SheetAsset(slot=HOST_SCENE, path=sheet.scene, kind="scene", because="the scene itself")
    folder = host_scene(path, sheet).parent
    named = (
        _asset(path, path.parent, host, in_force, disk, ids.of(stem, "host scene")),
        *(_asset(path, folder, one, in_force, disk, ids.of(stem, one.slot, one.path)) for one in sheet.assets),
    )
    assets = named + follow(path, named, in_force, disk)
    simulations = tuple(_simulations(sheet, path, in_force, assets))
    settings = tuple(_settings(sheet, maps))
    resolution = _resolution(sheet, in_force)
    known = canonical(settings)
    outputs = tuple(_outputs(sheet, in_force, known, resolution))
    return Survey(
        scene=path,
        format="sheet",
        staged=bool(in_force.edits),
        frames=_frames(sheet),
        said=in_force.said,
        asked_frames=in_force.render.frames if in_force.render else None,
        up_axis=sheet.up_axis,
        meters_per_unit=sheet.meters_per_unit,
        cameras=tuple(
            Camera(
                path=camera.name,
                moves=camera.moves,
                keyed=camera.moves,
                renders=tuple(output.name for output in outputs if output.camera == camera.name),
            )
            for camera in sheet.cameras
        ),
        resolution=resolution,
        outputs=outputs,
        assets=assets,
        simulations=simulations,
        generators=tuple(
            Generator(name=one.name, kind=one.kind, frozen=one.frozen, can_freeze=bool(sheet.commands.freeze))
            for one in sheet.generators
        ),
        settings=settings,
        canonical=known,
        software=tuple(_software(sheet)),
        renderer=sheet.renderer.name if sheet.renderer else None,
        features=(*_features(sheet), *features_of(settings, maps)),
        materials=tuple(Material(name=one.name, contexts=one.renderers) for one in sheet.materials),
        material_contexts=(sheet.renderer.name,) if sheet.renderer else (),
        fonts=sheet.fonts,
        scripts=sheet.scripts,
        colour_configuration=sheet.colour_configuration,
        variants=(),
        motion=sheet.motion,
        totals=totals(assets, simulations),
        frame_tokens=dict(tokens.declared),
        layers=(path,),
    )


def ordered(sheet: Sheet, plan: StagingPlan) -> Sheet:
    """Return the sheet as it would be if it said what is ordered from outside of it."""
    order = plan.render
    if order is None:
        return sheet
    update: dict[str, Any] = {}
    if order.range is not None:
        start, end = order.range
        rate = order.fps or (sheet.frames.fps if sheet.frames else USUAL_RATE)
        update["frames"] = SheetFrames(start=start, end=end, fps=rate)
    if order.resolution is not None:
        update["resolution"] = SheetResolution(width=order.resolution[0], height=order.resolution[1])
    camera = order.chosen(one.name for one in sheet.cameras)
    outputs = {one.name: one for one in sheet.outputs}
    for name, one in order.outputs(outputs).items():
        own = outputs.get(name) or SheetOutput(name=name, path="", passes=(SheetPass(name=PICTURE),))
        passes = tuple(SheetPass(name=said) for said in one.passes) or own.passes
        outputs[name] = own.model_copy(update={"path": one.path or own.path, "passes": passes})
    if camera is not None:
        outputs = {name: one.model_copy(update={"camera": camera}) for name, one in outputs.items()}
    return sheet.model_copy(update=update | {"outputs": tuple(outputs.values())})


def _asset(sheet: Path, folder: Path, one: SheetAsset, plan: StagingPlan, disk: Disk, name: str) -> Asset:
    value, relinked = plan.value(name, one.path, one.path)
    found, value, searched = along_search_path(value, resolve(value, folder, disk), plan, disk)
    return asset_of(
        name,
        found,
        plan,
        authored=one.path,
        value=value,
        layer=sheet,
        owner=one.slot,
        field=FIELD,
        kind=one.kind,
        needed=one.needed,
        because=one.because or ("the scene uses it" if one.needed else "the exporter says that nothing uses it"),
        relinked=relinked or searched,
    )


def _frames(sheet: Sheet) -> FrameRange:
    if sheet.frames is None:
        return FrameRange(start=None, end=None, fps=0.0)
    return FrameRange(**sheet.frames.model_dump())


def _settings(sheet: Sheet, maps: tuple[SettingsMap, ...]) -> Iterator[Setting]:
    for name, value in sheet.settings.items():
        yield setting(sheet.host.name, name, value, maps)
    if sheet.resolution is not None and sheet.resolution.scale != 1:
        # the sheet's own word for it, so that it can be overridden like a renderer's
        scale = sheet.resolution.scale
        yield Setting(owner=OWN, name=SCALE, value=scale, means="resolution_scale", canonical=scale)


def _features(sheet: Sheet) -> Iterator[Feature]:
    for one in sheet.features:
        yield Feature(**one.model_dump(exclude={"software"}), software=one.software or sheet.host.name)


def _resolution(sheet: Sheet, plan: StagingPlan) -> Resolution | None:
    if sheet.resolution is None:
        return None
    return Resolution(**sheet.resolution.model_dump() | {"scale": scale_in_force(sheet, plan)})


def scale_in_force(sheet: Sheet, plan: StagingPlan) -> float:
    """The scale of the resolution, as the plan has it."""
    own = sheet.resolution.scale if sheet.resolution else 1.0
    edit = plan.setting(OWN, SCALE)
    return float(str(edit.value)) if edit is not None and edit.holds(own) else own


def outputs_in_force(sheet: Sheet, plan: StagingPlan) -> tuple[SheetOutput, ...]:
    """The outputs with the paths and cameras that the plan gives them."""
    found = []
    for one in sheet.outputs:
        path, camera = plan.output_path(one.name), plan.camera(one.name)
        update = {"path": path.path} if path is not None and path.holds(one.path) else {}
        update |= {"camera": camera.camera} if camera is not None and camera.holds(one.camera) else {}
        found.append(one.model_copy(update=update))
    return tuple(found)


def _outputs(sheet: Sheet, plan: StagingPlan, known: dict[str, Any], resolution: Resolution | None) -> list[Output]:
    said = {key: value for key, value in known.items() if value != UNKNOWN}
    found = []
    for one in outputs_in_force(sheet, plan):
        path = one.path
        name = paths.file_name(path)
        found.append(
            Output(
                name=one.name,
                prim=one.name,
                path=path,
                format=name.rpartition(".")[2].lower() if "." in name else None,
                passes=tuple(p.name for p in one.passes),
                variables=tuple(
                    Pass(name=p.name, source=p.source or p.name, data_type=p.data_type) for p in one.passes
                ),
                camera=one.camera,
                resolution=resolution,
                colour_space=one.colour_space or said.get("colour_space"),
                compression=one.compression or said.get("compression"),
                bit_depth=one.bit_depth or said.get("bit_depth"),
            )
        )
    return found


def _simulations(sheet: Sheet, path: Path, plan: StagingPlan, assets: tuple[Asset, ...]) -> Iterator[Simulation]:
    """Yield what the sheet says of each, and what our own cache of it makes of that."""
    inputs = _inputs(sheet, path, assets) if sheet.simulations else ""
    there = {asset.owner for asset in assets if asset.field == FIELD and asset.members}
    for one in sheet.simulations:
        mark = hashlib.blake2b(f"{one.model_dump_json()} {inputs}".encode(), digest_size=16).hexdigest()
        found = Simulation(**one.model_dump(exclude={"cache"}), fingerprint=mark)
        edit = plan.cache(one.name)
        if edit is not None and one.state is SimulationState.LIVE:
            gone = [file for file, size in edit.files.items() if not file.is_file() or file.stat().st_size != size]
            state = SimulationState.CACHED if not gone else SimulationState.PARTIAL
            if edit.fingerprint != mark:
                state = SimulationState.STALE
            found = found.model_copy(update={"state": state, "covers": edit.covers, "cache": edit.layer})
        elif one.state is SimulationState.LIVE and one.slot in there:
            found = found.model_copy(update={"cache_named": True})
        yield found


def _inputs(sheet: Sheet, path: Path, assets: tuple[Asset, ...]) -> str:
    """A digest of all that a simulation of the host may depend on: its scene, the range, and the files it names."""
    digest = hashlib.blake2b(digest_size=16)
    host = host_scene(path, sheet)
    digest.update(hash_file(host).encode() if host.is_file() else b"-")
    digest.update(repr(sheet.frames).encode())
    for asset in assets:
        digest.update(repr((asset.owner, [member.bytes for member in asset.members])).encode())
    return digest.hexdigest()


def _software(sheet: Sheet) -> list[Software]:
    found = [Software(name=sheet.host.name, version=sheet.host.version, role="host")]
    if sheet.renderer:
        found.append(Software(name=sheet.renderer.name, version=sheet.renderer.version, role="renderer"))
    return found + [Software(name=one.name, version=one.version, role="plugin") for one in sheet.plugins]
