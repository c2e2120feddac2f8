"""X3: a command that is killed at any moment and run again gives the same result as an undisturbed run.

Not part of the usual run: `TIDY_CRATE_KILLS=100 python -m pytest -n0 tests/test_kills.py` kills each so often.
"""

from __future__ import annotations

import getpass
import os
import random
import shutil
import sqlite3
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import NamedTuple

import pytest

from conftest import Run, tree, usda
from servers import SSHD, Line, know, s3_server, ssh_server
from tidy_crate.core.farm.card import read_card
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

TOKEN = "ACCESS:secret-of-the-place"
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


# ---- at a byte: the process is killed, and its connections break, inside what it sends or fetches


class Byte(NamedTuple):
    """A farm behind a line that breaks at a chosen byte."""

    line: Line
    card: Path
    env: dict[str, str]
    store: Callable[[], dict[str, bytes]]
    """What is there, by path: files of a place."""
    wipe: Callable[[], None]


@pytest.fixture(params=["http", "sftp", "s3"])
def behind(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Byte]:
    """A farm of each kind behind such a line."""
    with ExitStack() as held:
        text = (
            'name = "attic"\nurl = "URL"\ncurrency = "EUR"\nrates_from = 2026-11-01\npractice = true\n'
            '[operator]\nkind = "own"\n[[machine]]\nname = "m"\nnodes = 4\nscore = 100\n'
            "memory_gb = 8\nprice_per_hour = 6\n"
        )
        card, folder, env = tmp_path / "attic.farm.toml", tmp_path / "place", {}
        if request.param == "http":
            farm = tmp_path / "farm"
            settings = FarmSettings(nodes=4, synthetic_seconds=0.01, startup_seconds=0)
            own = control.start(farm, settings).card
            held.callback(control.stop, farm)
            port = int(str(read_card(own).url).rpartition(":")[2])
            line = Line(port)
            card = own.with_name("line.farm.toml")
            card.write_text(own.read_text().replace(f":{port}", f":{line.port}"))
            blobs = farm / "blobs"
            yield Byte(line, card, env, lambda: _blobs(blobs), lambda: _remove_files(blobs, farm / "crates"))
            line.close()
            return
        if request.param == "sftp":
            if SSHD is None:
                pytest.skip("OpenSSH's server is not installed")
            keys = tmp_path / "keys"
            keys.mkdir()
            line = Line(held.enter_context(ssh_server(keys)))
            know(keys, line.port)
            folder.mkdir()
            text = text.replace("URL", f"sftp://127.0.0.1:{line.port}{folder}")
            text += (
                f'[place]\nuser = "{getpass.getuser()}"\nkey_file = "{keys}/user"\nknown_hosts = "{keys}/known_hosts"\n'
            )
            card.write_text(text)
            yield Byte(line, card, env, lambda: tree(folder), lambda: _empty(folder))
        else:
            pytest.importorskip("moto")
            url = held.enter_context(s3_server())
            line = Line(int(url.rpartition(":")[2]))
            text = text.replace("URL", "s3://frames/quay")
            place = f'[place]\nendpoint = "http://127.0.0.1:{line.port}"\nregion = "us-east-1"\n'
            card.write_text(text + place)
            env = {"TIDY_CRATE_TOKEN_ATTIC": TOKEN}
            from s3fs import S3FileSystem

            words = {"key": "ACCESS", "secret": TOKEN.partition(":")[2], "endpoint_url": url}
            fs = S3FileSystem(**words, use_listings_cache=False, skip_instance_cache=True)
            fs.call_s3("create_bucket", Bucket="frames")

            def listed() -> dict[str, bytes]:
                return {path.removeprefix("frames/quay/"): fs.cat_file(path) for path in fs.find("frames/quay")}

            def wipe() -> None:
                if fs.exists("frames/quay"):
                    fs.rm("frames/quay", recursive=True)

            yield Byte(line, card, env, listed, wipe)
        line.close()


def _blobs(folder: Path) -> dict[str, bytes]:
    """Return a farm's complete files."""
    return {path: data for path, data in tree(folder).items() if len(path.partition("/")[0]) == 2}


def _remove_files(blobs: Path, crates: Path) -> None:
    """Take a farm's files away: its folders stay, since it is running."""
    for path in _blobs(blobs):
        (blobs / path).unlink()
    for crate in crates.iterdir() if crates.is_dir() else ():
        shutil.rmtree(crate)


def _empty(folder: Path) -> None:
    shutil.rmtree(folder)
    folder.mkdir()


def killed_at(run: Run, line: Line, up: int | None, down: int | None, *words: object, env: dict[str, str]) -> bool:
    """Run a command, and kill it right after a byte went through the line. Return whether it was killed."""
    started = threading.Event()
    process: list[subprocess.Popen[bytes]] = []

    def kill() -> None:
        started.wait(10)
        process[0].kill()

    line.break_at(up, down, kill)
    command = [sys.executable, "-m", "tidy_crate", *map(str, words)]
    process.append(
        subprocess.Popen(command, env=run.environment | env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    )
    started.set()
    code = process[0].wait()
    line.clear()
    return code < 0


def complete(found: dict[str, bytes]) -> dict[str, bytes]:
    """What counts of a place: not drafts, nor what names a job by its own key."""
    return {path: data for path, data in found.items() if path.startswith("crates/") and not path.endswith(".part")}


def test_send_killed_at_any_byte(show: Path, run: Run, behind: Byte, tmp_path: Path) -> None:
    assert run("bake", show / "s.usda").code == 0
    crate = tmp_path / "s.crate"
    assert run("collect", show / "s.usda", "-o", crate).code == 0
    words = ("send", crate, "--farm", behind.card, "--yes")
    behind.line.clear()
    done = run(*words, env=behind.env | {"TIDY_CRATE_HOME": str(tmp_path / "first")})
    assert done.code == 0, done.err
    total, whole = behind.line.up, behind.store()
    assert total > 5_000_000
    chance, killed = random.Random(11), 0
    for number in range(KILLS):
        behind.wipe()
        env = behind.env | {"TIDY_CRATE_HOME": str(tmp_path / f"home{number}")}
        killed += killed_at(run, behind.line, chance.randrange(total), None, *words, env=env)
        again = run(*words, env=env)
        assert again.code == 0 or "--again" in again.err, again.err
        found = behind.store()
        if behind.card.name == "line.farm.toml":
            assert found == whole, sorted(set(found) ^ set(whole))[:5]
        else:
            assert complete(found) == complete(whole) and not [path for path in found if path.endswith(".part")]
        shutil.rmtree(crate.with_name("s.outbox"), ignore_errors=True)
    assert killed >= KILLS * 0.8


def test_retrieve_killed_at_any_byte(show: Path, run: Run, behind: Byte, tmp_path: Path) -> None:
    """Half of the frames are rendered again meanwhile, to the same size."""
    assert run("bake", show / "s.usda").code == 0
    crate = tmp_path / "s.crate"
    assert run("collect", show / "s.usda", "-o", crate).code == 0
    sent = run("send", crate, "--farm", behind.card, "--yes", "--json", env=behind.env)
    assert sent.code == 0, sent.out
    job = sent.json["job"]
    if behind.card.name == "line.farm.toml":
        assert run("track", job, "--follow", "--json").json["state"] == "done"
    else:
        place(behind, 0)
    words, into = ("retrieve", job, "--into", tmp_path / "frames"), tmp_path / "frames"
    behind.line.clear()
    done = run(*words, env=behind.env)
    assert done.code == 0, done.out + done.err
    total, whole = behind.line.down, kept(into)
    assert len(whole) == 400
    chance, killed = random.Random(13), 0
    for number in range(KILLS):
        shutil.rmtree(into)
        killed += killed_at(run, behind.line, None, chance.randrange(total), *words, env=behind.env)
        if behind.card.name != "line.farm.toml":
            # what came of a frame must not be continued with another one
            whole = place(behind, number + 1)
        done = run(*words, env=behind.env)
        assert done.code == 0, done.out + done.err
        shutil.rmtree(into / "set-aside", ignore_errors=True)
        found = kept(into)
        assert {path.rpartition("/")[2]: data for path, data in found.items()} == {
            path.rpartition("/")[2]: data for path, data in whole.items()
        }
    assert killed >= KILLS * 0.8


def place(behind: Byte, turn: int) -> dict[str, bytes]:
    """Put frames where the farm's people would, every second of them new in each turn. Return them by name."""
    from tidy_crate.core.farm.links.drop.place import open_place

    card = read_card(behind.card)
    there = open_place(card, lambda: TOKEN)
    job = next(one.path.split("/")[1] for one in there.find("") if one.path.endswith("order.json"))
    found = {}
    for number in range(1, 401):
        name, data = f"p_{number:04d}.exr", noise(number, turn if number % 2 else 0)
        found[name] = data
        if not turn or number % 2:
            there.write(f"jobs/{job}/frames/{name}", data)
    there.close()
    return found


def noise(number: int, turn: int) -> bytes:
    """A picture of the right size, and always of the same length."""
    import numpy as np
    import OpenEXR

    pixels = np.random.default_rng([number, turn]).random((18, 32, 3)).astype(np.float32)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.exr")
        header = {"compression": OpenEXR.NO_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, {"RGB": pixels}).write(str(path))
        return path.read_bytes()
