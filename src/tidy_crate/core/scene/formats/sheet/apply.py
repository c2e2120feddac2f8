"""Staging a scene sheet: a copy of the host's scene, relinked by the host itself, and verified."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import copy_and_hash, hash_file, os_reason, write_json
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.formats.sheet.model import Sheet, host_scene, read_sheet
from tidy_crate.core.scene.formats.sheet.read import FIELD, HOST_SCENE
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.rewriting import new_texts, place_of
from tidy_crate.core.scene.staging import OutputPath, StagingPlan

TIME_LIMIT = 1800.0
LOG_TAIL = 500


def apply(
    scene: Path, plan: StagingPlan, survey: Survey, places: Mapping[Path, PurePosixPath], folder: Path
) -> StagedScene:
    """Stage a sheet and its scene. Raises TidyCrateError when paths must change and the host cannot, or does not."""
    scene = scene.absolute()
    sheet = read_sheet(scene)
    host = host_scene(scene, sheet).absolute()
    sheet_place, host_place = places[scene], places.get(host)
    slots = [asset for asset in survey.assets if asset.layer == scene and asset.field == FIELD]
    own = [asset for asset in slots if asset.owner != HOST_SCENE]
    changed = plan.of(OutputPath)
    if host_place is None or (not new_texts(own, host_place, places) and not changed):
        return StagedScene(root=sheet_place, written=(), copied={sheet_place: scene})
    texts = {asset.owner: paths.relative(place_of(asset, places), host_place.parent) for asset in own}
    moved = _moved(sheet, texts, {edit.output: edit.path for edit in changed})
    moved = moved.model_copy(update={"scene": paths.relative(host_place, sheet_place.parent)})
    write_json(folder / sheet_place, moved.model_dump(mode="json", exclude_defaults=True) | {"scene_sheet": 1})
    if not any(texts[asset.owner] != asset.authored for asset in own):
        return StagedScene(root=sheet_place, written=(sheet_place,), copied={})
    _relink(sheet, host, folder / host_place, texts)
    return StagedScene(root=sheet_place, written=(sheet_place, host_place), copied={})


def _moved(sheet: Sheet, texts: dict[str, str], outputs: dict[str, str]) -> Sheet:
    assets = tuple(one.model_copy(update={"path": texts[one.slot]}) for one in sheet.assets)
    changed = tuple(one.model_copy(update={"path": outputs.get(one.name, one.path)}) for one in sheet.outputs)
    return sheet.model_copy(update={"assets": assets, "outputs": changed})


def _relink(sheet: Sheet, original: Path, staged: Path, texts: dict[str, str]) -> None:
    """Let the host write the new paths into the copy, and make sure that it did so and nothing else."""
    if not sheet.commands.relink:
        raise TidyCrateError(
            "paths in the host's scene must change, and the sheet names no relink command",
            original,
            "add commands.relink",
        )
    before = hash_file(original)
    copy_and_hash(original, staged)
    with tempfile.TemporaryDirectory(prefix="tidy-crate-relink-") as scratch:
        mapping = Path(scratch, "paths.json")
        write_json(mapping, texts)
        run_host(sheet.commands.relink, {"host_scene": str(staged), "paths": str(mapping)}, staged.parent)
        if hash_file(original) != before:
            raise TidyCrateError(
                "the host's relink command changed the original scene", original, "restore it, and mend the command"
            )
        if sheet.commands.export:
            fresh = Path(scratch, "fresh.sheet.json")
            run_host(sheet.commands.export, {"host_scene": str(staged), "sheet": str(fresh)}, staged.parent)
            _verify(read_sheet(fresh), texts, staged)


def _verify(fresh: Sheet, texts: dict[str, str], staged: Path) -> None:
    now = {one.slot: one.path for one in fresh.assets}
    wrong = [slot for slot, text in texts.items() if _plain(now.get(slot, "")) != _plain(text)]
    if wrong:
        raise TidyCrateError(
            f"the host's relink command left {', '.join(wrong[:5])} as it was",
            staged,
            "mend the relink command of the sheet",
        )


def _plain(text: str) -> str:
    return text.replace("\\", "/").removeprefix("./")


def run_host(command: tuple[str, ...], values: dict[str, str], folder: Path) -> None:
    """Run one of the host's commands. Raises TidyCrateError with the end of its log when it fails or takes too long."""
    known = {"python": sys.executable, **values}
    line = []
    for word in command:
        for key, value in known.items():
            word = word.replace(f"{{{key}}}", value)
        line.append(word)
    try:
        done = subprocess.run(
            line, cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            timeout=TIME_LIMIT, check=False,
        )  # fmt: skip
    except OSError as error:
        raise TidyCrateError(f"the host's command cannot start ({os_reason(error)})", line[0]) from error
    except subprocess.TimeoutExpired as error:
        raise TidyCrateError(f"the host's command did not end within {TIME_LIMIT:g} s", line[0]) from error
    if done.returncode != 0:
        tail = done.stdout.decode("utf-8", "replace").strip()[-LOG_TAIL:]
        raise TidyCrateError(
            f"the host's command failed with code {done.returncode}", " ".join(line)[:200], tail or None
        )
