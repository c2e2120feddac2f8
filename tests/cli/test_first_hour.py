"""The first hour with the tool: the way of the work, and the check of the installation."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

import pytest
from typer.main import get_command

from conftest import Run
from tidy_crate.cli.app import app
from tidy_crate.cli.stages import STAGES
from tidy_crate.core import installation
from tidy_crate.core.installation import Part, State, examine


def test_the_program_alone_shows_every_command_once_in_the_stage_of_its_work(run: Run) -> None:
    shown = [name for commands in STAGES.values() for name in commands]
    assert sorted(shown) == sorted(get_command(app).commands)  # type: ignore[attr-defined]
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
