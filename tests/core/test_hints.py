"""Hints from a layer's text do not change the facts: they are the same with and without."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from pxr import Sdf

from tidy_crate.core.scene.formats.usd.facts import facts_with
from tidy_crate.core.scene.formats.usd.hints import hints_of
from tidy_crate.practice.demo.scene import write_demo_scene

PROPERTIES = [
    "asset a = @x.png@", "asset  a=@x.png@", "asset[] a = [@x.png@]", "asset\ta = @x@", "uniform asset a = @x@",
    "custom uniform asset a = @x@", "asset ns:a:b = @x@", "asset \u00e4 = @x@", "asset a.connect = </B.x>",
    "asset a.timeSamples = { 1: @a@, 2: @b@ }", "asset a = @x@ (\n customData = { asset q = @z@ }\n )",
    'string s = "a.png"', "string s = 'a.png'", 'string s = """a.png"""', 'string s = "a\\x2epng"', 'token t = "b.exr"',
    'token[] t = ["b.exr"]', 'string s.timeSamples = { 1: "a.png", 2: "b" }', 'token visibility = "invisible"',
    "rel r = </B>", "rel  r", "custom rel r = [</B>, </C>]", "prepend rel r = </B>", "varying rel r = </B>",
    "double x = 1", "double x.timeSamples = { 1: 2 }", "/* c */ asset a = @x@", 'float f = 1 ( doc = "asset q = 1" )',
]  # fmt: skip
PRIMS = [
    "", '( apiSchemas = ["X", "Y"] )', "( prepend apiSchemas = ['X:y'] )", '( delete apiSchemas = ["X"] )',
    "( apiSchemas = None )", '( prepend apiSchemas = [ # "Q"\n "X" ] )', "( references = @b.usda@ )",
    '( variantSets = "v" )', "( customData = { asset a = @c@ } )", "( inherits = </B> )", '( kind = "component" )',
    "( clips = {} )", '( doc = "apiSchemas = [\\"N\\"]" )',
]  # fmt: skip


def test_hints_change_nothing_whatever_the_spelling(tmp_path: Path) -> None:
    read = hinted = 0
    for number, (inside, about) in enumerate(itertools.product(PROPERTIES, PRIMS)):
        path = tmp_path / f"{number}.usda"
        path.write_text(
            f'#usda 1.0\ndef Scope "A" {about}\n{{\n {inside}\n}}\ndef Scope "B"\n{{\n}}\n', encoding="utf-8"
        )
        layer = Sdf.Layer.FindOrOpen(str(path))
        assert layer, path.read_text()
        hints = hints_of(layer)
        assert facts_with(layer, hints) == facts_with(layer, None), path.read_text()
        read, hinted = read + 1, hinted + (hints is not None)
    assert read == len(PROPERTIES) * len(PRIMS) and hinted > read / 2


def test_hints_change_nothing_in_the_demo(tmp_path: Path) -> None:
    write_demo_scene(tmp_path)
    layers = [Sdf.Layer.FindOrOpen(str(path)) for path in sorted(tmp_path.rglob("*.usd*"))]
    assert len(layers) > 5
    for layer in layers:
        assert facts_with(layer, hints_of(layer)) == facts_with(layer, None), layer.identifier


@pytest.mark.parametrize("spoil", ["binary", "dirty", "memory"])
def test_what_is_no_text_on_the_disk_gives_no_hints(spoil: str, tmp_path: Path) -> None:
    path = tmp_path / ("a.usdc" if spoil == "binary" else "a.usda")
    layer = Sdf.Layer.CreateNew(str(path))
    layer.Save()
    if spoil == "dirty":
        Sdf.CreatePrimInLayer(layer, "/A")
    assert hints_of(Sdf.Layer.CreateAnonymous(".usda") if spoil == "memory" else layer) is None
