"""Writing below a folder: a folder that is swapped for a link at that moment leads nothing elsewhere."""

from __future__ import annotations

import sys
from pathlib import Path, PurePosixPath

import pytest
from pxr import Sdf

from tidy_crate.core.errors import Blocked, TidyCrateError
from tidy_crate.core.files import write_bytes
from tidy_crate.core.handles import writable
from tidy_crate.core.scene.formats.usd.apply import export


def test_folders_are_made_and_the_root_may_be_a_link(tmp_path: Path) -> None:
    (tmp_path / "real").mkdir()
    (tmp_path / "root").symlink_to("real")
    with writable(tmp_path / "root", PurePosixPath("a/b/c.txt")) as path:
        write_bytes(path, b"x")
    assert (tmp_path / "real" / "a" / "b" / "c.txt").read_bytes() == b"x"


@pytest.mark.parametrize("stands", ["link", "file"])
def test_c_a_link_on_the_way_is_refused_and_named(stands: str, tmp_path: Path) -> None:
    (tmp_path / "outside").mkdir()
    root = tmp_path / "root"
    root.mkdir()
    if stands == "link":
        (root / "a").symlink_to(tmp_path / "outside")
    else:
        (root / "a").write_text("x")
    with pytest.raises(Blocked) as caught, writable(root, PurePosixPath("a/b/c.txt")):
        pass
    assert caught.value.where == str(root / "a") and list((tmp_path / "outside").iterdir()) == []


@pytest.mark.skipif(sys.platform != "linux", reason="only there by handle")
def test_c_a_folder_that_is_swapped_meanwhile_leads_nowhere(tmp_path: Path) -> None:
    root, outside = tmp_path / "root", tmp_path / "outside"
    outside.mkdir()
    with writable(root, PurePosixPath("a/c.txt")) as path:
        (root / "a").rename(root / "was")
        (root / "a").symlink_to(outside)
        write_bytes(path, b"x")
    assert list(outside.iterdir()) == [] and (root / "was" / "c.txt").read_bytes() == b"x"
    # what the user reads names the file, and no handle
    with pytest.raises(TidyCrateError) as caught, writable(root, PurePosixPath("was/c.txt")) as path:
        raise TidyCrateError("no", path)
    assert caught.value.where == str(root / "was" / "c.txt")


@pytest.mark.skipif(sys.platform != "linux", reason="only there by handle")
def test_c_a_layer_goes_where_the_handle_leads(tmp_path: Path) -> None:
    root, outside = tmp_path / "root", tmp_path / "outside"
    outside.mkdir()
    layer = Sdf.Layer.CreateAnonymous(".usda")
    Sdf.CreatePrimInLayer(layer, "/A")
    with writable(root, PurePosixPath("a/s.usda")) as path:
        (root / "a").rename(root / "was")
        (root / "a").symlink_to(outside)
        export(layer, path, "usda")
    assert list(outside.iterdir()) == []
    assert [one.name for one in (root / "was").iterdir()] == ["s.usda"]
