"""A night of shots by one command: all that can be done is done, what cannot is told, and it goes on after anything."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import Run
from shows import with_rules, write_shot
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

COLOUR = 'waive = { output-colour-space-unset = "graded as it is" }\nrerender = 2'
HEAD = 'title = "Thursday"\nbudget = "40 EUR"\nfarms = ["farm/practice.farm.toml"]\ndeliver = "delivery/{shot}"\n'


@pytest.fixture
def env(tmp_path: Path) -> dict[str, str]:
    """A user of this test's own."""
    return {"TIDY_CRATE_HOME": str(tmp_path / "home")}


@pytest.fixture
def night(tmp_path: Path, run: Run, env: dict[str, str]) -> Iterator[Path]:
    """A list of three shots, one of which has a missing texture; its farm spoils a frame."""
    show = tmp_path / "show"
    write_shot(show, "pier", 4)
    write_shot(show, "quay", 4)
    write_shot(show, "rope", 4, "asset map = @textures/rope.png@")
    with_rules(show, COLOUR)
    assert run("trust", show, env=env).code == 0
    control.start(tmp_path / "farm", FarmSettings.model_validate({"nodes": 3, "faults": ("black:2:P",)}))
    lines = [f'[[shot]]\nscene = "show/{name}_v001.usda"\n' for name in ("pier", "quay", "rope")]
    (tmp_path / "night.toml").write_text(HEAD + "".join(lines))
    yield tmp_path / "night.toml"
    control.stop(tmp_path / "farm")


def delivered(folder: Path, shot: str) -> list[str]:
    return sorted(path.name for path in (folder / "delivery" / shot).rglob("*.exr"))


def test_what_can_be_done_is_done_and_the_rest_is_told_and_goes_on(
    night: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    page = tmp_path / "night.html"
    out = run("carry", night, "--page", page, "--json", env=env)
    assert out.code == 1, out.err
    states = {one["shot"]: one["state"] for one in out.json["shots"]}
    assert states == {"pier": "done", "quay": "done", "rope": "waits for you"}
    first, *_ = out.json["shots"]
    assert first["shot"] == "rope" and "textures/rope.png is missing" in first["questions"][0]["text"]
    assert delivered(tmp_path, "pier") == delivered(tmp_path, "quay") == [f"p_{at:04}.exr" for at in range(1, 5)]
    text = page.read_text()
    assert "textures/rope.png is missing" in text and "2 of 3" in text and "<script" not in text
    # what came home, what it cost against the estimate, and what a rule decided
    assert text.count("data:image/jpeg") == 6 and "estimated 0." in text
    assert "graded as it is (rule in tidy-crate.toml)" in text and "rendered again: 2 (rerender in" in text
    looked = run("status", night, "--json", env=env)
    assert looked.code == 0 and {one["shot"]: one["state"] for one in looked.json["shots"]} == states

    # a person finds the texture, and the same line goes on; what was paid is not paid again
    (tmp_path / "show" / "textures").mkdir()
    (tmp_path / "show" / "textures" / "rope.png").write_bytes((Path(__file__).parent / "../data/dot.png").read_bytes())
    again = run("carry", night, "--json", env=env)
    assert again.code == 0 and again.json["done"], again.out
    jobs = run("jobs", "--json", env=env).json["jobs"]
    assert sorted(one["job"] for one in jobs) == ["pier-1", "quay-1", "rope-1"]
    assert sum(float(one["cost"]) for one in jobs) == pytest.approx(float(again.json["billed"]["EUR"]))
    assert float(again.json["billed"]["EUR"]) <= 40
    quiet = run("carry", night, "-q", env=env)
    assert quiet.code == 0 and not quiet.err and len(run("jobs", "--json", env=env).json["jobs"]) == 3


def test_x3_killed_with_all_its_processes_it_goes_on_and_pays_once(
    night: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    night.write_text(night.read_text().replace('[[shot]]\nscene = "show/rope_v001.usda"\n', ""))
    line = [sys.executable, "-m", "tidy_crate", "carry", str(night)]
    for seconds in (3.0, 5.5, 8.0):
        process = subprocess.Popen(
            line, env=os.environ | env | {"NO_COLOR": "1"}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(seconds)
        children = psutil.Process(process.pid).children(recursive=True) if process.poll() is None else []
        process.send_signal(signal.SIGKILL)
        process.wait()
        # what it started ends with it, and holds no lock
        _, alive = psutil.wait_procs(children, timeout=15)
        assert not alive
    out = run("carry", night, "--json", env=env)
    assert out.code == 0 and out.json["done"], out.out + out.err
    assert len(delivered(tmp_path, "pier")) == len(delivered(tmp_path, "quay")) == 4
    assert sorted(one["job"] for one in run("jobs", "--json", env=env).json["jobs"]) == ["pier-1", "quay-1"]
    for job in ("pier-1", "quay-1"):
        frames = run("track", job, "--json", env=env).json["frames"]
        assert sorted(one["attempt"] for one in frames) == [1, 1, 1, 2]


def test_interrupted_it_ends_at_once_with_one_line(night: Path, env: dict[str, str]) -> None:
    line = [sys.executable, "-m", "tidy_crate", "carry", str(night)]
    process = subprocess.Popen(
        line, env=os.environ | env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        # as at a terminal, also where these tests run in the background and are not to be interrupted
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )  # fmt: skip
    assert process.stderr is not None
    # as soon as it says something of a shot, turns are being taken
    process.stderr.readline()
    process.send_signal(signal.SIGINT)
    began = time.monotonic()
    _, err = process.communicate(timeout=30)
    assert process.returncode == 4 and time.monotonic() - began < 10
    assert "run the same command again to continue" in err and "Traceback" not in err and "leaked" not in err


def test_two_people_who_carry_one_list_send_each_shot_once(
    night: Path, run: Run, env: dict[str, str], tmp_path: Path
) -> None:
    line = [sys.executable, "-m", "tidy_crate", "carry", str(night), "--json"]
    both = [
        subprocess.Popen(line, env=os.environ | env, stdout=subprocess.PIPE, stderr=subprocess.PIPE) for _ in range(2)
    ]
    ended = [one.communicate(timeout=200) for one in both]
    assert all(one.returncode == 1 for one in both), ended
    jobs = [one["job"] for one in run("jobs", "--json", env=env).json["jobs"]]
    assert sorted(jobs) == ["pier-1", "quay-1"]
    assert run("status", "pier-1", "--json", env=env).json["steps"][0]["state"] == "done"


def test_a_list_that_makes_no_sense_runs_nothing(night: Path, run: Run, env: dict[str, str], tmp_path: Path) -> None:
    night.write_text(night.read_text() + '[[shot]]\nname = "again"\nscene = "show/pier_v001.usda"\n')
    out = run("carry", night, env=env)
    assert out.code == 2 and "a scene is named twice" in out.err and "line 11" in out.err
    assert not (tmp_path / "show" / "pier.crate").exists()
    wrong = run("carry", night, "--budget", "12", env=env)
    assert wrong.code == 2
