"""A crate as one file, and back."""

from __future__ import annotations

import io
import shutil
import tarfile
import zipfile
from pathlib import Path

import pytest
import zstandard

from conftest import open_trusted, tree, usda
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.archive import unpack_archive, write_archive
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import FILE_NAME
from tidy_crate.core.errors import UnreadableInput, WrongUsage

KINDS = pytest.mark.parametrize("name", ["c.zip", "c.tar.zst"])


@KINDS
def test_r9_an_archive_is_the_crate_and_the_same_bytes_each_time(
    name: str, packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    size = write_archive(packed[1], tmp_path / name)
    first = (tmp_path / name).read_bytes()
    assert len(first) == size
    # another copy with other times and rights
    other = tmp_path / "other.crate"
    shutil.copytree(packed[1], other, copy_function=shutil.copyfile)
    for path in other.rglob("*.usda"):
        path.chmod(0o700)
    write_archive(other, tmp_path / name)
    assert (tmp_path / name).read_bytes() == first
    unpack_archive(tmp_path / name, tmp_path / "back")
    assert tree(tmp_path / "back") == tree(packed[1])


def test_one_content_is_stored_once_in_a_tar(tmp_path: Path) -> None:
    import os

    show = tmp_path / "show"
    (show / "t").mkdir(parents=True)
    noise = os.urandom(200_000)
    names = [f"t/{n}.png" for n in range(5)]
    for name in names:
        (show / name).write_bytes(noise)
    (show / "s.usda").write_text(
        usda('def Sphere "S" { ' + "\n".join(f"asset a{i} = @./{n}@" for i, n in enumerate(names)) + " }")
    )
    collect(open_trusted(show / "s.usda"), tmp_path / "c.crate")
    assert write_archive(tmp_path / "c.crate", tmp_path / "c.tar.zst") < 250_000
    unpack_archive(tmp_path / "c.tar.zst", tmp_path / "back")
    assert tree(tmp_path / "back") == tree(tmp_path / "c.crate")


def hostile_zip(target: Path, listed: bytes, name: str, data: bytes = b"x", mode: int = 0o100644) -> None:
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(FILE_NAME, listed)
        info = zipfile.ZipInfo(name)
        info.external_attr = mode << 16
        archive.writestr(info, data)


def hostile_tar(target: Path, listed: bytes, member: tarfile.TarInfo, data: bytes = b"") -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        first = tarfile.TarInfo(FILE_NAME)
        first.size = len(listed)
        archive.addfile(first, io.BytesIO(listed))
        member.size = len(data)
        archive.addfile(member, io.BytesIO(data))
    target.write_bytes(zstandard.compress(out.getvalue()))


@pytest.mark.parametrize(
    "name", ["../out.txt", "/tmp/out.txt", "stowaway.txt", "textures/../../out.txt", "a\\..\\out.txt"]
)
def test_x4_what_nobody_packed_is_not_unpacked(name: str, packed: tuple[SceneContext, Path], tmp_path: Path) -> None:
    listed = (packed[1] / FILE_NAME).read_bytes()
    hostile_zip(tmp_path / "h.zip", listed, name)
    hostile_tar(tmp_path / "h.tar.zst", listed, tarfile.TarInfo(name), b"x")
    for archive in ("h.zip", "h.tar.zst"):
        with pytest.raises(UnreadableInput, match="unexpected file"):
            unpack_archive(tmp_path / archive, tmp_path / f"{archive}.d" / "inner")
        assert {path.name for path in (tmp_path / f"{archive}.d").rglob("*") if path.is_file()} == {FILE_NAME}


def test_x4_links_bombs_and_torn_archives_are_refused(packed: tuple[SceneContext, Path], tmp_path: Path) -> None:
    listed = (packed[1] / FILE_NAME).read_bytes()
    hostile_zip(tmp_path / "bomb.zip", listed, "textures/sky.png", b"\0" * 50_000_000)
    hostile_zip(tmp_path / "link.zip", listed, "textures/sky.png", b"/etc/passwd", 0o120777)
    link = tarfile.TarInfo("textures/sky.png")
    link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
    hostile_tar(tmp_path / "link.tar.zst", listed, link)
    hard = tarfile.TarInfo("textures/sky.png")
    hard.type, hard.linkname = tarfile.LNKTYPE, "/etc/passwd"
    hostile_tar(tmp_path / "hard.tar.zst", listed, hard)
    for kind in ("zip", "tar.zst"):
        write_archive(packed[1], tmp_path / f"whole.{kind}")
        data = (tmp_path / f"whole.{kind}").read_bytes()
        (tmp_path / f"torn.{kind}").write_bytes(data[: len(data) // 2])
        (tmp_path / f"empty.{kind}").write_bytes(b"")
    names = (
        "bomb.zip",
        "link.zip",
        "link.tar.zst",
        "hard.tar.zst",
        "torn.zip",
        "torn.tar.zst",
        "empty.zip",
        "empty.tar.zst",
    )
    for name in names:
        with pytest.raises(UnreadableInput):
            unpack_archive(tmp_path / name, tmp_path / f"{name}.d")
        assert not list((tmp_path / f"{name}.d").rglob("sky.png"))


@pytest.mark.parametrize(("at", "value"), [(10, 9), (10, 12), (10, 14), (10, 99), (8, 1)])
def test_x4_compression_that_is_not_read_here_and_encryption_are_refused(
    at: int, value: int, packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    path = tmp_path / "c.zip"
    write_archive(packed[1], path)
    data = bytearray(path.read_bytes())
    # the second entry of the central directory: flags are at 8, the method at 10
    entry = data.find(b"PK\x01\x02", data.find(b"PK\x01\x02") + 4)
    data[entry + at] = value
    path.write_bytes(bytes(data))
    with pytest.raises(UnreadableInput, match="encrypted, or compressed"):
        unpack_archive(path, tmp_path / "back")


def test_an_ending_that_is_not_known_is_refused(packed: tuple[SceneContext, Path], tmp_path: Path) -> None:
    with pytest.raises(WrongUsage, match="not an archive"):
        write_archive(packed[1], tmp_path / "c.rar")
    assert not (tmp_path / "c.rar").exists()
