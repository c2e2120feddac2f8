"""X3: a command that is killed at any moment and run again gives the same result as an undisturbed run.

Not part of the usual run: `TIDY_CRATE_KILLS=100 python -m pytest -n0 tests/test_kills.py` kills each so often.
"""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Run, tree, usda
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

KILLS = int(os.environ.get("TIDY_CRATE_KILLS", "0"))
pytestmark = pytest.mark.skipif(not KILLS, reason="takes long: set TIDY_CRATE_KILLS to a number")
SCENE = """(defaultPrim = "Ferry"
 startTimeCode = 1
 endTimeCode = 400
 renderSettingsPrimPath = "/Render/S")
def Xform "Ferry" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 400: (9, 0, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
    %s }
def Xform "Rig" { custom token tidy:simulation = "springFollow"
    custom double tidy:simulation:start = 1
    custom rel tidy:spring:target = </Ferry>
    custom double tidy:spring:frequency = 2
    custom double tidy:spring:dampingRatio = 0.5
    def Camera "Cam" { } }
def Scope "Render" {
    def RenderSettings "S" { rel camera = </Rig/Cam>
        rel products = </Render/P>
        uniform int2 resolution = (32, 18) }
    def RenderProduct "P" { token productName = "renders/p_####.exr"
        rel orderedVars = [</Render/c>] }
    def RenderVar "c" { string sourceName = "beauty" } }"""


@pytest.fixture
def run(tmp_path: Path) -> Run:
    """The program with a home for each test."""
    return Run(tmp_path / "home")


@pytest.fixture
def show(tmp_path: Path) -> Path:
    """A scene with a simulation and two hundred textures, which are its own."""
    folder = tmp_path / "show"
    (folder / "tex").mkdir(parents=True)
    for number in range(200):
        head = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR" + struct.pack(">IIBB", 64, 64, 8, 6)
        (folder / "tex" / f"t{number}.png").write_bytes(head + random.Random(number).randbytes(50_000))
    lines = "\n".join(f"asset a{number} = @./tex/t{number}.png@" for number in range(200))
    (folder / "s.usda").write_text(usda(SCENE % lines))
    return folder


def kill_at(run: Run, share: float, usual: float, *words: object, env: dict[str, str] | None = None) -> bool:
    """Run a command and kill it after a share of its usual time. Return whether it was still running."""
    line = [sys.executable, "-m", "tidy_crate", *map(str, words)]
    process = subprocess.Popen(
        line, env=run.environment | (env or {}), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        process.wait(share * usual)
        return False
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
        time.sleep(0.05)
        return True


def timed(run: Run, *words: object, env: dict[str, str] | None = None) -> float:
    began = time.monotonic()
    done = run(*words, env=env)
    assert done.code == 0, done.err
    return time.monotonic() - began


def moments() -> Iterator[float]:
    chance = random.Random(7)
    return (chance.uniform(0.2, 1.05) for _ in range(KILLS))


def kept(folder: Path) -> dict[str, bytes]:
    return {path: data for path, data in tree(folder).items() if not path.endswith(".lock")}


def test_bake(show: Path, run: Run, tmp_path: Path) -> None:
    before, caches = tree(show), show / "s.tidy" / "caches"
    usual = timed(run, "bake", show / "s.usda")
    whole = kept(caches)
    for share in moments():
        shutil.rmtree(show / "s.tidy")
        kill_at(run, share, usual, "bake", show / "s.usda")
        assert run("bake", show / "s.usda").code == 0 and kept(caches) == whole
    assert {path: data for path, data in tree(show).items() if path in before} == before


def test_collect(show: Path, run: Run, tmp_path: Path) -> None:
    before, crate = tree(show), tmp_path / "s.crate"
    usual = timed(run, "collect", show / "s.usda", "-o", crate)
    whole = tree(crate)
    for number, share in enumerate(moments()):
        if number % 2:
            shutil.rmtree(crate)
            shutil.rmtree(show / "s.tidy", ignore_errors=True)
        kill_at(run, share, usual, "collect", show / "s.usda", "-o", crate)
        assert run("collect", show / "s.usda", "-o", crate).code == 0 and tree(crate) == whole
    assert {path: data for path, data in tree(show).items() if path in before} == before


@pytest.fixture
def sent(show: Path, run: Run, tmp_path: Path) -> Iterator[tuple[Path, Path, str]]:
    """A crate, the card of a farm that renders nothing and takes no time, and a job that it has finished."""
    assert run("bake", show / "s.usda").code == 0
    crate, farm = tmp_path / "s.crate", tmp_path / "farm"
    assert run("collect", show / "s.usda", "-o", crate).code == 0
    card = control.start(farm, FarmSettings(nodes=4, synthetic_seconds=0.01, startup_seconds=0)).card
    try:
        sent = run("send", crate, "--farm", card, "--yes", "--json")
        assert sent.code == 0, sent.out
        job = sent.json["job"]
        assert run("track", job, "--follow", "--json").json["state"] == "done"
        yield crate, card, job
    finally:
        control.stop(farm)


def test_send(sent: tuple[Path, Path, str], run: Run, tmp_path: Path) -> None:
    crate, card, _ = sent
    usual = timed(run, "send", crate, "--farm", card, "--yes", "--again")
    for number, share in enumerate(moments()):
        # a ledger that knows of no earlier job, and a farm that has them all
        home = {"TIDY_CRATE_HOME": str(tmp_path / f"home{number}")}
        before = jobs_at(card.parent)
        kill_at(run, share, usual, "send", crate, "--farm", card, "--yes", env=home)
        again = run("send", crate, "--farm", card, "--yes", env=home)
        # sent before it was killed, and told so
        assert again.code == 0 or "--again" in again.err, again.err
        assert jobs_at(card.parent) == before + 1


def jobs_at(farm: Path) -> int:
    with sqlite3.connect(next(farm.glob("*.sqlite"))) as found:
        return int(found.execute("SELECT count(*) FROM job").fetchone()[0])


def test_retrieve_and_review(sent: tuple[Path, Path, str], run: Run, tmp_path: Path) -> None:
    job, into = sent[2], tmp_path / "frames"
    usual = timed(run, "retrieve", job, "--into", into)
    whole = kept(into)
    assert len(whole) == 400
    for number, share in enumerate(moments()):
        if number % 2:
            shutil.rmtree(into)
        else:
            for path in sorted(into.rglob("*.exr"))[:50]:
                path.write_bytes(b"changed")
        kill_at(run, share, usual, "retrieve", job, "--into", into)
        assert run("retrieve", job, "--into", into).code == 0
        shutil.rmtree(into / "set-aside", ignore_errors=True)
        assert kept(into) == whole
    first = run("review", job, "--json").json["frames"]
    began = time.monotonic()
    run("review", job, "--json")
    usual = time.monotonic() - began
    for share in moments():
        kill_at(run, share, usual, "review", job)
        assert run("review", job, "--json").json["frames"] == first


def test_rerender(sent: tuple[Path, Path, str], run: Run, tmp_path: Path) -> None:
    """Synthetic frames are no pictures, so the review rejects all of them, each time."""
    _, card, job = sent
    into, usual = tmp_path / "frames", 2.0
    for number, share in enumerate(moments(), 2):
        assert run("retrieve", job, "--into", into).code == 0
        assert run("review", job).code == 1
        kill_at(run, share, usual, "rerender", job, "--yes")
        run("rerender", job, "--yes")
        assert run("track", job, "--follow", "--json").json["state"] == "done"
        assert attempts_at(card.parent) == {number}


def attempts_at(farm: Path) -> set[int]:
    """Return the number of times that the farm has rendered each of its tasks."""
    with sqlite3.connect(next(farm.glob("*.sqlite"))) as found:
        return {int(row[0]) for row in found.execute("SELECT attempts FROM task")}
