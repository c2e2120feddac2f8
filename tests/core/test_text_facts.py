"""Facts that are read from the lines of a text layer are those of the library, or there are none."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Sdf
from test_hints import PRIMS, PROPERTIES

from conftest import open_trusted, usda
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.facts import facts_with
from tidy_crate.core.scene.formats.usd.text_facts import text_facts
from tidy_crate.core.scene.model import Why
from tidy_crate.practice.demo.scene import write_demo_scene

MORE = [
    "asset a = @@@x@y@@@", "asset a = @@", "asset[] a = [@@, @a@]", "asset a = None", 'string s = "it\'s"',
    'string s = "a@b.png"', "rel r = [\n  </B>,\n  </C.x>,\n ]", "rel r = </A>", "rel material:binding = <../B>",
    "float x.connect = <../B.y>", "float x.connect = <In.y>", "float x.connect = <../../B.y>",
    "float x.connect = </A.y>", "float x.connect = [\n </B.x>,\n <C.x>\n ]", 'float x = 1 (\n  doc = "d"\n )',
    "float x = 1; float y = 2", "float x.timeSamples = {\n  1: 1,\n  2.5: 2,\n }", "float x.timeSamples = {\n }",
    "float x.timeSamples = {\n 1: None,\n }", "float[] x = [1,\n 2]", 'reorder properties = ["x"]', "# rel r = </B>",
    "float x = 1 # </B>", "point3f[] points = [(0, 0, 0), (1, 0, 0)]", "token outputs:out", "float x = inf",
    "float x = -1e-05", "rel visibility = </B>", 'string s = """a\n} \n"""',
    "matrix4d m = ( (1, 0, 0, 0), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1) )", "dictionary d = { }",
    "rel linked = </B>", "float visibility = 1", "rel proxyPrim = </B>", 'float x (\n  colorSpace = "raw"\n )',
    'rel r = </B> (\n  doc = "d"\n )', "float x.spline = {\n 1: 1,\n }",
]  # fmt: skip
INNER = 'def Scope "In" { }', 'def Scope "In"\n {\n  asset q = @q@\n  rel r = <../../B>\n }', 'over "In"\n {\n }'
HEADS = ["", "(\n upAxis = \"Z\"\n metersPerUnit = 0.01\n)\n", '(\n """docs\n(\n"""\n defaultPrim = "A"\n)\n',
         '(\n doc = "a"\n)\n', '(\n subLayers = [\n  @./b.usda@\n ]\n)\n', "(\n defaultPrim = \"A\")\n",
         '(\n colorConfiguration = @c.ocio@\n)\n', '( doc = """x""" )\n']  # fmt: skip


def both(text: str) -> tuple[object, object]:
    """Facts by lines, and by the library. The library's are None where it cannot parse the text."""
    layer = Sdf.Layer.CreateAnonymous(".usda")
    try:
        layer.ImportFromString(text)
        found = facts_with(layer, None)
    except Exception:  # noqa: BLE001 - the library has many errors for broken text
        found = None
    return text_facts(text.encode()), found


def test_lines_say_what_the_library_says_whatever_the_spelling() -> None:
    read = both_read = 0
    for prop, about in itertools.product([*PROPERTIES, *MORE], PRIMS):
        for inner in INNER[: 3 if not about else 1]:
            text = (
                f'#usda 1.0\ndef Scope "A" {about}\n{{\n    {prop}\n\n    {inner}\n}}\n'
                'def Scope "B"\n{\n    float x\n}\ndef "C"\n{\n}\n'
            )
            lines, library = both(text)
            if library is not None:
                assert lines in (None, library), text
                read, both_read = read + 1, both_read + (lines is not None)
    # most of these are forms that no program writes
    assert read > 500 and both_read > 50


@pytest.mark.parametrize("head", HEADS)
def test_the_head_of_a_layer(head: str) -> None:
    lines, library = both(f'#usda 1.0\n{head}\ndef "A"\n{{\n    asset a = @a.png@\n}}\n')
    assert lines in (None, library)


NAMES = st.sampled_from(["A", "B", "visibility", "purpose", "in:x", "outputs:y", "material:binding"])
KINDS = st.sampled_from(["Float", "Asset", "AssetArray", "String", "Token", "TokenArray", "Point3fArray", "Matrix4d"])
VALUES = {
    "Float": 0.5, "Asset": Sdf.AssetPath("./t/a.png"), "AssetArray": [Sdf.AssetPath("a.exr"), Sdf.AssetPath("b")],
    "String": "b.png", "Token": "x", "TokenArray": ["a", "b.png"], "Point3fArray": [(1, 2, 3)] * 3, "Matrix4d": None,
}  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_what_the_library_writes_is_read_from_its_lines(data: st.DataObject) -> None:
    layer = Sdf.Layer.CreateAnonymous(".usda")
    paths = [Sdf.Path("/R")]
    for _ in range(data.draw(st.integers(1, 6))):
        above = data.draw(st.sampled_from(paths))
        paths.append(above.AppendChild(data.draw(st.sampled_from(["A", "B", "C1"]))))
    for path in dict.fromkeys(paths):
        spec = Sdf.CreatePrimInLayer(layer, path)
        spec.specifier = data.draw(st.sampled_from([Sdf.SpecifierDef, Sdf.SpecifierOver, Sdf.SpecifierClass]))
        kind = data.draw(st.sampled_from(["", "Sphere", "Mesh"]))
        if kind:
            spec.typeName = kind
        if data.draw(st.booleans()):
            spec.SetInfo("apiSchemas", Sdf.TokenListOp.Create(prependedItems=["MaterialBindingAPI"]))
        for name in data.draw(st.sets(NAMES, max_size=4)):
            if name == "material:binding":
                found = Sdf.RelationshipSpec(spec, name)
                for target in data.draw(st.lists(st.sampled_from(paths), max_size=2, unique=True)):
                    found.targetPathList.explicitItems.append(target)
                continue
            kind = data.draw(KINDS)
            found = Sdf.AttributeSpec(spec, name, getattr(Sdf.ValueTypeNames, kind))
            if VALUES[kind] is not None and data.draw(st.booleans()):
                found.default = VALUES[kind]
            if kind == "Float" and data.draw(st.booleans()):
                layer.SetTimeSample(found.path, 1.0, 2.0)
            if data.draw(st.booleans()):
                found.connectionPathList.explicitItems.append(data.draw(st.sampled_from(paths)).AppendProperty("A"))
    text = layer.ExportToString()
    lines, library = both(text)
    assert lines == library, text


def test_the_demo_is_the_same_by_its_lines(tmp_path: Path) -> None:
    write_demo_scene(tmp_path)
    read = 0
    for path in sorted(tmp_path.rglob("*.usda")):
        layer = Sdf.Layer.FindOrOpen(str(path))
        for text in (path.read_text(encoding="utf-8"), layer.ExportToString()):
            lines, library = both(text)
            assert lines in (None, library), path
            read += lines is not None
    assert read > 3


@pytest.mark.parametrize(
    "fault", ['def "A"\n{\n}\ndef "A"\n{\n}\n', 'def "A"\n{\n    float x = 1, 2\n}\n', 'def "A"\n{\n']
)
def test_a_layer_that_only_the_library_finds_broken_is_named(fault: str, tmp_path: Path) -> None:
    survey = open_trusted(pair(tmp_path, fault)).survey()
    assert [one.path.name for one in survey.unread if one.why is Why.BROKEN] == ["bad.usda"]
    assert {asset.authored for asset in survey.assets} == {"./bad.usda", "./good.usda", "./a.png"}


def test_a_value_that_the_library_cannot_read_is_refused(tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput, match="cannot be evaluated"):
        open_trusted(pair(tmp_path, 'def "A"\n{\n    float x = (1, 2)\n}\n')).survey()


def pair(folder: Path, text: str) -> Path:
    """A scene of two layers, one of them with this text."""
    scene = folder / "s.usda"
    scene.write_text(usda('def "P" ( references = [@./bad.usda@</A>, @./good.usda@</G>] )\n{\n}'))
    (folder / "bad.usda").write_text(usda(text))
    (folder / "good.usda").write_text(usda('def "G"\n{\n    asset a = @./a.png@\n}\n'))
    return scene
