"""Simulations and generators of a host application: baked and frozen by its own command lines, on the staged copy."""

from __future__ import annotations

import json
import os
import sys
import time
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from conftest import ANY, Run, open_trusted, tree
from tidy_crate.core.bake.run import bake
from tidy_crate.core.bake.verify import verify_caches
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.crate.staged_copy import staged_copy
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.practice.host.__main__ import sheet_of
from tidy_crate.practice.host.scene import load

SCENE = """quay 1
frames 1 12 25
size 80 20
camera Lens
output Beauty renders/beauty.####.exr
texture wood textures/wood.png
texture rope textures/rope.png
simulation buoy spring -9
generator sign text
"""


def show(folder: Path, **commands: Any) -> Path:
    (folder / "show" / "textures").mkdir(parents=True)
    for name, colour in (("wood", (200, 120, 60)), ("rope", (20, 60, 200))):
        Image.new("RGB", (8, 8), colour).save(folder / "show" / "textures" / f"{name}.png")
    scene = folder / "show" / "harbour.quay"
    scene.write_text(SCENE)
    sheet = scene.with_suffix(".sheet.json")
    content: Any = sheet_of(scene, load(scene))
    content["commands"] |= commands
    sheet.write_text(json.dumps(content))
    return sheet


def own(python: str) -> list[str]:
    return ["{python}", "-c", python, "{host_scene}", "{first}", "{last}", "{cache_folder}"]


def test_b9_the_host_bakes_a_staged_copy_and_any_frame_of_the_crate_renders_alone(tmp_path: Path) -> None:
    sheet = show(tmp_path)
    before = tree(tmp_path / "show")
    live = {finding.code for finding in check_scene(open_trusted(sheet)).findings}
    assert {"simulation-live", "generator-will-be-frozen"} <= live
    steps: list[float] = []
    result = bake(
        open_trusted(sheet),
        staged_copy=staged_copy,
        progress=lambda step: steps.append(step.done) if step.stage == "bake" else None,
    )
    assert [one.simulation for one in result.baked] == ["buoy"] and result.baked[0].files == 1 + 14
    assert steps[-1] == 14 and steps == sorted(steps)
    assert {k: v for k, v in tree(tmp_path / "show").items() if ".tidy/" not in k} == before
    assert bake(open_trusted(sheet), staged_copy=staged_copy).up_to_date == ("buoy",)
    assert not verify_caches(open_trusted(sheet))[0].troubles
    assert "simulation-live" not in {finding.code for finding in check_scene(open_trusted(sheet)).findings}
    crate = tmp_path / "c.crate"
    collect(open_trusted(sheet), crate)
    staged = load(crate / "harbour.quay")
    assert staged.caches == {"buoy": "./caches/buoy.host/buoy.####.json"} and staged.frozen == ["sign"]
    content = read_packing_list(crate)
    assert content.essentials.simulations == {"buoy": "cached"}
    assert sum(file.path.startswith("caches/buoy.host/") for file in content.files) == 14
    assert prove(crate, os.environ, ANY).whole
    assert prove(crate, os.environ, ANY, frame=12).whole


def test_b7_a_changed_scene_makes_the_hosts_cache_stale_and_a_lost_file_partial(tmp_path: Path) -> None:
    sheet = show(tmp_path)
    bake(open_trusted(sheet), staged_copy=staged_copy)
    (open_trusted(sheet).tidy / "caches/buoy.host/buoy.0005.json").unlink()
    assert open_trusted(sheet).survey().simulations[0].state.value == "partial"
    assert bake(open_trusted(sheet), staged_copy=staged_copy).baked
    scene = sheet.with_name("harbour.quay")
    scene.write_text(scene.read_text().replace("spring -9", "spring -8"))
    assert open_trusted(sheet).survey().simulations[0].state.value == "stale"


@pytest.mark.parametrize(
    ("python", "why"),
    [
        ("import sys; print('no licence'); sys.exit(3)", "failed with code 3"),
        ("pass", "left out 14 of 14 frames"),
        (
            "import sys, pathlib; [pathlib.Path(sys.argv[4], f'buoy.{n:04d}.json').touch() for n in range(14)]",
            "14 empty",
        ),
    ],
)
def test_b9_a_host_that_fails_or_writes_nothing_is_named_and_the_earlier_cache_stays(
    tmp_path: Path, python: str, why: str
) -> None:
    sheet = show(tmp_path)
    bake(open_trusted(sheet), staged_copy=staged_copy)
    caches = open_trusted(sheet).tidy / "caches"
    before = {k: v for k, v in tree(caches).items() if not k.endswith(".log")}
    content = json.loads(sheet.read_text())
    content["commands"]["bake"] = own(python)
    sheet.write_text(json.dumps(content))
    result = bake(open_trusted(sheet), staged_copy=staged_copy, again=True)
    assert not result.baked and why in result.failed[0].why
    assert {k: v for k, v in tree(caches).items() if not k.endswith(".log")} == before
    assert (caches / "buoy.log").is_file()


def test_b9_a_host_that_hangs_is_ended_with_its_children(tmp_path: Path) -> None:
    child = "import subprocess, sys; subprocess.run([sys.executable, '-c', 'import time; time.sleep(60)'])"
    sheet = show(tmp_path, bake=own(child), time_limit=1.0)
    began = time.monotonic()
    result = bake(open_trusted(sheet), staged_copy=staged_copy)
    assert "did not end within 1 s" in result.failed[0].why
    assert time.monotonic() - began < 20


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"cache": "buoy.json"}, "how the cache files"),
        ({"cache": "../buoy.####.json"}, "how the cache files"),
        ({"slot": ""}, "no slot"),
    ],
)
def test_a_sheet_that_does_not_say_how_to_bake_is_told_so(tmp_path: Path, change: dict[str, str], why: str) -> None:
    sheet = show(tmp_path)
    content = json.loads(sheet.read_text())
    content["simulations"][0] |= change
    sheet.write_text(json.dumps(content))
    assert why in bake(open_trusted(sheet), staged_copy=staged_copy).failed[0].why


def test_b11_what_no_node_can_evaluate_is_frozen_or_blocks(tmp_path: Path) -> None:
    sheet = show(tmp_path, freeze=[])
    findings = [one for one in check_scene(open_trusted(sheet)).findings if one.code == "generator-not-frozen"]
    assert [(one.subject, one.severity.value) for one in findings] == [("sign", "error")]
    lazy = show(tmp_path / "lazy", freeze=["{python}", "-c", "pass", "{names}"])
    with pytest.raises(TidyCrateError, match="left sign as it was"):
        collect(open_trusted(lazy), tmp_path / "lazy.crate")


def test_a_host_whose_copy_still_solves_beside_the_cache_is_caught(tmp_path: Path) -> None:
    sheet = show(tmp_path)
    bake(open_trusted(sheet), staged_copy=staged_copy)
    content = json.loads(sheet.read_text())
    content["commands"]["relink"] = ["{python}", "-c", "pass", "{paths}"]
    sheet.write_text(json.dumps(content))
    with pytest.raises(TidyCrateError, match="still solves buoy"):
        collect(open_trusted(sheet), tmp_path / "c.crate")


def test_the_program_bakes_a_sheet_like_any_scene(tmp_path: Path, run: Run) -> None:
    sheet = show(tmp_path)
    assert [one["simulation"] for one in run.here("bake", sheet, "--plan", "--json").json["planned"]] == ["buoy"]
    refused = run.here("bake", sheet, "--json")
    assert refused.code == 2 and not (tmp_path / "show/harbour.tidy/caches/buoy.cache.json").exists()
    assert run.here("trust", sheet.parent).code == 0
    done = run.here("bake", sheet, "--json")
    assert done.code == 0 and done.json["baked"][0]["kind"] == "spring"
    assert run.here("bake", sheet, "--verify").code == 0
    assert "cached" in run.here("survey", sheet).out
    assert sys.executable not in (tmp_path / "show/harbour.tidy/caches/buoy.cache.json").read_text()
