"""Frame lists, path dialects, sequences, resolving and searching."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.frames import format_frames, frame_count, parse_frames
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.resolve import Disk, resolve
from tidy_crate.core.asset.search import FolderIndex, by_name, mapped
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.files import inside


@given(st.lists(st.integers(-5000, 5000), unique=True))
def test_frame_lists_are_written_and_read_back_exactly(frames: list[int]) -> None:
    assert not frames or parse_frames(format_frames(frames)) == tuple(frames)
    plain = format_frames(frames, steps=False)
    assert "x" not in plain and (not frames or parse_frames(plain) == tuple(frames))


@pytest.mark.parametrize(
    ("text", "frames"),
    [("1-10x2,15", (1, 3, 5, 7, 9, 15)), ("-5--1", (-5, -4, -3, -2, -1)), (" 7 , 3", (7, 3)), ("-2-1", (-2, -1, 0, 1))],
)
def test_frame_lists_as_wranglers_write_them(text: str, frames: tuple[int, ...]) -> None:
    assert parse_frames(text) == frames


@pytest.mark.parametrize("text", ["", "a", "1-", "10-1", "1-5x0", "1,1", "1-3,2", "1-999999999", "1.5", "--", "1-2-3"])
def test_what_is_no_frame_list_is_refused_plainly(text: str) -> None:
    with pytest.raises(WrongUsage):
        parse_frames(text)


def test_s1_frame_count_counts_both_ends() -> None:
    assert (frame_count(1001, 1048, 1), frame_count(1, 10, 3), frame_count(5, 5, 1), frame_count(5, 4, 1)) == (
        48,
        4,
        1,
        0,
    )


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("", Dialect.EMPTY), ("./a.png", Dialect.RELATIVE), ("..\\a.png", Dialect.RELATIVE),
        ("a/b.png", Dialect.SEARCH),
        ("/a/b", Dialect.POSIX), ("C:\\a", Dialect.DRIVE), ("q:/a", Dialect.DRIVE), ("\\\\nas\\show", Dialect.SHARE),
        ("P:a\\b", Dialect.DRIVE),
        ("\\\\?\\P:\\a", Dialect.DRIVE), ("\\\\?\\UNC\\nas\\show\\a", Dialect.SHARE), ("ab:c", Dialect.IDENTIFIER),
        ("//nas/show", Dialect.SHARE), ("file:///a", Dialect.FILE_URL), ("https://x/y", Dialect.URL),
        ("a.usdz[b.png]", Dialect.PACKAGED), ('`"${A}"`', Dialect.EXPRESSION),
    ],
)  # fmt: skip
def test_r2_path_dialects(text: str, kind: Dialect) -> None:
    assert paths.dialect(text) is kind


def test_r4_prefixes_are_swapped_by_whole_folders() -> None:
    assert paths.swap_prefix("Q:\\Show\\tex\\a.png", "q:/show", "/mnt/show") == "/mnt/show/tex/a.png"
    assert paths.to_slashes("\\\\?\\UNC\\nas\\show\\a") == "//nas/show/a"
    assert paths.to_slashes("\\\\?\\P:\\a") == paths.to_slashes("P:a") == "P:/a"
    assert paths.swap_prefix("/mnt/ab/x", "/mnt/a", "/n") is None
    assert paths.swap_prefix("/Mnt/a/x", "/mnt/a", "/n") is None


@given(st.lists(st.sampled_from("abc"), min_size=1, max_size=4), st.lists(st.sampled_from("abc"), max_size=3))
def test_relative_paths_lead_back(target: list[str], folder: list[str]) -> None:
    text = paths.relative(PurePosixPath(*target), PurePosixPath(*folder))
    assert text.startswith(("./", "../"))
    assert PurePosixPath("/", *folder).joinpath(text).parts.count("..") == text.split("/").count("..")
    import posixpath

    assert posixpath.normpath(posixpath.join("/", *folder, text)) == "/" + "/".join(target)


def test_names_that_a_farm_may_not_hold() -> None:
    assert paths.name_troubles("plate_v01.exr") == []
    assert all(paths.name_troubles(name) for name in ("a:b", "nul.txt", "end ", "line\nbreak", "x" * 300))


def test_versions_are_told_from_names() -> None:
    stems = ("quay_v003", "quay")
    assert [paths.without_version(stem) for stem in stems] == ["quay", "quay"]
    assert [paths.version_of(stem) for stem in stems] == ["v003", None]


def test_sequence_tokens_and_negative_frames() -> None:
    assert STANDARD.at_frame("a.####.exr", 7) == "a.0007.exr"
    assert STANDARD.at_frame("a.%03d.exr", -7) == "a.-007.exr"
    assert STANDARD.at_frame("a.<frame>.exr", 12345) == "a.12345.exr"
    found = STANDARD.members("t.<UDIM>.png", ["t.1011.png", "t.1001.png", "t.999.png", "t.1001.jpg", "u.1001.png"])
    assert list(found.items()) == [("t.1001.png", 1001), ("t.1011.png", 1011)]


def test_what_is_no_file_is_said_and_not_read(tmp_path: Path) -> None:
    (tmp_path / "folder.png").mkdir()
    (tmp_path / "loop.png").symlink_to(tmp_path / "loop.png")
    said = {
        name: resolve(name, tmp_path, Disk()).trouble
        for name in ("folder.png", "loop.png", "gone.png", "C:\\a.png", "")
    }
    assert said["folder.png"] == "it is a folder, not a file"
    assert said["gone.png"] == "there is no such file"
    assert all(said.values())


def test_r4_candidates_are_ranked_and_ties_are_not_sure(tmp_path: Path) -> None:
    for place in ("one/tex/a.png", "two/other/a.png", "three/B.PNG"):
        (tmp_path / place).parent.mkdir(parents=True)
        (tmp_path / place).write_bytes(place.encode())
    index = FolderIndex([tmp_path])
    best = by_name("/old/tex/a.png", index)
    assert best[0].path == tmp_path / "one/tex/a.png"
    assert best[0].confidence > best[1].confidence
    assert by_name("b.png", index)[0].reason == "the same name alone, in another case"
    assert all(candidate.confidence <= 0.5 for candidate in by_name("a.png", index))
    assert mapped("X:/tex/a.png", [("X:/", str(tmp_path / "one"))])[0].path == tmp_path / "one/tex/a.png"


@pytest.mark.parametrize(
    "path", ["../x", "/etc/passwd", "a/../../x", "a\\..\\x", "C:x", "", "a//b", "./a", "a/./b", "a\0b"]
)
def test_x4_foreign_paths_stay_in_their_folder(path: str, tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput):
        inside(tmp_path, path)


@example("[[[\\[]]")
@given(st.text(alphabet="[]\\ab./", max_size=12))
def test_package_paths_are_taken_apart_as_usd_takes_them_apart(text: str) -> None:
    from pxr import Ar

    outer, inner = Ar.SplitPackageRelativePathOuter(text)
    expected = (outer, inner) if Ar.IsPackageRelativePath(text) and outer else None
    assert paths.split_package(text) == expected
