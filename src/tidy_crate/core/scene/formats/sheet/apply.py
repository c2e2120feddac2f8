"""Staging a scene sheet: a copy of the host's scene, relinked by the host itself, and verified."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import copy_and_hash, hash_file, write_json
from tidy_crate.core.handles import writable
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.formats.sheet.model import Sheet, SheetSimulation, host_scene, read_sheet
from tidy_crate.core.scene.formats.sheet.read import FIELD, HOST_SCENE, ordered, outputs_in_force, scale_in_force
from tidy_crate.core.scene.model import SimulationState, Survey
from tidy_crate.core.scene.rewriting import crate_path_of, new_texts
from tidy_crate.core.scene.staging import StagingPlan, UseCache
from tidy_crate.core.work.running import Commands


def apply(
    scene: Path,
    plan: StagingPlan,
    survey: Survey,
    crate_paths: Mapping[Path, PurePosixPath],
    folder: Path,
    commands: Commands,
) -> StagedScene:
    """Stage a sheet and its scene. Raises TidyCrateError when paths must change and the host cannot, or does not."""
    scene = scene.absolute()
    as_found = read_sheet(scene)
    sheet = ordered(as_found, plan)
    host = host_scene(scene, sheet).absolute()
    sheet_place, host_place = crate_paths[scene], crate_paths.get(host)
    slots = [asset for asset in survey.assets if asset.layer == scene and asset.field == FIELD]
    own = [asset for asset in slots if asset.owner != HOST_SCENE]
    outputs, scale = outputs_in_force(sheet, plan), scale_in_force(sheet, plan)
    changed = (
        sheet != as_found
        or outputs != sheet.outputs
        or (sheet.resolution is not None and scale != sheet.resolution.scale)
    )
    baked = {edit.simulation: edit for edit in plan.of(UseCache)}
    frozen = [one.name for one in sheet.generators if not one.frozen] if sheet.commands.freeze else []
    if host_place is None or not (new_texts(own, host_place, crate_paths) or changed or baked or frozen):
        return StagedScene(root=sheet_place, written=(), copied={sheet_place: scene})
    texts = {asset.owner: paths.relative(crate_path_of(asset, crate_paths), host_place.parent) for asset in own}
    caches = {
        one.slot: _cache_path(one, baked[one.name], crate_paths, host_place)
        for one in sheet.simulations
        if one.name in baked
    }
    moved = _moved(sheet, texts, baked, frozen)
    resolution = sheet.resolution.model_copy(update={"scale": scale}) if sheet.resolution else None
    scene_text = paths.relative(host_place, sheet_place.parent)
    moved = moved.model_copy(update={"scene": scene_text, "outputs": outputs, "resolution": resolution})
    with writable(folder, sheet_place) as target:
        write_json(target, moved.model_dump(mode="json", exclude_defaults=True) | {"scene_sheet": 1})
    if not (caches or frozen or any(texts[asset.owner] != asset.authored for asset in own)):
        return StagedScene(root=sheet_place, written=(sheet_place,), copied={})
    _stage_host(sheet, host, folder, host_place, texts, caches, frozen, commands)
    return StagedScene(root=sheet_place, written=(sheet_place, host_place), copied={})


def _cache_path(
    one: SheetSimulation, edit: UseCache, crate_paths: Mapping[Path, PurePosixPath], host_place: PurePosixPath
) -> str:
    """The pattern of a cache's files as seen from the host's scene."""
    first = min(edit.files)
    return paths.relative(crate_paths[first].parent / one.cache, host_place.parent)


def _moved(sheet: Sheet, texts: dict[str, str], baked: Mapping[str, UseCache], frozen: list[str]) -> Sheet:
    assets = tuple(one.model_copy(update={"path": texts[one.slot]}) for one in sheet.assets)
    simulations = tuple(
        one.model_copy(update={"state": SimulationState.CACHED, "covers": baked[one.name].covers})
        if one.name in baked
        else one
        for one in sheet.simulations
    )
    generators = tuple(
        one.model_copy(update={"frozen": True}) if one.name in frozen else one for one in sheet.generators
    )
    return sheet.model_copy(update={"assets": assets, "simulations": simulations, "generators": generators})


def _stage_host(
    sheet: Sheet,
    original: Path,
    folder: Path,
    crate_path: PurePosixPath,
    texts: dict[str, str],
    caches: dict[str, str],
    frozen: list[str],
    commands: Commands,
) -> None:
    """Let the host write new paths into the copy and freeze what must be, and make sure that it did so and no more."""
    if not sheet.commands.relink:
        raise TidyCrateError(
            "paths in the host's scene must change, and the sheet names no relink command",
            original,
            "add commands.relink",
        )
    commands.need(sheet.commands.relink)
    staged = folder / crate_path
    before = hash_file(original)
    with writable(folder, crate_path) as target:
        copy_and_hash(original, target)
    limit = sheet.commands.time_limit
    with tempfile.TemporaryDirectory(prefix="tidy-crate-relink-") as scratch:
        mapping, names, fresh = (Path(scratch, name) for name in ("paths.json", "names.json", "fresh.sheet.json"))
        write_json(mapping, texts | caches)
        commands.run(sheet.commands.relink, {"host_scene": str(staged), "paths": str(mapping)}, staged.parent, limit)
        if frozen:
            write_json(names, frozen)
            commands.run(sheet.commands.freeze, {"host_scene": str(staged), "names": str(names)}, staged.parent, limit)
        if hash_file(original) != before:
            raise TidyCrateError(
                "the host's own command changed the original scene", original, "restore it, and fix the command"
            )
        if sheet.commands.export:
            commands.run(sheet.commands.export, {"host_scene": str(staged), "sheet": str(fresh)}, staged.parent, limit)
            found = read_sheet(fresh)
            _verify(found, texts, staged)
            _verify_baked_and_frozen(sheet, found, caches, frozen, staged)


def _verify_baked_and_frozen(
    sheet: Sheet, fresh: Sheet, caches: dict[str, str], frozen: list[str], staged: Path
) -> None:
    states = {one.name: one.state for one in fresh.simulations}
    live = [
        one.name for one in sheet.simulations if one.slot in caches and states.get(one.name) is SimulationState.LIVE
    ]
    if live:
        raise TidyCrateError(
            f"the host's scene still solves {', '.join(live)} beside its cache", staged, "fix the relink command"
        )
    plain = {one.name for one in fresh.generators if one.frozen}
    present = {one.name for one in fresh.generators}
    left = [name for name in frozen if name in present and name not in plain]
    if left:
        raise TidyCrateError(
            f"the host's freeze command left {', '.join(left)} as it was", staged, "fix the freeze command"
        )


def _verify(fresh: Sheet, texts: dict[str, str], staged: Path) -> None:
    now = {one.slot: one.path for one in fresh.assets}
    wrong = [slot for slot, text in texts.items() if _plain(now.get(slot, "")) != _plain(text)]
    if wrong:
        raise TidyCrateError(
            f"the host's relink command left {', '.join(wrong[:5])} as it was",
            staged,
            "fix the relink command of the sheet",
        )


def _plain(text: str) -> str:
    return text.replace("\\", "/").removeprefix("./")
