"""X4: where a library ends the process, the user gets one clear error, and nothing else is left behind."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from conftest import open_trusted, tree, usda
from tidy_crate.cli import guard
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import UNFINISHED

pytestmark = pytest.mark.skipif(not hasattr(os, "fork"), reason="the work is watched on POSIX systems only")
WORK = """
import os, signal, sys, time
from tidy_crate.cli import guard
guard.SHARE = {share}
guard.run(lambda: {work})
"""


def ended(work: str, *words: str, share: float = 0.8) -> subprocess.CompletedProcess[str]:
    program = WORK.format(work=work, share=share)
    return subprocess.run(
        [sys.executable, "-c", program, *words], capture_output=True, text=True, timeout=60, check=False
    )


@pytest.mark.parametrize(
    ("name", "says"),
    [("SIGSEGV", "crashed (SIGSEGV)"), ("SIGABRT", "crashed (SIGABRT)"), ("SIGBUS", "changed or was cut short")],
)  # fmt: skip
def test_a_crash_is_one_clear_error(name: str, says: str) -> None:
    done = ended(f"os.kill(os.getpid(), signal.{name})", "survey", "gone.usda")
    assert done.returncode == 2 and says in done.stderr and len(done.stderr.splitlines()) == 2
    document = json.loads(ended(f"os.kill(os.getpid(), signal.{name})", "survey", "--json").stdout)
    assert says in document["error"]["what"] and document["error"]["remedy"]


def test_too_much_memory_is_told_before_the_machine_runs_out(tmp_path: Path) -> None:
    if not Path("/proc/self/statm").exists():
        pytest.skip("nothing here tells what a process takes")
    done = ended("[bytearray(200 << 20), time.sleep(20)]", "survey", share=1e-3)
    assert done.returncode == 2 and "of memory" in done.stderr


def test_an_exit_code_and_a_signal_are_passed_on() -> None:
    assert ended("sys.exit(3)", "survey").returncode == 3
    assert ended("sys.exit(3)", "--help").returncode == 3
    assert ended("os.kill(os.getpid(), signal.SIGKILL)", "survey").returncode == -signal.SIGKILL
    program = WORK.format(work="print('up', flush=True) or time.sleep(60)", share=0.8)
    with subprocess.Popen([sys.executable, "-c", program, "survey"], stdout=subprocess.PIPE) as process:
        assert process.stdout is not None and process.stdout.readline()
        process.send_signal(signal.SIGTERM)
        assert process.wait(20) == -signal.SIGTERM


def test_m_where_no_process_can_fork_the_program_is_started_once_more(tmp_path: Path) -> None:
    (tmp_path / "s.usda").write_text(usda('( startTimeCode = 1\n endTimeCode = 2 )\ndef Sphere "S" { }'))
    program = "import os, sys\ndel os.fork\nfrom tidy_crate.cli import guard\nguard.run(lambda: sys.exit(77))"
    for words, code, says in (
        (("check", "s.usda"), 1, "camera"), (("survey", "gone.usda"), 2, "no such scene"), (("jobs",), 77, ""),
    ):  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", program, *words], cwd=tmp_path, capture_output=True, text=True, check=False
        )
        assert done.returncode == code and says in done.stdout + done.stderr, done
    # the exit codes of a crash on Windows, with and without a sign
    for number, says in ((0xC0000005, "crashed (0xc0000005)"), (0xC0000006 - (1 << 32), "changed or was cut short")):
        told = guard.windows_crash(number)
        assert told is not None and says in told[0]
    assert guard.windows_crash(1) is None and guard.windows_crash(-9) is None


def test_m_a_scene_that_is_saved_over_and_over_while_it_is_collected(tmp_path: Path) -> None:
    """Each time it is collected whole, or refused in words; the library maps layers, and they are cut under it."""
    from pxr import Sdf

    show = tmp_path / "show"
    show.mkdir()
    points = ", ".join(["(1,2,3)"] * 60_000)
    (show / "a.usda").write_text(usda(f'def Mesh "M" {{ point3f[] points = [{points}] }}'))
    Sdf.Layer.FindOrOpen(str(show / "a.usda")).Export(str(show / "m.usdc"))
    data = (show / "m.usdc").read_bytes()
    (show / "s.usda").write_text(usda('(defaultPrim = "W")\ndef "W" ( references = @./m.usdc@</M> ) { }'))
    stop = threading.Event()

    def save() -> None:
        while not stop.is_set():
            (show / "m.usdc").write_bytes(data[: len(data) // 3])
            (show / "m.usdc").write_bytes(data)
            time.sleep(0.001)

    saving = threading.Thread(target=save)
    saving.start()
    environment = os.environ | {"TIDY_CRATE_HOME": str(tmp_path / "home"), "NO_COLOR": "1"}
    try:
        for _ in range(4):
            line = [
                sys.executable,
                "-m",
                "tidy_crate",
                "collect",
                str(show / "s.usda"),
                "-o",
                str(tmp_path / "c.crate"),
            ]
            done = subprocess.run(line, env=environment, capture_output=True, text=True, timeout=60, check=False)
            assert done.returncode in (0, 1, 2) and "unexpected error" not in done.stderr, done.stderr
    finally:
        stop.set()
        saving.join()
    (show / "m.usdc").write_bytes(data)
    assert collect(open_trusted(show / "s.usda"), tmp_path / "c.crate").complete


def test_m_what_a_killed_collect_left_half_written_is_gone_after_the_next(tmp_path: Path) -> None:
    show, crate = tmp_path / "show", tmp_path / "c.crate"
    show.mkdir()
    (show / "s.usda").write_text(usda('def "W" {}'))
    collect(open_trusted(show / "s.usda"), crate)
    whole = tree(crate)
    (crate / UNFINISHED).write_bytes(b"")
    (crate / "tex").mkdir()
    for name in (".a.png.0123abcd.part", "tex/.b.png.00ff00ff.part", ".s.staged.part.usda"):
        (crate / name).write_bytes(b"half")
    collect(open_trusted(show / "s.usda"), crate)
    assert tree(crate) == whole
