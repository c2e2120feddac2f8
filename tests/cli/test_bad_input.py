"""Mistakes of users: one clear message and the right exit code each, and never a traceback."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run

BAD: list[tuple[tuple[str, ...], int, str]] = [
    (("survey", "gone.usda"), 2, "no such scene"),
    (("survey", "folder"), 2, "a folder, not a scene"),
    (("survey", "notes.txt"), 2, "not a scene format"),
    (("survey", "broken.usda"), 2, "syntax error in line 2"),
    (("survey", "junk.usdc"), 2, "broken"),
    (("survey", "empty.usda"), 2, "broken"),
    (("survey", "good.usda", "--tidy-dir", "badtidy"), 2, "not valid TOML"),
    (("survey",), 2, "SCENE"),
    (("survey", "good.usda", "--bogus"), 2, "bogus"),
    (("surwey",), 2, "surwey"),
    (("relink", "good.usda", "--look-in", "gone"), 2, "no such folder"),
    (("relink", "good.usda", "--map", "nonsense"), 2, "OLD=NEW"),
    (("relink", "good.usda", "--let-go", "x"), 2, "with a reason"),
    (("relink", "good.usda", "--let-go", "x", "--because", "y"), 2, "nothing missing"),
    (("override", "good.usda", "Beauty", "--path", "x.####.exr"), 2, "no such output"),
    (("waive", "good.usda", "no-such-code", "--because", "x"), 2, "no check of that code"),
    (("bake", "good.usda", "--only", "/Nobody"), 2, "no simulation has that name"),
    (("bake", "good.usda", "--order-proof"), 2, "no frame range"),
    (("collect", "good.usda", "-o", "folder"), 2, "something else than a crate"),
    (("collect", "good.usda", "--frames", "10-1"), 2, "a run of frames that is empty"),
    (("prove", "gone.crate"), 2, "no such crate"),
    (("prove", "folder"), 2, "not a crate"),
    (("probe", "folder"), 2, "not a crate"),
    (("estimate", "folder", "--farm", "x"), 2, "not a crate"),
    (("send", "folder", "--farm", "broken.farm.toml", "--yes"), 2, "unknown key 'curency'"),
    (("send", "folder", "--farm", "nowhere", "--yes"), 2, "no farm of that name"),
    (("farm", "test", "dead.farm.toml"), 3, "nothing answers there"),
    (("farm", "test", "mute.farm.toml"), 3, "no token"),
    (("track", "nobody-1"), 2, "no job has that name"),
    (("retrieve", "nobody-1", "--into", "x"), 2, "no job has that name"),
    (("review", "nobody-1"), 2, "no job has that name"),
    (("review", "folder"), 2, "holds no frames"),
    (("rerender", "nobody-1", "--yes"), 2, "no job has that name"),
    (("practice", "start", "--folder", "f", "--fault", "frog:1"), 2, "not a fault"),
    (("demo", "notes.txt"), 2, "a file, not a folder"),
]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("bad")
    (folder / "folder").mkdir()
    (folder / "folder" / "diary.txt").write_text("mine")
    (folder / "badtidy" / "good.tidy").mkdir(parents=True)
    (folder / "badtidy" / "good.tidy" / "decisions.toml").write_text("[[[")
    card = 'name = "{0}"\nurl = "http://127.0.0.1:9"\ncurrency = "EUR"\nrates_from = 2026-01-01\n{1}\n'
    machine = '[[machine]]\nname = "m"\nnodes = 1\nscore = 1\nmemory_gb = 1\nprice_per_hour = 1\n'
    for name, text in {
        "notes.txt": "hello",
        "broken.usda": "#usda 1.0\ndef {{{",
        "junk.usdc": "PXR-USDC" + "x" * 100,
        "empty.usda": "",
        "good.usda": '#usda 1.0\ndef Sphere "S"\n{\n}\n',
        "broken.farm.toml": 'name = "x"\ncurency = "EUR"\n',
        "dead.farm.toml": card.format("dead", '[sign_in]\ntoken_file = "t"\n' + machine),
        "mute.farm.toml": card.format("mute", "[sign_in]\nkeyring = false\n" + machine),
        "t": "token",
    }.items():
        (folder / name).write_text(text)
    return folder


@pytest.mark.parametrize(("words", "code", "message"), BAD, ids=[" ".join(words) for words, _, _ in BAD])
def test_bad_input_is_one_clear_message(words: tuple[str, ...], code: int, message: str, place: Path, run: Run) -> None:
    # what a library itself may print only a program of its own shows
    done = (run if words[0] == "survey" else run.here)(*words, cwd=place)
    assert done.code == code, done.err
    assert message in done.err
    assert "Traceback" not in done.err and "pxr" not in done.err
    assert len(done.err.strip().splitlines()) <= 6


def test_an_error_is_a_document_for_a_script(place: Path, run: Run) -> None:
    done = run("survey", "gone.usda", "--json", cwd=place)
    assert done.code == 2 and done.err == ""
    assert set(done.json["error"]) == {"what", "where", "remedy"}


def test_x5_control_characters_in_a_scene_do_not_reach_the_terminal(place: Path, run: Run) -> None:
    (place / "esc.usda").write_text('#usda 1.0\n(\n customLayerData = { string creator = "tool \x1b[31m7" }\n)\n')
    done = run("survey", "esc.usda", cwd=place)
    assert "\x1b" not in done.out + done.err
    assert "\\x1b[31m7" in done.out


def test_help_is_there_for_every_command(run: Run) -> None:
    done = run("--help")
    assert done.code == 0
    words = "survey bake relink check waive collect prove probe estimate send track jobs retrieve review rerender"
    for word in [*words.split(), "farm", "practice", "demo"]:
        assert word in done.out
    assert "--json" in run("review", "--help").out
    assert run("--version").out.startswith("tidy-crate ")
