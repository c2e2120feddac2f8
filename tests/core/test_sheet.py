"""Scene sheets, with the practice host as the application that takes part."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from conftest import ANY, Run, open_trusted, tree
from tidy_crate.core.context.relink import apply_relinks, propose
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.scene.formats.sheet import SceneSheet
from tidy_crate.core.scene.model import Status

SCENE = """quay 1
frames 1 6 25
size 64 36
camera Lens
output Beauty renders/beauty.####.exr
texture wood "textures/wood side.png"
texture far {far}
"""


def host(*words: object) -> None:
    subprocess.run([sys.executable, "-m", "tidy_crate.practice.host", *map(str, words)], check=True)


def write_show(folder: Path) -> Path:
    """A host scene with a texture beside it and one far away, exported. Returns the sheet."""
    show, far = folder / "show", folder / "elsewhere" / "far.png"
    for path, colour in ((show / "textures/wood side.png", (200, 120, 60)), (far, (20, 60, 200))):
        path.parent.mkdir(parents=True, exist_ok=True)
        Image.new("RGB", (8, 8), colour).save(path)
    (show / "harbour_v001.quay").write_text(SCENE.format(far=far.as_posix()))
    host("export", show / "harbour_v001.quay", show / "harbour_v001.sheet.json")
    return show / "harbour_v001.sheet.json"


def change(sheet: Path, **changes: Any) -> None:
    sheet.write_text(json.dumps(json.loads(sheet.read_text()) | changes))


def test_a_sheet_surveys_like_any_other_scene(tmp_path: Path) -> None:
    context = open_trusted(write_show(tmp_path))
    survey = context.survey()
    assert (survey.frames.count, survey.frames.fps, survey.format) == (6, 25.0, "sheet")
    assert [(o.name, o.passes, o.camera) for o in survey.outputs] == [("Beauty", ("beauty",), "Lens")]
    assert {asset.owner: asset.status for asset in survey.assets} == {
        "the host's scene": Status.FOUND, "wood": Status.FOUND, "far": Status.FOUND,
    }  # fmt: skip
    assert context.tidy.name == "harbour.tidy"
    assert context.render_command is not None and context.render_command.name == "practice host"


def test_the_host_relinks_the_staged_copy_and_the_crate_renders_without_the_originals(tmp_path: Path) -> None:
    sheet = write_show(tmp_path)
    before = tree(tmp_path / "show")
    result = collect(open_trusted(sheet), tmp_path / "c.crate")
    assert result.complete
    after = {name: data for name, data in tree(tmp_path / "show").items() if ".tidy/" not in name}
    assert after == before
    assert collect(open_trusted(sheet), tmp_path / "c.crate").copied_bytes == 0
    shutil.rmtree(tmp_path / "show")
    shutil.rmtree(tmp_path / "elsewhere")
    assert "elsewhere/elsewhere/far.png" in (tmp_path / "c.crate/harbour_v001.quay").read_text()
    proof = prove(tmp_path / "c.crate", os.environ, ANY)
    assert proof.whole, proof
    assert proof.test_frame is not None and proof.test_frame.good
    assert read_packing_list(tmp_path / "c.crate").name == "harbour"


def test_a_missing_texture_is_relinked_by_decision(tmp_path: Path) -> None:
    sheet = write_show(tmp_path)
    (tmp_path / "found/textures").mkdir(parents=True)
    shutil.move(tmp_path / "show/textures/wood side.png", tmp_path / "found/textures/wood side.png")
    context = open_trusted(sheet)
    apply_relinks(context, propose(context.survey(), [tmp_path / "found"], []))
    collect(open_trusted(sheet), tmp_path / "c.crate")
    assert prove(tmp_path / "c.crate", os.environ, ANY).whole


@pytest.mark.parametrize(
    ("relink", "message"),
    [
        ([], "names no relink command"),
        (["{python}", "-c", "pass"], "left .* as it was"),
        (["{python}", "-c", "raise SystemExit(4)"], "failed with code 4"),
        (["no-such-host-anywhere"], "cannot start"),
    ],
)
def test_a_host_that_does_not_relink_is_found_out(relink: list[str], message: str, tmp_path: Path) -> None:
    sheet = write_show(tmp_path)
    commands = json.loads(sheet.read_text())["commands"]
    change(sheet, commands=commands | {"relink": relink})
    with pytest.raises(TidyCrateError, match=message):
        collect(open_trusted(sheet), tmp_path / "c.crate")


def test_r1_a_host_that_writes_into_the_original_is_found_out(tmp_path: Path) -> None:
    sheet = write_show(tmp_path)
    original = (tmp_path / "show/harbour_v001.quay").as_posix()
    commands = json.loads(sheet.read_text())["commands"]
    change(sheet, commands=commands | {"relink": ["{python}", "-c", f"open({original!r}, 'a').write('x')"]})
    with pytest.raises(TidyCrateError, match="changed the original"):
        collect(open_trusted(sheet), tmp_path / "c.crate")


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"scene_sheet": 9}, "version 9"),
        ({"frames": {"start": 1, "end": 2}}, "frames.fps"),
        ({"colour": "red"}, "colour"),
        ({"assets": [{"slot": "a", "path": "x"}, {"slot": "a", "path": "y"}]}, "slot 'a' twice"),
        ({"up_axis": "Q"}, "up_axis"),
    ],
)
def test_a_sheet_that_is_wrong_names_the_key(changes: dict[str, Any], message: str, tmp_path: Path) -> None:
    sheet = write_show(tmp_path)
    change(sheet, **changes)
    with pytest.raises(UnreadableInput, match=message):
        SceneSheet().read(sheet)


def test_the_sheet_commands(tmp_path: Path, run: Run) -> None:
    sheet = write_show(tmp_path)
    schema = run.here("sheet", "schema", "--json").json
    assert set(json.loads(sheet.read_text())) <= set(schema["properties"])
    assert run.here("sheet", "check", sheet).code == 0
    (tmp_path / "show/textures/wood side.png").unlink()
    assert run.here("sheet", "check", sheet).code == 1
    (tmp_path / "other.quay").write_text("quay 1\n")
    made = run.here("sheet", "new", tmp_path / "other.quay", "--host", "practice host", "--version", "3.2", "--json")
    assert run.here("survey", made.json["sheet"]).code == 0
    assert run.here("sheet", "new", tmp_path / "other.quay", "--host", "x", "--version", "1").code == 2
