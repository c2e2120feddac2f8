"""Caches: what is in them, what they rest on, and that no accident makes a half one count."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from conftest import ANY, tree
from tidy_crate.core.bake.proof import prove_order
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.files import write_whole
from tidy_crate.core.scene.caches import read_records
from tidy_crate.core.scene.formats.usd.simulation.baker import UsdBaker
from tidy_crate.core.scene.formats.usd.simulation.live import Evaluator
from tidy_crate.core.scene.formats.usd.simulation.unfinished import Unfinished

HEAD = """#usda 1.0
(
    defaultPrim = "W"
    startTimeCode = {first}
    endTimeCode = {last}
    timeCodesPerSecond = 25
    upAxis = "Z"
    metersPerUnit = 1
    renderSettingsPrimPath = "/R"
)
def RenderSettings "R"
{{
    bool disableMotionBlur = {still}
}}
"""
RIBBON = """
def Xform "W"
{
    def Xform "Cart"
    {
        double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 6: (0, 0, 0), 9: (3, 0, 0), 20: (3, 0, 0) }
        uniform token[] xformOpOrder = ["xformOp:translate"]
        def Mesh "Flag"
        {
            point3f[] points = [(0, 0, 0), (0, 0, 1), (1, 0, 0), (1, 0, 1), (2, 0, 0), (2, 0, 1)]
            int[] faceVertexCounts = [4, 4]
            int[] faceVertexIndices = [0, 1, 3, 2, 2, 3, 5, 4]
            token tidy:simulation = "jiggle"
            double tidy:jiggle:frequency = 2
            float[] tidy:jiggle:weights = [0, 0, 1, 1, 1, 1]
        }
    }
    def Points "Rain"
    {
        token tidy:simulation = "particles"
        double tidy:simulation:start = -9
        double tidy:particles:rate = 200
        double tidy:particles:life = 0.8
        vector3d tidy:particles:size = (4, 4, 0)
        double tidy:particles:spread = 0.2
        double tidy:particles:drag = 0.5
        double tidy:particles:floor = -2
        double tidy:particles:bounce = 0.3
        int tidy:particles:seed = 5
    }
}
"""


def show(folder: Path, body: str = RIBBON, first: int = 1, last: int = 20, blurred: bool = False) -> SceneContext:
    folder.mkdir(parents=True, exist_ok=True)
    scene = folder / "s.usda"
    scene.write_text(HEAD.format(first=first, last=last, still=0 if blurred else 1) + body)
    return open_scene(scene)


def points(stage: Usd.Stage, prim: str, frame: float) -> np.ndarray:
    return np.array(UsdGeom.PointBased(stage.GetPrimAtPath(prim)).GetPointsAttr().Get(frame))


def live(context: SceneContext, frames: list[int]) -> dict[int, tuple[np.ndarray, np.ndarray]]:
    stage = Usd.Stage.Open(str(context.scene))
    node, found = Evaluator(stage), {}
    for frame in frames:
        node.go_to(frame)
        found[frame] = points(stage, "/W/Cart/Flag", frame), points(stage, "/W/Rain", frame)
    return found


def staged(context: SceneContext, folder: Path) -> Usd.Stage:
    crate = folder / "c.crate"
    collect(open_scene(context.scene), crate)
    assert prove(crate, os.environ, ANY, test=False).whole
    from tidy_crate.core.crate.packing import read_packing_list

    return Usd.Stage.Open(str(crate / read_packing_list(crate).scene))


@pytest.mark.parametrize("clips", [False, True])
def test_b3_b4_what_was_cached_is_what_a_node_that_began_at_the_start_saw(tmp_path: Path, clips: bool) -> None:
    baker = UsdBaker(clips_above=0 if clips else 1 << 40)
    context = show(tmp_path / "show")
    seen = live(context, list(range(1, 21)))
    result = bake(context, baker=baker)
    assert [one.simulation for one in result.baked] == ["/W/Cart/Flag", "/W/Rain"] and not result.failed
    stage = staged(context, tmp_path)
    for frame, (flag, _) in seen.items():
        assert np.allclose(points(stage, "/W/Cart/Flag", frame), flag, atol=1e-6)
    # the flag swings after its cart has stopped, and what sticks to the cart stays on it
    assert np.abs(seen[10][0][4:, 0] - 2).max() > 0.1 and np.allclose(seen[10][0][:2, 0], 0)
    # the rain began before the first frame, and every frame has its own drops
    counts = [len(points(stage, "/W/Rain", frame)) for frame in (1, 10, 20)]
    assert counts[0] == 80 and counts[1:] == [152, 160]
    rain = stage.GetPrimAtPath("/W/Rain")
    ids, speeds = rain.GetAttribute("ids").Get(20), rain.GetAttribute("velocities").Get(20)
    assert len(set(ids)) == len(ids) == len(speeds) == 160
    assert points(stage, "/W/Rain", 20)[:, 2].min() >= -2
    # nothing solves on top of it
    node = Evaluator(stage)
    node.go_to(10)
    assert np.allclose(points(stage, "/W/Cart/Flag", 10), seen[10][0], atol=1e-6)
    assert prove_order(open_scene(context.scene)).holds
    assert bool(list((context.tidy / "caches").glob("*.clips-*"))) is clips


def test_b10_unbaked_the_proof_names_every_simulation(tmp_path: Path) -> None:
    proof = prove_order(show(tmp_path))
    assert not proof.holds and set(proof.live) == {"/W/Cart/Flag", "/W/Rain"}
    assert {one.simulation for one in proof.differs} == {"/W/Cart/Flag", "/W/Rain"}


@pytest.mark.parametrize("clips", [False, True])
def test_b6_with_motion_blur_there_are_samples_between_frames_and_beyond_both_ends(tmp_path: Path, clips: bool) -> None:
    baker = UsdBaker(clips_above=0 if clips else 1 << 40)
    context = show(tmp_path / "show", blurred=True)
    bake(context, ["/W/Cart/Flag"], baker=baker)
    (record,) = read_records(context.tidy / "caches")
    assert (record.per_frame, record.first, record.last) == (4, 0, 21)
    stage = staged(context, tmp_path)
    # straight from quarter to quarter, and not from frame to frame
    at = {t: points(stage, "/W/Cart/Flag", t)[4] for t in (8.0, 8.25, 8.375, 8.5, 9.0)}
    assert np.allclose(at[8.375], (at[8.25] + at[8.5]) / 2, atol=1e-6)
    whole, half = ([points(stage, "/W/Cart/Flag", n + part)[4] for n in range(1, 20)] for part in (0.0, 0.5))
    middles = [(before + after) / 2 for before, after in pairwise(whole)]
    assert max(np.abs(seen - middle).max() for seen, middle in zip(half, middles, strict=False)) > 1e-3
    # without blur one sample a frame would do, so switching it on makes the cache stale
    (tmp_path / "other").mkdir()
    plain = show(tmp_path / "other")
    bake(plain, ["/W/Cart/Flag"])
    show(tmp_path / "other", blurred=True)
    states = {s.name: s.state.value for s in open_scene(plain.scene).survey().simulations}
    assert states == {"/W/Cart/Flag": "stale", "/W/Rain": "live"}


DEPENDS = """
def Xform "W"
{
    def Xform "A"
    {
        double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 3: (5, 0, 0), 20: (5, 0, 0) }
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }
    def Xform "C"
    {
        token tidy:simulation = "springFollow"
        rel tidy:spring:target = </W/B/Inner>
        double tidy:spring:frequency = 1
        double tidy:spring:dampingRatio = 0.2
    }
    def Xform "B"
    {
        token tidy:simulation = "springFollow"
        rel tidy:spring:target = </W/A>
        double tidy:spring:frequency = FREQUENCY
        double tidy:spring:dampingRatio = 0.2
        def Xform "Inner" {
        }
    }
}
"""


def test_b2_what_others_go_by_is_baked_first_and_makes_them_stale_when_it_changes(tmp_path: Path) -> None:
    context = show(tmp_path / "show", DEPENDS.replace("FREQUENCY", "1.5"))
    by_name = {one.name: one for one in context.survey().simulations}
    assert by_name["/W/C"].depends_on == ("/W/B/Inner", "/W/B")
    result = bake(context, ["/W/C"])
    assert [one.simulation for one in result.baked] == ["/W/B", "/W/C"]
    stage = staged(context, tmp_path)
    place = UsdGeom.XformCache(20).GetLocalToWorldTransform(stage.GetPrimAtPath("/W/C")).ExtractTranslation()
    assert 2 < place[0] < 9
    context = show(tmp_path / "show", DEPENDS.replace("FREQUENCY", "1.6"))
    assert {one.state.value for one in context.survey().simulations} == {"stale"}
    assert len(bake(context).baked) == 2


def test_a_simulation_whose_ground_could_not_be_baked_is_not_baked_on_air(tmp_path: Path) -> None:
    context = show(tmp_path, DEPENDS.replace("FREQUENCY", "-1"))
    result = bake(context)
    why = {one.simulation: one.why for one in result.failed}
    assert "frequency above zero" in why["/W/B"] and "/W/B, which could not be baked" in why["/W/C"]
    assert not result.baked


def test_a_circle_names_its_members(tmp_path: Path) -> None:
    body = DEPENDS.replace("FREQUENCY", "1").replace("</W/A>", "</W/C>")
    context = show(tmp_path, body)
    with pytest.raises(TidyCrateError, match="cycle") as caught:
        bake(context)
    assert "/W/B -> /W/C -> /W/B" in str(caught.value) or "/W/C -> /W/B -> /W/C" in str(caught.value)
    with pytest.raises(UnreadableInput, match="cycle"):
        Evaluator(Usd.Stage.Open(str(context.scene)))


TURNING = """
def Xform "W"
{
    def Xform "Door"
    {
        double xformOp:rotateZ.timeSamples = { 1: 0, 5: 0, 8: 170, 20: 190 }
        uniform token[] xformOpOrder = ["xformOp:rotateZ"]
    }
    def Xform "Sign"
    {
        token tidy:simulation = "springFollow"
        token tidy:spring:follows = "both"
        rel tidy:spring:target = </W/Door>
        double tidy:spring:frequency = 2
        double tidy:spring:dampingRatio = 0.5
        double3 xformOp:scale = (1, 2, 3)
        uniform token[] xformOpOrder = ["xformOp:scale"]
    }
}
"""


def test_b5_a_spring_follows_a_turn_the_short_way_and_keeps_its_scale(tmp_path: Path) -> None:
    context = show(tmp_path / "show", TURNING, last=60)
    bake(context)
    stage = staged(context, tmp_path)

    def matrix(frame: float) -> np.ndarray:
        return np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(stage.GetPrimAtPath("/W/Sign")))

    def angle(frame: float) -> float:
        return float(np.degrees(np.arctan2(matrix(frame)[0, 1], matrix(frame)[0, 0])))

    assert angle(4) == pytest.approx(0, abs=1e-6)
    assert 5 < angle(8) < 160  # it lags
    assert angle(60) % 360 == pytest.approx(190, abs=0.5)
    for frame in (1, 8, 8.5, 20):
        assert np.linalg.norm(matrix(frame)[:3, :3], axis=1) == pytest.approx([1, 2, 3], abs=1e-6)


INSTANCED = """
def Xform "W"
{
    def "One" ( instanceable = true
        references = @./part.usda@</P> )
    {
    }
    def "Two" ( instanceable = true
        references = @./part.usda@</P> )
    {
    }
}
"""


def test_simulations_inside_instances_are_found_solved_and_baked_each(tmp_path: Path) -> None:
    (tmp_path / "show").mkdir()
    part = RIBBON.split('def Xform "Cart"')[1].split('    def Points "Rain"')[0].rstrip()
    (tmp_path / "show" / "part.usda").write_text('#usda 1.0\ndef Xform "P"' + part + "\n")
    context = show(tmp_path / "show", INSTANCED)
    assert [one.name for one in context.survey().simulations] == ["/W/One/Flag", "/W/Two/Flag"]
    assert context.survey().totals.live_simulations == 2
    assert len(bake(context).baked) == 2
    stage = staged(context, tmp_path)
    assert not np.allclose(points(stage, "/W/Two/Flag", 9), points(stage, "/W/Two/Flag", 1), atol=0.05)
    assert prove_order(open_scene(context.scene)).holds


def test_b8_a_killed_bake_goes_on_at_its_frame_and_comes_to_the_same_bytes(tmp_path: Path) -> None:
    whole = show(tmp_path / "whole", last=60)
    bake(whole)
    cut = show(tmp_path / "cut", last=60)
    program = (
        "import sys, time\n"
        "from pathlib import Path\n"
        "from tidy_crate.core.bake.run import bake\n"
        "from tidy_crate.core.context.scene import open_scene\n"
        "def slowly(step):\n"
        "    print(step.subject, step.done, flush=True); time.sleep(0.02)\n"
        "bake(open_scene(Path(sys.argv[1])), progress=slowly)\n"
    )
    for stop in (12, 30):
        with subprocess.Popen(
            [sys.executable, "-c", program, str(cut.scene)], stdout=subprocess.PIPE, text=True
        ) as child:
            assert child.stdout is not None
            for _ in range(stop):
                child.stdout.readline()
            child.send_signal(signal.SIGTERM if sys.platform == "win32" else signal.SIGKILL)
    assert not list((cut.tidy / "caches").glob("*Flag*.record.json"))
    steps: list[float] = []
    bake(open_scene(cut.scene), progress=lambda step: steps.append(step.done))
    assert steps[0] > 12
    for name, data in tree(whole.tidy / "caches").items():
        assert (cut.tidy / "caches" / name).read_bytes() == data
    assert not list((cut.tidy / "caches").glob("*.work"))


def test_b8_a_disk_that_fills_up_leaves_the_earlier_cache_and_what_was_done(tmp_path: Path) -> None:
    context = show(tmp_path)
    bake(context)
    before = tree(context.tidy / "caches")
    context = show(tmp_path, last=24)
    written = [0]

    def full(path: Path, **more: bool):  # type: ignore[no-untyped-def]
        written[0] += 1
        if written[0] > 20:
            raise TidyCrateError("cannot write the file (no space left on device)", path)
        return write_whole(path, **more)

    baker = UsdBaker(unfinished=lambda folder, key: Unfinished(folder, key, 0.0, full))
    result = bake(context, baker=baker)
    assert all("no space left" in one.why for one in result.failed) and not result.baked
    after = tree(context.tidy / "caches")
    assert {name: after[name] for name in before} == before
    steps: list[float] = []
    assert len(bake(open_scene(context.scene), progress=lambda step: steps.append(step.done)).baked) == 2
    assert steps[0] > 3


@pytest.mark.parametrize("wreck", ["gone", "empty", "cut", "other"])
def test_b7_a_wrecked_clip_is_seen_and_baked_again(tmp_path: Path, wreck: str) -> None:
    baker = UsdBaker(clips_above=0)
    context = show(tmp_path)
    bake(context, baker=baker)
    (clips,) = (context.tidy / "caches").glob("*Flag.clips-*")
    files = sorted(clips.glob("*.usdc"))
    whole = tree(clips)
    victim = files[7]
    if wreck == "gone":
        victim.unlink()
    elif wreck == "other":
        shutil.copyfile(files[8], victim)
    else:
        victim.write_bytes(b"" if wreck == "empty" else victim.read_bytes()[:100])
    if wreck != "other":
        flag = next(one for one in open_scene(context.scene).survey().simulations if "Flag" in one.name)
        assert flag.state.value == "partial"
    result = bake(open_scene(context.scene), baker=baker)
    assert [one.simulation for one in result.baked] == ["/W/Cart/Flag"]
    assert tree(clips) == whole


def test_a_cache_of_another_scene_is_stale(tmp_path: Path) -> None:
    one, other = show(tmp_path / "one"), show(tmp_path / "other", RIBBON.replace("frequency = 2", "frequency = 3"))
    bake(one)
    shutil.copytree(one.tidy, other.tidy, dirs_exist_ok=True)
    states = {s.name: s.state.value for s in open_scene(other.scene).survey().simulations}
    assert states == {"/W/Cart/Flag": "stale", "/W/Rain": "cached"}


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ("frequency = 2", "frequency = 0", "positive frequency"),
        ("[0, 0, 1, 1, 1, 1]", "[0, 0, 1]", "6 points and 3 weights"),
        ("[0, 0, 1, 1, 1, 1]", "[0, 0, 1, 1, 1, 7]", "between 0 and 1"),
        ("faceVertexCounts = [4, 4]", "faceVertexCounts = [4, 5]", "faces of a jiggle"),
        ("life = 0.8", "life = 0", "need a life"),
        ("seed = 5", "seed = -5", "seed of particles"),
        ("drag = 0.5", "drag = inf", "not a number"),
    ],
)
def test_what_makes_no_sense_is_named_and_the_rest_is_baked(tmp_path: Path, old: str, new: str, why: str) -> None:
    context = show(tmp_path, RIBBON.replace(old, new))
    result = bake(context)
    assert len(result.failed) == 1 and why in result.failed[0].why
    assert len(result.baked) == 1
    assert open_scene(context.scene).survey().totals.live_simulations == 1


def test_a_cache_before_frame_zero_needs_no_clips(tmp_path: Path) -> None:
    context = show(tmp_path / "show", first=-6, last=3)
    bake(context, baker=UsdBaker(clips_above=0))
    stage = staged(context, tmp_path)
    assert len(points(stage, "/W/Rain", -5)) != len(points(stage, "/W/Rain", 3))


@pytest.mark.parametrize(("first", "last"), [(20, 1), (1, 0)])
def test_a_range_that_ends_before_it_starts_is_nothing_to_bake_for(tmp_path: Path, first: int, last: int) -> None:
    with pytest.raises(TidyCrateError, match="no frame range"):
        bake(show(tmp_path, first=first, last=last))


def test_a_range_of_one_frame_and_a_start_after_the_end_are_baked_at_rest(tmp_path: Path) -> None:
    context = show(tmp_path, RIBBON.replace("start = -9", "start = 90"), first=5, last=5)
    assert len(bake(context).baked) == 2
    survey = open_scene(context.scene).survey()
    assert [one.covers for one in survey.simulations] == [(4, 6), (4, 6)]
    assert survey.totals.live_simulations == 0
