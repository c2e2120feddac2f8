"""What is to be rendered, said from outside of a scene that states nothing of it."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest
from pxr import Usd, UsdRender
from test_gltf import write_scene

from conftest import ANY, Run, open_trusted, usda
from tidy_crate.core.check.run import check_crate, check_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.rendering import placeholders
from tidy_crate.core.work.command import RenderCommand

BARE = """(
 defaultPrim = "W"
)
def Xform "W" {
 def Camera "Left" {}
 def Camera "Right" {}
 def Sphere "S" {
  double radius.timeSamples = { 1: 1, 9: 2 }
 }
}
"""
THREE_LINES = '[render]\nframes = "1-9"\ncamera = "Left"\nresolution = [64, 36]\n'


def written(folder: Path, decisions: str = THREE_LINES, body: str = BARE, project: str = "") -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    scene = folder / "s.usda"
    scene.write_text(usda(body))
    (folder / "tidy-crate.toml").write_text(project)
    if decisions:
        (folder / "s.tidy").mkdir(exist_ok=True)
        (folder / "s.tidy/decisions.toml").write_text(decisions)
    return scene


def test_three_lines_make_a_bare_scene_one_that_any_renderer_finds_its_request_in(tmp_path: Path) -> None:
    scene = written(tmp_path / "show")
    before = scene.read_bytes()
    context = open_trusted(scene)
    survey = context.survey()
    assert survey.said == {"frames": "decisions", "camera": "decisions", "resolution": "decisions"}
    assert not [one for one in check_scene(context).findings if one.severity == "error" and one.seen != "found"]
    crate = tmp_path / "c.crate"
    collect(context, crate)
    assert scene.read_bytes() == before
    content = read_packing_list(crate)
    (request,) = content.requests
    assert (request.frames, request.width, request.height, request.outputs) == ("1-9", 64, 36, ("beauty",))
    # as a renderer that knows nothing of us reads it
    stage = Usd.Stage.Open(str(crate / content.scene))
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode()) == (1, 9)
    settings = UsdRender.Settings.GetStageRenderSettings(stage)
    assert tuple(settings.GetResolutionAttr().Get()) == (64, 36)
    assert [str(one) for one in settings.GetCameraRel().GetTargets()] == ["/W/Left"]
    (product,) = (UsdRender.Product(stage.GetPrimAtPath(one)) for one in settings.GetProductsRel().GetTargets())
    assert str(product.GetProductNameAttr().Get()).endswith("####.exr")
    (variable,) = (UsdRender.Var(stage.GetPrimAtPath(one)) for one in product.GetOrderedVarsRel().GetTargets())
    assert variable.GetSourceNameAttr().Get() == "color"
    assert prove(crate, os.environ, ANY, test=False).whole
    assert not [one for one in check_crate(crate).findings if one.severity == "error"]


STATED = (
    BARE
    + """def RenderSettings "R" {
 int2 resolution = (10, 10)
 rel camera = </W/Right>
 rel products = [</R/a>, </R/b>]
 def RenderProduct "a" {
  token productName = "a/a.####.exr"
  int2 resolution = (20, 20)
  rel orderedVars = </R/v>
 }
 def RenderProduct "b" {
  token productName = "b/b.####.png"
  rel camera = </W/Right>
  rel orderedVars = </R/v>
 }
 def RenderVar "v" {
  string sourceName = "normal"
 }
}
"""
)


def test_what_is_ordered_holds_against_what_the_scene_and_its_products_say(tmp_path: Path) -> None:
    order = '[render]\ncamera = "/W/Left"\nresolution = [64, 36]\n[render.output.b]\npath = "new/b.####.exr"\n'
    order += '[render.output.matte]\npasses = ["id", "depth"]\n'
    survey = open_trusted(written(tmp_path, order, STATED)).survey()
    by_name = {one.name: one for one in survey.outputs}
    assert set(by_name) == {"a", "b", "matte"}
    assert {one.camera for one in survey.outputs} == {"/W/Left"}
    assert {one.resolution.rendered for one in survey.outputs if one.resolution} == {(64, 36)}
    assert by_name["a"].path == "a/a.####.exr" and by_name["b"].path == "new/b.####.exr"
    assert by_name["a"].passes == by_name["b"].passes == ("v",)
    assert by_name["matte"].passes == ("id", "depth") and by_name["matte"].path.endswith("####.exr")


def test_the_decisions_hold_against_the_project_part_by_part(tmp_path: Path) -> None:
    project = '[render]\nresolution = [32, 18]\ncamera = "Right"\ncommand = ["render", "{scene}"]\n'
    context = open_trusted(written(tmp_path, '[render]\nframes = "2-3"\ncamera = "Left"\n', project=project))
    survey = context.survey()
    assert survey.said == {"resolution": "project", "camera": "decisions", "frames": "decisions"}
    assert survey.outputs[0].camera == "/W/Left" and survey.resolution.rendered == (32, 18)  # type: ignore[union-attr]
    # a table without a command says nothing of the command line
    assert context.render_command is not None and context.render_command.command == ("render", "{scene}")


@pytest.mark.parametrize("camera", ["Middle", "/W/Middle", "W"])
def test_a_camera_that_there_is_not_is_told_with_all_there_are(tmp_path: Path, camera: str) -> None:
    context = open_trusted(written(tmp_path, THREE_LINES.replace("Left", camera)))
    with pytest.raises(UnreadableInput, match="no camera") as told:
        context.survey()
    assert "/W/Left, /W/Right" in str(told.value.remedy)


def test_a_name_that_two_cameras_have_is_not_chosen_between(tmp_path: Path) -> None:
    body = BARE + 'def Xform "V" {\n def Camera "Left" {}\n}\n'
    with pytest.raises(UnreadableInput, match="2 cameras are called 'Left'"):
        open_trusted(written(tmp_path, body=body)).survey()
    assert open_trusted(written(tmp_path, THREE_LINES.replace("Left", "/V/Left"), body)).survey().outputs


@pytest.mark.parametrize(
    "line", ['frames = "9-1-2"', "resolution = [0, 5]", "resolution = [9]", "fps = -1", 'output = "x.exr"', "size = 5"]
)
def test_an_order_that_makes_no_sense_is_one_error_with_its_place(tmp_path: Path, line: str) -> None:
    with pytest.raises(UnreadableInput, match="decisions"):
        open_trusted(written(tmp_path, f"[render]\n{line}\n"))


@pytest.mark.parametrize("binary", [False, True])
def test_a_gltf_crate_carries_its_order_and_the_command_is_told_the_camera(tmp_path: Path, binary: bool) -> None:
    scene = write_scene(tmp_path / "show", binary=binary)
    (tmp_path / "show/quay.tidy").mkdir()
    order = '[render]\nframes = "1-3"\ncamera = "lens"\nresolution = [64, 36]\n[render.output.sea]\n'
    order += 'path = "sea.####.exr"\npasses = ["beauty", "depth"]\n'
    (tmp_path / "show/quay.tidy/decisions.toml").write_text(order)
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate)
    shutil.rmtree(tmp_path / "show")
    content = read_packing_list(crate)
    (request,) = content.requests
    command = RenderCommand(command=("r", "{camera}"))
    values = placeholders(command, crate / content.scene, request, (2,), tmp_path)
    assert values["camera"] == "/nodes/1 lens" and values["frames"] == "2" and values["width"] == "64"
    survey = format_of(crate / content.scene).read(crate / content.scene)
    assert survey.outputs == content.essentials.outputs and survey.frames.count == 3
    proof = prove(crate, os.environ, ANY, test=False)
    assert proof.whole and (proof.compared_entries or 0) > 20


@pytest.mark.parametrize("change", ["material", "texture", "order", "binary"])
def test_the_proof_of_a_gltf_crate_sees_what_is_other_than_in_the_scene(tmp_path: Path, change: str) -> None:
    scene = write_scene(tmp_path / "show", binary=change == "binary")
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate)
    content = read_packing_list(crate)
    there = crate / content.scene
    assert content.composition is not None
    if change == "binary":
        data = bytearray(there.read_bytes())
        data[-1] ^= 1
        there.write_bytes(bytes(data))
    else:
        said = json.loads(there.read_text())
        if change == "material":
            said["materials"][0]["pbrMetallicRoughness"]["roughnessFactor"] = 0.1
        elif change == "texture":
            said["images"][0]["uri"] = said["images"][1]["uri"]
        else:
            said["extras"] = {"tidy_crate_render": {"kind": "render", "frames": "1-2"}}
        there.write_text(json.dumps(said))
    # as if it had been written so: all hashes agree
    from tidy_crate.core.crate.packing import write_packing_list
    from tidy_crate.core.files import hash_file

    files = tuple(
        one.model_copy(update={"blake3": hash_file(crate / one.path), "bytes": (crate / one.path).stat().st_size})
        for one in content.files
    )
    write_packing_list(crate, content.model_copy(update={"files": files}))
    proof = prove(crate, os.environ, ANY, test=False)
    assert not proof.whole and not proof.changed and proof.differs


def test_one_line_says_that_nothing_is_stated_and_the_command_in_it_states_it(tmp_path: Path, run: Run) -> None:
    scene = written(tmp_path / "show", "")
    errors = [one for one in check_scene(open_trusted(scene)).findings if one.severity == "error"]
    assert [one.code for one in errors] == ["render-not-stated"]
    assert "/W/Left, /W/Right" in errors[0].message and "--frames" in errors[0].remedy
    told = run("collect", str(scene), "-o", str(tmp_path / "c.crate"), "--size", "64x36", "--camera", "Middle")
    assert told.code == 2 and "/W/Left, /W/Right" in told.err
    # what made no sense was not kept
    assert not (tmp_path / "show/s.tidy/decisions.toml").exists()
    words = ("--frames", "1-4", "--size", "64x36", "--camera", "Right", "--product", "sea=out/sea.####.exr")
    done = run("collect", str(scene), "-o", str(tmp_path / "c.crate"), *words, "--passes", "sea=beauty,depth")
    assert done.code == 0
    # every later command knows it
    survey = open_trusted(scene).survey()
    assert survey.frames.count == 4 and survey.outputs[0].path == "out/sea.####.exr"
    assert survey.outputs[0].passes == ("beauty", "depth") and survey.outputs[0].camera == "/W/Right"
    assert "ordered" in run("survey", str(scene)).out
    for wrong in (("--size", "64"), ("--size", "²x10"), ("--size", "50%"), ("--product", "sea"), ("--passes", "=x")):
        assert run("collect", str(scene), *wrong).code == 2


def test_a_sheet_takes_an_order_too(tmp_path: Path) -> None:
    (tmp_path / "s.quay").write_bytes(b"host")
    sheet = {
        "scene_sheet": 1,
        "scene": "s.quay",
        "host": {"name": "quay", "version": "3"},
        "cameras": [{"name": "Lens"}],
    }
    (tmp_path / "s.sheet.json").write_text(json.dumps(sheet))
    (tmp_path / "s.tidy").mkdir()
    (tmp_path / "s.tidy/decisions.toml").write_text(THREE_LINES.replace("Left", "Lens"))
    context = open_trusted(tmp_path / "s.sheet.json")
    crate = tmp_path / "c.crate"
    collect(context, crate)
    content = read_packing_list(crate)
    (request,) = content.requests
    assert (request.frames, request.width, request.camera) == ("1-9", 64, "Lens")
    survey = format_of(crate / content.scene).read(crate / content.scene)
    assert survey.outputs == content.essentials.outputs and survey.frames.count == 9
