"""The catalogue: each trap under its own code, and nothing on a clean scene."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import make_ready, usda
from tidy_crate.core.check.finding import CATALOGUE, Severity
from tidy_crate.core.check.run import check_scene, waive
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.context import open_scene
from tidy_crate.core.scene.decisions import Waiver
from tidy_crate.core.scene.relink import let_go
from tidy_crate.practice.demo.scene import DemoScene

# a clean scene; each trap below replaces one piece of it
CLEAN = """(
    startTimeCode = 1
    endTimeCode = 10
    renderSettingsPrimPath = "/Render/S"
)
def Camera "Cam" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 9), 10: (0, 0, 8) }
    uniform token[] xformOpOrder = ["xformOp:translate"] }
def Sphere "Ball" { asset a = @./a.png@ }
def "Render" {
    def RenderSettings "S" { rel camera = </Cam>
        rel products = [</Render/P>, </Render/Q>]
        uniform int2 resolution = (64, 36)
        custom float practice:resolutionScale = 1 }
    def RenderProduct "P" { token productName = "p/p.####.exr"
        rel orderedVars = [</Render/beauty>, </Render/depth>] }
    def RenderProduct "Q" { token productName = "q/q.####.exr"
        rel orderedVars = </Render/beauty> }
    def RenderVar "beauty" { string sourceName = "beauty" }
    def RenderVar "depth" { string sourceName = "depth" }
}
"""
Q = '"q/q.####.exr"'
TRAPS = {
    "output-none": ("rel products = [</Render/P>, </Render/Q>]", ""),
    "output-path-empty": (Q, '""'),
    "output-no-frame-token": (Q, '"q/q.exr"'),
    "output-same-file": (Q, '"P/p.####.exr"'),
    "output-format-unknown": (Q, '"q/q.####.pix"'),
    "output-movie": (Q, '"q/q.mp4"'),
    "output-passes-do-not-fit": ("p.####.exr", "p.####.jpg"),
    "output-data-in-eight-bit": ("p.####.exr", "p.####.png"),
    "output-no-passes": ("rel orderedVars = </Render/beauty> }", "}"),
    "frames-none": ("endTimeCode = 10", ""),
    "frames-reversed": ("endTimeCode = 10", "endTimeCode = -3"),
    "frames-single": ("endTimeCode = 10", "endTimeCode = 1"),
    "frames-beyond-animation": ("endTimeCode = 10", "endTimeCode = 20"),
    "frames-animation-cut": ("endTimeCode = 10", "endTimeCode = 8"),
    "camera-none": ('def Camera "Cam"', 'def Xform "Cam"'),
    "camera-not-chosen": ("rel camera = </Cam>", ""),
    "camera-gone": ("rel camera = </Cam>", "rel camera = </Gone>"),
    "resolution-none": ("uniform int2 resolution = (64, 36)", ""),
    "resolution-scaled-down": ("resolutionScale = 1", "resolutionScale = 0.5"),
    "file-missing": ("@./a.png@", "@./b.png@"),
    "file-missing-unused": ("asset a =", 'token visibility = "invisible"\nasset b = @./b.png@\nasset a ='),
    "file-absolute-path": ("@./a.png@", "@/nowhere/a.png@"),
    "file-empty": ("@./a.png@", "@./empty.png@"),
    "file-outside-project": ("@./a.png@", "@../outside.png@"),
    "file-name-not-portable": ("@./a.png@", "@./a:b.png@"),
    "layer-unread": ('def Sphere "Ball" {', 'def Sphere "Ball" ( references = @./torn.usda@ ) {'),
}  # fmt: skip


@pytest.fixture
def shot(tmp_path: Path) -> Path:
    """A folder with the files the scenes name."""
    folder = tmp_path / "shot"
    folder.mkdir()
    (folder / "tidy-crate.toml").write_text("")
    for name, data in (("a.png", b"x"), ("empty.png", b""), ("a:b.png", b"x"), ("torn.usda", b"#usda 1.0\ndef {")):
        (folder / name).write_bytes(data)
    (tmp_path / "outside.png").write_bytes(b"x")
    return folder


def codes(folder: Path, text: str, name: str = "s.usda") -> set[str]:
    (folder / name).write_text(usda(text))
    return {finding.code for finding in check_scene(open_scene(folder / name)).findings}


def test_a_clean_scene_has_no_finding(shot: Path) -> None:
    assert codes(shot, CLEAN) == set()


@pytest.mark.parametrize("code", TRAPS)
def test_each_trap_is_found_under_its_own_code(code: str, shot: Path) -> None:
    old, new = TRAPS[code]
    assert old in CLEAN
    found = codes(shot, CLEAN.replace(old, new, 1))
    assert code in found
    # one trap may have consequences, but the clean rest stays clean
    assert len(found) <= 3, found


def test_every_check_says_why_it_matters() -> None:
    assert len(CATALOGUE) >= 25
    assert all(len(one.why) > 30 and one.need for one in CATALOGUE.values())


def test_r12_a_newer_version_beside_it_is_told(shot: Path) -> None:
    (shot / "s_v010.usda").write_text(usda(CLEAN))
    assert codes(shot, CLEAN, "s_v009.usda") == {"scene-newer-beside"}
    assert codes(shot, CLEAN, "s_v011.usda") == set()


def test_warnings_are_waived_with_a_reason_and_errors_are_not(shot: Path) -> None:
    scene = shot / "s.usda"
    scene.write_text(usda(CLEAN.replace("resolutionScale = 1", "resolutionScale = 0.5")))
    context = open_scene(scene)
    waive(context, Waiver(code="resolution-scaled-down", because="a test on purpose"))
    waive(context, Waiver(code="frames-beyond-animation", because="left over"))
    result = check_scene(open_scene(scene))
    assert [(f.code, f.waived, f.waived_because) for f in result.findings] == [
        ("resolution-scaled-down", True, "a test on purpose")
    ]
    assert [waiver.code for waiver in result.unused_waivers] == ["frames-beyond-animation"]
    assert not result.blocked and result.count(Severity.WARNING) == 0
    for code in ("file-missing", "no-such-code"):
        with pytest.raises(WrongUsage):
            waive(context, Waiver(code=code, because="please"))


def test_r5_a_file_that_was_let_go_warns_and_no_longer_blocks(shot: Path) -> None:
    scene = shot / "s.usda"
    scene.write_text(usda(CLEAN.replace("@./a.png@", "@./b.png@")))
    context = open_scene(scene)
    assert check_scene(context).blocked
    let_go(context, context.survey(), "./b.png", "it is behind the wall")
    result = check_scene(open_scene(scene))
    assert not result.blocked
    assert [(f.code, f.severity) for f in result.findings] == [("file-let-go", Severity.WARNING)]


def test_the_demo_goes_from_blocked_to_ready(demo: DemoScene) -> None:
    before = check_scene(open_scene(demo.scene))
    errors = {finding.code for finding in before.findings if finding.severity is Severity.ERROR}
    assert errors == {"file-missing", "output-path-empty", "camera-live", "simulation-live"}
    after = check_scene(make_ready(demo))
    assert not after.blocked and after.count(Severity.WARNING) == 0
