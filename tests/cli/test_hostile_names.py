"""Names from outside that a terminal would obey, or that look like markup: shown, in every view, and never obeyed."""

from __future__ import annotations

import json
import unicodedata
from pathlib import Path

import pytest

from conftest import Run

NASTY = "\x1b]0;title\x07\x1b[2J\x9b31m\u202elatot\u2066 [/x] [bold]\u200b:smile:"


@pytest.fixture(scope="module")
def sheet(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("hostile")
    (folder / "s.host").write_bytes(b"host")
    (folder / "a.png").write_bytes(b"x")
    named = {"name": NASTY, "version": NASTY}
    content = {
        "scene_sheet": 1,
        "scene": "s.host",
        "host": named,
        "renderer": named,
        "plugins": [named],
        "frames": {"start": 1, "end": 3, "fps": 24},
        "resolution": {"width": 64, "height": 36},
        "cameras": [{"name": NASTY}],
        "outputs": [{"name": NASTY, "path": f"{NASTY}.####.exr", "camera": NASTY, "passes": [{"name": NASTY}]}],
        "assets": [{"slot": NASTY, "path": "./a.png", "kind": NASTY}],
        "simulations": [{"name": NASTY, "kind": NASTY, "state": "live", "start": 1, "why": NASTY}],
        "generators": [{"name": NASTY, "kind": NASTY}],
        "features": [{"name": NASTY, "since": NASTY, "where": NASTY}],
        "materials": [{"name": NASTY, "renderers": [NASTY]}],
        "fonts": [NASTY],
        "scripts": [NASTY],
        "settings": {NASTY: NASTY},
    }
    path = folder / "s.sheet.json"
    path.write_text(json.dumps(content))
    return path


@pytest.mark.parametrize(
    "words",
    [
        ("survey", "s.sheet.json", "--all"),
        ("survey", "s.sheet.json", "--memory"),
        ("check", "s.sheet.json", "-v", "--all"),
        ("bake", "s.sheet.json", "--plan"),
        ("bake", "s.sheet.json"),
        ("relink", "s.sheet.json", "--look-in", "."),
        ("collect", "s.sheet.json", "-o", "[/x].crate"),
        ("check", "[/x].crate"),
        ("prove", "[/x].crate"),
        ("probe", "[/x].crate"),
    ],
    ids=" ".join,
)
def test_no_view_obeys_a_name(words: tuple[str, ...], sheet: Path, run: Run) -> None:
    done = run.here(*words, cwd=sheet.parent)
    assert done.code in (0, 1, 2) and "something went wrong" not in done.err
    for text in (done.out, done.err):
        found = {c for c in text if unicodedata.category(c) in ("Cc", "Cf") and c != "\n"}
        assert not found, found


def test_the_page_obeys_no_name(sheet: Path, run: Run) -> None:
    page = sheet.parent / "page.html"
    run.here("check", sheet, "--page", page)
    assert not {c for c in page.read_text() if unicodedata.category(c) in ("Cc", "Cf") and c not in "\n\t"}
