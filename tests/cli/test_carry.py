"""The whole way by one command, as a user runs it: what is done alone, where it stops, and where it goes on."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from typer.main import get_command

from conftest import Run, tree
from shows import with_rules, write_shot
from tidy_crate.cli.app import app
from tidy_crate.core.context.carry_rules import CarryRules
from tidy_crate.core.farm.protocol import Counts
from tidy_crate.core.job.forecast import Forecast
from tidy_crate.core.job.rerender import Rerender
from tidy_crate.core.job.tables import JobRow
from tidy_crate.core.job.track import JobView
from tidy_crate.core.work.task import Task
from tidy_crate.core.workflow import job_steps
from tidy_crate.core.workflow.job_steps import JobFacts
from tidy_crate.core.workflow.shot import Shot
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

COLOUR = 'waive = { output-colour-space-unset = "graded as it is" }\n'


@pytest.fixture
def env(tmp_path: Path) -> dict[str, str]:
    """A user of this test's own."""
    return {"TIDY_CRATE_HOME": str(tmp_path / "home")}


@pytest.fixture
def show(tmp_path: Path, run: Run, env: dict[str, str]) -> Path:
    """A show of one shot, whose render command is trusted."""
    write_shot(tmp_path / "show", "pier")
    assert run("trust", tmp_path / "show", env=env).code == 0
    return tmp_path / "show"


@pytest.fixture
def farm(tmp_path: Path) -> Iterator[Path]:
    """A practice farm whose third frame comes out black."""
    faults = ("black:3:P",)
    card = control.start(tmp_path / "farm", FarmSettings.model_validate({"nodes": 2, "faults": faults})).card
    yield card
    control.stop(tmp_path / "farm")


def steps(document: Any) -> dict[str, str]:
    """The states of all steps."""
    return {one["step"]: one["state"] for one in document["steps"]}


def test_a_scene_goes_the_whole_way_and_stops_where_a_person_decides(
    show: Path, farm: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    scene = show / "pier_v001.usda"
    before = run("status", scene, "--json", env=env)
    assert before.code == 0 and before.json["next"] == [["bake", str(scene)]] and not before.json["done"]
    assert not (show / "pier.crate").exists(), "status has changed something"

    first = run("carry", scene, "--farm", farm, "--json", env=env)
    assert first.code == 1
    assert steps(first.json)["bake"] == "done" and steps(first.json)["check"] == "waits for you"
    ((command, *_),) = [first.json["next"]]
    assert command[:3] == ["waive", str(scene), "output-colour-space-unset"]
    assert run(*command, env=env).code == 0

    without_cap = run("carry", scene, "--farm", farm, "--json", env=env)
    assert without_cap.code == 1 and steps(without_cap.json)["probe"] == "done"
    assert steps(without_cap.json)["send"] == "waits for you"
    assert run("jobs", "--json", env=env).json["jobs"] == [], "money was spent without a cap"

    little = run("carry", scene, "--farm", farm, "--cap", "0.01 EUR", "--json", env=env)
    assert little.code == 1 and "the cap is 0.01 EUR" in json.dumps(little.json)
    wrong = run("carry", scene, "--farm", farm, "--cap", "5 CHF", "--json", env=env)
    assert wrong.code == 1 and "the cap is in CHF" in json.dumps(wrong.json)

    frames = tmp_path / "frames"
    sent = run("carry", scene, "--farm", farm, "--cap", "5 EUR", "--into", frames, "--json", env=env)
    # no rule lets the black frame be rendered again
    assert sent.code == 1 and steps(sent.json)["review"] == "done"
    assert steps(sent.json)["rerender"] == "waits for you"
    assert len(list(frames.rglob("*.exr"))) == 6

    with_rules(show, "rerender = 1")
    words = ("--deliver", tmp_path / "delivery", "--report", tmp_path / "pier.html")
    done = run("carry", scene, *words, "--json", env=env)
    assert done.code == 0 and done.json["done"] and done.json["next"] == []
    assert set(steps(done.json).values()) == {"done", "not needed"}
    assert len(list((tmp_path / "delivery").rglob("*.exr"))) == 6 and (tmp_path / "pier.html").is_file()
    (job,) = run("jobs", "--json", env=env).json["jobs"]
    record = run("report", job["job"], "-o", tmp_path / "again.html", "--json", env=env).json
    assert [one["frame"] for one in record["again"]] == [3]

    # nothing is left to do, and nothing is done
    delivered = tree(tmp_path / "delivery")
    assert run("carry", scene, *words, env=env).code == 0 and tree(tmp_path / "delivery") == delivered
    assert len(run("jobs", "--json", env=env).json["jobs"]) == 1
    told = run("status", job["job"], "--json", env=env)
    assert told.json["kind"] == "job" and told.json["done"]

    # the artist saves again: what was made of the scene before is out of date
    text = scene.read_text()
    scene.write_text(text.replace("(9, 0, 0)", "(8, 0, 0)"))
    changed = run("status", scene, "--json", env=env)
    assert steps(changed.json)["bake"] == "out of date" and steps(changed.json)["send"] == "out of date"
    assert changed.json["next"] == [["bake", str(scene)]]


def test_rules_of_the_project_decide_and_the_record_says_so(
    show: Path, farm: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    scene = show / "pier_v001.usda"
    rules = f'{COLOUR}rerender = 2\ncap = "5 EUR"\nfarms = ["{farm}"]\ninto = "../frames/{{scene}}"\n'
    with_rules(show, f'{rules}deliver = "../delivery/{{scene}}"\nreport = "../{{scene}}.html"')
    done = run("carry", scene, "--json", env=env)
    assert done.code == 0 and done.json["done"], done.err
    assert len(list((tmp_path / "frames" / "pier" / "P").glob("*.exr"))) == 6
    assert len(list((tmp_path / "delivery" / "pier").rglob("*.exr"))) == 6
    record = run("report", done.json["job"], "-o", tmp_path / "r.html", "--json", env=env).json
    (waived,) = record["waived"]
    assert waived["by"] == "rule in tidy-crate.toml" and waived["because"] == "graded as it is"
    assert record["submissions"][0]["cap"] == "5" and len(record["again"]) == 1


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ('cap = "5"', "a cap needs its currency"),
        ('cap = "-5 EUR"', "above zero"),
        ('waive = { output-colour-space-unset = " " }', "a waiver needs a reason"),
        ('waive = { no-such-check = "because" }', "there is no check of that code: no-such-check"),
        ("rerender = 99", "carry.rerender"),
        ('into = "{shot}/frames"', "may hold {scene} and nothing else"),
        ('farms = ["nowhere"]', "nowhere"),
        ("unknown = 1", "unknown key 'unknown'"),
    ],
)
def test_a_rule_that_makes_no_sense_is_told_before_anything_is_done(
    rules: str, said: str, show: Path, run: Run, env: dict[str, str]
) -> None:
    scene = show / "pier_v001.usda"
    with_rules(show, rules)
    out = run("carry", scene, "--until", "check", env=env)
    assert out.code in (1, 2) and said in " ".join((out.out + out.err).split())
    assert "unexpected" not in out.err


def test_a_target_that_is_none_is_named(show: Path, run: Run, env: dict[str, str]) -> None:
    for target, said in (
        ("nothing_v001.usda", "no such scene, crate or job"),
        ("nothing-1", "no job has that name"),
        (show, "neither a scene nor a crate"),
    ):
        out = run("status", target, env=env)
        assert out.code == 2 and said in out.err, out.err


def test_commands_of_a_project_wait_for_trust(run: Run, env: dict[str, str], tmp_path: Path) -> None:
    scene = write_shot(tmp_path / "show", "pier")
    with_rules(tmp_path / "show", COLOUR)
    out = run("carry", scene, "--json", env=env)
    assert out.code == 1 and steps(out.json)["prove"] == "waits for you"
    assert out.json["next"] == [["trust", str(tmp_path / "show")]]
    # nothing was rendered, and the steps before are done
    assert steps(out.json)["collect"] == "done"


def test_every_line_that_is_suggested_runs(show: Path, farm: Path, run: Run, env: dict[str, str]) -> None:
    """From one suggestion to the next, as a user would type them, to the end of the local work."""
    scene, seen = show / "pier_v001.usda", []
    for _ in range(12):
        found = run("status", scene, "--farm", farm, "--json", env=env).json
        words = found["next"][0]
        if words[0] == "send":
            break
        out = run(*words, env=env)
        seen.append(words[0])
        # an estimate, a check and a survey may end with 1: they have found something; none may refuse
        assert out.code in (0, 1), (words, out.err)
    assert seen == ["bake", "waive", "collect", "prove", "probe"]


def test_at_a_terminal_it_asks_before_money_is_spent(
    show: Path, farm: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    scene = show / "pier_v001.usda"
    with_rules(show, COLOUR)
    no = run.at_terminal("n\n", "carry", scene, "--farm", farm, "--until", "send", env=env)
    assert no.code == 1 and "is stopped before it costs more than" in " ".join(no.err.split())
    assert run("jobs", "--json", env=env).json["jobs"] == []
    yes = run.at_terminal("y\n", "carry", scene, "--farm", farm, "--until", "send", env=env)
    assert yes.code == 0, yes.err
    (job,) = run("jobs", "--json", env=env).json["jobs"]
    # what was agreed to is the cap
    view = run("track", job["job"], "--json", env=env).json
    assert view["at"][0]["cap"] is not None


def test_the_rest_of_a_silent_farm_goes_to_another_by_rule(
    show: Path, farm: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    scene = show / "pier_v001.usda"
    slow = control.start(
        tmp_path / "slow", FarmSettings.model_validate({"nodes": 1, "synthetic_seconds": 600, "clock": 1})
    )
    card = tmp_path / "slow" / "slow.farm.toml"
    card.write_text(slow.card.read_text().replace('name = "practice"\ntitle', 'name = "slow"\ntitle'))
    rules = f'{COLOUR}rerender = 1\ncap = "5 EUR"\nfarms = ["{card}", "{farm}"]\ninto = "../frames"\n'
    with_rules(show, rules)
    try:
        assert run("carry", scene, "--until", "probe", env=env).code == 0
        sent = run("carry", scene, "--farm", card, "--until", "send", "--json", env=env)
        assert sent.code == 0 and steps(sent.json)["send"] == "done", sent.err
    finally:
        control.stop(tmp_path / "slow")
    waiting = run("status", scene, "--json", env=env).json
    (render,) = [one for one in waiting["steps"] if one["step"] == "render"]
    assert render["state"] == "at the farm" and "slow does not answer" in render["said"]
    with_rules(show, f"{rules}hand_over_after = 0.01")
    waiting = run("status", scene, "--json", env=env).json
    assert waiting["next"][0][:3] == ["handover", waiting["job"], "--from"]
    done = run("carry", scene, "--json", env=env)
    assert done.code == 0 and done.json["done"], done.err
    (job,) = run("jobs", "--json", env=env).json["jobs"]
    assert job["farms"] == ["slow", "practice"] and job["at_home"] == 6


def test_lines_that_settle_a_job_are_lines_that_the_commands_take(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever state a job is in: what is suggested parses as a command line."""
    view = JobView.model_construct(
        job="quay-1", state="", done=3, total=9, cost=None, currency="", counts=Counts(failed=2), at=(), into=None,
        forecast=Forecast(seconds_left=None, cost=None), costs={}, farms=("gull",),
    )  # fmt: skip
    row = JobRow(id="quay-1")
    desk = SimpleNamespace(ledger=None)
    shot = Shot(desk=desk, rules=CarryRules(), rules_file=None, crate=Path("quay.crate"))  # type: ignore[arg-type]
    lines = []
    for state in ("held", "offered", "unpaid", "paused", "cancelled", "failed"):
        facts = JobFacts(row, view.model_copy(update={"state": state}), {}, 0)
        lines += job_steps.render_step(shot, facts).next
    monkeypatch.setattr(job_steps, "attempts", lambda *_: {})
    for tasks, verdicts in (((Task("main", 4),), {"bad": 1}), ((), {"suspect": 2})):
        monkeypatch.setattr(job_steps, "to_rerender", lambda *_, tasks=tasks, **__: Rerender(job="quay-1", tasks=tasks))
        lines += job_steps.rerender_step(shot, JobFacts(row, view, verdicts, 0)).next
    assert len(lines) > 12
    group = get_command(app)
    for words in lines:
        found = group.get_command(None, words[0])  # type: ignore[attr-defined,arg-type]
        found.make_context(words[0], list(words[1:]))


def test_x3_killed_at_any_step_it_goes_on_and_pays_once(
    show: Path, farm: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    scene = show / "pier_v001.usda"
    rules = f'{COLOUR}rerender = 2\ncap = "5 EUR"\nfarms = ["{farm}"]\ninto = "../frames"\ndeliver = "../delivery"'
    with_rules(show, rules)
    line = [sys.executable, "-m", "tidy_crate", "carry", str(scene)]
    killed, every = [], []
    for step in ("check", "collect", "probe", "send", "render", "review"):
        # killed as soon as it says that it begins a step; a step that is done already is not said again
        with subprocess.Popen(
            line, env=os.environ | env | {"NO_COLOR": "1"}, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
        ) as process:
            assert process.stderr is not None
            for said in process.stderr:
                every.append(said)
                if said.split()[:1] == [step]:
                    killed.append(step)
                    process.kill()
                    break
    assert {"check", "collect", "probe", "send"} <= set(killed), "".join(every)
    done = run("carry", scene, "--json", env=env)
    assert done.code == 0 and done.json["done"], done.err
    (job,) = run("jobs", "--json", env=env).json["jobs"]
    assert len(list((tmp_path / "delivery").rglob("*.exr"))) == 6
    view = run("track", job["job"], "--json", env=env).json
    # six frames, and the black one once more
    assert sorted(one["attempt"] for one in view["frames"]) == [1, 1, 1, 1, 1, 2]
