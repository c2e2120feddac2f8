"""A survey that is kept holds as long as the disk answers the same, and not a moment longer."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import open_trusted
from tidy_crate.core.check.run import check_crate
from tidy_crate.core.scene.formats.usd.read import read
from tidy_crate.core.scene.model import MemoryNeed, Survey
from tidy_crate.core.scene.survey_cache import SUFFIX, as_json
from tidy_crate.practice.demo.scene import write_demo_scene
from traps import png


def age(folder: Path, seconds: float = 60.0) -> None:
    """Let all files and folders be old."""
    then = time.time() - seconds
    for where, folders, files in os.walk(folder):
        for name in (*folders, *files, "."):
            os.utime(Path(where, name), (then, then))


@pytest.fixture
def scene(tmp_path: Path) -> Path:
    show = tmp_path / "show"
    found = write_demo_scene(show).scene
    (show / "late.usda").write_text(
        f'#usda 1.0\n( subLayers = [@./{found.name}@] )\ndef Scope "X"\n{{\n asset a = @./later.png@\n'
        " asset s = @./seq.####.png@\n asset o = @./mesh.obj@\n}\n"
    )
    (show / "mesh.obj").write_text("mtllib a b.mtl\nv 0 0 0\n")
    for frame in (1001, 1002):
        (show / f"seq.{frame}.png").write_bytes(png(2, 2))
    age(show)
    return show / "late.usda"


def survey(scene: Path, cache: Path) -> Survey:
    context = open_trusted(scene, survey_cache=cache)
    return context.survey()


def kept(cache: Path) -> list[Path]:
    return sorted(cache.parent.glob(f"*{SUFFIX}"))


def test_what_is_kept_is_the_same_survey(scene: Path, tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "a.json"
    first = survey(scene, cache)
    assert len(kept(cache)) == 1
    again = survey(scene, cache)
    assert again == first and as_json(again) == as_json(first)
    context = open_trusted(scene, survey_cache=cache)
    assert context.survey_json() == as_json(first)
    assert context.survey_as_found() == context.survey_as_found() == read(scene, None, None, context.maps)


def _append(path: Path) -> None:
    path.write_bytes(path.read_bytes() + b" ")


def _same_size(path: Path) -> None:
    path.write_bytes(path.read_bytes())


CHANGES: dict[str, Callable[[Path], object]] = {
    "a texture grows": lambda show: _append(show / "seq.1001.png"),
    "a texture is saved again": lambda show: _same_size(show / "seq.1001.png"),
    "a texture goes": lambda show: (show / "seq.1002.png").unlink(),
    "a frame is added": lambda show: (show / "seq.1003.png").write_bytes(png(2, 2)),
    "a missing file comes": lambda show: (show / "later.png").write_bytes(png(2, 2)),
    "a followed file changes": lambda show: (show / "mesh.obj").write_text("mtllib c.mtl\nv 0 0 0\n"),
    "a name with a blank comes": lambda show: (show / "a b.mtl").write_text("newmtl a\n"),
    "a layer changes": lambda show: _append(show / "late.usda"),
    "a texture becomes a folder": lambda show: ((show / "seq.1001.png").unlink(), (show / "seq.1001.png").mkdir()),
}


@pytest.mark.parametrize("change", CHANGES)
def test_any_change_that_a_survey_would_show_is_seen(change: str, scene: Path, tmp_path: Path) -> None:
    """The reference is a survey that remembers nothing."""
    cache = tmp_path / "cache" / "a.json"
    before = survey(scene, cache)
    CHANGES[change](scene.parent)
    after = survey(scene, cache)
    context = open_trusted(scene)
    assert after == context.survey()
    assert (after == before) is False or change in ("a layer changes",)


def test_a_file_that_was_just_written_may_change_unseen_so_nothing_is_kept(scene: Path, tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "a.json"
    (scene.parent / "seq.1001.png").write_bytes(png(2, 2))
    survey(scene, cache)
    assert kept(cache) == []


@pytest.mark.parametrize("spoil", [b"", b"junk", None])
def test_a_kept_survey_that_is_broken_counts_for_nothing(spoil: bytes | None, scene: Path, tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "a.json"
    first = survey(scene, cache)
    (file,) = kept(cache)
    file.write_bytes(file.read_bytes()[:-9] if spoil is None else spoil)
    assert survey(scene, cache) == first


def test_again_the_scene_is_neither_opened_nor_composed(scene: Path, tmp_path: Path) -> None:
    program = (
        "import sys; from pathlib import Path; from tidy_crate.core.context.scene import open_scene\n"
        f"cache = Path({str(tmp_path / 'm' / 'a.json')!r})\n"
        f"text = open_scene(Path({str(scene)!r}), survey_cache=cache).survey_json()\n"
        "print(len(text), 'pxr' in sys.modules)"
    )
    line = [sys.executable, "-c", program]
    first, again = (subprocess.run(line, capture_output=True, text=True, check=True).stdout.split() for _ in range(2))
    assert first[1] == "True" and again == [first[0], "False"]


def test_the_memory_need_is_kept_as_long_as_the_survey_holds(scene: Path, tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "a.json"

    def need() -> MemoryNeed:
        context = open_trusted(scene, survey_cache=cache)
        return context.memory_need(context.survey())

    first = need()
    (file,) = cache.parent.glob("*.memory")
    assert need() == first
    # the kept one is what counts, and a broken one counts for nothing
    file.write_text(first.model_copy(update={"textures": 7}).model_dump_json(exclude={"least"}))
    assert need().textures == 7
    file.write_text("junk")
    assert need() == first
    (scene.parent / "later.png").write_bytes(png(512, 512))
    age(scene.parent, 30)
    larger = need()
    assert larger.textures > first.textures + 512 * 512 and need() == larger


def test_a_crate_is_surveyed_once_and_again_when_a_file_of_it_changes(crate: Path, tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "c.json"
    age(crate)
    first = check_crate(crate, survey_cache=cache)
    (file,) = kept(cache)
    mark = file.stat().st_mtime_ns
    assert check_crate(crate, survey_cache=cache) == first == check_crate(crate) and file.stat().st_mtime_ns == mark
    texture = next((crate / "textures").glob("*.png"))
    texture.unlink()
    found = {(one.code, one.subject) for one in check_crate(crate, survey_cache=cache).findings}
    assert ("file-missing", texture.name) in {(code, Path(subject).name) for code, subject in found}
