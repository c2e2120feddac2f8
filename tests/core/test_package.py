"""Packages: one file that travels whole, whose layers are read all the same."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from pxr import Sdf, Usd, UsdUtils

from conftest import is_whole, open_trusted, usda
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.layout import lay_out
from tidy_crate.core.scene.model import Status

INNER = """def Xform "S" ( references = @./parts/part.usda@</P> ) {
asset near = @./tex/a.png@
asset tiles = @./tex/u.<UDIM>.png@
double x.timeSamples = { 1: 0, 5: 1, }
}"""
PART = 'def Sphere "P" {\nasset rooted = @tex/a.png@\nasset beside = @./b.png@\n'


def pack(folder: Path, name: str = "pack.usdz", extra: str = "") -> Path:
    """A package with two layers and textures, and nothing of it beside it."""
    inside = folder / "inside"
    (inside / "tex").mkdir(parents=True)
    (inside / "parts").mkdir()
    (inside / "top.usda").write_text(usda(INNER).replace("#usda 1.0", '#usda 1.0\n(\ndefaultPrim = "S"\n)'))
    (inside / "parts" / "part.usda").write_text(usda(PART + extra + "}"))
    for texture in ("tex/a.png", "tex/u.1001.png", "tex/u.1002.png", "parts/b.png"):
        (inside / texture).write_bytes(texture.encode())
    with Sdf.ZipFileWriter.CreateNew(str(folder / name)) as writer:
        for file in ("top.usda", "parts/part.usda", "tex/a.png", "tex/u.1001.png", "tex/u.1002.png", "parts/b.png"):
            writer.AddFile(str(inside / file), file)
    for path in sorted(inside.rglob("*"), reverse=True):
        path.rmdir() if path.is_dir() else path.unlink()
    inside.rmdir()
    return folder / name


def whole(crate: Path) -> bool:
    return is_whole(crate)


def test_s7_a_whole_package_is_one_file_and_what_it_holds_is_no_asset(tmp_path: Path) -> None:
    pack(tmp_path)
    scene = tmp_path / "s.usda"
    scene.write_text(usda('def "R" ( references = @./pack.usdz@ ) { }'))
    survey = open_trusted(scene).survey()
    assert [(a.authored, a.kind, a.status, a.needed) for a in survey.assets] == [
        ("./pack.usdz", "package", Status.FOUND, True)
    ]
    # what happens inside is seen
    assert survey.motion == "things" and survey.animated == (1, 5)
    collect(open_trusted(scene), tmp_path / "out" / "c.crate")
    assert whole(tmp_path / "out" / "c.crate")


def test_s7_a_file_and_a_layer_inside_a_package_can_be_named_from_outside(tmp_path: Path) -> None:
    pack(tmp_path / "far")
    far = (tmp_path / "far" / "pack.usdz").as_posix()
    scene = tmp_path / "show" / "s.usda"
    scene.parent.mkdir()
    scene.write_text(
        usda(
            f'def "R" ( references = @{far}[parts/part.usda]@</P> ) {{\nasset a = @../far/pack.usdz[tex/a.png]@\n'
            "asset gone = @../far/pack.usdz[tex/none.png]@\n}"
        )
    )
    found = {asset.field + asset.owner: asset for asset in open_trusted(scene).survey().assets}
    assert found["default/R.a"].status is Status.FOUND and found["references/R"].status is Status.FOUND
    assert "the package holds no tex/none.png" in (found["default/R.gone"].trouble or "")
    open_trusted(scene).file.add("let_go", [{"authored": "*none.png[]]", "because": "not in sight"}])
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert result.complete and whole(result.crate)
    stage = Usd.Stage.Open(str(result.scene))
    assert stage.GetPrimAtPath("/R").GetAttribute("a").Get().resolvedPath.startswith(str(result.crate))


@pytest.mark.parametrize(
    ("path", "why"), [("./none.png", "does not hold it"), ("/home/x/a.png", "leads out of its package")]
)
def test_what_a_package_lacks_or_leads_out_of_it_is_missing(tmp_path: Path, path: str, why: str) -> None:
    pack(tmp_path, extra=f"asset lost = @{path}@\n")
    scene = tmp_path / "s.usda"
    scene.write_text(usda('def "R" ( references = @./pack.usdz@ ) { }'))
    lost = next(asset for asset in open_trusted(scene).survey().assets if asset.kind != "package" or asset.trouble)
    assert lost.authored == path and why in (lost.trouble or "") and lost.status is Status.MISSING
    result = collect(open_trusted(scene), tmp_path / "out" / "c.crate")
    assert not result.complete and not whole(result.crate)
    open_trusted(scene).file.add("let_go", [{"asset": lost.id, "because": "never seen"}])
    result = collect(open_trusted(scene), tmp_path / "out" / "c.crate")
    assert result.complete and whole(result.crate)


def test_a_package_is_a_scene_itself(tmp_path: Path) -> None:
    scene = pack(tmp_path)
    survey = open_trusted(scene).survey()
    assert survey.assets == () and survey.motion == "things"
    result = collect(open_trusted(scene), tmp_path / "out" / "c.crate")
    assert whole(result.crate) and (result.crate / "pack.usdz").read_bytes() == scene.read_bytes()


def test_a_broken_package_is_named(tmp_path: Path) -> None:
    pack(tmp_path)
    data = (tmp_path / "pack.usdz").read_bytes()
    (tmp_path / "pack.usdz").write_bytes(data[: len(data) // 2])
    scene = tmp_path / "s.usda"
    scene.write_text(usda('def "R" ( references = @./pack.usdz@ ) { }'))
    survey = open_trusted(scene).survey()
    assert len(survey.unread) == 1 and "pack.usdz" in str(survey.unread[0])


def test_a_package_inside_a_package_is_read_as_usd_reads_it_and_travels(tmp_path: Path) -> None:
    folder = tmp_path / "made"
    folder.mkdir()
    (folder / "tex.png").write_bytes(b"12")
    (folder / "model.usda").write_text(
        usda('( defaultPrim = "M" )\ndef Sphere "M" { asset a = @tex.png@\nasset b = @./tex.png@ }')
    )
    (folder / "root.usda").write_text(
        usda('( defaultPrim = "R" )\ndef "R" { def "P" ( references = @inner.usdz@ ) { }\n'
             'def "Q" ( references = @inner.usdz[model.usda]@ ) { } }')
    )  # fmt: skip
    _zip(folder / "inner.usdz", folder / "model.usda", folder / "tex.png")
    _zip(tmp_path / "outer.usdz", folder / "root.usda", folder / "inner.usdz")
    (tmp_path / "other.usda").write_text(usda('( defaultPrim = "O" )\ndef Cube "O" { }'))
    shutil.rmtree(folder)
    scene = tmp_path / "s.usda"
    scene.write_text(
        usda('def "A" ( references = @./outer.usdz@ ) { }\n'
             'def "B" ( references = @./outer.usdz[inner.usdz[model.usda]]@ ) { }\n'
             'def "C" ( references = @./other.usda:SDF_FORMAT_ARGS:detail=1@ ) { }')
    )  # fmt: skip
    survey = open_trusted(scene).survey()
    assert {one.status for one in survey.assets} == {Status.FOUND} and not survey.unread
    files = {member.path.name for one in survey.assets for member in one.members}
    layers, assets, unresolved = UsdUtils.ComputeAllDependencies(str(scene))
    reported = {layer.realPath.partition("[")[0] for layer in layers} | {str(one).partition("[")[0] for one in assets}
    assert not unresolved and files | {"s.usda"} == {Path(one).name for one in reported}
    result = collect(open_trusted(scene), tmp_path / "far" / "s.crate")
    for file in (tmp_path / "outer.usdz", tmp_path / "other.usda"):
        file.unlink()
    stage = Usd.Stage.Open(str(result.scene))
    assert [str(stage.GetPrimAtPath(path).GetTypeName()) for path in ("/A/P", "/A/Q", "/B", "/C")] == [
        "Sphere", "Sphere", "Sphere", "Cube",
    ]  # fmt: skip
    assert is_whole(tmp_path / "far" / "s.crate")


def test_what_a_nested_package_lacks_is_missing_by_name(tmp_path: Path) -> None:
    (tmp_path / "model.usda").write_text(usda('def Sphere "M" { }'))
    _zip(tmp_path / "inner.usdz", tmp_path / "model.usda")
    _zip(tmp_path / "outer.usdz", tmp_path / "model.usda", tmp_path / "inner.usdz")
    scene = tmp_path / "s.usda"
    scene.write_text(usda('def "A" ( references = @./outer.usdz[inner.usdz[gone.usda]]@</M> ) { }'))
    (asset,) = open_trusted(scene).survey().assets
    assert asset.status is Status.MISSING and "holds no" in (asset.trouble or "")


def _zip(target: Path, *files: Path) -> None:
    writer = Sdf.ZipFileWriter.CreateNew(str(target))
    for file in files:
        writer.AddFile(str(file), file.name)
    writer.Save()


def test_names_with_brackets_of_their_own_are_names(tmp_path: Path) -> None:
    show = tmp_path / "show"
    (show / "dir[2]").mkdir(parents=True)
    pack(show, "pack[1].usdz")
    for name in ("img[1].png", "dir[2]/b.png", "plain[x]", "seq[3].0001.png", "seq[3].0002.png"):
        (show / name).write_bytes(name.encode())
    (show / "layer[4].usda").write_text(usda('def Sphere "P" {\nasset t = @./img[1].png@\n}'))
    lines = "asset a = @./img[1].png@\nasset b = @./dir[2]/b.png@\nasset c = @./seq[3].####.png@\n"
    lines += "asset d = @./pack[1].usdz[tex/a.png]@\n"
    body = f'def "R" ( references = @./pack[1].usdz@ ) {{\n{lines}}}\n'
    body += 'def "L" ( references = @./layer[4].usda@</P> ) {\n}\n'
    scene = show / "s.usda"
    scene.write_text(usda(body))
    survey = open_trusted(scene).survey()
    assert {asset.status for asset in survey.assets} == {Status.FOUND}
    collect(open_trusted(scene), tmp_path / "out" / "c.crate")
    shutil.rmtree(show)
    assert whole(tmp_path / "out" / "c.crate")
    stage = Usd.Stage.Open(str(tmp_path / "out/c.crate/s.usda"))
    prim = stage.GetPrimAtPath("/R")
    assert all(prim.GetAttribute(name).Get().resolvedPath for name in "abd")
    assert stage.GetPrimAtPath("/L").GetAttribute("t").Get().resolvedPath


def test_what_a_package_with_brackets_in_its_path_lacks_keeps_its_place(tmp_path: Path) -> None:
    show = tmp_path / "show[1]"
    (show / "lib").mkdir(parents=True)
    (show / "m.usda").write_text(usda('def "M" { asset gone = @./gone.png@ }'))
    _zip(show / "lib" / "pack[2].usdz", show / "m.usda")
    scene = show / "s.usda"
    scene.write_text(usda('def "R" ( references = @./lib/pack[2].usdz@</M> ) { }'))
    context = open_trusted(scene)
    places = lay_out(context.survey(), context.plan, context.project).crate_paths
    assert str(places[show / "lib" / "pack[2].usdz[gone.png]"]) == "lib/pack[2].usdz[gone.png]"
