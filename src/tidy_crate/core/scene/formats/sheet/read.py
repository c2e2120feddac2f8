"""From a scene sheet to a survey."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, resolve
from tidy_crate.core.files import hash_file
from tidy_crate.core.scene.assets import asset_of
from tidy_crate.core.scene.following import follow
from tidy_crate.core.scene.formats.sheet.model import Sheet, SheetAsset, host_scene, read_sheet
from tidy_crate.core.scene.ids import Ids, stem_of
from tidy_crate.core.scene.model import (
    Asset,
    Camera,
    FrameRange,
    Generator,
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
from tidy_crate.core.scene.settings import SettingsMap, canonical, meaning
from tidy_crate.core.scene.staging import OutputPath, StagingPlan

FIELD = "slot"
HOST_SCENE = "the host's scene"


def read(scene: Path, plan: StagingPlan | None, maps: tuple[SettingsMap, ...]) -> Survey:
    """Survey what a sheet says, and look at every file it names."""
    path, in_force = scene.absolute(), plan or StagingPlan()
    sheet = read_sheet(path)
    disk, ids, stem = Disk(), Ids(), stem_of(path, path)
    host = SheetAsset(slot=HOST_SCENE, path=sheet.scene, kind="scene", because="the scene itself")
    folder = host_scene(path, sheet).parent
    named = (
        _asset(path, path.parent, host, in_force, disk, ids.of(stem, "host scene")),
        *(_asset(path, folder, one, in_force, disk, ids.of(stem, one.slot, one.path)) for one in sheet.assets),
    )
    assets = named + follow(path, named, in_force, disk)
    simulations = tuple(_simulations(sheet, path, in_force, assets))
    outputs = tuple(_outputs(sheet, in_force))
    settings = tuple(
        Setting(owner=sheet.host.name, name=name, value=value, means=meaning(name, maps))
        for name, value in sheet.settings.items()
    )
    return Survey(
        scene=path,
        format="sheet",
        staged=bool(in_force.edits),
        frames=_frames(sheet),
        up_axis=sheet.up_axis,
        meters_per_unit=sheet.meters_per_unit,
        cameras=tuple(
            Camera(
                path=camera.name,
                moves=camera.moves,
                renders=tuple(output.name for output in outputs if output.camera == camera.name),
            )
            for camera in sheet.cameras
        ),
        resolution=_resolution(sheet),
        outputs=outputs,
        assets=assets,
        simulations=simulations,
        generators=tuple(
            Generator(name=one.name, kind=one.kind, frozen=one.frozen, can_freeze=bool(sheet.commands.freeze))
            for one in sheet.generators
        ),
        settings=settings,
        canonical=canonical(settings),
        software=tuple(_software(sheet)),
        variants=(),
        motion=sheet.motion,
        totals=totals(assets, simulations),
    )


def _asset(sheet: Path, folder: Path, one: SheetAsset, plan: StagingPlan, disk: Disk, name: str) -> Asset:
    value, relinked = plan.value(name, one.path, one.path)
    return asset_of(
        name,
        resolve(value, folder, disk),
        plan,
        authored=one.path,
        value=value,
        layer=sheet,
        owner=one.slot,
        field=FIELD,
        kind=one.kind,
        needed=one.needed,
        because=one.because or ("the scene uses it" if one.needed else "the exporter says that nothing uses it"),
        relinked=relinked,
    )


def _frames(sheet: Sheet) -> FrameRange:
    if sheet.frames is None:
        return FrameRange(start=None, end=None, fps=0.0)
    return FrameRange(**sheet.frames.model_dump())


def _resolution(sheet: Sheet) -> Resolution | None:
    return Resolution(**sheet.resolution.model_dump()) if sheet.resolution else None


def _outputs(sheet: Sheet, plan: StagingPlan) -> list[Output]:
    changed = {edit.output: edit.path for edit in plan.of(OutputPath)}
    found = []
    for one in sheet.outputs:
        path = changed.get(one.name, one.path)
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
                resolution=_resolution(sheet),
            )
        )
    return found


def _simulations(sheet: Sheet, path: Path, plan: StagingPlan, assets: tuple[Asset, ...]) -> Iterator[Simulation]:
    """What the sheet says of each, and what our own cache of it makes of that."""
    inputs = _inputs(sheet, path, assets) if sheet.simulations else ""
    for one in sheet.simulations:
        mark = hashlib.blake2b(f"{one.model_dump_json()} {inputs}".encode(), digest_size=16).hexdigest()
        found = Simulation(**one.model_dump(exclude={"cache", "slot"}), fingerprint=mark)
        edit = plan.cache(one.name)
        if edit is not None and one.state is SimulationState.LIVE:
            gone = [file for file, size in edit.files.items() if not file.is_file() or file.stat().st_size != size]
            state = SimulationState.CACHED if not gone else SimulationState.PARTIAL
            if edit.fingerprint != mark:
                state = SimulationState.STALE
            found = found.model_copy(update={"state": state, "covers": edit.covers, "cache": edit.layer})
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
