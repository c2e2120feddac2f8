"""Needed files, where composition makes them hard to find: each trap a small scene of its own."""

from __future__ import annotations

from pathlib import Path

import pytest
from pxr import Usd
from test_survey import needed, survey_of

from conftest import usda
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.scene.formats.usd import OpenUsd
from tidy_crate.core.scene.formats.usd.layers import _prim_of
from tidy_crate.core.scene.model import Status, Why
from tidy_crate.core.work.request import RenderRequest


@pytest.mark.parametrize(
    ("path", "prim"),
    [
        ("/A.a", "/A"), ("/A/B.inputs:file", "/A/B"), ("/A{v=x}.a", "/A{v=x}"), ("/A{v=1.5}B.a", "/A{v=1.5}B"),
        ("/A{v=x}B{w=y}", "/A{v=x}B{w=y}"), ("/A", "/A"), ("/", "/"),
    ],
)  # fmt: skip
def test_the_prim_of_a_place_is_told_from_its_path(path: str, prim: str) -> None:
    assert _prim_of(path) == prim


def test_what_comes_by_inheritance_belongs_to_those_who_inherit(tmp_path: Path) -> None:
    body = """
class "Look" { asset a = @./inherited.png@ }
class "Unused" { asset a = @./unused.png@ }
def Sphere "One" ( inherits = </Look> ) {}
def Sphere "Two" ( specializes = </Look> ) { token visibility = "invisible" }
"""
    survey = survey_of(tmp_path, body)
    assert needed(survey) == {"./inherited.png": True, "./unused.png": False}
    assert next(a for a in survey.assets if a.needed).used_by == ("/One", "/Two", "/Look")


def test_a_layer_that_only_a_hidden_thing_brings_in_is_not_needed_with_all_it_names(tmp_path: Path) -> None:
    files = {
        "part__usda": usda('( subLayers = [@./sub.usda@] )\ndef Xform "P" { def Sphere "S" { asset a = @./p.png@ } }'),
        "sub__usda": usda('over "P" { over "S" { asset b = @./sub.png@ } }'),
    }
    hidden = 'def Xform "H" ( references = @./part.usda@</P> ) { token visibility = "invisible" }'
    shown = 'def Xform "H" ( references = @./part.usda@</P> ) {}'
    assert set(needed(survey_of(tmp_path, hidden, **files)).values()) == {False}
    assert set(needed(survey_of(tmp_path, shown, **files)).values()) == {True}


def test_a_material_bound_from_afar_is_needed_even_under_something_hidden(tmp_path: Path) -> None:
    body = """
def Scope "Store" { token visibility = "invisible"
    def Material "Wood" { token outputs:surface.connect = </Store/Wood/S.outputs:o>
        def Shader "S" { asset inputs:file = @./wood.png@
            token outputs:o } }
    def Material "Stone" { def Shader "S" { asset inputs:file = @./stone.png@ } } }
def Xform "Group" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </Store/Wood>
    def Sphere "Ball" {} }
"""
    assert needed(survey_of(tmp_path, body)) == {"./wood.png": True, "./stone.png": False}


def test_a_binding_by_collection_counts(tmp_path: Path) -> None:
    body = """
def Xform "World" ( prepend apiSchemas = ["MaterialBindingAPI", "CollectionAPI:all"] ) {
    rel material:binding:collection:all = [</World.collection:all>, </Looks/M>]
    rel collection:all:includes = </World/Ball>
    def Sphere "Ball" {} }
def Scope "Looks" { def Material "M" { def Shader "S" { asset inputs:file = @./m.png@ } } }
"""
    assert needed(survey_of(tmp_path, body)) == {"./m.png": True}


def test_a_nodegraph_elsewhere_that_a_material_leans_on_is_needed(tmp_path: Path) -> None:
    body = """
def Sphere "Ball" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </Looks/M> }
def Scope "Looks" { def Material "M" { token outputs:surface.connect = </Looks/M/S.outputs:o>
        def Shader "S" { color3f inputs:c.connect = </Shared/G.outputs:c>
            token outputs:o } } }
def Scope "Shared" { def NodeGraph "G" { def Shader "T" { asset inputs:file = @./shared.png@ } }
    def NodeGraph "Other" { def Shader "T" { asset inputs:file = @./other.png@ } } }
"""
    assert needed(survey_of(tmp_path, body)) == {"./shared.png": True, "./other.png": False}


def test_a_blocked_or_empty_opinion_hides_what_lies_under_it(tmp_path: Path) -> None:
    weak = usda('def Sphere "W" { asset a = @./weak.png@\nasset b = @./kept.png@ }')
    body = 'def Sphere "B" ( references = @./weak.usda@</W> ) { asset a = @@ }'
    found = needed(survey_of(tmp_path, body, weak__usda=weak))
    assert found["./weak.png"] is False and found["./kept.png"] is True


def test_s1_a_request_for_other_frames_needs_other_files(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    body = 'def Sphere "B" { asset a.timeSamples = { 1: @./one.png@, 50: @./fifty.png@ }\n}'
    scene.write_text(usda(f"(\nstartTimeCode = 1\nendTimeCode = 100\n)\n{body}"))

    def at(frames: str) -> dict[str, bool]:
        request = RenderRequest(name="r", frames=frames, width=1, height=1, outputs=())
        return needed(OpenUsd().read(scene, request=request))

    assert at("1-10") == {"./one.png": True, "./fifty.png": False}
    assert at("60") == {"./one.png": False, "./fifty.png": True}
    # the shutter looks one frame around
    assert at("49") == {"./one.png": True, "./fifty.png": True}


def test_a_package_is_one_file_and_what_no_reader_reads_is_said_to_be_unseen(tmp_path: Path) -> None:
    from pxr import UsdUtils

    inner = tmp_path / "inner.usda"
    inner.write_text(usda('( defaultPrim = "P" )\ndef Sphere "P" {}'))
    UsdUtils.CreateNewUsdzPackage(str(inner), str(tmp_path / "pack.usdz"))
    body = 'def "A" ( references = @./pack.usdz@ ) {}\ndef "B" ( references = @./anim.foreign@</X> ) {}'
    (tmp_path / "anim.foreign").write_bytes(b"x")
    survey = survey_of(tmp_path, body)
    kinds = {asset.authored: (asset.kind, asset.status, asset.needed) for asset in survey.assets}
    assert kinds["./pack.usdz"] == ("package", Status.FOUND, True)
    assert kinds["./anim.foreign"][1:] == (Status.FOUND, True)
    assert len(survey.unread) == 1 and survey.unread[0].why is Why.NO_READER


def test_the_same_layer_in_two_contexts_is_two_answers(tmp_path: Path) -> None:
    shared = usda('def Sphere "S" { asset a = @`"./${LOOK}.png"`@ }')
    for look in ("red", "blue"):
        text = (
            f'( expressionVariables = {{ string LOOK = "{look}" }} )\ndef "R" ( references = @./shared.usda@</S> ) {{}}'
        )
        (tmp_path / f"{look}.usda").write_text(usda(text))
        (tmp_path / f"{look}.png").write_bytes(b"x")
    (tmp_path / "shared.usda").write_text(shared)
    scene = tmp_path / "s.usda"
    scene.write_text(
        usda('def "A" ( references = @./red.usda@</R> ) {}\ndef "B" ( references = @./blue.usda@</R> ) {}')
    )
    found = [asset for asset in open_scene(scene).survey().assets if asset.kind == "texture"]
    assert {asset.value for asset in found} == {"./red.png", "./blue.png"}
    assert len({asset.id for asset in found}) == len({asset.context for asset in found}) == 2


def test_what_a_reference_renames_is_asked_under_its_new_name(tmp_path: Path) -> None:
    """Links, visibility and motion authored on the prim that a reference brings in count on the prim that has it."""
    (tmp_path / "lib.usda").write_text(
        usda(
            'def Xform "Src" {\nrel extra = </Src/Tool>\nuniform token[] xformOpOrder = ["xformOp:translate"]\n'
            "double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 9: (1, 0, 0), }\n"
            'def Material "Tool" { asset f = @./tool.png@ }\n}\n'
            'def Xform "Hid" {\ntoken visibility = "invisible"\ndef Sphere "In" { asset f = @./hidden.png@ }\n}'
        )
    )
    scene = tmp_path / "s.usda"
    scene.write_text(
        usda(
            'def Xform "New" ( references = @./lib.usda@</Src> ) { }\n'
            'def Xform "Other" ( references = @./lib.usda@</Hid> ) { }'
        )
    )
    survey = open_scene(scene).survey()
    found = {asset.authored: asset.needed for asset in survey.assets}
    assert survey.motion == "things" and survey.animated == (1, 9)
    assert found["./tool.png"] and not found["./hidden.png"]


def needs(tmp_path: Path, body: str, head: str = "startTimeCode = 1\n endTimeCode = 9") -> dict[str, bool]:
    """Return, by name, whether each missing file of a scene is needed."""
    scene = tmp_path / "s.usda"
    scene.write_text(usda(f'(\n {head}\n renderSettingsPrimPath = "/R"\n)\n{body}'))
    assets = open_scene(scene).survey().assets
    return {Path(asset.authored).stem: asset.needed for asset in assets if asset.authored.endswith(".png")}


@pytest.mark.parametrize(
    ("arc", "samples", "needed"),
    [
        # on the stage at 1 and 10: the shutter of the last frame sees the second one
        ("(offset = -100)", {101: "a", 110: "b", 112: "c"}, {"a": True, "b": True, "c": False}),
        ("(offset = 100)", {1: "a", 10: "b"}, {"a": True, "b": False}),
        ("(scale = 0.5)", {2: "a", 18: "b", 22: "c"}, {"a": True, "b": True, "c": False}),
        ("(offset = 10; scale = -1)", {9: "a", 1: "b"}, {"a": True, "b": True}),
        ("", {-50: "a", 0: "b", 5: "c", 11: "d"}, {"a": False, "b": True, "c": True, "d": False}),
    ],
)
@pytest.mark.parametrize("how", ["reference", "sublayer"])
def test_s7_samples_of_files_are_compared_in_the_time_of_the_stage(
    how: str, arc: str, samples: dict[int, str], needed: dict[str, bool], tmp_path: Path
) -> None:
    keys = ", ".join(f"{time}: @./{name}.png@" for time, name in samples.items())
    (tmp_path / "part.usda").write_text(usda(f'def Sphere "P" {{ asset tex.timeSamples = {{ {keys} }} }}'))
    if how == "reference":
        found = needs(tmp_path, f'def "A" ( references = @./part.usda@</P> {arc} ) {{ }}')
    else:
        head = f"startTimeCode = 1\n endTimeCode = 9\n subLayers = [\n@./part.usda@ {arc}\n]"
        found = needs(tmp_path, "", head)
    # the oracle: what plain USD shows at any moment of the frames and their shutters
    stage = Usd.Stage.Open(str(tmp_path / "s.usda"))
    attribute = stage.GetPrimAtPath("/A" if how == "reference" else "/P").GetAttribute("tex")
    shown = {Path(attribute.Get(time / 4).path).stem for time in range(0, 41)}
    assert shown <= {name for name, is_needed in needed.items() if is_needed}
    assert found == needed


MATERIAL = (
    'def Material "M" {{ token outputs:surface.connect = </M/S.outputs:out>\n'
    'def Shader "S" {{ asset inputs:file = @./{name}.png@\ntoken outputs:out }} }}\n'
)


@pytest.mark.parametrize("specifier", ["def", "over", "class"])
def test_s7_prototypes_count_whatever_they_are_where_they_stand(specifier: str, tmp_path: Path) -> None:
    body = MATERIAL.format(name="bound") + (
        f'{specifier} "Store" {{ {specifier} Mesh "Leaf" ( prepend apiSchemas = ["MaterialBindingAPI"] ) {{\n'
        "rel material:binding = </M>\nasset own = @./own.png@ } }\n"
        'def PointInstancer "Tree" { rel prototypes = </Store/Leaf>\nint[] protoIndices = [0] }\n'
        'class Mesh "Other" { asset own = @./unused.png@ }'
    )
    assert needs(tmp_path, body) == {"bound": True, "own": True, "unused": False}
    assert needs(tmp_path, body.replace('"Tree" {', '"Tree" ( active = false ) {'))["bound"] is (specifier == "def")


@pytest.mark.parametrize(
    ("purposes", "needed"),
    [("", {"proxy": False, "guide": False}), ('"default", "proxy"', {"proxy": True, "guide": False}),
     ('"guide"', {"proxy": False, "guide": True})],
)  # fmt: skip
def test_s4_purposes_are_those_of_the_render_settings(purposes: str, needed: dict[str, bool], tmp_path: Path) -> None:
    said = f"uniform token[] includedPurposes = [{purposes}]" if purposes else ""
    shapes = "".join(
        f'def Sphere "{name}" {{ uniform token purpose = "{name}"\nasset tex = @./{name}.png@ }}\n'
        for name in ("proxy", "guide", "render", "default")
    )
    found = needs(tmp_path, f'def RenderSettings "R" {{ {said} }}\n{shapes}')
    assert found == needed | {"render": True, "default": True}


def test_s4_materials_for_the_screen_count_where_the_render_settings_ask_for_them(tmp_path: Path) -> None:
    body = (
        MATERIAL.format(name="preview").replace('"M"', '"Low"').replace("</M/", "</Low/")
        + MATERIAL.format(name="final").replace('"M"', '"High"').replace("</M/", "</High/")
        + 'def Sphere "Ball" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding:preview = </Low>\n'
        "rel material:binding:full = </High> }\n"
    )
    settings = 'def RenderSettings "R" { SAID }\n'
    plain = needs(tmp_path, settings.replace("SAID", "") + body)
    assert plain == {"preview": False, "final": True}
    said = 'uniform token[] materialBindingPurposes = ["preview", ""]'
    assert needs(tmp_path, settings.replace("SAID", said) + body)["preview"] is True
