"""The worked example of a host application of others: POV-Ray, by way of a scene sheet."""

from __future__ import annotations

import importlib.util
import json
import shutil
import subprocess
import sys
from pathlib import Path
from types import ModuleType

import pytest
from PIL import Image

from conftest import Run, tree
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmProgram, FarmSettings

EXAMPLE = Path(__file__).parents[1] / "examples" / "povray"
PUBLIC = Path("/usr/share/doc/povray/examples")
needs_povray = pytest.mark.skipif(shutil.which("povray") is None, reason="POV-Ray is not installed")


@pytest.fixture(scope="session")
def host() -> ModuleType:
    spec = importlib.util.spec_from_file_location("povray_host", EXAMPLE / "povray_host.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules["povray_host"] = module
    spec.loader.exec_module(module)
    return module


@pytest.fixture
def pier(tmp_path: Path) -> Path:
    """The example's scene, with its picture on another disk."""
    show, store = tmp_path / "show", tmp_path / "store"
    shutil.copytree(EXAMPLE, show)
    store.mkdir()
    (show / "planks.png").rename(store / "planks.png")
    scene = show / "pier.pov"
    scene.write_text(scene.read_text().replace('"planks.png"', f'"{(store / "planks.png").as_posix()}"'))
    return scene


def test_what_a_scene_names_is_found_by_its_words(host: ModuleType) -> None:
    text = """
    // #include "not.inc"
    /* png "nor.png" */
    #include "a.inc"
    #declare Face = "face.ttf";
    #declare Note = "no file.png";
    image_map { jpeg "wood.jpg" once }
    image_map { "bark.png" }
    height_field { png "hill.png" smooth }
    text { ttf Face "words" 1, 0 }
    text { ttf "other.ttf" "more words" 1, 0 }
    density_file df3 "smoke.df3"
    image_map { png concat("sea", str(frame_number, -4, 0), ".png") }
    """
    assert [(place.keyword, place.text) for place in host.places_in(text)] == [
        ("#include", "a.inc"), ("jpeg", "wood.jpg"), ("image_map", "bark.png"), ("png", "hill.png"),
        ("ttf", "face.ttf"), ("ttf", "other.ttf"), ("df3", "smoke.df3"), ("png", "sea####.png"),
    ]  # fmt: skip


@needs_povray
def test_the_way_from_export_to_a_proven_crate_and_timed_frames(pier: Path, run: Run, tmp_path: Path) -> None:
    sheet = pier.with_name("pier.sheet.json")
    run_host(pier, sheet)
    refused = run("collect", sheet, "-o", tmp_path / "pier.crate", "--from-outside", tmp_path / "store")
    assert refused.code == 2 and "{paths}" in refused.err and "tidy-crate trust" in refused.err
    assert run("trust", pier.parent).code == 0
    before = tree(pier.parent)
    survey = run("survey", sheet, "--json").json
    assert survey["frames"]["count"] == 24 and survey["motion"] == "things"
    assert sorted(Path(one["authored"]).name for one in survey["assets"]) == ["lamp.inc", "pier.pov", "planks.png"]
    assert run("check", sheet).code == 0
    crate = tmp_path / "pier.crate"
    packed = run("collect", sheet, "-o", crate, "--json")
    after = tree(pier.parent)
    assert packed.code == 0 and {name: after[name] for name in before} == before
    staged = next(crate.rglob("pier.pov")).read_text()
    assert "planks.png" in staged and str(tmp_path / "store") not in staged
    shutil.rmtree(tmp_path / "store")
    proof = run("prove", crate, "--json")
    assert proof.code == 0 and proof.json["whole"] and proof.json["test_frame"]["good"], proof.out
    timed = run("probe", crate, "--json", "--frames", "2")
    assert timed.code == 0 and all(one["seconds"] > 0 for one in timed.json["frames"])

    # a farm renders it by a program of its own settings, never by the command line that the crate brings
    farm = tmp_path / "farm"
    own = FarmProgram(name="povray", version="3.7", command=(
        "{python}", str(EXAMPLE / "povray_host.py"), "render", "{host_scene}", "--frames", "{frames}", "--width",
        "{width}", "--height", "{height}", "--into", "{output_folder}", "--animation", "1:24:0:1", "--name",
        "pier.####.png", "--cyclic",
    ))  # fmt: skip
    control.start(farm, FarmSettings(nodes=2, startup_seconds=1, output_path="any", programs=(own,)))
    try:
        words = ("--farm", farm / "practice.farm.toml", "--frames", "3-5", "--size", "64x48", "--batch", "2", "--yes")
        sent = run("send", crate, *words, "--json")
        assert sent.code == 0, sent.out + sent.err
        home = run("retrieve", sent.json["job"], "--into", tmp_path / "frames", "--follow", "--json")
        assert home.code == 0 and home.json["at_home"] == 3, home.out
        with Image.open(next((tmp_path / "frames").rglob("*0004.png"))) as picture:
            assert picture.size == (64, 48)
    finally:
        control.stop(farm)
    other = own.model_copy(update={"name": "another"})
    control.start(farm, FarmSettings(nodes=1, startup_seconds=1, output_path="any", programs=(other,)))
    try:
        refused = run("send", crate, *words, "--again")
        assert refused.code in (1, 3) and "povray" in refused.err
    finally:
        control.stop(farm)


@needs_povray
def test_what_the_program_says_is_shown_in_lines_with_the_path_of_its_log(pier: Path, run: Run, tmp_path: Path) -> None:
    pier.write_text(pier.read_text().replace("camera {", "camera { no_such_word"))
    sheet = pier.with_name("pier.sheet.json")
    run_host(pier, sheet)
    crate = tmp_path / "pier.crate"
    assert run("trust", sheet).code == 0
    assert run("collect", sheet, "-o", crate, "--from-outside", tmp_path / "store").code == 0
    failed = run("prove", crate)
    assert failed.code == 1 and "\\x0a" not in failed.out and "| Fatal error in parser" in failed.out
    document = run("probe", crate, "--json").json["error"]
    assert any("Fatal error" in line for line in document["said"]) and Path(document["log"]).is_file()


@pytest.mark.skipif(not PUBLIC.is_dir(), reason="the example scenes of POV-Ray are not installed")
@needs_povray
def test_the_programs_own_example_scenes_are_exported_without_a_false_alarm(host: ModuleType, tmp_path: Path) -> None:
    scenes = sorted((PUBLIC / "advanced").rglob("*.pov"))
    assert len(scenes) > 20
    missing = set()
    for scene in scenes:
        sheet = host.sheet_of(scene, host.Settings())
        for one in sheet["assets"]:
            if "#" not in one["path"] and not (scene.parent / one["path"]).is_file():
                missing.add(f"{scene.stem}: {one['path']}")
    # files that these scenes write themselves before they read them, or that are not shipped with them
    assert {one.partition(": ")[2] for one in missing} <= KNOWN_TO_BE_ABSENT


KNOWN_TO_BE_ABSENT = {"stacks.inc", "desk1.png", "desk2.png", "desk3.png"}


def run_host(scene: Path, sheet: Path) -> None:
    line = [sys.executable, EXAMPLE / "povray_host.py", "export", scene, sheet]
    subprocess.run(line, check=True)
    assert json.loads(sheet.read_text())["scene"] == scene.name
