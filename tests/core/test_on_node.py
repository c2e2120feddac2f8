"""U8: what runs on a node of one's own, by itself: frame by frame, over a shared folder, under every fault."""

from __future__ import annotations

import contextlib
import doctest
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from types import ModuleType
from typing import Any

import psutil
import pytest

from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.farm.links.cluster import node_job, on_node
from tidy_crate.core.farm.links.cluster.storage import Storage

# a renderer that writes down what it does, and is told by files what goes wrong
RENDERER = """
import os, subprocess, sys, time
from pathlib import Path
from tidy_crate.core.asset.frames import parse_frames
told, frames, into = Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3])
def is_told(name):
    return (told / name).exists()
if is_told("no licence"):
    print("no licence is free"); sys.exit(3)
if is_told("child"):
    subprocess.Popen([sys.executable, "-c", "import time; time.sleep(77.125)"], start_new_session=True)
for frame in parse_frames(frames):
    with open(told / "begun", "a") as out: out.write(f"{frame} {os.getpid()} {time.time()}\\n")
    while is_told(f"hang {frame}"): time.sleep(0.05)
    if is_told(f"fail {frame}"):
        print(f"frame {frame} cannot be rendered"); sys.exit(1)
    if is_told(f"skip {frame}"): continue
    time.sleep(float((told / "pace").read_text()))
    path = into / f"p.{frame:04d}.exr"
    path.write_bytes(b"half")
    time.sleep(0.02)
    path.write_bytes(f"frame {frame}".encode() * 100)
    with open(told / "ended", "a") as out: out.write(f"{frame} {os.getpid()} {time.time()}\\n")
"""


@dataclass
class Ordered:
    """A job on shared storage, and the processes on nodes that work on it."""

    folder: Path
    told: Path
    program: Path
    running: list[subprocess.Popen[bytes]] = field(default_factory=list)

    def tell(self, name: str, text: str = "") -> None:
        (self.told / name).write_text(text)

    def untell(self, name: str) -> None:
        (self.told / name).unlink()

    def batch(self, name: str, frames: str, **changes: Any) -> str:
        tasks = [
            {"task": {"request": "main", "frame": frame, "view": "", "tile": None, "share": None}, "generation": "0",
             "files": {"Beauty": f"Beauty/p.{frame:04d}.exr"}}
            for frame in parse_frames(frames)
        ]  # fmt: skip
        content = {"name": name, "first": 1, "turn": 0, "values": {}, "tasks": tasks} | changes
        (self.folder / "batches" / f"{name}.json").write_text(json.dumps(content))
        return name

    def control(self, **told: Any) -> None:
        (self.folder / "control.json").write_text(json.dumps({"cancelled": False, "paused": False, "turn": 0} | told))

    def order(self, **changes: Any) -> None:
        path = self.folder / "node-order.json"
        path.write_text(json.dumps(json.loads(path.read_text()) | changes))

    def start(self, name: str, host: str = "wren") -> subprocess.Popen[bytes]:
        # a node of another name: its work is told apart by it
        code = (
            f"import runpy, socket, sys; socket.gethostname = lambda: {host!r}; "
            f"sys.argv = {[str(self.program), str(self.folder), name]!r}; "
            f"sys.path.insert(0, {str(self.program.parent)!r}); "
            f"runpy.run_path({str(self.program)!r}, run_name='__main__')"
        )
        process = subprocess.Popen([sys.executable, "-c", code], stderr=subprocess.PIPE)
        self.running.append(process)
        return process

    def run(self, name: str, host: str = "wren", seconds: float = 60) -> int:
        return self.start(name, host).wait(seconds)

    def lines(self) -> list[dict[str, Any]]:
        paths = sorted((self.folder / "records").glob("*.jsonl"))
        return [json.loads(line) for path in paths for line in path.read_bytes().splitlines()]

    def states(self, state: str) -> list[int]:
        return [line["task"]["frame"] for line in self.lines() if line["state"] == state]

    def begun(self) -> list[int]:
        path = self.told / "begun"
        return [int(line.split()[0]) for line in path.read_text().splitlines()] if path.exists() else []

    def home(self) -> list[int]:
        return sorted(int(path.name[2:6]) for path in (self.folder / "frames").rglob("*.exr"))


@pytest.fixture
def job(tmp_path: Path) -> Iterator[Ordered]:
    (tmp_path / "share").mkdir()
    storage = Storage(tmp_path / "share", None)
    storage.make("quay-1")
    folder, told = storage.job("quay-1"), tmp_path / "told"
    told.mkdir()
    (told / "pace").write_text("0.02")
    (tmp_path / "render.py").write_text(RENDERER)
    crate = tmp_path / "share" / "crates" / "quay"
    crate.mkdir(parents=True)
    (crate / "s.usda").write_text("#usda 1.0\n")
    (folder / "order.json").write_text("{}")
    given = {
        "crate": str(crate), "scene": "s.usda", "scene_bytes": 10, "version_command": [], "version": "", "retries": 2,
        "hosts": [], "memory_gb": None,
        "seconds": 60,
        "command": [sys.executable, str(tmp_path / "render.py"), str(told), "{frames}", "{output_folder}"],
    }  # fmt: skip
    (folder / "node-order.json").write_text(json.dumps(given))
    found = Ordered(folder, told, storage.program())
    found.control()
    yield found
    for process in found.running:
        process.kill()
        process.communicate()


def until(wanted: Callable[[], object], seconds: float = 30) -> None:
    deadline = time.monotonic() + seconds
    while not wanted():
        assert time.monotonic() < deadline
        time.sleep(0.02)


def lines_of(text: str) -> list[psutil.Process]:
    found = []
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if text in " ".join(one.cmdline()) and one.status() != psutil.STATUS_ZOMBIE:
                found.append(one)
    return found


def never_twice_at_once(job: Ordered) -> None:
    """No frame was begun by another renderer before the one that had it ended it or was gone."""
    ended = Counter(job.states("done"))
    assert all(count == 1 for count in ended.values()), ended


def test_every_frame_is_noted_once_it_is_whole_and_comes_home_whole(job: Ordered) -> None:
    job.tell("pace", "0.6")
    process = job.start(job.batch("a", "1-4"))
    until(lambda: job.states("done") == [1])
    # the first is home while the rest renders
    assert process.poll() is None and job.home() == [1]
    assert process.wait(60) == 0 and job.home() == [1, 2, 3, 4]
    for path in (job.folder / "frames").rglob("*.exr"):
        assert path.read_bytes() == f"frame {int(path.name[2:6])}".encode() * 100
    assert not list((job.folder / "work").iterdir()) and not list((job.folder / "claims").glob("[0-9]*"))
    # seconds are counted once, and all of them
    done = [line for line in job.lines() if line["state"] == "done"]
    assert [line["began"] for line in done[1:]] == [line["ended"] for line in done[:-1]]
    assert job.run("a") == 0 and len(job.begun()) == 4


def test_a_node_that_is_killed_loses_the_frame_it_was_at_and_nothing_else(job: Ordered) -> None:
    job.batch("a", "1-6")
    job.tell("hang 4")
    first = job.start("a")
    until(lambda: 4 in job.begun() and job.states("done") == [1, 2, 3])
    renderer = lines_of("render.py")
    first.kill()
    first.wait()
    # what it had started ends with it
    until(lambda: not any(one.is_running() and one.status() != psutil.STATUS_ZOMBIE for one in renderer))
    job.untell("hang 4")
    for claim in (job.folder / "claims").glob("[0-9]*"):
        os.utime(claim, (time.time() - node_job.STALE - 1,) * 2)
    assert job.run("a", "robin") == 0
    assert job.home() == [1, 2, 3, 4, 5, 6] and Counter(job.begun()) == Counter([1, 2, 3, 4, 4, 5, 6])
    never_twice_at_once(job)


@pytest.mark.parametrize("kind", ["fail", "skip"])
def test_one_bad_frame_costs_no_other_and_is_tried_as_often_as_ordered(job: Ordered, kind: str) -> None:
    job.tell(f"{kind} 3")
    assert job.run(job.batch("a", "1-6")) == 1
    assert job.home() == [1, 2, 4, 5, 6]
    times = Counter(job.begun())
    # beside the run in which it ended the renderer, each try is by itself; so is one of the frame before
    assert times.pop(3) == (4 if kind == "fail" else 3) and times.pop(2) <= 2 and set(times.values()) == {1}
    failed = [line for line in job.lines() if line["state"] == "failed"]
    assert [line["final"] for line in failed] == [False, False, True]
    if kind == "fail":
        assert "frame 3 cannot be rendered" in failed[0]["error"]
    # each try has its log
    assert len({line["log"] for line in failed}) == 3
    # told again, it tries no more
    assert job.run("a") == 0 and Counter(job.begun())[3] == (4 if kind == "fail" else 3)
    # and it comes good when the cause is gone and it is ordered once more
    job.untell(f"{kind} 3")
    job.batch("again", "3", first=9)
    path = job.folder / "batches" / "again.json"
    path.write_text(path.read_text().replace('"generation": "0"', '"generation": "x"'))
    assert job.run("again") == 0 and job.home() == [1, 2, 3, 4, 5, 6]


def test_a_renderer_that_cannot_start_fails_in_few_runs(job: Ordered) -> None:
    job.tell("no licence")
    began = time.monotonic()
    assert job.run(job.batch("a", "1-40")) == 1
    logs = list((job.folder / "logs").iterdir())
    assert len(logs) <= 5 and time.monotonic() - began < 30
    final = [line["task"]["frame"] for line in job.lines() if line.get("final")]
    assert sorted(final) == list(range(1, 41)) and "no licence is free" in job.lines()[-1]["error"]


def test_a_frame_that_takes_too_long_is_ended_with_all_that_it_started(job: Ordered) -> None:
    job.order(seconds=1.0, retries=0)
    job.tell("hang 2")
    job.tell("child")
    assert job.run(job.batch("a", "1-3")) == 1
    assert job.home() == [1, 3] and not lines_of("time.sleep(77.125)")
    (failed,) = [line for line in job.lines() if line["state"] == "failed"]
    assert failed["task"]["frame"] == 2 and "longer than 1 s" in failed["error"]


def test_a_cancel_ends_the_renderer_with_its_children_and_leaves_nothing(job: Ordered) -> None:
    job.tell("child")
    job.tell("hang 2")
    process = job.start(job.batch("a", "1-3"))
    until(lambda: 2 in job.begun() and lines_of("time.sleep(77.125)"))
    job.control(cancelled=True)
    assert process.wait(30) == 0
    assert not lines_of("time.sleep(77.125)") and not list((job.folder / "claims").glob("[0-9]*"))
    assert "failed" not in {line["state"] for line in job.lines()}


def test_a_pause_gives_the_machine_back_after_the_frame_and_resuming_renders_the_rest(job: Ordered) -> None:
    job.tell("pace", "0.8")
    process = job.start(job.batch("a", "1-6"))
    until(lambda: 2 in job.begun())
    job.control(paused=True)
    assert process.wait(30) == 0
    before = job.home()
    assert before and 6 not in before
    # what is handed out in the turn before does nothing; what is left is handed out anew
    job.control(turn=1)
    assert job.run("a") == 0 and job.home() == before
    job.tell("pace", "0.02")
    job.batch("b", "1-6", turn=1, first=5)
    assert job.run("b") == 0 and job.home() == [1, 2, 3, 4, 5, 6]
    never_twice_at_once(job)


def test_two_nodes_with_the_same_tasks_render_each_once(job: Ordered) -> None:
    job.tell("pace", "0.1")
    job.batch("a", "1-8")
    job.batch("b", "1-8")
    both = [job.start("a", "wren"), job.start("b", "robin")]
    assert [one.wait(90) for one in both] == [0, 0]
    assert job.home() == list(range(1, 9)) and Counter(job.begun()) == Counter(range(1, 9))


def test_a_node_that_cannot_is_left_out_and_named_and_makes_nothing_below_a_missing_mount(job: Ordered) -> None:
    job.order(version_command=[sys.executable, "-c", "print('brush 1.4')"], version="1.5")
    assert job.run(job.batch("a", "1-2"), "robin") == on_node.UNFIT
    assert "another version than 1.5" in (job.folder / "unfit" / "robin.txt").read_text()
    job.order(version="1.4")
    # not asked again for this job; another one does it
    assert job.run("a", "robin") == on_node.UNFIT and not job.home()
    assert job.run("a", "wren") == 0 and job.home() == [1, 2]
    away = job.folder.with_name("away")
    job.folder.rename(away)
    assert job.run("a") == on_node.UNFIT and not job.folder.exists()


def test_what_was_ordered_of_a_machine_is_looked_at_on_it(job: Ordered) -> None:
    job.order(hosts=["rack-*"])
    assert job.run(job.batch("a", "1"), "wren") == on_node.UNFIT
    assert "not of the class that was ordered" in (job.folder / "unfit" / "wren.txt").read_text()
    job.order(memory_gb=1e6)
    assert job.run("a", "rack-1") == on_node.UNFIT
    assert "1e+06 GiB are ordered" in (job.folder / "unfit" / "rack-1.txt").read_text()
    job.order(memory_gb=0.1)
    assert job.run("a", "rack-2") == 0 and job.home() == [1]


def test_a_node_on_which_frames_keep_failing_is_left_out_while_others_render(job: Ordered) -> None:
    assert job.run(job.batch("a", "1"), "wren") == 0
    job.order(retries=20)
    for frame in range(2, 5):
        job.tell(f"fail {frame}")
    assert job.run(job.batch("b", "2-4"), "robin") == on_node.UNFIT
    assert "in a row failed on it, while others render" in (job.folder / "unfit" / "robin.txt").read_text()
    for frame in range(2, 5):
        job.untell(f"fail {frame}")
    assert job.run("b", "wren") == 0 and job.home() == [1, 2, 3, 4]


def test_a_job_that_fails_everywhere_leaves_no_node_out(job: Ordered) -> None:
    job.tell("no licence")
    assert job.run(job.batch("a", "1-20")) == 1 and not (job.folder / "unfit").exists()


@pytest.mark.skipif(sys.platform == "win32", reason="signals of POSIX")
def test_a_node_that_is_told_to_end_hands_its_frames_back(job: Ordered) -> None:
    job.tell("hang 2")
    process = job.start(job.batch("a", "1-3"))
    until(lambda: 2 in job.begun())
    process.send_signal(signal.SIGTERM)
    assert process.wait(30) == 128 + signal.SIGTERM
    assert not list((job.folder / "claims").glob("[0-9]*")) and not lines_of("render.py")
    job.untell("hang 2")
    assert job.run("a", "robin") == 0 and job.home() == [1, 2, 3]


def test_storage_that_is_gone_for_a_moment_is_told_and_the_rest_comes_later(job: Ordered) -> None:
    job.tell("pace", "0.3")
    process = job.start(job.batch("a", "1-4"))
    until(lambda: job.states("done"))
    hidden = job.folder.with_name("hidden")
    job.folder.rename(hidden)
    process.wait(60)
    # only what it wrote under the old name may be there, and no frame
    assert not list(job.folder.rglob("*.exr")) if job.folder.exists() else True
    shutil.rmtree(job.folder, ignore_errors=True)
    hidden.rename(job.folder)
    for claim in (job.folder / "claims").glob("[0-9]*"):
        os.utime(claim, (time.time() - node_job.STALE - 1,) * 2)
    assert job.run("a", "robin") == 0 and job.home() == [1, 2, 3, 4]


@pytest.mark.parametrize("numbers", [[], [5], [1, 2, 3, 7], [3, 1, 2, 2], [-2, -1, 0, 4]])
def test_frame_numbers_are_written_as_every_renderer_reads_them(numbers: list[int]) -> None:
    text = on_node.ranges(iter(numbers))
    assert list(parse_frames(text)) == sorted(set(numbers)) if numbers else text == ""


@pytest.mark.parametrize("module", [on_node, node_job])
def test_the_examples_in_what_runs_on_a_node_are_true(module: ModuleType) -> None:
    found = doctest.testmod(module)
    assert found.attempted and not found.failed
