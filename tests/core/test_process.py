"""Programs end with all that they have started, and helpers with the process that started them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import psutil
import pytest

from tidy_crate.core.process import Limits, own_helper, run_program

LINUX = pytest.mark.skipif(not sys.platform.startswith("linux"), reason="what the Linux kernel offers")
# starts a process that leaves its family, its session and its environment, writes down its number, and sleeps
LEAVES = """
import os, sys, time
if os.fork() == 0:
    os.setsid()
    if os.fork() == 0:
        os.closerange(0, 3)
        os.execve(sys.executable, [sys.executable, "-c",
            f"import os,time; open({sys.argv[1]!r}, 'w').write(str(os.getpid())); time.sleep(600)"], {})
    os._exit(0)
"""
WAITS = "while not os.path.exists(sys.argv[1]): time.sleep(0.01)\n"
AMPLE = Limits(100, 1 << 40, 1 << 40)


def python(code: str, *words: object) -> list[str]:
    return [sys.executable, "-c", code, *map(str, words)]


def until(wanted: Callable[[], bool], seconds: float = 20) -> None:
    deadline = time.monotonic() + seconds
    while not wanted():
        assert time.monotonic() < deadline
        time.sleep(0.02)


def gone(pid: int) -> bool:
    try:
        return psutil.Process(pid).status() == psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return True


@LINUX
@pytest.mark.parametrize("end", ["time", "end"])
def test_what_left_the_family_of_a_program_ends_with_it(tmp_path: Path, end: str) -> None:
    note = tmp_path / "pid"
    more = "time.sleep(600)" if end == "time" else ""
    ended = run_program(python(LEAVES + WAITS + more, note), tmp_path, os.environ, 3 if more else 60)
    assert ended.late is (end == "time")
    until(lambda: note.read_text() != "")
    until(lambda: gone(int(note.read_text())))


@LINUX
@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGKILL])
def test_a_program_ends_with_the_tool_however_that_ends(tmp_path: Path, number: int) -> None:
    note = tmp_path / "pid"
    runs = (
        "import os, sys; from pathlib import Path; from tidy_crate.core.process import run_program; "
        "run_program(eval(sys.argv[1]), Path(sys.argv[2]), os.environ, 600)"
    )
    tool = subprocess.Popen(python(runs, python(LEAVES + WAITS + "time.sleep(600)", note), tmp_path))
    until(lambda: note.exists() and note.read_text() != "")
    below = psutil.Process(tool.pid).children(recursive=True)
    tool.send_signal(number)
    tool.wait()
    for pid in (int(note.read_text()), *(one.pid for one in below)):
        until(lambda pid=pid: gone(pid))  # type: ignore[misc]


@LINUX
def test_a_helper_ends_with_the_tool(tmp_path: Path) -> None:
    # it would wait for its input for ever: the writing end is held here
    reading, writing = os.pipe()
    starts = (
        "import os, subprocess, sys, time; from tidy_crate.core.process import own_helper; "
        "line, env = own_helper('tidy_crate.core.bake.evaluate'); "
        "print(subprocess.Popen(line, env=env, stdin=int(sys.argv[1])).pid, flush=True); time.sleep(600)"
    )
    tool = subprocess.Popen(python(starts, reading), stdout=subprocess.PIPE, text=True, pass_fds=(reading,))
    try:
        assert tool.stdout is not None
        helper = int(tool.stdout.readline())
        time.sleep(0.2)
        tool.kill()
        tool.communicate()
        until(lambda: gone(helper))
    finally:
        os.close(reading)
        os.close(writing)


def test_a_program_that_is_missing_or_may_not_run_is_told_as_before(tmp_path: Path) -> None:
    (tmp_path / "plain.txt").write_text("no program")
    with pytest.raises(FileNotFoundError):
        run_program(["no-such-program-anywhere"], tmp_path, os.environ, 5)
    with pytest.raises((PermissionError, OSError)):
        run_program([str(tmp_path / "plain.txt")], tmp_path, os.environ, 5)
    with pytest.raises(ValueError, match="null"):
        run_program(["echo", "a\0b"], tmp_path, os.environ, 5)


@pytest.mark.skipif(os.name == "nt", reason="signals of POSIX")
@pytest.mark.parametrize(
    ("code", "ends"), [("sys.exit(7)", 7), ("os.kill(os.getpid(), 9)", -9), ("os.kill(os.getpid(), 11)", -11), ("", 0)]
)
def test_a_program_ends_as_it_ends(tmp_path: Path, code: str, ends: int) -> None:
    ended = run_program(python("import os, sys; print('words'); sys.stdout.flush(); " + code), tmp_path, os.environ, 30)
    assert (ended.code, ended.text.strip(), ended.late) == (ends, "words", False)
    # a pipe that breaks ends a program, as in a shell
    broken = run_program(["sh", "-c", "yes | head -1"], tmp_path, os.environ, 30)
    assert (broken.code, broken.text.strip()) == (0, "y")


@pytest.mark.parametrize(
    ("code", "limits", "what"),
    [
        ("for _ in range(40): subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(600)'])",
         Limits(20, 1 << 40, 1 << 40), "more than 20 processes"),
        ("hold = bytearray(300 << 20); time.sleep(600)", Limits(99, 200 << 20, 1 << 40), "more than 0.2 GiB of memory"),
        ("f = open('big', 'wb')\nwhile True: f.write(bytes(1 << 20)); f.flush()",
         Limits(100, 1 << 40, 100 << 20), "more than 0.1 GiB of disk"),
    ],
)  # fmt: skip
def test_a_program_that_takes_too_much_is_stopped_and_told(
    tmp_path: Path, code: str, limits: Limits, what: str
) -> None:
    ended = run_program(python("import subprocess, sys, time\n" + code), tmp_path, os.environ, 60, limits=limits)
    assert ended.over == what and not ended.late and ended.code != 0
    assert run_program(python("print(1)"), tmp_path, os.environ, 60, limits=AMPLE).over is None


def test_a_helper_gets_no_secret(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TIDY_CRATE_TOKEN_A", "x")
    monkeypatch.setenv("STUDIO_PASSWORD", "x")
    _, environment = own_helper("tidy_crate.core.bake.evaluate")
    assert not {"TIDY_CRATE_TOKEN_A", "STUDIO_PASSWORD"} & set(environment)
