"""The practice renderer: what it draws can be foreseen, and a frame hangs on its batch only where the scene does."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from PIL import Image

from conftest import usda
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.work.request import VariantChoice, View
from tidy_crate.core.work.task import Task
from tidy_crate.practice.demo.scene import DemoScene, write_demo_scene
from tidy_crate.practice.render import textures
from tidy_crate.practice.render.renderer import Order, Rendered, render

BALL = """(
    startTimeCode = 1
    endTimeCode = 2
    upAxis = "Z"
    renderSettingsPrimPath = "/Render/S"
)
def Camera "Cam" { float horizontalAperture = 20
    float verticalAperture = 20
    float focalLength = 20
    double3 xformOp:translate = (0, -10, 0)
    float3 xformOp:rotateXYZ = (90, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"] }
def Sphere "Ball" { double radius = 2
    color3f[] primvars:displayColor = [(0.2, 0.4, 0.8)]
    VISIBILITY }
def DomeLight "Sky" { float inputs:intensity = 1 }
def "Render" {
    def RenderSettings "S" { rel camera = </Cam>
        rel products = </Render/P>
        uniform int2 resolution = (40, 40)
        custom int practice:samples = 2 }
    def RenderProduct "P" { token productName = "p.####.exr"
        rel orderedVars = [</Render/beauty>, </Render/alpha>, </Render/depth>, </Render/normal>, </Render/ids>] }
    def RenderVar "beauty" { string sourceName = "beauty" }
    def RenderVar "alpha" { string sourceName = "alpha" }
    def RenderVar "depth" { string sourceName = "depth" }
    def RenderVar "normal" { string sourceName = "normal" }
    def RenderVar "ids" { string sourceName = "objectId" }
}
"""


def draw(scene: Path, into: Path, frames: tuple[int, ...] = (1,), **changes: object) -> list[Rendered]:
    tasks = changes.pop("tasks", tuple(Task("main", frame) for frame in frames))
    done: list[Rendered] = []
    render(Order(scene=scene, tasks=tasks, into=into, **changes), done.append)  # type: ignore[arg-type]
    return done


def channels(path: Path) -> dict[str, np.ndarray]:
    return {n: c.pixels for n, c in OpenEXR.File(str(path), separate_channels=True).channels().items()}


@pytest.fixture
def ball(tmp_path: Path) -> Path:
    scene = tmp_path / "ball.usda"
    scene.write_text(usda(BALL.replace("VISIBILITY", "")))
    return scene


def test_a_ball_under_an_even_sky_looks_as_it_must(ball: Path, tmp_path: Path) -> None:
    (done,) = draw(ball, tmp_path / "out")
    seen = channels(done.files["P"])
    middle = (20, 20)
    # nothing shades a convex body under an even sky: what comes back is its colour
    assert [float(seen[c][middle]) for c in "RGB"] == pytest.approx([0.2, 0.4, 0.8], abs=0.01)
    assert float(seen["A"][middle]) == 1 and float(seen["A"][0, 0]) == 0
    assert float(seen["depth.Z"][middle]) == pytest.approx(8, abs=0.1)
    assert float(seen["normal.Y"][middle]) == pytest.approx(-1, abs=0.05)
    assert int(seen["ids.id"][middle]) == 1 and int(seen["ids.id"][0, 0]) == 0
    # at a distance of 10 a radius of 2 covers tan(asin(0.2)) / 0.5 of the half picture
    width = float((seen["A"][20] > 0.5).sum())
    assert width == pytest.approx(40 * np.tan(np.arcsin(0.2)) / 0.5, abs=2)


def test_what_is_hidden_is_not_drawn_and_black_is_only_where_nothing_lights(ball: Path, tmp_path: Path) -> None:
    ball.write_text(usda(BALL.replace("VISIBILITY", 'token visibility = "invisible"')))
    (done,) = draw(ball, tmp_path / "out")
    assert not channels(done.files["P"])["A"].any()


def test_size_samples_and_camera_can_be_asked_for(ball: Path, tmp_path: Path) -> None:
    (done,) = draw(ball, tmp_path / "out", width=20, height=10, samples=1)
    assert channels(done.files["P"])["R"].shape == (10, 20)
    with pytest.raises(UnreadableInput, match="no camera"):
        draw(ball, tmp_path / "out", views={"": View(name="v", camera="/Ball")})
    with pytest.raises(WrongUsage, match="no output"):
        draw(ball, tmp_path / "out", outputs=("Nothing",))


def test_tiles_are_cut_from_the_whole_picture_and_shares_add_up_to_it(ball: Path, tmp_path: Path) -> None:
    (whole,) = draw(ball, tmp_path / "whole", samples=4)
    tiles = tuple(Task("main", 1, tile=tile) for tile in range(6))
    parts = draw(ball, tmp_path / "tiles", tasks=tiles, tiles=(3, 2), samples=4)
    full, seen = channels(whole.files["P"]), np.zeros((40, 40), int)
    for part in parts:
        file = OpenEXR.File(str(part.files["P"]), separate_channels=True)
        (left, top), (right, bottom) = file.header()["dataWindow"]
        assert [int(n) for n in file.header()["displayWindow"][1]] == [39, 39]
        inside = np.s_[top : bottom + 1, left : right + 1]
        seen[inside] += 1
        # what no random light decides is the same to the bit
        assert np.array_equal(file.channels()["depth.Z"].pixels, full["depth.Z"][inside])
        assert np.array_equal(file.channels()["A"].pixels, full["A"][inside])
    assert (seen == 1).all()
    shares = draw(
        ball, tmp_path / "shares", tasks=tuple(Task("main", 1, share=n) for n in range(2)), shares=2, samples=4
    )
    alpha = [channels(one.files["P"])["A"].astype(float) for one in shares]
    assert np.allclose(sum(alpha) / 2, full["A"], atol=1e-3) and not np.array_equal(*alpha)
    assert len({path for one in (*parts, *shares) for path in one.files.values()}) == 8


def test_a_view_has_a_camera_and_variants_of_its_own(tmp_path: Path) -> None:
    text = BALL.replace("VISIBILITY", "").replace(
        'def DomeLight "Sky"',
        'def Xform "Look" ( variants = { string tone = "red" }\n prepend variantSets = "tone" ) {\n'
        'variantSet "tone" = {\n'
        + "".join(
            f'"{name}" {{ def Sphere "B" {{ double radius = 3\ncolor3f[] primvars:displayColor = [{colour}] }} }}\n'
            for name, colour in (("red", "(1, 0, 0)"), ("blue", "(0, 0, 1)"))
        )
        + '} }\ndef DomeLight "Sky"',
    )
    scene = tmp_path / "s.usda"
    scene.write_text(usda(text))
    choices = {name: VariantChoice(prim="/Look", set="tone", choice=name) for name in ("red", "blue")}
    views = {name: View(name=name, variants=(choice,)) for name, choice in choices.items()}
    tasks = tuple(Task("main", frame, name) for name in views for frame in (1, 2))
    done = draw(scene, tmp_path / "out", tasks=tasks, views=views)
    for one in done:
        pixels = channels(one.files["P"])
        strong, weak = ("R", "B") if one.task.view == "red" else ("B", "R")
        assert pixels[strong][20, 20] > 0.9 and pixels[weak][20, 20] < 0.1
    assert len({one.files["P"] for one in done}) == 4
    lost = {"red": View(name="red", variants=(VariantChoice(prim="/Look", set="tone", choice="green"),))}
    with pytest.raises(WrongUsage, match="no variant tone=green"):
        draw(scene, tmp_path / "lost", tasks=tasks[:1], views=lost)


def test_textures_are_linear_repeat_and_a_missing_one_is_loud(tmp_path: Path) -> None:
    Image.fromarray(np.array([[[188, 188, 188], [0, 0, 0]]], np.uint8)).save(tmp_path / "t.png")
    found = textures.load(str(tmp_path / "t.png"))
    assert float(found[0, 0, 0]) == pytest.approx(0.5029, abs=1e-3)
    u = np.array([0.25, 1.25, -0.75], np.float32)
    colours = textures.look_up(found, u, np.full(3, 0.5, np.float32))
    assert np.allclose(colours, found[0, 0], atol=1e-6)
    lost = textures.load(str(tmp_path / "gone.png"))
    assert lost.max() > 0.8 and len(np.unique(lost.reshape(-1, 3), axis=0)) == 2


def test_b10_a_baked_frame_is_the_same_bytes_whatever_its_batch(
    packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    scene = packed[1] / read_packing_list(packed[1]).scene
    small = {"width": 48, "height": 27, "samples": 1}
    (alone,) = draw(scene, tmp_path / "alone", (1012,), **small)
    batch = draw(scene, tmp_path / "batch", (1010, 1011, 1012), **small)
    for output, path in alone.files.items():
        assert path.read_bytes() == batch[-1].files[output].read_bytes()


def test_an_unbaked_frame_hangs_on_where_its_batch_begins(demo: DemoScene, tmp_path: Path) -> None:
    small = {"width": 48, "height": 27, "samples": 1, "outputs": ("Beauty",)}
    (alone,) = draw(demo.scene, tmp_path / "alone", (1012,), **small)
    batch = draw(demo.scene, tmp_path / "batch", tuple(range(1001, 1013)), **small)
    before, after = channels(alone.files["Beauty"])["depth.Z"], channels(batch[-1].files["Beauty"])["depth.Z"]
    assert (np.abs(before - after) > 1).mean() > 0.02


def test_the_demo_scene_is_the_same_bytes_each_time_but_for_its_absolute_path(tmp_path: Path) -> None:
    written = []
    for place in ("one", "two"):
        found = write_demo_scene(tmp_path / place)
        files = {p.relative_to(tmp_path / place): p.read_bytes() for p in (tmp_path / place).rglob("*") if p.is_file()}
        written.append({k: v.replace(str(tmp_path / place).encode(), b"HERE") for k, v in files.items()})
        assert not (found.project / "textures" / "rope.png").exists()
    assert written[0] == written[1]
