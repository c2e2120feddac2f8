"""C13: fixes without a person, in the staged copy only, listed and reversible."""

from __future__ import annotations

from pathlib import Path

import pytest
from pxr import Usd, UsdRender

from conftest import tree
from tidy_crate.core.check.catalogue import catalogue
from tidy_crate.core.check.decide import mend, take_back
from tidy_crate.core.check.finding import Finding
from tidy_crate.core.check.mends import mendable
from tidy_crate.core.check.run import Against, check_crate, check_scene
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.scene.model import Survey
from traps import SHEET, TODAY, TRAPS, Shot, Trap, all_of, scene, sheet

# a baked copy of the camera lies beside it, and the original renders
COPY = 'def Camera "Cam_baked" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 9), 10: (0, 0, 8) }\n'
BAKED = scene(
    "1: (0, 0, 9), 10: (0, 0, 8)",
    "1: (0, 0, 9)",
    'def Sphere "Ball"',
    COPY + '    uniform token[] xformOpOrder = ["xformOp:translate"] }\ndef Sphere "Ball"',
)
MENDED: dict[str, tuple[Trap, str]] = {
    "output-path-empty": (TRAPS["output-path-empty"], "q renders/q/s_q.####.exr"),
    "output-no-frame-token": (TRAPS["output-no-frame-token"], "q q/q.####.exr"),
    "output-path-absolute": (TRAPS["output-path-absolute"], "q renders/q/q.####.exr"),
    "output-path-climbs": (TRAPS["output-path-climbs"], "q q.####.exr"),
    "output-data-compressed-with-loss": (TRAPS["output-data-compressed-with-loss"], "p zip"),
    "camera-not-chosen": (TRAPS["camera-not-chosen"], "p /Cam"),
    "camera-still-beside-moving": (BAKED, "p /Cam_baked"),
    "resolution-scaled-down": (TRAPS["resolution-scaled-down"], "64 36"),
    "resolution-scaled-up": (TRAPS["resolution-scaled-up"], "64 36"),
    "proxies-rendered": (TRAPS["proxies-rendered"], "['default']"),
    "guides-rendered": (TRAPS["guides-rendered"], "['default']"),
    "screen-quality-in-render": (
        all_of(scene('custom string brush:detail = "final"', "custom bool brush:screen = 1")),
        "quality render",
    ),
}


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    (tmp_path / "shot").mkdir()
    return Shot(tmp_path / "shot")


def said(survey: Survey) -> str:
    """All that a mend may change, as one text."""
    size = survey.resolution.rendered if survey.resolution else (0, 0)
    rows = [f"{size[0]} {size[1]}", str(survey.canonical["render_purposes"]), f"quality {survey.canonical['quality']}"]
    for one in survey.outputs:
        rows += [f"{one.name} {one.path}", f"{one.name} {one.camera}", f"{one.name} {one.compression}"]
    return "\n".join(rows)


@pytest.mark.parametrize("code", MENDED)
def test_c13_a_mend_puts_right_the_staged_copy_and_nothing_else(code: str, shot: Shot, tmp_path: Path) -> None:
    trap, wanted = MENDED[code]
    trap(shot)
    file = shot.write()
    _with_a_switch(shot)
    originals = tree(shot.folder)
    before = [f for f in check_scene(open_scene(file)).findings if f.code == code]
    assert before and all(finding.mend and finding.next.value == "mend" for finding in before)
    done = mend(open_scene(file), lambda: open_scene(file))
    assert code in {one.code for one in done}
    context = open_scene(file)
    after = check_scene(context)
    assert code not in {finding.code for finding in after.findings}
    assert {(one.code, one.subject) for one in after.mends} == {(one.code, one.subject) for one in done}
    assert wanted in said(context.survey()) and wanted not in said(context.survey_as_found())
    # the crate has it too, written into the scene itself, and the artist's files are as they were
    collect(context, tmp_path / "s.crate")
    crate = check_crate(tmp_path / "s.crate", Against(cards=(read_card(shot.folder / "gull.farm.toml"),), today=TODAY))
    assert code not in {finding.code for finding in crate.findings}
    assert {name: data for name, data in tree(shot.folder).items() if name in originals} == originals
    # and all of it can be taken back
    gone = take_back(open_scene(file), code)
    assert {one.code for one in gone} == {code}
    assert code in {finding.code for finding in check_scene(open_scene(file)).findings}


def _with_a_switch(shot: Shot) -> None:
    """One more meaning for the project's settings map: a switch for the quality of the screen."""
    path = shot.folder / "brush.toml"
    text = path.read_text().replace("[means]", '[means]\n"brush:screen" = "quality"')
    path.write_text(text.replace("[values]", '[values]\n"brush:screen" = { true = "screen", false = "render" }'))


def test_every_mend_is_tried_here() -> None:
    assert set(MENDED) == mendable() and mendable() <= set(catalogue())


def test_a_mend_gives_way_when_the_next_version_puts_it_right_itself(shot: Shot) -> None:
    shot.name = "s_v001.usda"
    TRAPS["output-path-empty"](shot)
    first = shot.write()
    mend(open_scene(first), lambda: open_scene(first))
    assert "q renders/q/s_q.####.exr" in said(open_scene(first).survey())
    # in the next version the artist gives the output a path of his own, which holds
    fresh = Shot(shot.folder, name="s_v002.usda")
    second = fresh.write()
    context = open_scene(second)
    assert "q q/q.####.exr" in said(context.survey())
    assert check_scene(context).mends == ()


def test_a_person_who_overrides_wins_over_a_mend(shot: Shot) -> None:
    TRAPS["output-path-empty"](shot)
    file = shot.write()
    mend(open_scene(file), lambda: open_scene(file))
    open_scene(file).file.set(("output", "q"), {"path": "mine/q.####.exr"})
    assert "q mine/q.####.exr" in said(open_scene(file).survey())


def test_mending_twice_changes_nothing_and_what_is_not_there_cannot_be_taken_back(shot: Shot) -> None:
    TRAPS["output-path-empty"](shot)
    file = shot.write()
    mend(open_scene(file), lambda: open_scene(file))
    written = open_scene(file).file.path.read_bytes()
    assert mend(open_scene(file), lambda: open_scene(file)) == ()
    assert open_scene(file).file.path.read_bytes() == written
    with pytest.raises(WrongUsage, match="no such mend"):
        take_back(open_scene(file), "camera-not-chosen")
    assert len(take_back(open_scene(file), "all")) == 1


def test_no_mend_is_offered_where_a_person_must_decide(shot: Shot) -> None:
    # with two cameras only a person knows which of them is meant
    all_of(BAKED, scene("rel camera = </Cam>", "", "1: (0, 0, 9)", "1: (0, 0, 9), 10: (0, 0, 8)"))(shot)
    found = [f for f in check_scene(open_scene(shot.write())).findings if f.code == "camera-not-chosen"]
    assert found and all(finding.mend is None for finding in found)


def test_two_outputs_never_get_one_path(shot: Shot) -> None:
    all_of(scene('"p/p.####.exr"', '""', '"q/q.####.exr"', '""'))(shot)
    shot.project = 'naming = "all.####.exr"\n' + shot.project
    file = shot.write()
    done = mend(open_scene(file), lambda: open_scene(file))
    assert [(one.code, one.subject) for one in done] == [("output-path-empty", "p")]
    assert [o.path for o in open_scene(file).survey().outputs] == ["all.####.exr", ""]


def test_a_sheet_takes_mends_of_paths_cameras_and_scale(shot: Shot, tmp_path: Path) -> None:
    output = {**SHEET["outputs"][0], "path": "p/p.exr", "camera": None}
    sheet(outputs=[output], resolution={"width": 64, "height": 36, "scale": 0.5})(shot)
    file = shot.write()
    done = mend(open_scene(file), lambda: open_scene(file))
    assert {one.code for one in done} == {"output-no-frame-token", "camera-not-chosen", "resolution-scaled-down"}
    context = open_scene(file)
    survey = context.survey()
    assert (survey.outputs[0].path, survey.outputs[0].camera, survey.resolution.rendered) == (  # type: ignore[union-attr]
        "p/p.####.exr", "Lens", (64, 36),
    )  # fmt: skip
    crate = tmp_path / "s.crate"
    collect(context, crate)
    packed = open_scene(next(crate.rglob("*.sheet.json"))).survey_as_found()
    assert packed.outputs[0].path == "p/p.####.exr" and packed.resolution == survey.resolution.model_copy(  # type: ignore[union-attr]
        update={"scale": 1.0}
    )


def test_mends_stand_in_the_staged_scene_as_usd_itself_reads_it(shot: Shot, tmp_path: Path) -> None:
    all_of(TRAPS["output-path-empty"], TRAPS["camera-not-chosen"])(shot)
    file = shot.write()
    mend(open_scene(file), lambda: open_scene(file))
    result = collect(open_scene(file), tmp_path / "s.crate")
    stage = Usd.Stage.Open(str(result.scene))
    product = UsdRender.Product(stage.GetPrimAtPath("/Render/q"))
    assert product.GetProductNameAttr().Get() == "renders/q/s_q.####.exr"
    assert [str(path) for path in product.GetCameraRel().GetTargets()] == ["/Cam"]


def test_a_mended_setting_keeps_its_type(shot: Shot, tmp_path: Path) -> None:
    TRAPS["resolution-scaled-down"](shot)
    file = shot.write()
    mend(open_scene(file), lambda: open_scene(file))
    result = collect(open_scene(file), tmp_path / "s.crate")
    stage = Usd.Stage.Open(str(result.scene))
    attribute = stage.GetAttributeAtPath("/Render/S.brush:percent")
    assert (str(attribute.GetTypeName()), attribute.Get(), type(attribute.Get())) == ("int", 100, int)


@pytest.mark.parametrize(
    "path",
    [
        "q/.exr",
        "renders/",
        "q",
        "q/q_0001.exr",
        "q/q.$F4.exr",
        "q/q.%05d.jpg2",
        "q/shot010.exr",
        "q/q.<time>.exr",
        "q/v2.exr",
    ],
)
def test_a_name_that_may_say_its_number_itself_is_left_to_a_person(shot: Shot, path: str) -> None:
    scene('"q/q.####.exr"', f'"{path}"')(shot)
    assert not [one for one in mends_for_shot(shot) if one.code == "output-no-frame-token"]


def test_a_name_that_changes_over_time_gets_no_number(shot: Shot) -> None:
    scene('token productName = "q/q.####.exr"', 'token productName.timeSamples = { 1: "q/a.exr", 2: "q/b.exr" }')(shot)
    assert not [one for one in mends_for_shot(shot) if one.code == "output-no-frame-token"]


@pytest.mark.parametrize(
    ("path", "mended"), [("q/night sky.exr", "q/night sky.####.exr"), ("q.b/sea.exr", "q.b/sea.####.exr")]
)
def test_a_plain_name_gets_its_number(shot: Shot, path: str, mended: str) -> None:
    scene('"q/q.####.exr"', f'"{path}"')(shot)
    (one,) = [one for one in mends_for_shot(shot) if one.code == "output-no-frame-token"]
    assert mended in str(one.mend)


def mends_for_shot(shot: Shot) -> list[Finding]:
    """All findings of a shot for which a mend is offered."""
    return [one for one in shot.check().findings if one.mend is not None]
