"""The first hour with the tool: the way of the work, and the check of the installation."""

from __future__ import annotations

import os
import shlex
import sqlite3
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
import typer
from typer.main import get_command

from conftest import Run
from tidy_crate.cli.app import app
from tidy_crate.cli.stages import MODULES, STAGES
from tidy_crate.core import installation
from tidy_crate.core.installation import Part, State, examine


def test_the_program_alone_shows_every_command_once_in_the_stage_of_its_work(run: Run) -> None:
    shown = [name for commands in STAGES.values() for name in commands]
    group: Any = get_command(app)
    context = group.make_context("tidy-crate", [])
    # every module registers just the commands that it is listed with
    for module, names in MODULES.items():
        part = typer.Typer()
        import_module(f"tidy_crate.cli.{module}").register(part)
        own = [one.name for one in (*part.registered_commands, *part.registered_groups)]
        assert sorted(str(name) for name in own) == sorted(names), module
        assert all(group.get_command(context, name) is not None for name in names)
    assert sorted(shown) == sorted(name for names in MODULES.values() for name in names)
    out = run.here().out
    assert out.index("Look, and prepare:") < out.index("survey ") < out.index("Frames home:") < out.index("retrieve ")
    assert ".." not in out.replace("[ARGS]...", "")


def test_the_installation_is_ready(run: Run) -> None:
    done = run("ready", "--json")
    assert done.code == 0, done.out
    parts = {one["name"]: one for one in done.json["parts"]}
    assert parts["usd-core"]["state"] == "works" and parts["ledger"]["state"] == "works"


def test_what_does_not_work_is_named_with_what_to_do(tmp_path: Path, run: Run) -> None:
    home = tmp_path / "home"
    (home / "farms").mkdir(parents=True)
    (home / "farms/far.farm.toml").write_text(
        'name = "far"\nurl = "http://127.0.0.1:9"\ncurrency = "EUR"\nrates_from = 2026-11-01\npractice = true\n'
        '[[machine]]\nname = "m"\nnodes = 1\nscore = 100\nmemory_gb = 8\nprice_per_hour = "1"\n'
    )
    sqlite3.connect(home / "ledger.sqlite").execute("CREATE TABLE ledger_version (version_num TEXT)").connection.close()
    (home / "ledger.sqlite").write_bytes(b"no database at all" * 100)
    done = run("ready", "--farms", "--json", env={"TIDY_CRATE_HOME": str(home)})
    broken = {one["name"]: one for one in done.json["parts"] if one["state"] == "broken"}
    assert done.code == 1 and set(broken) == {"ledger", "far"} and not done.json["ready"]
    assert broken["far"]["remedy"] == "tidy-crate farm test far" and broken["ledger"]["remedy"]


def test_a_library_that_is_missing_damaged_or_ends_the_process_is_told_apart() -> None:
    for said, otherwise, state, words in (
        ({"version": "", "error": "not installed"}, State.MISSING, State.MISSING, "not installed"),
        ({"version": "1", "error": "ImportError: x"}, State.MISSING, State.BROKEN, "ImportError"),
        ({"version": "", "error": "not installed"}, State.BROKEN, State.BROKEN, "not installed"),
        (None, State.BROKEN, State.BROKEN, "ends the process"),
    ):
        part = installation._library("x", "tests", said, otherwise, "do this")
        assert part.state is state and words in part.found and part.remedy == "do this"


@pytest.mark.skipif(os.name == "nt" or os.geteuid() == 0, reason="the superuser may write anywhere")
def test_a_folder_that_cannot_be_written_to_is_named(tmp_path: Path) -> None:
    tmp_path.chmod(0o500)
    found: list[Part] = [one for one in examine(":memory:", tmp_path / "home") if one.state is State.BROKEN]
    assert any(one.name == "folder of this tool" for one in found)


def examples() -> list[tuple[str, str]]:
    """Every example of every command, with the command's name."""
    found = []

    def walk(command: Any, name: str) -> None:
        for own in command.list_commands(None) if hasattr(command, "commands") else ():
            walk(command.get_command(None, own), f"{name} {own}".strip())
        if not hasattr(command, "commands"):
            lines = [line.strip() for line in (command.help or "").partition("Examples:")[2].splitlines()]
            found.append((name, "\n".join(line for line in lines if line.startswith("tidy-crate"))))

    walk(get_command(app), "")
    return found


@pytest.mark.parametrize(("name", "lines"), examples())
def test_every_command_shows_two_examples_that_are_valid(name: str, lines: str) -> None:
    assert len(lines.splitlines()) >= 2, f"{name} shows fewer than two examples"
    for line in lines.splitlines():
        words = shlex.split(line.partition(" > ")[0])[1:]
        command: Any = get_command(app)
        context = command.make_context("tidy-crate", words)
        while hasattr(command, "commands"):
            own, command, rest = command.resolve_command(context, [*context._protected_args, *context.args])
            context = command.make_context(own, rest, parent=context)
        assert not context.args, line


@pytest.mark.skipif(os.name == "nt", reason="there is no pseudo-terminal")
def test_a_new_card_asks_at_a_terminal_and_is_valid(tmp_path: Path, run: Run) -> None:
    answers = "Gullwing Render\nhttps://gullwing.example\nusd\nlarge\n25\n128\n2.40\n"
    done = run.at_terminal(answers, "farm", "new", "gullwing", cwd=tmp_path)
    assert done.code == 0, done.err
    shown = run("farm", "show", tmp_path / "gullwing.farm.toml", "--json").json
    (machine,) = shown["machine"]
    assert (shown["title"], shown["url"], shown["currency"]) == ("Gullwing Render", "https://gullwing.example", "USD")
    assert (machine["name"], machine["nodes"], machine["memory_gb"]) == ("large", 25, 128)
    wrong = run.at_terminal("x\n\neuros\nm\n1\n1\n1\n", "farm", "new", "tern", cwd=tmp_path)
    assert wrong.code == 2 and "currency" in wrong.err and not (tmp_path / "tern.farm.toml").exists()
    assert run("farm", "new", "tern", cwd=tmp_path).code == 0
