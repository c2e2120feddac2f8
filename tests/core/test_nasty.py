"""One scene with everything in it that goes wrong: each trouble named, the rest collected whole, nothing hurt."""

from __future__ import annotations

import os
import struct
import unicodedata
from pathlib import Path

import pytest
from pxr import Sdf, Usd, UsdUtils

from conftest import ANY, Run, open_trusted, tree, usda
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.scene.model import Asset, Status

LONG = "./" + "deep/" * 995 + "a.png"
COMPOSED, DECOMPOSED = unicodedata.normalize("NFC", "tür.png"), unicodedata.normalize("NFD", "tür.png")
NEWLINE = "two\nlines.png"
NAMED = ("meta", "red", "one", "two", "night", "class", "ref", "load", "base", "clip", "hard")
CIRCLE = """
def "C" ( references = [@./circle.usda@</D>, @../s.usda@</None>] ) { }
def "D" { }
"""
LOOK = """<?xml version="1.0"?>
<materialx version="1.38">
<image name="i"><input name="file" type="filename" value="../tex/one.png"/></image>
</materialx>
"""
TOP = """(
    startTimeCode = 1
    endTimeCode = 4
    subLayers = [@./lib/base.usda@, @./s.usda@]
    customLayerData = {
        dictionary refs = {
            asset note = @./tex/meta.png@
        }
    }
    expressionVariables = {
        string LOOK = "night"
    }
)
"""
BODY = f"""
def Xform "World" {{
    def "Ref" ( references = [@./lib/ref.usdc@</R>, @./lib/circle.usda@</C>] ) {{}}
    def "Inherits" ( inherits = </_class> ) {{}}
    def "Load" ( payload = @./lib/load.usda@</L> ) {{}}
    def "Pack" ( references = @./lib/pack.usdz@ ) {{}}
    def "Cut" ( references = @./lib/cut.usdc@</X> ) {{}}
    def "Huge" ( references = @./lib/huge.usdc@</X> ) {{}}
    def "Text" ( references = @./lib/noise.usda@</X> ) {{}}
    def "Foreign" ( references = @./lib/look.mtlx@</MaterialX> ) {{}}
    def "One" ( instanceable = true
        references = @./lib/load.usda@</L> ) {{}}
    def Sphere "Look" ( variants = {{ string look = "red" }}
        prepend variantSets = "look" ) {{
        variantSet "look" = {{
            "red" {{ asset f = @./tex/red.png@
 }}
            "blue" {{ asset f = @./tex/gone_blue.png@
 }}
        }}
    }}
    def Xform "Clips" ( clips = {{
        dictionary default = {{
            string templateAssetPath = "./clips/c.##.usda"
            double templateStartTime = 1
            double templateEndTime = 4
            double templateStride = 1
            string primPath = "/M"
            asset manifestAssetPath = @./clips/manifest.usda@
        }}
    }} ) {{ double size }}
    def Sphere "Files" {{
        asset tiles = @./tex/t.<UDIM>.png@
        asset sequence = @./seq/p.####.exr@
        asset own = @./seq/q.$F3.exr@
        asset[] many = [@./tex/one.png@, @@, @./tex/two.png@]
        asset timed.timeSamples = {{ 1: @./tex/one.png@, 3: @./tex/two.png@, }}
        asset said = @`"./tex/${{LOOK}}.png"`@
        asset composed = @./tex/{COMPOSED}@
        asset decomposed = @./tex/{DECOMPOSED}@
        asset backslash = @.\\\\tex\\\\one.png@
        asset url = @file:///nowhere/at%20all.png@
        asset drive = @Q:/show/tex/a.png@
        asset share = @//filer/show/tex/a.png@
        asset web = @https://example.invalid/a.png@
        asset long = @{LONG}@
        asset loop = @./tex/loop/a.png@
        asset device = @/dev/zero@
        asset folder = @./tex@
        asset pipe = @./tex/pipe.png@
        asset secret = @./tex/secret.png@
        asset lines = @./tex/lines.png@
        asset climb = @../../../../../../../../../../etc/none.png@
        asset empty = @./tex/empty.png@
        asset inner = @./lib/pack.usdz[tex/in.png]@
        asset light = @./tex/lamp.ies@
        asset cloud = @./tex/fog.vdb@
    }}
}}
class "_class" {{ asset f = @./tex/class.png@
 }}
"""


def write(folder: Path) -> Path:
    """The scene, below a project whose frames may be written `$F3`."""
    for name in ("lib", "tex", "seq", "clips", "elsewhere"):
        (folder / "show" / name).mkdir(parents=True)
    show = folder / "show"
    (show / "tidy-crate.toml").write_text('[frame_tokens]\n"$F3" = 3\n')
    textures = [
        "meta",
        "red",
        "one",
        "two",
        "night",
        "class",
        "t.1001",
        "t.1012",
        "ref",
        "load",
        "base",
        "clip",
        "hard",
    ]
    for name in (
        *(f"tex/{t}.png" for t in textures),
        "tex/lamp.ies",
        "tex/fog.vdb",
        *(f"seq/p.{n:04d}.exr" for n in range(-1, 6)),
    ):
        (show / name).write_bytes(name.encode() * 40)
    for number in range(1, 5):
        (show / f"seq/q.{number:03d}.exr").write_bytes(b"q" * number)
        (show / f"clips/c.{number:02d}.usda").write_text(
            usda(f'def "M" {{\ndouble size.timeSamples = {{ {number}: {number}, }}\nasset f = @../tex/clip.png@\n}}')
        )
    (show / "clips/manifest.usda").write_text(usda('def "M" { double size }'))
    (show / "tex" / COMPOSED).write_bytes(b"composed")
    (show / "tex" / DECOMPOSED).write_bytes(b"decomposed")
    (show / "tex" / "empty.png").touch()
    (show / "tex" / "loop").symlink_to(show / "tex" / "loop")
    (show / "tex" / "a" / "b").mkdir(parents=True)
    (show / "tex" / "a" / "b" / "round").symlink_to(show / "tex")
    (show / "tex" / NEWLINE).write_bytes(b"lines")
    os.mkfifo(show / "tex" / "pipe.png")
    (show / "tex" / "secret.png").write_bytes(b"secret")
    (show / "tex" / "secret.png").chmod(0)
    (show / "tex" / "lines.png").symlink_to(show / "tex" / NEWLINE)
    layer = Sdf.Layer.CreateAnonymous(".usda")
    layer.ImportFromString(usda(f'def Sphere "R" {{\nasset a = @../tex/ref.png@\nasset b = @{show}/tex/hard.png@\n}}'))
    layer.Export(str(show / "lib" / "ref.usdc"))
    (show / "lib" / "base.usda").write_text(usda('over "World" { asset base = @../tex/base.png@ }'))
    (show / "lib" / "circle.usda").write_text(usda(CIRCLE))
    (show / "lib" / "load.usda").write_text(usda('def Sphere "L" { asset f = @../tex/load.png@ }'))
    (show / "lib" / "look.mtlx").write_text(LOOK)
    whole = (show / "lib" / "ref.usdc").read_bytes()
    (show / "lib" / "cut.usdc").write_bytes(whole[: len(whole) // 2])
    # says that its table of contents lies ten gigabytes further on
    (show / "lib" / "huge.usdc").write_bytes(whole[:16] + struct.pack("<q", 10 << 30) + whole[24:])
    (show / "lib" / "noise.usda").write_bytes(bytes(range(256)) * 8)
    inner = folder / "inner.usda"
    inner.write_text('#usda 1.0\n(\ndefaultPrim = "P"\n)\ndef Sphere "P"\n{\nasset f = @./tex/in.png@\n}\n')
    with Sdf.ZipFileWriter.CreateNew(str(show / "lib" / "pack.usdz")) as writer:
        writer.AddFile(str(inner), "in.usda")
        writer.AddFile(str(show / "tex" / "one.png"), "tex/in.png")
    inner.unlink()
    scene = show / "s.usda"
    scene.write_text(usda(TOP + BODY), encoding="utf-8")
    return scene


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if os.name == "nt":
        pytest.skip("pipes and links as POSIX has them")
    return write(tmp_path_factory.mktemp("nasty"))


def by_owner(scene: Path) -> dict[str, Asset]:
    assets = open_trusted(scene).survey().assets
    return {asset.owner.removeprefix("/World/Files."): asset for asset in assets}


TROUBLES = {
    "url": "there is no such file",
    "drive": "a Windows drive means nothing",
    "share": "a network share",
    "web": "a web address",
    "long": "name too long",
    "loop": "too many levels of symbolic links",
    "device": "a device or a pipe",
    "pipe": "a device or a pipe",
    "folder": "a folder, not a file",
    "climb": "there is no such file",
}


def test_every_trouble_is_named_and_nothing_hangs(scene: Path) -> None:
    found = by_owner(scene)
    for owner, why in TROUBLES.items():
        assert found[owner].status is Status.MISSING and why in (found[owner].trouble or ""), owner
    unread = " ".join(map(str, open_trusted(scene).survey().unread))
    for name in ("cut.usdc", "huge.usdc", "noise.usda"):
        assert name in unread
    assert "look.mtlx" in unread and "\n" not in unread.replace("; ", "")
    assert found["empty"].status is Status.FOUND and found["empty"].bytes == 0
    if os.geteuid() != 0:
        assert "may not be read" in (found["secret"].trouble or "")


def test_every_kind_of_place_is_found(scene: Path) -> None:
    found = by_owner(scene)
    assert [m.tile for m in found["tiles"].members] == [1001, 1012]
    assert [m.frame for m in found["sequence"].members] == [-1, 0, 1, 2, 3, 4, 5]
    assert [m.frame for m in found["own"].members] == [1, 2, 3, 4]
    assert found["said"].value == "./tex/night.png" and found["inner"].kind == "package"
    assert found["composed"].resolved != found["decomposed"].resolved
    assert found["backslash"].resolved == scene.parent / "tex" / "one.png"
    assert (found["light"].kind, found["cloud"].kind) == ("light profile", "volume")
    every = {Path(m.path).name for asset in open_trusted(scene).survey().assets for m in asset.members}
    assert {f"{name}.png" for name in NAMED} <= every
    assert {"c.01.usda", "c.04.usda", "manifest.usda", "look.mtlx", "pack.usdz", "ref.usdc"} <= every


def test_an_unselected_variants_file_is_not_needed(scene: Path) -> None:
    blue = next(a for a in open_trusted(scene).survey().assets if "gone_blue" in a.authored)
    assert blue.status is Status.MISSING and not blue.needed


def test_our_closure_holds_all_that_the_library_itself_finds(scene: Path) -> None:
    # the library's own pass gives up on a scene with a broken layer
    broken = ("cut.usdc", "huge.usdc", "noise.usda", "look.mtlx")
    lines = [line for line in scene.read_text().splitlines() if not any(name in line for name in broken)]
    milder = scene.with_name("milder.usda")
    text = "\n".join(lines).replace(", @./lib/circle.usda@</C>", "").replace(", @./s.usda@", "")
    milder.write_text(text)
    _, files, _ = UsdUtils.ComputeAllDependencies(str(milder))
    milder.unlink()
    ours = {str(m.path) for asset in open_trusted(scene).survey().assets for m in asset.members}
    theirs = {os.path.normpath(file) for file in map(str, files) if Path(file).is_file() and "[" not in file}
    assert len(theirs) > 10 and theirs <= ours


def test_the_rest_is_collected_proven_whole_and_the_originals_are_as_they_were(scene: Path, tmp_path: Path) -> None:
    (scene.parent / "tex" / "secret.png").chmod(0o600)
    (scene.parent / "tex" / "pipe.png").unlink()
    before = tree(scene.parent.parent)
    missing = [a for a in open_trusted(scene).survey().assets if a.status is not Status.FOUND]
    (tmp_path / "tidy").mkdir()
    context = open_trusted(scene, tmp_path / "tidy")
    context.file.add("let_go", [{"asset": asset.id, "because": "this is a test"} for asset in missing])
    result = collect(open_trusted(scene, tmp_path / "tidy"), tmp_path / "out" / "n.crate")
    assert result.complete
    proof = prove(result.crate, os.environ, ANY)
    assert proof.whole, proof
    assert tree(scene.parent.parent) == before
    assert sorted(p.name for p in tmp_path.iterdir()) == ["out", "tidy"]
    stage = Usd.Stage.Open(str(result.scene))
    read = stage.GetPrimAtPath("/World/Ref").GetAttribute("b").Get().resolvedPath
    assert Path(read).read_bytes() == (scene.parent / "tex/hard.png").read_bytes() and read.startswith(str(tmp_path))
    size = stage.GetPrimAtPath("/World/Clips").GetAttribute("size")
    assert [size.Get(t) for t in (1, 4)] == [1.0, 4.0]
    # names that differ in nothing but their Unicode form are two files also where a system takes them for one
    names = [file.path for file in read_packing_list(result.crate).files]
    folded = [unicodedata.normalize("NFC", name.casefold()) for name in names]
    assert len(set(folded)) == len(folded)
    again = collect(open_trusted(scene, tmp_path / "tidy"), tmp_path / "out" / "n.crate")
    assert again.copied_bytes == 0
    os.mkfifo(scene.parent / "tex" / "pipe.png")


def test_the_program_says_it_without_breaking_a_line(scene: Path, run: Run) -> None:
    shown = run("survey", scene)
    assert shown.code == 0, shown.err
    assert run("survey", scene, "--json").json["totals"]["missing"] >= len(TROUBLES)
