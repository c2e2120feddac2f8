"""Shared storage: nothing is copied that nodes see, and what they do not see is named."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from pxr import Usd

from conftest import ANY, tree, usda
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import CollectResult, collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.crate.shared import Share, read_share
from tidy_crate.core.errors import WrongUsage


def show(tmp_path: Path, body: str = "") -> Path:
    """A share with a scene of two layers, one of which names a file by an absolute path, and a local drive."""
    share, local = tmp_path / "share", tmp_path / "local"
    for folder in (share / "lib" / "tex", local):
        folder.mkdir(parents=True)
    for path in (share / "lib/tex/a.png", share / "lib/tex/f.0001.exr", share / "lib/tex/f.0002.exr", local / "b.png"):
        path.write_bytes(path.name.encode())
    (share / "lib" / "good.usda").write_text(
        usda('def Sphere "G" {\nasset a = @./tex/a.png@\nasset s = @./tex/f.####.exr@\n}')
    )
    (share / "lib" / "absolute.usda").write_text(usda(f'def Sphere "A" {{ asset a = @{share}/lib/tex/a.png@ }}'))
    (share / "lib" / "above.usda").write_text(usda('def "U" ( references = @./absolute.usda@</A> ) { }'))
    scene = share / "s.usda"
    arcs = "".join(
        f'def "{n}" ( references = @./lib/{file}.usda@</{prim}> ) {{ }}\n'
        for n, file, prim in (("G", "good", "G"), ("U", "above", "U"))
    )
    scene.write_text(usda(f'{arcs}def Sphere "S" {{\nasset c = @lib/tex/a.png@\n{body}}}'))
    return scene


def gather(scene: Path, node: str) -> CollectResult:
    share = scene.parent
    return collect(open_scene(scene), share / "crates" / "c.crate", shares=[Share(share, node)])


def test_r8_what_every_node_sees_stays_and_only_broken_paths_are_written_anew(tmp_path: Path) -> None:
    scene = show(tmp_path)
    before = tree(scene.parent)
    result = gather(scene, str(scene.parent))
    assert result.complete and result.copied_bytes == 0
    content = read_packing_list(result.crate)
    # on these nodes the absolute path is right as it is, so just the scene is staged
    assert [file.path for file in content.files] == ["s.staged.usda", "s.usda"]
    assert {Path(file.path).name for file in content.shared} == {
        "a.png", "f.0001.exr", "f.0002.exr", "good.usda", "absolute.usda", "above.usda",
    }  # fmt: skip
    stage = Usd.Stage.Open(str(result.scene))
    assert stage.GetPrimAtPath("/U").GetAttribute("a").Get().resolvedPath == str(scene.parent / "lib/tex/a.png")
    assert stage.GetPrimAtPath("/S").GetAttribute("c").Get().resolvedPath == str(scene.parent / "lib/tex/a.png")
    proof = prove(result.crate, os.environ, ANY, test=False)
    assert proof.whole, proof
    after = tree(scene.parent)
    assert {name: after[name] for name in before} == before
    (scene.parent / "lib/tex/a.png").write_bytes(b"cut short")
    assert str(scene.parent / "lib/tex/a.png") in prove(result.crate, os.environ, ANY, test=False).changed


def test_r8_nodes_that_see_the_share_by_another_name_get_that_name_all_the_way_up(tmp_path: Path) -> None:
    scene = show(tmp_path)
    result = gather(scene, "//filer/jobs")
    assert result.complete
    names = [file.path for file in read_packing_list(result.crate).files]
    # a layer that must be rewritten moves into the crate, and so does the one that names it
    assert names == ["lib/above.usda", "lib/absolute.usda", "s.staged.usda", "s.usda"]
    assert "@//filer/jobs/lib/tex/a.png@" in (result.crate / "lib" / "absolute.usda").read_text()
    assert "@./absolute.usda@" in (result.crate / "lib" / "above.usda").read_text()
    assert "@//filer/jobs/lib/good.usda@" in (result.crate / "s.usda").read_text()
    assert {file.path for file in read_packing_list(result.crate).shared} >= {"//filer/jobs/lib/tex/f.0001.exr"}
    # this machine knows no such path, and says so rather than calling the crate whole
    assert not prove(result.crate, os.environ, ANY, test=False).whole


def test_r8_a_file_on_a_local_drive_blocks(tmp_path: Path) -> None:
    scene = show(tmp_path, f"asset l = @{tmp_path}/local/b.png@\n")
    result = gather(scene, str(scene.parent))
    assert not result.complete
    assert [(Path(one.authored).name, "local drive" in one.because) for one in result.missing] == [("b.png", True)]


def test_r8_a_crate_that_no_node_sees_and_a_share_that_is_none_are_refused(tmp_path: Path) -> None:
    scene = show(tmp_path)
    with pytest.raises(WrongUsage, match="not on a share"):
        collect(open_scene(scene), tmp_path / "c.crate", shares=[Share(scene.parent, "/mnt/x")])
    for text in ("/nowhere=/mnt/x", f"{tmp_path}=relative", f"{tmp_path}", "=x"):
        with pytest.raises(WrongUsage, match="not a share"):
            read_share(text)
    assert read_share(f"{tmp_path}=Z:\\jobs").seen_as(tmp_path / "a" / "b.png").as_posix() == "Z:/jobs/a/b.png"
