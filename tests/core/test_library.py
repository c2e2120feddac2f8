"""Facts of layers: the same from any process, cached only as long as the layer stays as it was."""

import json
import os

import pytest

from conftest import usda
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd import library
from tidy_crate.core.scene.formats.usd.facts import LayerFacts, layer_facts
from tidy_crate.core.scene.formats.usd.library import Library
from tidy_crate.core.scene.formats.usd.quiet import open_layer
from tidy_crate.core.scene.model import Why


@pytest.fixture(autouse=True)
def fresh():
    library.forget()


def many_layers(folder, count=30):
    """Layers that are worth a helper: each of a hundred kilobytes, one of them broken."""
    filler = "float[] x = [" + ", ".join(["0.5"] * 20_000) + "]"
    for number in range(count):
        text = usda(f'def Sphere "S" {{ asset f = @./t{number}.png@ ; {filler} }}'.replace(" ;", "\n"))
        (folder / f"l{number}.usda").write_text(text if number != 7 else text[:-9])
        (folder / f"t{number}.png").write_bytes(b"x")
    arcs = "\n".join(f'def "R{n}" ( references = @./l{n}.usda@</S> ) {{ }}' for n in range(count))
    scene = folder / "scene.usda"
    scene.write_text(usda(arcs))
    return scene


def test_helpers_say_what_is_worked_out_here_and_memory_says_it_again(tmp_path):
    scene = many_layers(tmp_path)
    layers = [tmp_path / f"l{number}.usda" for number in range(30) if number != 7]
    for cores, helpers in ((4, 4), (2, 0)):
        library.forget()
        with Library(cores=cores, many_bytes=2 << 20) as found:
            found.expect(layers)
            assert found.helpers == helpers
            for layer in layers:
                assert found.facts(layer) == layer_facts(open_layer(layer))
    library.forget()
    cache = tmp_path / "cache" / "scene.json"
    first = open_scene(scene, survey_cache=cache).survey()
    (unread,) = first.unread
    assert unread.path.name == "l7.usda" and unread.why is Why.BROKEN and "syntax error" in unread.detail
    library.forget()
    assert open_scene(scene, survey_cache=cache).survey() == first
    library.forget()
    cache.unlink()
    assert open_scene(scene).survey() == first


def test_a_changed_layer_is_read_again(tmp_path):
    (tmp_path / "part.usda").write_text(usda('def Sphere "S" { asset f = @./old.png@ }'))
    scene = tmp_path / "scene.usda"
    scene.write_text(usda('def "R" ( references = @./part.usda@</S> ) { }'))
    cache = tmp_path / "cache.json"
    assert "./old.png" in {asset.authored for asset in open_scene(scene, survey_cache=cache).survey().assets}
    library.forget()
    kept = json.loads(cache.read_text())
    (tmp_path / "part.usda").write_text(usda('def Sphere "S" { asset f = @./fresh.png@ }'))
    assert "./fresh.png" in {asset.authored for asset in open_scene(scene, survey_cache=cache).survey().assets}
    assert json.loads(cache.read_text()) != kept


@pytest.mark.parametrize("wreck", ["", "[]", "{", '{"tool": 1, "layers": []}', "other"])
def test_a_broken_memory_is_no_memory(tmp_path, wreck):
    scene = tmp_path / "scene.usda"
    scene.write_text(usda('def Sphere "S" { asset f = @./a.png@ }'))
    cache = tmp_path / "cache.json"
    before = open_scene(scene, survey_cache=cache).survey()
    library.forget()
    kept = json.loads(cache.read_text())
    for entry in kept["layers"].values():
        entry[1] = {"slots": [["/S.f", "default"]]}
    cache.write_text(json.dumps(kept) if wreck == "other" else wreck)
    assert open_scene(scene, survey_cache=cache).survey() == before


def test_facts_survive_being_kept(demo):
    facts = layer_facts(open_layer(demo.scene))
    assert LayerFacts.of_plain(json.loads(json.dumps(facts.plain()))) == facts


def test_what_cannot_be_kept_or_read_says_so(tmp_path):
    scene = tmp_path / "scene.usda"
    scene.write_text(usda('def Sphere "S" { asset f = @./a.png@ }'))
    # a file stands where the cache's folder should be
    assert open_scene(scene, survey_cache=scene / "cache.json").survey().assets
    with Library() as found, pytest.raises(UnreadableInput, match="no such layer"):
        found.facts(tmp_path / f"gone{os.sep}x.usda")
