"""Looks, memory, and the finer things a survey says of cameras and outputs."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from PIL import Image

from conftest import Run, usda
from tidy_crate.core.context.looks import survey_looks
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.scene.memory_need import decoded_bytes, memory_need
from tidy_crate.practice.demo.scene import DemoScene

LOOKS = """(
    startTimeCode = 1
    endTimeCode = 3
    renderSettingsPrimPath = "/R"
)
def Scope "Shot" ( variants = { string shot = "wide" }
    prepend variantSets = "shot" ) {
    variantSet "shot" = {
        "wide" { asset f = @./there.png@
 }
        "near" { asset f = @./gone.png@
over "Near" { double x.timeSamples = { 2: 1, 3: 2, } }
 }
    }
    def Camera "Wide" {
        double shutter:open = -0.25
        double shutter:close = 0.25
    }
    def Camera "Near" { }
}
def RenderSettings "R" ( variants = { string size = "small" }
    prepend variantSets = "size" ) {
    bool disableMotionBlur = false
    rel products = </P>
    rel camera = </Shot/Wide>
    variantSet "size" = {
        "big" { int2 resolution = (640, 320)
 }
        "small" { int2 resolution = (64, 32)
 }
    }
}
def RenderProduct "P" {
    token productName = "x.####.exr"
    float4 dataWindowNDC = (0, 0.25, 1, 0.75)
}
"""


def test_s9_each_look_says_what_it_would_render(tmp_path: Path) -> None:
    (tmp_path / "there.png").write_bytes(b"x")
    scene = tmp_path / "s.usda"
    scene.write_text(usda(LOOKS))
    context = open_scene(scene)
    survey = context.survey()
    found = {f"{one.set}={one.choice}": one for one in survey_looks(context, survey)}
    assert set(found) == {"shot=wide", "shot=near", "size=big", "size=small"}
    assert [found[f"shot={name}"].selected for name in ("wide", "near")] == [True, False]
    assert [found[f"shot={name}"].missing for name in ("wide", "near")] == [0, 1]
    assert found["size=big"].resolution.width == 640 and found["size=small"].resolution.width == 64


def test_s3_s4_region_shutter_and_motion_blur_are_read(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(usda(LOOKS))
    survey = open_scene(scene).survey()
    assert survey.outputs[0].region == (0.0, 0.25, 1.0, 0.75)
    assert {camera.path: camera.shutter for camera in survey.cameras}["/Shot/Wide"] == (-0.25, 0.25)
    assert survey.canonical["motion_blur"] is True


@pytest.mark.parametrize(
    ("mode", "ending", "channels"), [("RGB", ".png", 3), ("RGBA", ".tif", 4), ("L", ".jpg", 1), ("I;16", ".png", 2)]
)
def test_s10_a_texture_is_as_large_as_its_pixels(tmp_path: Path, mode: str, ending: str, channels: int) -> None:
    path = tmp_path / f"t{ending}"
    Image.new(mode, (48, 20)).save(path)
    assert decoded_bytes(path) == 48 * 20 * channels * 4 // 3


def test_s10_an_exr_counts_every_part_and_channel_and_a_broken_file_is_unknown(tmp_path: Path) -> None:
    half, full = np.zeros((4, 6), np.float16), np.zeros((4, 6), np.float32)
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    OpenEXR.File(header, {"R": half, "G": half, "Z": full}).write(str(tmp_path / "t.exr"))
    assert decoded_bytes(tmp_path / "t.exr") == 4 * 6 * (2 + 2 + 4) * 4 // 3
    parts = [OpenEXR.Part(header | {"name": name}, {name: full}) for name in ("first", "second")]
    OpenEXR.File(parts).write(str(tmp_path / "two.exr"))
    assert decoded_bytes(tmp_path / "two.exr") == 2 * 4 * 6 * 4 * 4 // 3
    (tmp_path / "t.png").write_bytes(b"not an image")
    (tmp_path / "u.exr").write_bytes(b"\x76\x2f\x31\x01 cut")
    assert decoded_bytes(tmp_path / "t.png") is None and decoded_bytes(tmp_path / "u.exr") is None


def test_s10_geometry_counts_instances_once_and_hidden_things_never(tmp_path: Path) -> None:
    points = ", ".join(["(0, 0, 0)"] * 100)
    (tmp_path / "m.usda").write_text(usda(f'def Mesh "M" {{ point3f[] points = [{points}] }}'))
    arcs = "".join(f'def "I{n}" ( instanceable = true\nreferences = @./m.usda@</M> ) {{ }}\n' for n in range(5))
    scene = tmp_path / "s.usda"
    hidden = f'def Mesh "H" {{\nint[] x = [1, 2, 3]\nuniform token purpose = "guide"\npoint3f[] points = [{points}]\n}}'
    scene.write_text(usda(f"{arcs}{hidden}"))
    context = open_scene(scene)
    # the shape itself is the instance, so it has no prototype's child: all five hold their own points
    assert memory_need(context.format, context.scene, context.plan, context.survey()).geometry in (1200, 6000)


def test_the_command_adds_what_is_asked_for(demo: DemoScene, run: Run) -> None:
    found = run.here("survey", demo.scene, "--memory", "--looks", "--json").json
    assert found["memory"]["texture_files"] == 3 and found["memory"]["least"] > found["memory"]["textures"] > 0
    assert [one["choice"] for one in found["looks"] if one["selected"]] == ["dusk"]
    shown = run.here("survey", demo.scene, "--memory", "--looks").out
    assert "at least" in shown and "night" in shown
    assert "memory" not in run.here("survey", demo.scene, "--json").json
