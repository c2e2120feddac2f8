"""Text that is no UTF-8, in a name, a scene or on the way out: one clear message, or an answer that can be read."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run, usda

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
