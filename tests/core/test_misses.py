"""Troubles that cost a render and were passed over, and false alarms: each a shot of its own."""

from __future__ import annotations

import json
import struct
from pathlib import Path

import pytest
from pxr import Usd

from conftest import is_whole, open_trusted, usda
from tidy_crate.core.check.mends import mends_for
from tidy_crate.core.check.run import checked
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.scene.memory_need import decoded_bytes, memory_need
from tidy_crate.core.scene.model import Status
from traps import Shot, Trap, all_of, before, brief, card, files, gltf, png, scene

BALL = 'def Sphere "Ball" {'
BOX = scene(BALL, 'def "Box" ( references = @./b.usda@ ) { }\n' + BALL)
BINDS = 'prepend apiSchemas = ["MaterialBindingAPI"]'
QUAD = (
    "int[] faceVertexCounts = [4]\nint[] faceVertexIndices = [0, 1, 2, 3]\n"
    "point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]\n"
)


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    folder = tmp_path / "shot"
    folder.mkdir()
    return Shot(folder)


def found(shot: Shot) -> set[str]:
    return {one.code for one in shot.check().findings}


def part(text: str) -> bytes:
    return usda(text).encode()


SHIFTED = (
    'def Shader "Shift" { uniform token info:id = "UsdTransform2d"\nfloat2 outputs:result }\n'
    'def Shader "Tex" { float2 inputs:st.connect = </Look/Shift.outputs:result>\n'
)


def uv_quad(u: float, shader: str = 'def Shader "Tex" { ') -> str:
    corners = f"[({u}, 0), ({u + 1}, 0), ({u + 1}, 1), ({u}, 1)]"
    return (
        f'def Mesh "Quad" ( prepend apiSchemas = ["MaterialBindingAPI"] ) {{ {QUAD}'
        f'texCoord2f[] primvars:st = {corners} ( interpolation = "faceVarying" )\nrel material:binding = </Look> }}\n'
        f'def Material "Look" {{ {shader}asset inputs:file = @./t.<UDIM>.png@ }} }}\n'
    )


MISSED: dict[str, tuple[str, Trap]] = {
    "a reference to a layer without a default prim": (
        "composition-error",
        all_of(BOX, files(b__usda=part('def Cube "B" { }'))),
    ),
    "a reference to a prim that was renamed": (
        "composition-error",
        all_of(
            scene(BALL, 'over "Box" ( references = @./b.usda@</Old> ) { }\n' + BALL),
            files(b__usda=part('def Cube "New" { }')),
        ),
    ),
    "a payload to nothing": (
        "composition-error",
        all_of(
            scene(BALL, 'def "Box" ( payload = @./b.usda@</Old> ) { }\n' + BALL),
            files(b__usda=part('def Cube "B" { }')),
        ),
    ),
    "a variant that is selected and not there": (
        "composition-error",
        scene(
            BALL,
            'def Xform "V" ( variants = { string look = "dusk" }\n prepend variantSets = "look" ) '
            '{ variantSet "look" = { "night" { }\n } }\n' + BALL,
        ),
    ),
    "a cycle of references": (
        "composition-error",
        all_of(
            scene(BALL, 'def "Box" ( references = @./b.usda@</B> ) { }\n' + BALL),
            files(b__usda=part('def Cube "B" ( references = </B/C> ) { def "C" ( references = </B> ) { } }')),
        ),
    ),
    "a cycle of sublayers": (
        "composition-error",
        all_of(scene("customLayerData", "subLayers = [@./x.usda@]\n    customLayerData"),
               files(x__usda=part("( subLayers = [@./s.usda@] )"))),
    ),
    "a product that is gone": (
        "target-gone",
        scene("rel products = [</Render/p>, </Render/q>]", "rel products = [</Render/p>, </Render/q>, </Render/r>]"),
    ),
    "a product that is none": (
        "target-gone",
        scene("rel products = [</Render/p>, </Render/q>]", "rel products = [</Render/p>, </Render/q>, </Ball>]"),
    ),
    "render settings that are gone": (
        "target-gone",
        scene('renderSettingsPrimPath = "/Render/S"', 'renderSettingsPrimPath = "/Render/Best"'),
    ),
    "a binding to a material that is gone": (
        "target-gone",
        scene(BALL, f'def Sphere "Ball" ( {BINDS} ) {{ rel material:binding = </Oak>\n'),
    ),
    "a binding that a reference leaves behind": (
        "target-gone",
        all_of(
            scene(BALL, 'def "Box" ( references = @./b.usda@</B> ) { }\n' + BALL),
            files(
                b__usda=part(
                    'def Cube "B" ( prepend apiSchemas = ["MaterialBindingAPI"] ) { rel material:binding = </M> }\n'
                    'def Material "M" { }'
                )
            ),
        ),
    ),
    "an output by ./ and one without": ("output-same-file", scene('"q/q.####.exr"', '"./p/p.####.exr"')),
    "an output by a doubled slash": ("output-same-file", scene('"q/q.####.exr"', '"p//p.####.exr"')),
    "an output by way of another folder": ("output-same-file", scene('"q/q.####.exr"', '"q/../p/p.####.exr"')),
    "an output by another token": ("output-same-file", scene('"q/q.####.exr"', '"p/p.%04d.exr"')),
    "two outputs at a farm that takes names": (
        "farm-outputs-collide",
        all_of(card('path = "any"', 'path = "name"'), scene('"q/q.####.exr"', '"q/p.%04d.exr"')),
    ),
    "a product of a size that was not ordered": (
        "brief-resolution-differs",
        scene('def RenderProduct "q" {', 'def RenderProduct "q" {\nuniform int2 resolution = (32, 18)\n'),
    ),
    "a product with a size ordered for it": (
        "brief-resolution-differs",
        brief("[resolution]", '[[output]]\nname = "q"\nresolution = { width = 32, height = 18 }\n\n[resolution]'),
    ),
    "a product at half scale": (
        "resolution-scaled-down",
        scene('def RenderProduct "q" {', 'def RenderProduct "q" {\ncustom int brush:percent = 50\n'),
    ),
    "a product that is cropped": (
        "picture-cropped",
        scene('def RenderProduct "q" {', 'def RenderProduct "q" {\nuniform float4 dataWindowNDC = (0, 0, 0.5, 1)\n'),
    ),
    "a pixel stretched to the camera's aspect": (
        "output-pixels-not-square",
        scene("uniform int2 resolution", 'uniform token aspectRatioConformPolicy = "adjustPixelAspectRatio"\n'
              "uniform int2 resolution"),
    ),
    "half floats where 32 bits were ordered": (
        "brief-bit-depth-differs",
        all_of(scene('sourceName = "depth"', 'sourceName = "depth"\nuniform token dataType = "half"'),
               brief('format = "exr"', 'format = "exr"\nbit_depth = 32')),
    ),
    "a size given over time": (
        "output-changes-over-time",
        scene("uniform int2 resolution = (64, 36)", "int2 resolution.timeSamples = { 1: (64, 36), 6: (32, 18) }"),
    ),
    "files that are padded otherwise": (
        "file-missing",
        all_of(scene("@./a.png@", "@./w.%04d.png@"), files(w__1__png=png(), w__2__png=png())),
    ),
    "files with zeros where %d has none": (
        "file-missing", all_of(scene("@./a.png@", "@./w.%d.png@"), files(w__0001__png=png(), w__0002__png=png())),
    ),
    "a tile that the coordinates use": (
        "file-missing", all_of(scene(BALL, uv_quad(1) + BALL), files(t__1001__png=png())),
    ),
    "a file that only a setting's map knows": (
        "file-missing",
        scene(BALL, 'def Sphere "Painted" { string brush:picture = "./gone.png" }\n' + BALL),
    ),
    "an environment variable": ("file-missing", scene("@./a.png@", "@${SHOW}/a.png@")),
    "a GLB that ends early": ("layer-unread", gltf(buffers=[{"byteLength": 4000}])),
    "a buffer that is shorter than it should be": (
        "layer-unread", all_of(gltf(buffers=[{"uri": "b.bin", "byteLength": 40}]), files(b__bin=b"short")),
    ),
    "a layer whose up axis differs": (
        "units-differ",
        all_of(scene("customLayerData", 'upAxis = "Y"\n    customLayerData',
                     BALL, 'def "Box" ( references = @./b.usda@ ) { }\n' + BALL),
               files(b__usda=part('( defaultPrim = "B"\n upAxis = "Z" )\ndef Cube "B" { }'))),
    ),
}  # fmt: skip


@pytest.mark.parametrize("what", MISSED)
def test_what_cost_a_render_is_told(what: str, shot: Shot) -> None:
    code, trap = MISSED[what]
    trap(shot)
    if "GLB" in what:
        shot.gltf, content = None, json.dumps({"asset": {"version": "2.0"}, **(shot.gltf or {})}).encode()
        content += b" " * (-len(content) % 4)
        blob = struct.pack("<IIII4s", 0x46546C67, 2, 28 + len(content) + 4000, len(content), b"JSON") + content
        path = shot.folder / "s.glb"
        path.write_bytes(blob + struct.pack("<I4s", 4000, b"BIN\0") + b"x" * 100)
        survey = open_trusted(path).survey()
        assert [one.detail for one in survey.unread] and "states" in survey.unread[0].detail
        return
    result = shot.check()
    assert code in {one.code for one in result.findings}, [(one.code, one.message) for one in result.findings]


PROVENANCE = (
    "assetInfo = { asset identifier = @./chair_source.usda@\n"
    "dictionary previews = { dictionary thumbnails = { dictionary default = { asset defaultImage = @./tn.png@ } } } }"
)
ZOOM = "float focalLength.timeSamples = { 1: 50, 10: 80 }\n"
STILL = 'def Camera "Cam" { double3 xformOp:translate = (0, 0, 9)\n'
MOVING = 'def Camera "Cam" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 9), 10: (0, 0, 8) }\n'
BAKED = (
    'def Camera "Cam_baked" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 9), 10: (0, 0, 7) }\n'
    'uniform token[] xformOpOrder = ["xformOp:translate"] }\n'
)
CLIP = part('def Sphere "Ball" { double radius.timeSamples = { 1: 1, 10: 2 } }')

QUIET: dict[str, tuple[set[str], Trap]] = {
    "provenance and previews": (
        {"file-missing"}, scene(BALL, f'def Sphere "Ball" ( {PROVENANCE} ) {{'),
    ),
    "provenance of the layer": (
        {"file-missing"}, scene("{ string creator", "{ asset source = @./work.usda@\nstring creator"),
    ),
    "a sound": (
        {"file-missing"}, scene(BALL, 'def SpatialAudio "Horn" { uniform asset filePath = @./horn.wav@ }\n' + BALL),
    ),
    "a file with a hash in its name": (
        {"file-missing", "sequence-gaps"},
        all_of(scene("@./a.png@", "@./a#1.png@"), lambda s: s.files.update({"a#1.png": png(), "a12.png": png()})),
    ),
    "a layer with a hash in its name": (
        {"file-missing", "composition-error", "layer-unread"},
        all_of(scene(BALL, 'def "Chair" ( references = @./chair#2.usda@</C> ) { }\n' + BALL),
               lambda s: s.files.update({"chair#2.usda": part('def Cube "C" { }')})),
    ),
    "a clip that no frame plays": (
        {"file-missing"},
        all_of(
            scene(BALL, 'def Sphere "Pulse" ( clips = { dictionary default = {'
                  ' asset[] assetPaths = [@./c1.usda@, @./later.usda@]\n string primPath = "/Ball"\n'
                  " double2[] active = [(1, 0), (200, 1)]\n double2[] times = [(1, 1), (10, 10)] } } ) { }\n" + BALL),
            files(c1__usda=CLIP),
        ),
    ),
    "a zoom": ({"frames-nothing-moves", "camera-still-beside-moving", "brief-camera-still"},
               scene(MOVING, BAKED + STILL + ZOOM)),
    "a material that changes": (
        {"frames-nothing-moves"},
        scene(MOVING, STILL, BALL, 'def Shader "S" { float inputs:glow.timeSamples = { 1: 0, 10: 1 } }\n' + BALL),
    ),
    "a skeleton that moves": (
        {"frames-nothing-moves"},
        scene(MOVING, STILL, BALL, 'def SkelAnimation "A" { float3[] translations.timeSamples = '
              "{ 1: [(0, 0, 0)], 10: [(0, 1, 0)] } }\n" + BALL),
    ),
    "value clips": (
        {"frames-nothing-moves"},
        all_of(
            scene(MOVING, STILL, BALL, 'def Sphere "Pulse" ( clips = { dictionary default = {'
                  ' asset[] assetPaths = [@./c1.usda@]\n string primPath = "/Ball"\n'
                  " asset manifestAssetPath = @./m.usda@\n double2[] active = [(1, 0)]\n"
                  " double2[] times = [(1, 1), (10, 10)] } } ) { double radius }\n" + BALL),
            files(c1__usda=CLIP, m__usda=part('def Sphere "Ball" { double radius }')),
        ),
    ),
    "a product in full over cropped settings": (
        {"picture-cropped"},
        scene("uniform int2 resolution", "uniform float4 dataWindowNDC = (0, 0, 0.5, 1)\nuniform int2 resolution",
              'def RenderProduct "p" {', 'def RenderProduct "p" {\nuniform float4 dataWindowNDC = (0, 0, 1, 1)\n',
              'def RenderProduct "q" {', 'def RenderProduct "q" {\nuniform float4 dataWindowNDC = (0, 0, 1, 1)\n'),
    ),
    "one frame inside a move": (
        {"camera-moves-elsewhere", "brief-camera-still", "frames-animation-cut", "camera-still-beside-moving"},
        scene("startTimeCode = 1\n", "startTimeCode = 10\n"),
    ),
    "a range between two frames": (
        {"frames-reversed", "frames-between-whole-ones"},
        scene("startTimeCode = 1\n", "startTimeCode = 1.2\n", "endTimeCode = 10", "endTimeCode = 1.8"),
    ),
    "two render settings": (
        {"output-none", "resolution-none"},
        scene('def "Render" {', 'def RenderSettings "Draft" { }\ndef "Render" {',
              'renderSettingsPrimPath = "/Render/S"', ""),
    ),
    "prototypes that are overrides where they are": (
        {"target-gone"},
        scene(BALL, 'over "Store" { over "Leaf" { def Sphere "S" { } } }\ndef PointInstancer "Tree" {\n'
              "rel prototypes = </Store/Leaf>\nint[] protoIndices = [0]\npoint3f[] positions = [(0, 0, 0)] }\n" + BALL),
    ),
    "an identifier": ({"file-from-web"}, scene("@./a.png@", "@asset:show/a.png@")),
    "a sequence on twos": (
        {"sequence-gaps"},
        all_of(scene("@./a.png@", "@./w.#.png@"), files(**{f"w__{n}__png": png() for n in (1, 3, 5, 7, 9)})),
    ),
    "a sequence at its own numbers": (
        {"sequence-gaps", "sequence-range-not-covered"},
        all_of(scene("@./a.png@", "@./w.####.png@"), files(**{f"w__{n}__png": png() for n in range(1001, 1011)})),
    ),
    "a layer in other units that is fitted": (
        {"units-differ"},
        all_of(
            scene("customLayerData", "metersPerUnit = 1\n    customLayerData",
                  BALL, 'def "Crate" ( references = @./box.usda@ ) { double3 xformOp:scale = (0.01, 0.01, 0.01)\n'
                  'uniform token[] xformOpOrder = ["xformOp:scale"] }\n' + BALL),
            files(box__usda=part('( defaultPrim = "B"\n metersPerUnit = 0.01 )\ndef Cube "B" { }')),
        ),
    ),
    "a material library in other units": (
        {"units-differ"},
        all_of(
            scene("customLayerData", "metersPerUnit = 1\n    customLayerData",
                  BALL, 'def "Looks" ( references = @./l.usda@ ) { }\n' + BALL),
            files(l__usda=part('( defaultPrim = "L"\n metersPerUnit = 0.01 )\ndef Scope "L" { def Material "M" { } }')),
        ),
    ),
    "coordinates that are worked out on the way": (
        {"file-missing"},
        all_of(
            scene(BALL, uv_quad(1, SHIFTED) + BALL),
            files(t__1001__png=png()),
        ),
    ),
    "a tile that no coordinate uses": (
        {"file-missing"}, all_of(scene(BALL, uv_quad(1) + BALL), files(t__1002__png=png())),
    ),
}  # fmt: skip


@pytest.mark.parametrize("what", QUIET)
def test_what_is_right_is_not_cried_out(what: str, shot: Shot) -> None:
    codes, trap = QUIET[what]
    trap(shot)
    result = shot.check()
    assert not codes & {one.code for one in result.findings}, [(one.code, one.message) for one in result.findings]


def test_a_zooming_camera_is_not_swapped_for_another(shot: Shot) -> None:
    QUIET["a zoom"][1](shot)
    staged, _ = checked(open_trusted(shot.write()))
    assert staged.survey.motion == "things" or staged.survey.motion == "camera"
    assert not [code for code, _ in mends_for(staged) if code.startswith("camera")]


def test_s1_the_frames_of_48_codes_and_24_frames_a_second_are_those_of_24(shot: Shot) -> None:
    scene(
        "startTimeCode = 1\n", "startTimeCode = 0\n", "endTimeCode = 10", "endTimeCode = 96",
        "timeCodesPerSecond = 24", "timeCodesPerSecond = 48\nframesPerSecond = 24",
    )(shot)  # fmt: skip
    frames = open_trusted(shot.write()).survey().frames
    assert (frames.count, frames.step, frames.fps, frames.codes_per_second) == (49, 2, 24, 48)


def test_gltf_has_no_patterns_and_extras_name_no_files(shot: Shot) -> None:
    gltf(images=[{"uri": "a%23b.png"}], extras={"uri": "notes.txt"})(shot)
    shot.files["a#b.png"] = png()
    survey = open_trusted(shot.write()).survey()
    assert [(one.value, one.status) for one in survey.assets] == [("a#b.png", Status.FOUND)]


def test_s10_textures_named_over_time_are_held_one_at_a_time(shot: Shot) -> None:
    times = ", ".join(f"{n}: @./w{n}.png@" for n in range(1, 11))
    scene("asset a = @./a.png@", f"asset a.timeSamples = {{ {times} }}")(shot)
    shot.files |= {f"w{n}.png": png(64, 64) for n in range(1, 11)}
    context = open_trusted(shot.write())
    need = memory_need(context.format, context.scene, context.plan, context.survey())
    assert need.textures == decoded_bytes(shot.folder / "w1.png")


def test_r2_a_file_that_an_attribute_of_type_string_names_travels(shot: Shot, tmp_path: Path) -> None:
    picture = tmp_path / "elsewhere" / "wall.png"
    scene(BALL, f'def Sphere "Painted" {{ string brush:picture = "{picture}" }}\n' + BALL)(shot)
    shot.files["../elsewhere/wall.png"] = png()
    context = open_trusted(shot.write())
    assert next(one for one in context.survey().assets if one.authored == str(picture)).needed
    crate = tmp_path / "s.crate"
    result = collect(context, crate)
    stage = Usd.Stage.Open(str(result.scene))
    text = stage.GetAttributeAtPath("/Painted.brush:picture").Get()
    spec = stage.GetAttributeAtPath("/Painted.brush:picture").GetPropertyStack()[0]
    assert not Path(text).is_absolute() and Path(spec.layer.ComputeAbsolutePath(text)).read_bytes() == png()
    assert is_whole(crate)


def test_r2_what_a_search_path_finds_travels_and_composes(shot: Shot, tmp_path: Path) -> None:
    all_of(
        scene(BALL, 'def "Box" ( references = @parts/box.usda@ ) { }\n' + BALL),
        before('search_paths = ["../library"]\n'),
    )(shot)
    shot.files["../library/parts/box.usda"] = part('( defaultPrim = "B" )\ndef Cube "B" { asset a = @./b.png@ }')
    shot.files["../library/parts/b.png"] = png()
    shot.files |= {f"../library/tex/w.{n:04d}.png": png() for n in range(1, 11)}
    scene("@./a.png@", "@tex/w.####.png@")(shot)
    context = open_trusted(shot.write())
    assert {one.status for one in context.survey().assets} == {Status.FOUND}
    crate = tmp_path / "s.crate"
    result = collect(context, crate)
    assert Usd.Stage.Open(str(result.scene)).GetPrimAtPath("/Box").GetTypeName() == "Cube"
    assert is_whole(crate)


def test_a_list_of_clips_that_is_counted_too_far_is_surveyed(shot: Shot) -> None:
    all_of(
        scene(BALL, 'def Sphere "Pulse" ( clips = { dictionary default = {'
              ' asset[] assetPaths = [@./c1.usda@, @./c2.usda@]\n string primPath = "/Ball"\n'
              " double2[] active = [(1, 0), (5, 7), (200, 1)]\n double2[] times = [(1, 1)] } } ) { }\n" + BALL),
        files(c1__usda=CLIP, c2__usda=CLIP),
    )(shot)  # fmt: skip
    clips = {one.authored: one.needed for one in open_trusted(shot.write()).survey().assets if one.field == "clips"}
    assert clips == {"./c1.usda": True, "./c2.usda": False}


@pytest.mark.parametrize("active", ['string active = "x"', "double active = 3", "float3[] active = [(1, 0, 0)]"])
def test_clips_that_are_counted_in_another_type_are_needed(shot: Shot, active: str) -> None:
    all_of(
        scene(BALL, 'def Sphere "Pulse" ( clips = { dictionary default = { asset[] assetPaths = [@./c1.usda@]\n'
              f' {active}\n string primPath = "/Ball"\n }} }} ) {{ }}\n' + BALL),
        files(c1__usda=CLIP),
    )(shot)  # fmt: skip
    assert [one.needed for one in open_trusted(shot.write()).survey().assets if one.field == "clips"] == [True]
