"""The catalogue: each trap under its own code, and nothing on a clean shot."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import pytest

from conftest import ANY, make_ready, open_trusted, usda
from tidy_crate.cli.check_docs import page
from tidy_crate.core.check.catalogue import catalogue, check_of
from tidy_crate.core.check.decide import waive
from tidy_crate.core.check.finding import Check, Checked, Next, Severity
from tidy_crate.core.check.judge import run_checks
from tidy_crate.core.check.run import Against, check_scene
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.context.relink import let_go
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.errors import WrongUsage
from tidy_crate.practice.demo.scene import DemoScene
from traps import BIG, SHEET, TRAPS, Shot, Trap, after_collect, all_of, card, files, png, project, scene, sheet, timed

# what one trap brings with it: a scene without a camera has none that moves either
CONSEQUENCES = 4
# tested below and with the physics, since they take more than a change of the shot
ELSEWHERE = {
    "file-outside-project",
    "file-unreadable",
    "file-other-case",
    "file-let-go",
    "identifier-version-changed",
    "simulation-unsolved",
    "simulation-refused",
}


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    """A clean shot in a folder of its own, with a file outside of its project."""
    folder = tmp_path / "shot"
    folder.mkdir()
    (tmp_path / "outside.png").write_bytes(png())
    return Shot(folder)


def serious(shot: Shot) -> list[tuple[str, str]]:
    return [(f.code, f.message) for f in shot.check().findings if f.severity is not Severity.NOTE]


@pytest.mark.parametrize("kind", ["scene", "sheet", "crate", "crate with timings"])
def test_a_clean_shot_has_no_error_and_no_warning(shot: Shot, kind: str) -> None:
    prepare = {
        "scene": scene(),
        "sheet": sheet(),
        "crate": after_collect(lambda _: None),
        "crate with timings": timed(9.0),
    }
    prepare[kind](shot)
    assert serious(shot) == []


@pytest.mark.parametrize("code", TRAPS)
def test_each_trap_is_found_under_its_own_code(code: str, shot: Shot) -> None:
    TRAPS[code](shot)
    found = shot.check().findings
    mine = [finding for finding in found if finding.code == code]
    assert mine and all(finding.severity is catalogue()[code].severity for finding in mine)
    assert all(finding.subject and finding.message and finding.remedy for finding in mine)
    assert (mine[0].farm == "gull") is (catalogue()[code].of_farm is not None)
    # one trap may have consequences, but the clean rest stays clean
    others = {f.code for f in found if f.severity is not Severity.NOTE} - {code}
    assert len(others) <= CONSEQUENCES, others


def test_every_check_has_a_trap_and_says_why_it_matters() -> None:
    assert len(catalogue()) >= 60
    assert set(TRAPS) | ELSEWHERE == set(catalogue())
    assert all(len(one.why) > 30 and one.why.endswith(".") and one.need for one in catalogue().values())


def test_the_page_of_all_checks_is_up_to_date() -> None:
    written = (Path(__file__).parents[2] / "docs" / "checks.md").read_text(encoding="utf-8")
    assert written == page(), "run python -m tidy_crate.cli.check_docs > docs/checks.md"


@pytest.mark.skipif(os.name == "nt", reason="there every file that can be seen can be read")
def test_c5_a_file_that_may_not_be_read_is_an_error() -> None:
    # not below pytest's own folder, which is closed to the user that this test becomes
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)
        shot = Shot(folder)
        scene_file = shot.write()
        (folder / "a.png").chmod(0)
        survey = open_scene(scene_file).survey_as_found()
        asset = next(one for one in survey.assets if one.authored == "./a.png")
        if not asset.members:  # an ordinary user sees it while surveying
            assert "may not be read" in (asset.trouble or "")
            return
        was = os.geteuid()
        os.seteuid(65534)
        try:
            found = run_checks(Checked(survey, folder)).findings
        finally:
            os.seteuid(was)
        assert "file-unreadable" in {one.code for one in found}


def test_c5_a_name_in_other_capitals_than_on_disk_is_told(shot: Shot) -> None:
    survey = open_scene(shot.write()).survey_as_found()
    other = shot.folder / "A.png"
    assets = tuple(
        one.model_copy(update={"resolved": other, "members": (one.members[0].model_copy(update={"path": other}),)})
        for one in survey.assets
    )
    changed = survey.model_copy(update={"assets": assets})
    found = run_checks(Checked(changed, shot.folder)).findings
    assert ("file-other-case", "on disk it is a.png") in {(one.code, one.message) for one in found}


def test_c6_what_a_bake_cannot_solve_is_told(shot: Shot) -> None:
    survey = open_scene(_with(shot, sheet(simulations=[{"name": "crane", "state": "live", "start": -9}]))).survey()
    crane = survey.simulations[0].model_copy(update={"trouble": ("/Crane/Hook: drives are not solved",)})
    changed = survey.model_copy(update={"simulations": (crane,)})
    found = run_checks(Checked(changed, shot.folder)).findings
    assert ("simulation-unsolved", "/Crane/Hook: drives are not solved") in {(one.code, one.message) for one in found}


def _with(shot: Shot, trap) -> Path:  # type: ignore[no-untyped-def]
    trap(shot)
    return shot.write()


def test_c5_a_file_from_a_folder_that_the_user_agreed_to_is_only_noted(shot: Shot) -> None:
    TRAPS["file-from-outside"](shot)
    file = shot.write()
    for trust, expected in ((None, "file-from-outside"), (ANY.trust, "file-outside-project")):
        found = {f.code for f in check_scene(open_scene(file, trust=trust)).findings}
        assert found & {"file-from-outside", "file-outside-project"} == {expected}


def test_r12_only_a_newer_version_beside_it_is_told(shot: Shot) -> None:
    TRAPS["scene-newer-beside"](shot)
    assert [code for code, _ in serious(shot)] == ["scene-newer-beside"]
    shot.name = "s_v011.usda"
    assert serious(shot) == []


def test_warnings_are_waived_with_a_reason_and_errors_are_not(shot: Shot) -> None:
    file = _with(shot, TRAPS["resolution-odd"])
    shot.scene = shot.scene.replace("brush:rays = 64", "brush:rays = 9000")
    context = open_scene(shot.write())
    waive(context, Waiver(code="samples-very-high", because="a test on purpose", by="Wren"))
    waive(context, Waiver(code="frames-beyond-animation", because="left over"))
    waive(context, Waiver(code="rates-old", because="not asked about here"))
    result = check_scene(open_scene(file))
    found = {f.code: f for f in result.findings}
    assert (found["samples-very-high"].waived_because, found["samples-very-high"].waived_by) == (
        "a test on purpose",
        "Wren",
    )
    # of a farm's checks nothing is said where no farm was asked about
    assert [(waiver.code, waiver.reason) for waiver in result.unused_waivers] == [
        ("frames-beyond-animation", "it matches nothing any more")
    ]
    with pytest.raises(WrongUsage, match="cannot be waived"):
        waive(context, Waiver(code="file-missing", because="please"))
    with pytest.raises(WrongUsage) as error:
        waive(context, Waiver(code="sample-very-high", because="please"))
    assert error.value.remedy == "did you mean samples-very-high?"


def test_a_waiver_of_one_subject_leaves_the_others(shot: Shot) -> None:
    outputs = [{**SHEET["outputs"][0], "name": name, "path": f"{name}.####.pix"} for name in ("p", "q")]
    file = _with(shot, sheet(outputs=outputs))
    waive(open_scene(file), Waiver(code="output-format-unknown", subject="p", because="our own format"))
    found = [f for f in check_scene(open_scene(file)).findings if f.code == "output-format-unknown"]
    assert {f.subject: f.waived for f in found} == {"p": True, "q": False}


def test_a_project_changes_severities_and_limits(shot: Shot) -> None:
    shot.project += (
        '\n[severity]\n"resolution-odd" = "error"\n"brief-resolution-differs" = "warning"\n[limits]\nsamples = 32\n'
    )
    TRAPS["resolution-odd"](shot)
    result = shot.check()
    assert {f.code: f.severity for f in result.findings if f.severity is not Severity.NOTE} == {
        "resolution-odd": Severity.ERROR,
        "brief-resolution-differs": Severity.WARNING,
        "samples-very-high": Severity.WARNING,
    }
    waive(open_scene(shot.folder / "s.usda"), Waiver(code="brief-resolution-differs", because="one line of safety"))
    with pytest.raises(WrongUsage):
        waive(open_scene(shot.folder / "s.usda"), Waiver(code="resolution-odd", because="please"))


def test_a_severity_for_a_check_that_there_is_not_is_refused(shot: Shot) -> None:
    shot.project += '\n[severity]\n"file-mising" = "note"\n'
    with pytest.raises(WrongUsage) as error:
        check_scene(open_scene(shot.write()))
    assert error.value.remedy == "did you mean file-missing?"


def test_r5_a_file_that_was_let_go_warns_and_no_longer_blocks(shot: Shot) -> None:
    file = _with(shot, TRAPS["file-missing"])
    context = open_scene(file)
    assert check_scene(context).blocked
    let_go(context, context.survey(), "./b.png", "it is behind the wall")
    result = check_scene(open_scene(file))
    assert not result.blocked
    assert [f.code for f in result.findings if f.severity is Severity.WARNING] == ["file-let-go"]
    assert [f.code for f in result.settled] == ["file-missing"]


def test_a_check_that_fails_says_so_under_its_own_code(shot: Shot) -> None:
    survey = open_scene(shot.write()).survey()
    broken = survey.model_copy(update={"outputs": None})
    found = {f.code: f.message for f in run_checks(Checked(broken, shot.folder)).findings}
    assert "the check itself failed (TypeError" in found["output-movie"]


def test_a_check_that_gives_something_else_than_troubles_says_so(shot: Shot) -> None:
    from tidy_crate.core.check import judge

    wrong = Check("studio-odd", Severity.WARNING, "C1", "why", Next.DECIDE, of_scene=lambda scene: iter(["text"]))
    survey = open_scene(shot.write()).survey()
    (found,) = judge.run_checks(Checked(survey, shot.folder), checks={"studio-odd": wrong}).findings
    assert found.code == "studio-odd" and "it gave str, not Trouble" in found.message


def test_c8_unknown_settings_are_said_to_be_unknown_and_nothing_is_made_of_them(shot: Shot) -> None:
    shot.scene = shot.scene.replace("brush:", "crayon:")
    found = {f.code: f for f in shot.check().findings}
    assert "samples, light transport, denoiser, device" in found["settings-unknown"].message
    assert not {"samples-very-high", "samples-none", "resolution-scaled-down"} & set(found)


def test_seen_tells_the_scene_as_found_from_the_staged_copy(shot: Shot) -> None:
    file = _with(shot, TRAPS["output-path-empty"])
    context = open_scene(file)
    context.file.set(("output", "q"), {"path": "q/q.png"})
    result = check_scene(open_scene(file))
    assert {f.code: f.seen for f in result.findings if f.subject == "q"}["output-no-frame-token"] == "staged"
    assert [(f.code, f.seen) for f in result.settled] == [("output-path-empty", "found")]


def test_the_demo_goes_from_a_page_of_findings_to_ready(demo: DemoScene) -> None:
    before = check_scene(open_trusted(demo.scene))
    errors = {finding.code for finding in before.findings if finding.severity is Severity.ERROR}
    assert errors == {
        "file-missing", "output-path-empty", "output-no-frame-token", "brief-resolution-differs", "camera-live",
        "simulation-live",
    }  # fmt: skip
    assert {f.next for f in before.findings} >= {Next.RELINK, Next.BAKE, Next.MEND, Next.SCENE, Next.DECIDE}
    context = make_ready(demo)
    after = check_scene(context)
    warnings = [f for f in after.findings if f.severity is Severity.WARNING]
    assert not after.blocked and {f.code for f in warnings} == {"output-colour-space-unset", "scene-autosave-newer"}
    for finding in warnings:
        waive(context, Waiver(code=finding.code, because="looked at it"))
    ready = check_scene(open_trusted(demo.scene))
    assert ready.count(Severity.WARNING) == 0 and not ready.blocked and not ready.unused_waivers


def test_a_check_is_explained_by_its_code() -> None:
    one = check_of("simulation-live")
    assert one.severity is Severity.ERROR and "a different motion" in one.why


def test_the_order_of_the_farms_is_theirs_and_each_has_its_verdict(shot: Shot, tmp_path: Path) -> None:
    from tidy_crate.core.farm.card import read_card

    file = shot.write()
    own = read_card(shot.folder / "gull.farm.toml")
    strange = own.model_copy(update={"name": "tern", "outputs": own.outputs.model_copy(update={"formats": ("png",)})})
    result = check_scene(open_scene(file), Against(cards=(own, strange), today=own.rates_from))
    assert [(farm.farm, farm.blocked, farm.errors) for farm in result.farms] == [("gull", False, 0), ("tern", True, 2)]
    assert {f.farm for f in result.findings if f.code == "farm-format-not-taken"} == {"tern"}
    assert result.blocked and not result.blocked_by_scene


def test_c7_an_open_format_needs_no_host_and_a_closed_one_does(shot: Shot) -> None:
    shot.card = shot.card.replace('name = "quay"', 'name = "pier"')
    assert serious(shot) == []
    sheet()(shot)
    assert ("program-not-offered", "it offers no such host") in serious(shot)


MATERIALS = """
def Material "Oak" { token outputs:chisel:surface.connect = </Oak/S.outputs:out>
    def Shader "S" { token outputs:out } }
def Material "Left" { token outputs:chisel:surface.connect = </Left/S.outputs:out>
    def Shader "S" { token outputs:out } }
def Material "Both" { token outputs:chisel:surface.connect = </Both/S.outputs:out>
    token outputs:surface.connect = </Both/S.outputs:out>
    def Shader "S" { token outputs:out } }
def Sphere "One" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </Oak> }
def Sphere "Two" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </Both> }
"""


def test_c7_a_material_for_another_renderer_counts_where_it_is_used(shot: Shot) -> None:
    shot.scene += MATERIALS
    found = [f for f in shot.check().findings if f.code == "material-of-other-renderer"]
    assert [(f.subject, f.message) for f in found] == [("/Oak", "made for chisel, the scene renders with brush")]


def test_c1_a_farm_that_puts_frames_together_may_be_sent_a_movie(shot: Shot) -> None:
    TRAPS["farm-makes-no-movie"](shot)
    assert "farm-makes-no-movie" in {code for code, _ in serious(shot)}
    shot.card = shot.card.replace('path = "any"', 'path = "any"\nmovies = true')
    assert not {"farm-makes-no-movie", "output-movie"} & {code for code, _ in serious(shot)}


def test_c2_what_may_move_unseen_is_not_said_to_stand_still(shot: Shot) -> None:
    TRAPS["frames-nothing-moves"](shot)
    shot.scene = shot.scene.replace("@./a.png@", "@./s.####.png@")
    shot.files |= {f"s.{frame:04d}.png": png() for frame in range(1, 11)}
    assert "frames-nothing-moves" not in {code for code, _ in serious(shot)}


def test_c1_a_token_that_the_renderer_fills_in_is_no_forbidden_name(shot: Shot) -> None:
    shot.scene = shot.scene.replace('"q/q.####.exr"', '"<camera>/<UDIM>q.<pass:name>.<frame>.exr"')
    shot.brief = shot.brief.replace('naming = "{output}.####.exr"\n', "")
    assert serious(shot) == []


def test_x4_hostile_names_do_not_break_a_check(shot: Shot) -> None:
    weird = "\u202e<script>`$(rm)`\\\\[x]"
    shot.scene = usda(shot.scene).replace("#usda 1.0\n", "", 1)
    file = _with(shot, sheet(host={"name": weird, "version": weird}, fonts=[weird], scripts=[weird]))
    codes = {f.code for f in check_scene(open_scene(file)).findings}
    assert {"scene-runs-script", "font-not-collected"} <= codes


def _limited(name: str, value: int) -> Trap:
    return project(f"[limits]\n{name} = {value}\n")


def _of_farm(name: str, value: int) -> Trap:
    return card("minutes_per_frame", f"{name} = {value}\nminutes_per_frame")


UNSIGNED = card('path = "any"', 'path = "any"\nnegative_frames = false')
WIDE = all_of(scene("@./a.png@", "@./w.png@"), files(w__png=png(20, 4)))
TWINS = all_of(scene("@./a.png@", "@./b.png@\nasset b = @./c.png@"), files(b__png=BIG, c__png=BIG))


@pytest.mark.parametrize(
    ("code", "within", "beyond"),
    [
        ("farm-no-negative-frames", all_of(UNSIGNED, scene("startTimeCode = 1", "startTimeCode = 0")),
         all_of(UNSIGNED, scene("startTimeCode = 1", "startTimeCode = -1"))),
        ("farm-too-many-frames", _of_farm("frames", 10), _of_farm("frames", 9)),
        ("farm-too-many-pixels", _of_farm("pixels", 64 * 36), _of_farm("pixels", 64 * 36 - 1)),
        ("farm-too-many-samples", _of_farm("samples", 64), _of_farm("samples", 63)),
        ("farm-path-too-long", _of_farm("path_length", len("/jobs/s.usda")),
         _of_farm("path_length", len("/jobs/s.usda") - 1)),
        ("samples-very-high", _limited("samples", 64), _limited("samples", 63)),
        ("samples-none", scene("brush:rays = 64", "brush:rays = 1"), scene("brush:rays = 64", "brush:rays = 0")),
        ("bucket-does-not-suit-device", _limited("bucket_on_cpu", 64), _limited("bucket_on_cpu", 63)),
        ("bucket-does-not-suit-device", all_of(scene('"cpu"', '"gpu"'), _limited("bucket_on_gpu", 64)),
         all_of(scene('"cpu"', '"gpu"'), _limited("bucket_on_gpu", 65))),
        ("file-path-long", _limited("path_length", len("a.png")), _limited("path_length", len("a.png") - 1)),
        ("texture-very-large", all_of(WIDE, _limited("texture_pixels", 20)),
         all_of(WIDE, _limited("texture_pixels", 19))),
        ("file-duplicate", all_of(TWINS, _limited("duplicate_bytes", len(BIG) + 1)),
         all_of(TWINS, _limited("duplicate_bytes", len(BIG)))),
    ],
)  # fmt: skip
def test_what_is_just_within_a_limit_passes(code: str, within: Trap, beyond: Trap, tmp_path: Path) -> None:
    for name, trap, found in (("within", within, False), ("beyond", beyond, True)):
        shot = Shot(tmp_path / name)
        shot.folder.mkdir()
        trap(shot)
        assert (code in {finding.code for finding in shot.check().findings}) is found, name
