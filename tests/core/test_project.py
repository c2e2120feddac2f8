"""Project files, where things lie in a crate, and the evaluator that nodes use."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pxr import Gf, Usd, UsdGeom

from conftest import open_trusted, usda
from tidy_crate.core.bake.run import bake
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.layout import Layout, scene_root
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.scene.formats.usd.simulation.live import Evaluator
from tidy_crate.core.scene.request import naming, request_for
from tidy_crate.core.work.product import file_name
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task
from tidy_crate.practice.demo.scene import DemoScene

SPRING = """(
    startTimeCode = 1
    endTimeCode = 20
    timeCodesPerSecond = 25
)
def Xform "Lead" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 11: (10, 0, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"] }
def Xform "Rig" { RIG
    def Xform "Tail" { custom token tidy:simulation = "springFollow"
        custom double tidy:simulation:start = 1
        custom rel tidy:spring:target = </Lead>
        custom double tidy:spring:frequency = 1.5
        custom double tidy:spring:dampingRatio = 0.4
        float3 xformOp:rotateXYZ = (0, 0, 30)
        uniform token[] xformOpOrder = ["xformOp:rotateXYZ"] } }
"""
TURNED = """float3 xformOp:rotateXYZ = (0, 0, 90)
    uniform token[] xformOpOrder = ["xformOp:rotateXYZ"]"""

SHEAR = "matrix4d xformOp:transform = ((1, 0, 0, 0), (0.5, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1))"


def place(stage: Usd.Stage, frame: float) -> np.ndarray:
    matrix = UsdGeom.XformCache(frame).GetLocalToWorldTransform(stage.GetPrimAtPath("/Rig/Tail"))
    return np.array(matrix.ExtractTranslation())


@pytest.fixture
def spring(tmp_path: Path) -> Path:
    scene = tmp_path / "s.usda"
    scene.write_text(usda(SPRING.replace("RIG", TURNED)))
    return scene


def test_a_node_goes_on_forwards_and_starts_anew_backwards(spring: Path) -> None:
    stage = Usd.Stage.Open(str(spring))
    node = Evaluator(stage)
    seen = {}
    for frame in (5, 6, 7, 8):
        node.go_to(frame)
        seen[frame] = place(stage, frame)
    # at rest on the target at its own first frame
    assert np.allclose(seen[5], [4, 0, 0])
    assert seen[8][0] < 7
    node.go_to(6)
    assert np.allclose(place(stage, 6), [5, 0, 0])


def test_the_pose_keeps_its_turn_and_does_not_wander_over_the_frames(spring: Path) -> None:
    stage = Usd.Stage.Open(str(spring))
    node = Evaluator(stage)
    for frame in range(1, 15):
        node.go_to(frame)
        matrix = UsdGeom.XformCache(frame).GetLocalToWorldTransform(stage.GetPrimAtPath("/Rig/Tail"))
        angles = matrix.ExtractRotation().Decompose(Gf.Vec3d.XAxis(), Gf.Vec3d.YAxis(), Gf.Vec3d.ZAxis())
        assert angles[2] == pytest.approx(120, abs=1e-6)


@pytest.mark.parametrize("sheared", [False, True])
def test_b5_the_baked_keyframes_are_the_live_poses_of_a_node_that_began_at_the_start(
    spring: Path, sheared: bool
) -> None:
    if sheared:
        text = spring.read_text().replace("float3 xformOp:rotateXYZ = (0, 0, 30)", SHEAR)
        at = text.index(SHEAR)
        spring.write_text(text[:at] + text[at:].replace("xformOp:rotateXYZ", "xformOp:transform"))
    stage = Usd.Stage.Open(str(spring))
    node = Evaluator(stage)
    live = {}
    for frame in range(1, 21):
        node.go_to(frame)
        live[frame] = place(stage, frame)
    bake(open_trusted(spring))
    result = collect(open_trusted(spring), spring.parent.parent / "c.crate")
    baked = Usd.Stage.Open(str(result.scene))
    for frame, expected in live.items():
        assert np.allclose(place(baked, frame), expected, atol=1e-9)
    # the sample before the range stands where the simulation starts
    assert np.allclose(place(baked, 0), [0, 0, 0], atol=1e-9)


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ("frequency = 1.5", "frequency = 0", "frequency above zero"),
        ("dampingRatio = 0.4", "dampingRatio = -1", "zero or more"),
    ],
)
def test_a_spring_that_cannot_be_baked_is_named_with_the_reason(old: str, new: str, why: str, spring: Path) -> None:
    spring.write_text(spring.read_text().replace(old, new))
    (failed,) = bake(open_trusted(spring)).failed
    assert failed.simulation == "/Rig/Tail" and why in failed.why


def test_simulations_in_a_circle_name_their_members(tmp_path: Path) -> None:
    one = SPRING.replace("RIG", "").replace("</Lead>", "</Rig2/Tail>")
    other = one[one.index('def Xform "Rig"') :].replace('"Rig"', '"Rig2"').replace("</Rig2/Tail>", "</Rig/Tail>")
    scene = tmp_path / "s.usda"
    scene.write_text(usda(one + other))
    with pytest.raises(WrongUsage, match="/Rig/Tail -> /Rig2/Tail -> /Rig/Tail"):
        bake(open_trusted(scene))


@given(st.lists(st.sampled_from(["a.png", "A.png", "a-2.png", "b.png"]), min_size=1, max_size=12))
def test_r6_no_two_files_take_one_place_on_any_system(names: list[str]) -> None:
    layout = Layout()
    for number, name in enumerate(names):
        layout.put(Path(f"/far/{number}/same", name), Path("/show"), {})
    taken = [str(found).lower() for found in layout.crate_paths.values()]
    assert len(set(taken)) == len(layout.crate_paths) == len(names)


def test_files_keep_their_folders_in_the_project_and_under_named_roots() -> None:
    layout = Layout()
    layout.put(Path("/show/a/b.png"), Path("/show"), {})
    layout.put(Path("/mnt/lib/x/y.png"), Path("/show"), {"lib": Path("/mnt/lib")})
    assert list(map(str, layout.crate_paths.values())) == ["a/b.png", "roots/lib/x/y.png"]
    assert list(layout.sources.values()) == ["project:a/b.png", "lib:x/y.png"]


def test_without_a_project_file_the_root_reaches_as_far_as_relative_paths_do(tmp_path: Path) -> None:
    for name in ("show/tex/a.png", "show/shots/s1/b.png"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(b"x")
    scene = tmp_path / "show/shots/s1/s.usda"
    scene.write_text(usda('def Sphere "S" { asset a = @../../tex/a.png@\nasset b = @./b.png@ }'))
    assert scene_root(open_trusted(scene).survey()) == tmp_path / "show"
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert {file.path for file in read_packing_list(result.crate).files} == {
        "tex/a.png", "shots/s1/b.png", "shots/s1/s.usda", "shots/s1/s.staged.usda",
    }  # fmt: skip


def test_a_project_moves_decisions_elsewhere_and_names_roots(demo: DemoScene, tmp_path: Path) -> None:
    file = demo.project / "tidy-crate.toml"
    text = file.read_text().replace(
        'name = "Lantern Quay"', f'name = "Lantern Quay"\ntidy_dir = "{(tmp_path / "t").as_posix()}"'
    )
    file.write_text(f'{text}\n[roots]\nold = "{demo.archive.as_posix()}"\n')
    context = open_trusted(demo.scene)
    assert context.tidy == tmp_path / "t" / "lantern_quay.tidy"
    lost = next(a for a in context.survey().assets if a.authored.endswith("rope.png"))
    context.file.add("relink", [{"asset": lost.id, "to": (demo.archive / "lantern_quay/textures/rope.png").as_posix()}])
    collect(open_trusted(demo.scene), tmp_path / "c.crate")
    assert (tmp_path / "c.crate/roots/old/lantern_quay/textures/rope.png").is_file()


@pytest.mark.parametrize(
    ("text", "message"),
    [("[[[", "not valid TOML"), ('nome = "x"', "nome"), ("[render]\nname = 'x'", "render.command"),
     ('settings_maps = ["gone.toml"]', "cannot read the settings map")],
)  # fmt: skip
def test_a_broken_project_file_is_named_with_its_key(text: str, message: str, demo: DemoScene) -> None:
    (demo.project / "tidy-crate.toml").write_text(text)
    with pytest.raises(UnreadableInput, match=message):
        open_trusted(demo.scene)


def test_a_request_is_what_the_scene_asks_or_a_part_of_it(demo: DemoScene) -> None:
    survey = open_trusted(demo.scene).survey()
    whole, part = request_for(survey), request_for(survey, frames="1003,1001")
    assert (whole.frames, part.numbers()) == ("1001-1048", (1003, 1001))
    for wrong in ({"frames": "2-1"}, {"name": "../x"}, {"width": 0}, {"samples": 0}):
        with pytest.raises(ValueError, match=next(iter(wrong))):
            RenderRequest.model_validate(whole.model_dump() | wrong)


def test_product_names_carry_the_frame_whatever_the_path_says(demo: DemoScene) -> None:
    output = open_trusted(demo.scene).survey().outputs[0]
    for path, name in (
        ("a/b.####.exr", "b.0007.exr"),
        ("a\\b.%03d.exr", "b.007.exr"),
        ("b.exr", "b.0007.exr"),
        ("", "Beauty.0007.exr"),
    ):
        assert file_name(naming(output.model_copy(update={"path": path})), Task("main", 7)) == name
    assert file_name(naming(output), Task("main", -3)).endswith("-0003.exr")
