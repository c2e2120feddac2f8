"""Text that is no UTF-8, in a name, a scene or on the way out: one clear message, or an answer that can be read."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from conftest import Run, usda
from tidy_crate.core.files import path_of, text_of
from traps import png

SCENE = usda('( startTimeCode = 1\n endTimeCode = 2 )\ndef Sphere "S" { asset a = @./t\u00e4x \u2603.png@ }')


@pytest.mark.parametrize("encoding", ["ascii", "cp1252"])
def test_any_encoding_of_the_output_does(encoding: str, tmp_path: Path, run: Run) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE, encoding="utf-8")
    env = {"PYTHONIOENCODING": encoding, "PYTHONUTF8": "0"}
    line = [sys.executable, "-m", "tidy_crate"]
    for words, code in ((["check"], 1), (["survey", "--json"], 0)):
        done = subprocess.run(
            [*line, words[0], scene, *words[1:]], env=run.environment | env, capture_output=True, check=False
        )
        assert done.returncode == code and b"something went wrong" not in done.stderr
        if words[-1] == "--json":
            assert json.loads(done.stdout)["assets"][0]["authored"] == "./t\u00e4x \u2603.png"


@pytest.mark.skipif(sys.platform in ("win32", "darwin"), reason="names are Unicode there")
@pytest.mark.parametrize("words", [("survey",), ("survey", "--json"), ("check",), ("bake",), ("collect",)])
def test_a_folder_whose_name_is_no_utf_8_is_named(words: tuple[str, ...], tmp_path: Path, run: Run) -> None:
    folder = Path(os.fsdecode(os.fsencode(tmp_path) + b"/f\xe4rbe"))
    folder.mkdir()
    (folder / "s.usda").write_text(SCENE, encoding="utf-8")
    done = run.here(words[0], folder / "s.usda", *words[1:])
    assert done.code == 2 and "not UTF-8" in done.out + done.err and "rename" in done.out + done.err


@pytest.mark.parametrize("where", ["s.usda", "part.usda"])
def test_a_text_that_is_no_utf_8_is_named_and_the_rest_is_surveyed(where: str, tmp_path: Path, run: Run) -> None:
    top = usda('( startTimeCode = 1\n endTimeCode = 2\n subLayers = [@./part.usda@] )\ndef Sphere "S" { }')
    (tmp_path / "s.usda").write_text(top, encoding="utf-8")
    (tmp_path / "part.usda").write_text(SCENE, encoding="utf-8")
    (tmp_path / where).write_bytes((tmp_path / where).read_bytes().replace(b'"S"', b'"S\xe4"'))
    done = run.here("check", tmp_path / "s.usda")
    assert done.code == (2 if where == "s.usda" else 1)
    assert "not UTF-8" in done.out + done.err and "something went wrong" not in done.err


@pytest.mark.skipif(sys.platform in ("win32", "darwin"), reason="names are Unicode there")
def test_l_names_that_are_no_text_travel_and_end_no_command(tmp_path: Path, run: Run) -> None:
    """On Linux a name is bytes. A texture of such a name is collected, remembered, proved; frames are reviewed."""
    odd = os.fsdecode(b"w\xe4")
    show = tmp_path / "show"
    show.mkdir()
    (show / "s.usda").write_text('#usda 1.0\ndef Camera "C"\n{\n}\ndef Scope "X"\n{\n asset f = @./a.obj@\n}\n')
    (show / "a.obj").write_text("mtllib a.mtl\nv 0 0 0\n")
    (show / "a.mtl").write_bytes(b"newmtl a\nmap_Kd w\xe4.png\n")
    try:
        (show / f"{odd}.png").write_bytes(png(4, 4))
    except OSError:
        pytest.skip("this file system takes only names in Unicode")
    for _ in range(2):
        done = run.here("collect", "show/s.usda", "-o", "s.crate", "--json", cwd=tmp_path)
        assert done.code == 0, done.out
    assert done.json["copied_bytes"] == 0 and (tmp_path / "s.crate" / "w_.png").is_file()
    assert run.here("prove", "s.crate", "--no-test-frame", cwd=tmp_path).code == 0
    frames = tmp_path / f"{odd}.frames"
    frames.mkdir()
    pixels = dict.fromkeys("RGB", np.full((9, 16), 0.5, np.float16))
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, pixels).write(
        str(tmp_path / "a.exr")
    )
    (tmp_path / "a.exr").rename(frames / f"{odd}.0001.exr")
    assert run.here("review", str(frames), "--json").json["frames"][0]["verdict"] == "good"
    for words in (
        ("trust", str(frames)), ("track", odd), ("retrieve", "x-1", "--into", odd), ("farm", "show", odd),
        ("waive", "show/s.usda", odd, "--because", odd), ("relink", "show/s.usda", "--map", f"{odd}=/x"),
        ("collect", "show/s.usda", "-o", odd), ("check", "show/s.usda", "--brief", odd),
    ):  # fmt: skip
        done = run.here(*words, cwd=tmp_path)
        assert done.code == (0 if words[0] == "trust" else 2) and "unexpected error" not in done.err, words
    assert path_of(text_of(frames)) == str(frames) and text_of("/a/\u00e9") == "/a/\u00e9"
