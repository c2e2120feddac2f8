"""What a newcomer types: mistakes of usage in our words, wrong kinds of argument, completion of names."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from typer.main import get_command

from conftest import Run
from tidy_crate.cli.app import app
from tidy_crate.cli.renamed import OLD, renamed
from tidy_crate.practice.demo.farms import write_farms
from tidy_crate.practice.demo.scene import DemoScene


@pytest.mark.parametrize(
    ("words", "what"),
    [
        (("probe", "x.crate", "--count", "1-3"), "--count takes a whole number of at least 1, not '1-3'"),
        (("priority", "j", "500"), "NUMBER takes a whole number from 0 to 100"),
        (("estimate", "x", "--score-here=-1"), "--score-here takes a number of at least 0.01, not '-1'"),
        (("surve", "x"), "there is no command surve; did you mean survey?"),
        (("survey",), "SCENE is missing"),
        (("send", "x.crate"), "--farm is missing"),
        (("survey", "x", "--jsn"), "there is no option --jsn; did you mean --json?"),
    ],
)
def test_x5_a_mistake_of_usage_is_two_lines_and_with_json_a_document(
    words: tuple[str, ...], what: str, run: Run
) -> None:
    plain = run(*words)
    assert plain.code == 2 and plain.out == ""
    first, second = plain.err.strip().splitlines()
    assert first == f"tidy-crate: {what}" and second.strip().endswith("--help shows how it is used")
    as_json = run(*words, "--json")
    assert (as_json.code, as_json.err) == (2, "")
    assert as_json.json["error"]["what"] == what


def test_x5_a_scene_a_crate_and_a_file_of_another_host_are_named_as_what_they_are(
    demo: DemoScene, packed: tuple[object, Path], tmp_path: Path, run: Run
) -> None:
    crate, host = packed[1], tmp_path / "boat.host"
    host.write_text("of another program")
    (tmp_path / "quay.farm.toml").write_text(
        'name = "quay"\ncurrency = "EUR"\nrates_from = 2026-11-01\n'
        '[[machine]]\nname = "m"\nnodes = 1\nscore = 100\nmemory_gb = 8\nprice_per_hour = "1"\n'
    )
    for words, what, remedy in (
        (("probe", demo.scene), "this is a scene, not a crate", "collect it first: tidy-crate collect"),
        (
            ("send", demo.scene, "--farm", tmp_path / "quay.farm.toml"),
            "this is a scene, not a crate",
            "tidy-crate collect",
        ),
        (("prove", host), "this is a file, not a crate", "name a crate"),
        (("survey", crate), "this is a crate, not a scene", "tidy-crate check"),
        (("track", crate), "this is a crate, not a job", "tidy-crate send"),
        (("estimate", demo.scene, "--farm", tmp_path / "quay.farm.toml"), "this is a scene, not a job", "collect"),
        (("survey", host), "this is not a scene format that can be read", "tidy-crate sheet new"),
        (("farm", "test", tmp_path / "quay.farm.toml"), "its card has no address", "add url"),
    ):
        said = run(*words, "--json")
        assert said.code == 2, said
        error = json.loads(said.out)["error"]
        assert error["what"].startswith(what) and remedy in error["remedy"], error


def test_what_comes_next_is_a_command_that_works_in_this_state(tmp_path: Path, run: Run) -> None:
    scene = tmp_path / "box.usda"
    scene.write_text('#usda 1.0\ndef Xform "A"\n{\n    def Cube "c"\n    {\n    }\n}\n')
    for words in (("relink", scene), ("bake", scene)):
        assert f"Next: tidy-crate check {scene}" in run(*words).out
    assert run("collect", scene, "-o", tmp_path / "box.crate").code == 0
    # nothing in it can be rendered: there is nothing to probe and nothing to estimate
    assert "Next:" not in run("prove", tmp_path / "box.crate").out


def test_notes_have_nothing_to_waive(demo: DemoScene, run: Run) -> None:
    done = run("waive", demo.scene, "file-absolute-path", "--because", "so")
    assert done.code == 2 and "this is a note" in done.err
    notes = [one for one in run("check", demo.scene, "--json").json["findings"] if one["severity"] == "note"]
    assert notes and not [one for one in notes if "waive" in one["remedy"]]


@pytest.mark.skipif(sys.platform == "win32", reason="the shells that are asked here are POSIX ones")
def test_completion_knows_farms_codes_and_machine_classes(tmp_path: Path) -> None:
    write_farms(tmp_path / "farms", "2026-11-01", "2026-01-01")
    for line, expected in (
        ("send x --farm gu", ["gullwing"]),
        ("check x --farm ", ["gullwing", "ninepins", "saltmarsh"]),
        ("waive scene.usda file-missing-u", ["file-missing-unused"]),
        ("estimate x --farm gullwing --machine t", ["tern"]),
        ("track no-such-jo", []),
    ):
        words = f"tidy-crate {line}"
        env = os.environ | {
            "_TIDY_CRATE_COMPLETE": "complete_bash", "COMP_WORDS": words,
            "COMP_CWORD": str(len(words.split(" ")) - 1), "TIDY_CRATE_HOME": str(tmp_path / "home"),
        }  # fmt: skip
        program = [
            sys.executable,
            "-c",
            "import sys; sys.argv[0] = 'tidy-crate'; from tidy_crate.cli.app import main; main()",
        ]
        done = subprocess.run(program, env=env, cwd=tmp_path, capture_output=True, text=True, check=False)
        assert done.stdout.split() == expected, (line, done.stdout, done.stderr)


# what says where a result goes, is named by its kind; a camera is one of several only where a job may have several
SEVERAL = {"--out", "--farm", "--output", "--camera", "--frames"}


def test_one_option_has_one_meaning_in_all_commands() -> None:
    meanings: dict[str, dict[tuple[str, bool], list[str]]] = {}

    def walk(command: Any, name: str) -> None:
        if hasattr(command, "list_commands"):
            for word in command.list_commands(None):
                walk(command.get_command(None, word), f"{name} {word}".strip())
            return
        for one in command.params:
            if one.param_type_name == "option":
                for option in (*one.opts, *one.secondary_opts):
                    kind = (str(one.metavar), bool(one.is_flag))
                    meanings.setdefault(option, {}).setdefault(kind, []).append(name)

    walk(get_command(app), "")
    several = {name: kinds for name, kinds in meanings.items() if len(kinds) > 1 and name.startswith("--")}
    assert {name for name in several if name not in SEVERAL} == set(), several
    # nothing that one word means a value in one command and none in another
    assert not [name for name, kinds in meanings.items() if len({flag for _, flag in kinds}) > 1]
    # an old name is none of its command any more, and the new one is
    for command, names in OLD.items():
        for old, new in names.items():
            assert command in [one for kinds in meanings[new].values() for one in kinds], new
            assert command not in [one for kinds in meanings.get(old, {}).values() for one in kinds], old


def test_names_of_before_are_still_taken() -> None:
    assert renamed(["probe", "quay", "--frames", "4", "--scale=50%"]) == ["probe", "quay", "--count", "4", "--size=50%"]
    assert renamed(["farm", "new", "gull", "--output", "x"]) == ["farm", "new", "gull", "--out", "x"]
    assert renamed(["send", "quay", "--frames", "1-4"]) == ["send", "quay", "--frames", "1-4"]
    assert renamed(["look", "quay-1", "--", "--passes"]) == ["look", "quay-1", "--", "--passes"]
    assert renamed([]) == []
