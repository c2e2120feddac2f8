"""Survey of OpenUSD scenes."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import usda
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd import OpenUsd
from tidy_crate.core.scene.formats.usd.clips import template_numbers
from tidy_crate.core.scene.model import SimulationState, Status, Survey
from tidy_crate.core.scene.settings import SettingsMap, canonical, load_maps, setting


def survey_of(tmp_path: Path, body: str, head: str = "startTimeCode = 1\nendTimeCode = 10", **files: str) -> Survey:
    """Survey a scene written down here."""
    scene = tmp_path / "scene.usda"
    scene.write_text(usda(f"(\n{head}\n)\n{body}"))
    for name, text in files.items():
        (tmp_path / name.replace("__", ".")).write_text(text)
    return OpenUsd().read(scene)


def needed(survey: Survey) -> dict[str, bool]:
    return {asset.authored: asset.needed for asset in survey.assets}


def test_s1_s2_s3_s5_of_the_demo_rest_on_no_default(context: SceneContext) -> None:
    survey = context.survey_as_found()
    frames = survey.frames
    assert (frames.start, frames.end, frames.fps, frames.count) == (1001, 1048, 25.0, 48)
    assert (survey.up_axis, survey.meters_per_unit) == ("Z", 0.01)
    assert [(camera.path, camera.renders) for camera in survey.cameras] == [("/Quay/Camera", ("Beauty", "Matte"))]
    size = survey.resolution
    assert size is not None and (size.width, size.height, size.rendered) == (320, 180, (160, 90))
    beauty, matte = survey.outputs
    assert (beauty.format, beauty.passes) == ("exr", ("beauty", "alpha", "depth", "normal", "objectId"))
    assert (matte.path, matte.passes) == ("", ("alpha", "objectId"))
    assert survey.motion == "things"


def test_s7_every_planted_file_trouble_is_told_apart(context: SceneContext) -> None:
    assets = {Path(asset.authored.replace("\\", "/")).name: asset for asset in context.survey_as_found().assets}
    assert (assets["rope.png"].status, assets["rope.png"].needed) == (Status.MISSING, True)
    assert (assets["crate_side.png"].status, assets["crate_side.png"].resolved) == (Status.MISSING, None)
    assert (assets["pier_sketch.png"].status, assets["pier_sketch.png"].needed) == (Status.MISSING, False)
    assert (assets["planks.png"].status, assets["planks.png"].bytes > 0) == (Status.FOUND, True)
    assert "/Quay/Pier/Looks/Planks/Texture" in assets["planks.png"].used_by


def test_s8_the_cameras_spring_is_live(context: SceneContext) -> None:
    spring = next(one for one in context.survey_as_found().simulations if one.kind == "spring follow")
    assert (spring.name, spring.state, spring.start) == ("/Quay/Camera", SimulationState.LIVE, 981)
    assert spring.depends_on == ("/Quay/Ferry",)


def test_needed_is_judged_by_visibility_purpose_variant_and_strength(tmp_path: Path) -> None:
    body = """
def Scope "Looks" {
    def Material "Seen" { token outputs:surface.connect = </Looks/Seen/S.outputs:o>
        def Shader "S" { asset inputs:file = @./seen.png@
            token outputs:o } }
    def Material "Unbound" { token outputs:surface.connect = </Looks/Unbound/S.outputs:o>
        def Shader "S" { asset inputs:file = @./unbound.png@
            token outputs:o } } }
def Sphere "Ball" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </Looks/Seen> }
def Sphere "Hidden" { token visibility = "invisible"
    asset a = @./hidden.png@ }
def Sphere "Later" { token visibility.timeSamples = { 0: "invisible", 50: "inherited" }
    asset a = @./later.png@ }
def Sphere "Flash" { token visibility.timeSamples = { 0: "invisible", 5: "inherited", 6: "invisible" }
    asset a = @./flash.png@ }
def Sphere "Guide" { uniform token purpose = "guide"
    asset a = @./guide.png@ }
def Sphere "Off" ( active = false ) { asset a = @./off.png@ }
def Xform "Look" ( variants = { string v = "x" }
    prepend variantSets = "v" ) {
    variantSet "v" = { "x" { asset a = @./x.png@ }
        "y" { asset a = @./y.png@ } } }
def Sphere "Over" ( references = @./weak.usda@</A> ) { asset a = @./strong.png@ }
def Sphere "Timed" { asset a.timeSamples = { 1: @./t1.png@, 40: @./t40.png@ } }
"""
    weak = usda('def "A" { asset a = @./weak.png@ }')
    found = needed(survey_of(tmp_path, body, weak__usda=weak))
    assert {name for name, used in found.items() if used} == {
        "./seen.png", "./flash.png", "./x.png", "./weak.usda", "./strong.png", "./t1.png"
    }  # fmt: skip
    assert set(found) > {
        "./unbound.png",
        "./hidden.png",
        "./later.png",
        "./guide.png",
        "./off.png",
        "./y.png",
        "./weak.png",
    }


def test_what_shows_by_instances_prototypes_or_unknown_types_is_needed(tmp_path: Path) -> None:
    body = """
class "Kinds" { def Sphere "Drop" { asset a = @./drop.png@ } }
def Xform "World" {
    def PointInstancer "Rain" { rel prototypes = </Kinds/Drop> }
    def Xform "Copy" ( instanceable = true
        references = @./part.usda@</Part> ) {}
    def ForeignShape "Odd" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </World/Look> }
    def Material "Look" { def Shader "S" { asset inputs:file = @./odd.png@ } }
    def Scope "Render" {
        def RenderSettings "S" { rel products = </World/Render/P> }
        def RenderProduct "P" { asset lut = @./lut.cube@ }
    }
}
"""
    part = usda('def Xform "Part" { def Sphere "Inner" { asset a = @./inner.png@ } }')
    head = 'renderSettingsPrimPath = "/World/Render/S"'
    found = needed(survey_of(tmp_path, body, head, part__usda=part))
    assert found == dict.fromkeys(("./drop.png", "./part.usda", "./inner.png", "./odd.png", "./lut.cube"), True)


def test_layers_in_a_circle_end_and_broken_ones_are_named(tmp_path: Path) -> None:
    head = "subLayers = [@./scene.usda@, @./torn.usda@, @./gone.usda@]"
    survey = survey_of(tmp_path, 'def "A" ( references = @./scene.usda@</A> ) {}', head, torn__usda="#usda 1.0\ndef {")
    trouble = {asset.authored: asset.trouble for asset in survey.assets}
    assert trouble["./scene.usda"] is None
    assert "syntax error in line 2" in (trouble["./torn.usda"] or "")
    assert trouble["./gone.usda"] == "there is no such file"


def test_expressions_are_evaluated_with_the_scenes_variables(tmp_path: Path) -> None:
    head = 'expressionVariables = { string MOOD = "dusk" }'
    survey = survey_of(tmp_path, 'def Sphere "B" { asset a = @`"./${MOOD}.png"`@ }', head, dusk__png="x")
    (asset,) = survey.assets
    assert (asset.status, asset.value, asset.authored) == (Status.FOUND, "./dusk.png", '`"./${MOOD}.png"`')


def test_a_tile_set_is_one_asset_with_members(tmp_path: Path) -> None:
    survey = survey_of(tmp_path, 'def Sphere "B" { asset a = @./t.<UDIM>.png@ }', t__1001__png="x", t__1002__png="yy")
    (asset,) = survey.assets
    assert [member.tile for member in asset.members] == [1001, 1002]
    assert asset.bytes == 3


def test_ids_stay_the_same_in_the_next_version_of_a_scene(context: SceneContext, tmp_path: Path) -> None:
    first = {asset.id for asset in context.survey_as_found().assets}
    newer = context.scene.with_name("lantern_quay_v002.usda")
    newer.write_bytes(context.scene.read_bytes())
    assert {asset.id for asset in open_scene(newer).survey_as_found().assets} == first


def test_settings_maps_translate_and_leave_the_rest_unknown(tmp_path: Path) -> None:
    other = SettingsMap(renderer="brush", namespace="brush:", means={"brush:rays": "samples"})
    assert setting("", "brush:rays", 4, [*load_maps(), other]).means == "samples"
    assert setting("", "brush:other", 4, [other]).means is None
    head = 'renderSettingsPrimPath = "/S"'
    body = 'def RenderSettings "S" { custom int brush:rays = 64\n custom float brush:odd = 0.5 }'
    scene = tmp_path / "s.usda"
    scene.write_text(usda(f"(\n{head}\n)\n{body}"))
    survey = OpenUsd().read(scene, maps=(other,))
    assert survey.canonical["samples"] == 64 and survey.canonical["denoiser"] == "unknown"
    assert {setting.name: setting.means for setting in survey.settings} == {"brush:rays": "samples", "brush:odd": None}
    assert canonical([])["samples"] == "unknown"


@pytest.mark.parametrize("content", [b"", b"#usda 1.0\ndef {{{", b"PXR-USDC" + b"\xff" * 200, b"\x00" * 50])
def test_a_broken_root_layer_is_one_clear_error(
    tmp_path: Path, content: bytes, capfd: pytest.CaptureFixture[str]
) -> None:
    for suffix in (".usda", ".usdc", ".usd"):
        scene = tmp_path / f"broken{suffix}"
        scene.write_bytes(content)
        with pytest.raises(UnreadableInput) as caught:
            OpenUsd().read(scene)
        assert "pxr" not in str(caught.value)
    assert capfd.readouterr().err == ""


CLIPPED = """
def "Sea" ( clips = { dictionary default = { string templateAssetPath = "./sea/sea.###.usda"
    double templateStartTime = 1
    double templateEndTime = 4
    double templateStride = 1
    asset manifestAssetPath = @./sea/manifest.usda@
    string primPath = "/Sea" } } ) {}
"""


def write_clips(folder: Path, numbers: range) -> None:
    (folder / "sea").mkdir()
    (folder / "sea" / "manifest.usda").write_text(usda('def "Sea" { double height }'))
    for number in numbers:
        text = usda(
            f'def "Sea" {{ double height.timeSamples = {{ {number}: {number} }}\nasset foam = @./foam.{number}.png@ }}'
        )
        (folder / "sea" / f"sea.{number:03d}.usda").write_text(text)
        (folder / "sea" / f"foam.{number}.png").write_bytes(b"x")


def test_value_clips_of_a_template_are_followed_one_by_one(tmp_path: Path) -> None:
    write_clips(tmp_path, range(1, 5))
    survey = survey_of(tmp_path, CLIPPED)
    template = next(asset for asset in survey.assets if "###" in asset.authored)
    assert (template.status, template.files, template.needed) == (Status.FOUND, 4, True)
    assert {asset.authored for asset in survey.assets if asset.kind == "texture"} == {
        f"./foam.{n}.png" for n in range(1, 5)
    }
    assert all(asset.needed for asset in survey.assets)


def test_a_gap_in_value_clips_is_told_by_name(tmp_path: Path) -> None:
    write_clips(tmp_path, range(1, 4))
    template = next(asset for asset in survey_of(tmp_path, CLIPPED).assets if "###" in asset.authored)
    assert (template.status, template.missing_members) == (Status.PARTIAL, ("./sea/sea.004.usda",))
    assert template.trouble == "1 of 4 files are not there"


@pytest.mark.parametrize(
    ("template", "times", "numbers"),
    [
        ("a.#.usd", (1, 3, 1), ("1", "2", "3")),
        ("a.###.usd", (-1, 1, 1), ("-001", "000", "001")),
        ("a.##.##.usd", (1, 2, 0.25), ("01.00", "01.25", "01.50", "01.75", "02.00")),
        ("a.#.#.usd", (0, 0.3, 0.1), ("0.0", "0.1", "0.2", "0.3")),
        ("a.usd", (1, 2, 1), ()),
        ("a.#.usd", (1, 2, 0), ()),
        ("a.#.usd", (2, 1, 1), ()),
        ("a.#.usd", (0, 1e12, 1), ()),
    ],
)
def test_clip_templates_count_both_ends_and_do_not_drift(
    template: str, times: tuple[float, float, float], numbers: tuple[str, ...]
) -> None:
    keys = ("templateStartTime", "templateEndTime", "templateStride")
    assert template_numbers({"templateAssetPath": template, **dict(zip(keys, times, strict=True))}) == numbers


@pytest.mark.parametrize(
    ("low", "high", "absent"),
    [
        ((0.0, 0.0), (1.0, 1.0), ()),
        ((0.0, 0.0), (1.0005, 1.0), ()),
        ((0.5, 0.0), (1.5, 1.0), (1002,)),
        ((0.0, 0.0), (2.0, 2.0), (1002, 1011, 1012)),
        ((0.1, 0.2), (0.9, 2.3), (1011, 1021)),
        ((-3.0, 0.0), (0.5, 1.0), ()),
        ((3.0, 0.0), (3.0, 1.0), (1004,)),
        ((float("nan"), 0.0), (2.0, 1.0), ()),
    ],
)
def test_a_face_needs_every_tile_that_it_spans(
    tmp_path: Path, low: tuple[float, float], high: tuple[float, float], absent: tuple[int, ...]
) -> None:
    corners = f"({low[0]}, {low[1]}), ({high[0]}, {low[1]}), ({high[0]}, {high[1]}), ({low[0]}, {high[1]})"
    body = (
        'def Mesh "Quad" ( prepend apiSchemas = ["MaterialBindingAPI"] ) {\nint[] faceVertexCounts = [4]\n'
        "int[] faceVertexIndices = [0, 1, 2, 3]\npoint3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]\n"
        f'texCoord2f[] primvars:st = [{corners}] ( interpolation = "faceVarying" )\n'
        "rel material:binding = </Look>\n}\n"
        'def Material "Look" {\ndef Shader "Tex" { asset inputs:file = @./t.<UDIM>.png@ }\n}\n'
    )
    survey = survey_of(tmp_path, body, t__1001__png="x")
    (tiled,) = [asset for asset in survey.assets if "UDIM" in asset.authored]
    assert [int(name[-8:-4]) for name in tiled.missing_members] == list(absent)
