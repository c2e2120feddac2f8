"""Files that a person names for a result: what others made is never written over."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import pytest
import zstandard
from PIL import Image

from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.outputs import mark_file, marked, refuse_foreign, write_output
from tidy_crate.core.scene.rendering import placeholders
from tidy_crate.core.work.command import RenderCommand, filled
from tidy_crate.core.work.request import RenderRequest


def picture(kind: str) -> bytes:
    stream = io.BytesIO()
    Image.new("RGB", (8, 8), (9, 90, 200)).save(stream, kind)
    return stream.getvalue()


@pytest.mark.parametrize("kind", ["PNG", "WEBP"])
def test_a_picture_keeps_its_mark_and_is_still_a_picture(kind: str, tmp_path: Path) -> None:
    target = tmp_path / "new" / f"a.{kind.lower()}"
    for _ in range(2):
        write_output(target, picture(kind))
    with Image.open(target) as read:
        assert read.convert("RGB").getpixel((3, 3))[2] > 150


def test_a_page_is_marked_in_its_head() -> None:
    assert marked(b"<!doctype html><html><head><title>x</title>").count(b'content="tidy-crate"') == 1


@pytest.mark.parametrize("name", ["scene.usda", "rope.png", "page.html", "frames.zip"])
def test_a_file_of_others_is_refused_and_stays(name: str, tmp_path: Path) -> None:
    target = tmp_path / name
    target.write_bytes(picture("PNG") if name.endswith("png") else b"#usda 1.0\n" * 9)
    before = target.read_bytes()
    with pytest.raises(WrongUsage, match="not written by tidy-crate"):
        write_output(target, picture("PNG"))
    assert target.read_bytes() == before
    with pytest.raises(WrongUsage, match="folder"):
        refuse_foreign(tmp_path)


def test_archives_that_are_marked_are_read_as_before(tmp_path: Path) -> None:
    packed = tmp_path / "a.tar.zst"
    packed.write_bytes(zstandard.ZstdCompressor().compress(b"frames" * 999))
    mark_file(packed)
    refuse_foreign(packed)
    with packed.open("rb") as stream:
        reader = zstandard.ZstdDecompressor().stream_reader(stream, read_across_frames=True)
        assert reader.read() == b"frames" * 999
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.writestr("x", "y")
        archive.comment = b"tidy-crate"
    mark_file(tmp_path / "a.zip")
    refuse_foreign(tmp_path / "a.zip")
    assert zipfile.ZipFile(tmp_path / "a.zip").read("x") == b"y"


def test_a_placeholder_that_nothing_states_is_an_error_that_says_what_to_state(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text("#usda 1.0\n")
    request = RenderRequest(name="main", frames="1", width=8, height=8, outputs=("Beauty",))
    command = RenderCommand(command=("render", "{scene}", "--samples", "{samples}"))
    with pytest.raises(WrongUsage, match="nothing states samples") as refused:
        filled(command.command, placeholders(command, scene, request, (1,), tmp_path))
    assert "--samples" in (refused.value.remedy or "")
    stated = command.model_copy(update={"samples": 12})
    assert filled(command.command, placeholders(stated, scene, request, (1,), tmp_path))[-1] == "12"
    ordered = request.model_copy(update={"samples": 3})
    assert filled(command.command, placeholders(stated, scene, ordered, (1,), tmp_path))[-1] == "3"


def test_a_host_gets_steps_only_where_it_says_that_it_knows_them(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text("#usda 1.0\n")
    request = RenderRequest(name="main", frames="2-11x3", width=8, height=8, outputs=("Beauty",))
    command = RenderCommand(command=("render", "{frames}"))
    for steps, frames in ((False, "2,5,8,11"), (True, "2-11x3")):
        told = command.model_copy(update={"steps": steps})
        assert filled(told.command, placeholders(told, scene, request, (2, 5, 8, 11), tmp_path)) == ["render", frames]


@pytest.mark.parametrize("done", ["frame (\\d+)", "(?P<frame>\\d+) done", "(?P<frame>[0-9+"])
def test_a_frame_done_without_its_groups_is_found_where_the_command_is_read(tmp_path: Path, done: str) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text('#usda 1.0\ndef Sphere "S" {\n}\n')
    (tmp_path / "tidy-crate.toml").write_text(f'[render]\ncommand = ["render", "{{scene}}"]\nframe_done = \'{done}\'\n')
    with pytest.raises(UnreadableInput, match="frame_done"):
        open_scene(scene)
