"""A crate composes to what its source composes to, by plain USD; a crate that does not is not complete."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from pxr import Sdf, Usd, UsdGeom

from conftest import ANY, is_whole, open_trusted, usda
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.composed import composition_in_crate, composition_of_source
from tidy_crate.core.crate.layout import lay_out
from tidy_crate.core.crate.packing import FILE_NAME, read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.crate.proving import prove_here
from tidy_crate.core.files import hash_file
from tidy_crate.core.scene import composition
from tidy_crate.core.scene.composition import BY_LAYER, COMPOSES, Composition
from tidy_crate.core.scene.formats.usd.apply import staged_stage
from tidy_crate.core.scene.formats.usd.compose import compose_source
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.model import Status

HEAD = "(\n startTimeCode = 1\n endTimeCode = 9\n timeCodesPerSecond = 24\n{more}\n)\n"
MOVING = 'over "Ball" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 2017: (8, 0, 0) } }\n'
BALL = 'def Sphere "Ball" { uniform token[] xformOpOrder = ["xformOp:translate"] }'


def write(folder: Path, files: dict[str, str], binary: dict[str, bytes] | None = None) -> Path:
    """A project of layers; the scene is `s.usda` in `show`, its libraries lie elsewhere."""
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(usda(text.replace("@/abs/", f"@{folder.as_posix()}/lib/")))
    for name, data in (binary or {}).items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return folder / "show" / "s.usda"


def crate_of(scene: Path, tmp_path: Path) -> Path:
    return collect(open_trusted(scene), tmp_path / "out" / "c.crate").crate


def opened(crate: Path) -> Usd.Stage:
    return Usd.Stage.Open(str(crate / read_packing_list(crate).scene))


def place(stage: Usd.Stage, prim: str, time: float) -> list[float]:
    return list(UsdGeom.XformCache(time).GetLocalToWorldTransform(stage.GetPrimAtPath(prim)).ExtractTranslation())


def is_complete(crate: Path) -> bool:
    return is_whole(crate)


@pytest.mark.parametrize("authored", ["@/abs/anim.usda@", "@../lib/anim.usda@"])
def test_a_sublayer_keeps_its_offset_and_scale_when_its_path_is_rewritten(authored: str, tmp_path: Path) -> None:
    more = f"subLayers = [\n{authored} (offset = 1000; scale = 0.5),\n@./own.usda@ (offset = 3)\n]"
    files = {"show/s.usda": HEAD.format(more=more) + BALL, "lib/anim.usda": MOVING, "show/own.usda": 'def "Own" { }'}
    scene = write(tmp_path, files)
    crate = crate_of(scene, tmp_path)
    assert is_complete(crate)
    here, there = Usd.Stage.Open(str(scene)), opened(crate)
    for time in (1000.5, 1004, 1200, 2008.5):
        assert place(here, "/Ball", time) == place(there, "/Ball", time)
    assert place(there, "/Ball", 1504.5) == pytest.approx([4, 0, 0], abs=0.01)


def test_a_relinked_sublayer_keeps_its_offset_and_scale(tmp_path: Path) -> None:
    more = "subLayers = [\n@./gone/anim.usda@ (offset = 1000; scale = 0.5)\n]"
    scene = write(tmp_path, {"show/s.usda": HEAD.format(more=more) + BALL, "lib/anim.usda": MOVING})
    context = open_trusted(scene)
    context.file.add("relink", [{"authored": "./gone/anim.usda", "to": str(tmp_path / "lib/anim.usda")}])
    # what is surveyed is what is rendered: keyed from 1000.5 on
    assert open_trusted(scene).survey().animated == (1000, 2009)
    crate = crate_of(scene, tmp_path)
    assert is_complete(crate)
    assert place(opened(crate), "/Ball", 1504.5) == pytest.approx([4, 0, 0], abs=0.01)


@pytest.mark.parametrize("arc", ["references", "payload"])
@pytest.mark.parametrize("listed", ["delete", "reorder"])
def test_what_a_list_takes_out_stays_out(arc: str, listed: str, tmp_path: Path) -> None:
    weak = f'def "R" ( prepend {arc} = [@/abs/a.usda@, @/abs/b.usda@] ) {{ }}'
    strong = f'over "R" ( {listed} {arc} = [@/abs/{"a" if listed == "delete" else "b"}.usda@] ) {{ }}'
    layer = '(\ndefaultPrim = "P"\n)\ndef "P" { custom string from = "NAME"\ndef "NAME" { } }'
    files = {
        "show/s.usda": HEAD.format(more="subLayers = [@./strong.usda@, @./deep/weak.usda@]"),
        "show/strong.usda": strong,
        "show/deep/weak.usda": weak,
        "lib/a.usda": layer.replace("NAME", "A"),
        "lib/b.usda": layer.replace("NAME", "B"),
    }
    scene = write(tmp_path, files)
    here = Usd.Stage.Open(str(scene))
    names = {prim.GetName() for prim in here.GetPrimAtPath("/R").GetChildren()}
    crate = crate_of(scene, tmp_path)
    there = opened(crate)
    assert {prim.GetName() for prim in there.GetPrimAtPath("/R").GetChildren()} == names
    value = here.GetPrimAtPath("/R").GetAttribute("from").Get()
    assert there.GetPrimAtPath("/R").GetAttribute("from").Get() == value
    assert is_complete(crate)
    removed = [one for one in open_trusted(scene).survey().assets if one.field.endswith(":removed")]
    assert len(removed) == 1 and not removed[0].needed and "takes it out" in removed[0].because


def test_what_a_list_takes_out_stays_out_when_the_layer_that_it_means_is_relinked(tmp_path: Path) -> None:
    layer = '(\ndefaultPrim = "P"\n)\ndef "P" { def "NAME" { } }'
    files = {
        "show/s.usda": HEAD.format(more="subLayers = [@./strong.usda@, @./weak.usda@]"),
        "show/strong.usda": 'over "R" ( delete references = @./gone/a.usda@ ) { }',
        "show/weak.usda": 'def "R" ( prepend references = [@./gone/a.usda@, @./gone/b.usda@] ) { }',
        "lib/a.usda": layer.replace("NAME", "A"),
        "lib/b.usda": layer.replace("NAME", "B"),
    }
    scene = write(tmp_path, files)
    folder = {"folder": "./gone", "to": str(tmp_path / "lib")}
    open_trusted(scene).file.add("relink", [folder])
    crate = crate_of(scene, tmp_path)
    stage = opened(crate)
    assert [prim.GetName() for prim in stage.GetPrimAtPath("/R").GetChildren()] == ["B"]
    assert is_complete(crate)


def test_search_paths_beside_a_relinked_layer_still_compose(tmp_path: Path) -> None:
    files = {
        "show/s.usda": HEAD.format(more="")
        + 'def "L" ( references = @./gone/l.usda@</P> ) { }\n'
        + 'def "Near" ( references = @parts/near.usda@</P> ) { asset tex = @tex/a.png@ }\n'
        + 'def "Clipped" ( clips = { dictionary default = { asset[] assetPaths = [@clips/c1.usda@]\n'
        + 'string primPath = "/C"\ndouble2[] active = [(1, 0)]\ndouble2[] times = [(1, 1), (9, 9)]\n'
        + "asset manifestAssetPath = @clips/m.usda@ } } ) { double x }",
        "lib/l.usda": 'def "P" { custom int seen = 1 }',
        "show/parts/near.usda": 'def "P" { custom int seen = 2 }',
        "show/clips/c1.usda": 'def "C" { double x.timeSamples = { 1: 5, 9: 13 } }',
        "show/clips/m.usda": 'def "C" { double x }',
    }
    scene = write(tmp_path, files, {"show/tex/a.png": b"a"})
    open_trusted(scene).file.add("relink", [{"authored": "./gone/l.usda", "to": str(tmp_path / "lib/l.usda")}])
    survey = open_trusted(scene).survey()
    assert survey.totals.missing == 0
    crate = crate_of(scene, tmp_path)
    stage = opened(crate)
    assert [stage.GetPrimAtPath(f"/{name}").GetAttribute("seen").Get() for name in ("L", "Near")] == [1, 2]
    assert stage.GetPrimAtPath("/Clipped").GetAttribute("x").Get(5) == 9
    assert stage.GetPrimAtPath("/Near").GetAttribute("tex").Get().resolvedPath.startswith(str(crate))
    # the source composes the same with its relink in place, value clips too
    assert is_complete(crate)


def test_brackets_in_names_beside_a_relinked_layer_still_compose(tmp_path: Path) -> None:
    files = {
        "show/s.usda": HEAD.format(more="")
        + 'def "L" ( references = @./gone/l.usda@</P> ) { asset tex = @tex[1]/a[2].png@ }\n',
        "lib/l.usda": 'def "P" { custom int seen = 1 }',
    }
    scene = write(tmp_path, files, {"show/tex[1]/a[2].png": b"a"})
    open_trusted(scene).file.add("relink", [{"authored": "./gone/l.usda", "to": str(tmp_path / "lib/l.usda")}])
    context = open_trusted(scene)
    source = compose_source(walk_layers(scene, context.plan, Disk())).stage
    assert source.GetPrimAtPath("/L").GetAttribute("seen").Get() == 1
    found = source.GetPrimAtPath("/L").GetAttribute("tex").Get().resolvedPath
    assert Path(found) == scene.parent / "tex[1]" / "a[2].png"
    assert is_complete(crate_of(scene, tmp_path))


def test_files_named_in_the_metadata_of_a_relationship_are_rewritten(tmp_path: Path) -> None:
    body = 'def "A" { rel link = </A> ( customData = { asset note = @/abs/note.txt@ } )\n}'
    scene = write(tmp_path, {"show/s.usda": HEAD.format(more="") + body}, {"lib/note.txt": b"note"})
    crate = crate_of(scene, tmp_path)
    stage = opened(crate)
    note = stage.GetPrimAtPath("/A").GetRelationship("link").GetCustomData()["note"]
    assert not note.path.startswith("/") and str(tmp_path / "lib") not in note.path
    assert is_complete(crate)


# ---- a crate that composes to something else is never complete

RICH = (
    BALL
    + """
def Mesh "Sail" { point3f[] points.timeSamples = { 1: [(0, 0, 0), (1, 0, 0)], 9: [(0, 0, 1), (1, 0, 1)] }
    color3f[] primvars:displayColor = [(1, 0, 0)]
    rel material:binding = </Ball>
    asset tex = @./tex/a.png@
    asset other = @./tex/b.png@ }
def "Set" ( references = @./part.usda@</P>
 instanceable = true ) { }
def "Set2" ( references = @./part.usda@</P>
 instanceable = true ) { }
"""
)
PART = 'def "P" { def Cube "C" { double size = 2\ncustom token kind = "one" } }'
CHANGES: dict[str, Callable[[Sdf.Layer, Sdf.Layer], None]] = {
    "value": lambda s, p: setattr(s.GetAttributeAtPath("/Sail.primvars:displayColor"), "default", [(1, 0, 0.001)]),
    "sample": lambda s, p: s.SetTimeSample("/Sail.points", 9, [(0, 0, 1), (1, 0, 1.5)]),
    "retimed": lambda s, p: s.SetTimeSample("/Sail.points", 8, [(0, 0, 1), (1, 0, 1)]),
    "target": lambda s, p: s.GetRelationshipAtPath("/Sail.material:binding").targetPathList.explicitItems.__setitem__(
        0, Sdf.Path("/Set")
    ),
    "type": lambda s, p: setattr(s.GetPrimAtPath("/Ball"), "typeName", "Cube"),
    "gone": lambda s, p: s.GetPrimAtPath("/Sail").RemoveProperty(s.GetAttributeAtPath("/Sail.points")),
    "new": lambda s, p: Sdf.CreatePrimInLayer(s, "/Extra") and None,
    "inactive": lambda s, p: setattr(s.GetPrimAtPath("/Sail"), "active", False),
    "swapped texture": lambda s, p: setattr(s.GetAttributeAtPath("/Sail.tex"), "default", Sdf.AssetPath("./tex/b.png")),
    "inside an instance": lambda s, p: setattr(p.GetAttributeAtPath("/P/C.size"), "default", 3.0),
    "rate": lambda s, p: setattr(s, "timeCodesPerSecond", 25),
    "schema": lambda s, p: s.GetPrimAtPath("/Ball").SetInfo(
        "apiSchemas", Sdf.TokenListOp.Create(prependedItems=["PhysicsRigidBodyAPI"])
    ),
}


@pytest.fixture(scope="module")
def rich(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("rich")
    files = {"show/s.usda": HEAD.format(more="") + RICH, "show/part.usda": PART}
    scene = write(folder, files, {"show/tex/a.png": b"a", "show/tex/b.png": b"b"})
    return crate_of(scene, folder)


def changed(rich: Path, crate: Path, change: str) -> None:
    """Copy a crate with a change, as if it had been collected so: every hash agrees."""
    shutil.copytree(rich, crate)
    content = read_packing_list(crate)
    layers = {name: next(crate.rglob(name)) for name in ("s.usda", "part.usda")}
    opened_layers = [Sdf.Layer.OpenAsAnonymous(str(path)) for path in layers.values()]
    CHANGES[change](*opened_layers)
    for layer, path in zip(opened_layers, layers.values(), strict=True):
        path.chmod(0o644)
        layer.Export(str(path))
    if change == "rate":
        root = crate / content.scene
        root.write_text(root.read_text().replace("timeCodesPerSecond = 24", "timeCodesPerSecond = 25"))
    document = json.loads((crate / FILE_NAME).read_text())
    for file in document["files"]:
        path = crate / file["path"]
        file["bytes"], file["blake3"] = path.stat().st_size, hash_file(path)
    (crate / FILE_NAME).write_text(json.dumps(document))


@pytest.mark.parametrize("change", CHANGES)
def test_r10_a_crate_that_composes_to_something_else_is_not_complete(change: str, rich: Path, tmp_path: Path) -> None:
    crate = tmp_path / "c.crate"
    changed(rich, crate, change)
    proof = prove_here(crate, read_packing_list(crate), tmp_path, None, None)
    assert not proof.whole and proof.changed == ()
    found = [one for one in proof.differs if one.startswith(COMPOSES)]
    assert len(found) == 1
    named = {"inside an instance": "/Set/C", "rate": "/", "new": "/Extra", "type": "/Ball", "schema": "/Ball"}
    assert named.get(change, "/Sail") in found[0]


def by_layers(scene: Path, crate: Path) -> Composition | None:
    """Digest a source by its layers."""
    context = open_trusted(scene)
    survey = context.survey()
    crate_paths = lay_out(survey, context.plan, context.project).crate_paths
    return composition_of_source(context, survey, crate_paths, read_packing_list(crate), crate, BY_LAYER)


@pytest.mark.parametrize("change", CHANGES)
def test_r10_of_very_many_prims_the_layers_are_compared(change: str, rich: Path, tmp_path: Path) -> None:
    source = by_layers(rich.parents[1] / "show" / "s.usda", rich)
    assert source is not None and source.layers == 2 and source.prims == 5
    crate = tmp_path / "c.crate"
    changed(rich, crate, change)
    document = json.loads((crate / FILE_NAME).read_text())
    document["composition"] = source.model_dump(mode="json")
    (crate / FILE_NAME).write_text(json.dumps(document))
    proof = prove_here(crate, read_packing_list(crate), tmp_path, None, None)
    found = [one for one in proof.differs if one.startswith(COMPOSES)]
    assert len(found) == 1 and not proof.whole
    named = {"inside an instance": "part.usda (other contents)", "rate": "/ (other contents)"}
    assert named.get(change, "s.usda (other contents)") in found[0]


@pytest.mark.parametrize("authored", ["@./tex/a.png@", "@../lib/tex.png@", "@/abs/tex.png@", "@tex/a.png@"])
def test_r10_layers_are_the_same_in_the_crate_however_a_path_is_written(authored: str, tmp_path: Path) -> None:
    text = f"""def "P" ( references = @/abs/part.usda@ ) {{ asset a = {authored}
        string note = "none@of these@are paths"
        asset[] more = [{authored}, @./gone.png@, @@@./tex/a@b.png@@@] }} # @nor@ this"""
    files = {"show/s.usda": HEAD.format(more="") + text, "lib/part.usda": PART}
    pictures = {"show/tex/a.png": b"a", "show/tex/b.png": b"b", "lib/tex.png": b"c", "show/tex/a@b.png": b"d"}
    scene = write(tmp_path, files, pictures)
    crate = crate_of(scene, tmp_path)
    source = by_layers(scene, crate)
    assert source is not None and source.method == BY_LAYER and source.layers == 2
    pictured = read_packing_list(crate)
    swapped = {file.path: file.blake3[::-1] if file.path.endswith(".png") else file.blake3 for file in pictured.files}
    other = pictured.model_copy(
        update={"files": tuple(file.model_copy(update={"blake3": swapped[file.path]}) for file in pictured.files)}
    )
    context = open_trusted(scene)
    found = composition_in_crate(context.format, crate / other.scene, context.survey(), other, crate, BY_LAYER)
    assert found is not None and source.differences(found)


@pytest.mark.parametrize(
    "text",
    ['def "P" { asset a = @`"./${SHOT}/a.png"`@ }',
     'def "P" ( clips = { dictionary default = { asset[] assetPaths = [@./a.usda@]\nstring primPath = "/P" } } ) {}'],
)  # fmt: skip
def test_what_composes_from_more_than_layers_is_compared_by_prims(text: str, tmp_path: Path) -> None:
    more = 'expressionVariables = { string SHOT = "tex" }' if "SHOT" in text else ""
    scene = write(tmp_path, {"show/s.usda": HEAD.format(more=more) + text, "show/a.usda": PART})
    crate = crate_of(scene, tmp_path)
    assert by_layers(scene, crate) is None


def test_the_proof_says_what_was_compared(rich: Path) -> None:
    proof = prove(rich, os.environ, ANY, test=False)
    assert proof.whole and proof.compared_times == (0, 1, 5, 9, 10) and proof.sampled == ()
    # the ball, the sail, two sets, and what they share once; the stage itself
    assert proof.compared_prims == 6


def test_a_crate_from_before_there_were_digests_is_proven_by_the_rest(rich: Path, tmp_path: Path) -> None:
    crate = tmp_path / "c.crate"
    shutil.copytree(rich, crate)
    document = json.loads((crate / FILE_NAME).read_text())
    del document["composition"]
    (crate / FILE_NAME).write_text(json.dumps(document))
    proof = prove(crate, os.environ, ANY, test=False)
    assert proof.whole and proof.compared_prims is None


def test_of_very_many_prims_the_ones_that_hold_them_are_named() -> None:
    paths = [f"/World/Group{a}/Set{b}/Prop{c}" for a in range(20) for b in range(20) for c in range(20)]
    prims = dict.fromkeys(paths, "0" * 32) | {f"/World/Group{a}": "1" * 32 for a in range(20)}
    one = Composition.of(prims, (), ())
    assert one.prims == len(prims) and 1 < len(one.parts) <= composition.MOST_PARTS
    other = Composition.of(prims | {"/World/Group7/Set3/Prop19": "2" * 32}, (), ())
    assert one.differences(one) == [] and one.digest != other.digest
    assert one.differences(other) == [f"{COMPOSES}: /World/Group7/Set3 (other contents)"]
    without = {path: part for path, part in prims.items() if not path.startswith("/World/Group7/Set3")}
    assert one.differences(Composition.of(without, (), ())) == [f"{COMPOSES}: /World/Group7/Set3 (not there)"]


@pytest.mark.parametrize("relinked", [False, True])
def test_a_layer_under_two_sets_of_variables_gets_a_copy_for_each(relinked: bool, tmp_path: Path) -> None:
    show, store = tmp_path / "show", tmp_path / "store"
    named = tmp_path / "gone" if relinked else store
    store.mkdir()
    show.mkdir()
    for shot, byte in (("dawn", b"1"), ("dusk", b"2")):
        (store / f"{shot}.png").write_bytes(byte)
        (store / f"{shot}.usda").write_text(usda(f'( defaultPrim = "P" )\ndef Sphere "P" {{ string shot = "{shot}" }}'))
        (show / f"{shot}.usda").write_text(
            usda(
                f'( defaultPrim = "S"\n expressionVariables = {{ string SHOT = "{shot}" }} )\n'
                'def "S" ( references = @./middle.usda@ ) { }'
            )
        )
    (show / "middle.usda").write_text(usda('( defaultPrim = "M" )\ndef "M" ( references = @./common.usda@ ) { }'))
    (show / "common.usda").write_text(
        usda(
            '( defaultPrim = "C" )\ndef "C" {\n'
            f'asset plate = @`"{named.as_posix()}/${{SHOT}}.png"`@\n'
            f'def "Prop" ( references = @`"{named.as_posix()}/${{SHOT}}.usda"`@ ) {{ }}\n}}'
        )
    )
    scene = show / "s.usda"
    scene.write_text(usda('def "A" ( references = @./dawn.usda@ ) { }\ndef "B" ( references = @./dusk.usda@ ) { }'))
    crate = tmp_path / "s.crate"
    if relinked:
        context = open_trusted(scene)
        lost = [one for one in context.survey().assets if one.status is Status.MISSING]
        moved = [{"asset": one.id, "to": str(store / Path(one.value).name)} for one in lost]
        assert len(moved) == 4
        context.file.add("relink", moved)
        # what is surveyed and baked composes so too, before anything is written
        context = open_trusted(scene)
        staged = staged_stage(scene, context.plan, context.survey()).stage
        assert [staged.GetAttributeAtPath(f"{prim}/Prop.shot").Get() for prim in ("/A", "/B")] == ["dawn", "dusk"]
    result = collect(open_trusted(scene), crate)
    shutil.rmtree(store)
    stage = Usd.Stage.Open(str(result.scene))
    for prim, shot, byte in (("/A", "dawn", b"1"), ("/B", "dusk", b"2")):
        value = stage.GetAttributeAtPath(f"{prim}.plate").Get()
        assert Path(value.resolvedPath).read_bytes() == byte
        assert stage.GetAttributeAtPath(f"{prim}/Prop.shot").Get() == shot
    assert is_whole(crate)


def test_an_expression_that_holds_in_the_crate_stays_an_expression(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(
        usda('( expressionVariables = { string SHOT = "dawn" } )\ndef Sphere "S" { asset a = @`"./${SHOT}.png"`@ }')
    )
    (tmp_path / "dawn.png").write_bytes(b"1")
    result = collect(open_trusted(scene), tmp_path / "s.crate")
    assert "${SHOT}" in (tmp_path / "s.crate" / "s.usda").read_text() and not result.missing
    assert is_whole(tmp_path / "s.crate")
