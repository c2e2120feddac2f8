"""One process works, and another one watches it: where a library ends the work, the user still gets one clear error.

A scene can be made so that the library that reads it breaks off, or takes all memory there is. A layer that is saved
while it is read is cut short under the library. Where a process can fork, the work goes on in its copy, which costs
nothing; elsewhere the program is started once more.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

from tidy_crate.cli.text import clean
from tidy_crate.core.supervise import end_with_parent

# share of the machine's memory that a command may take
SHARE = 0.8
_EVERY = 0.5
_CRASHES = ("SIGSEGV", "SIGABRT", "SIGILL", "SIGFPE", "SIGSYS")
# how Windows ends a process: access violation, in-page error, stack overflow, heap corruption, fast fail
_IN_PAGE_ERROR = 0xC0000006
_WINDOWS_CRASHES = (0xC0000005, _IN_PAGE_ERROR, 0xC00000FD, 0xC0000374, 0xC0000409)
_CHANGED = (
    "a file changed or was cut short while it was read",
    "wait until it is saved, then run the same command again",
)
# commands that open files which others may have made, by libraries that are not ours
READING = ("survey", "bake", "relink", "check", "collect", "prove", "probe", "estimate", "review", "override", "waive")
# those that hold a large scene at their end, and no database
LARGE = ("survey", "relink", "check", "collect")
UNGUARDED = "TIDY_CRATE_UNGUARDED"


def run(work: Callable[[], None]) -> None:
    """Do the work in a process of its own, which ends with this one, and end as it ends."""
    command = next((word for word in sys.argv[1:] if not word.startswith("-")), "")
    if command not in READING or os.environ.get(UNGUARDED):
        work()
        return
    if not hasattr(os, "fork"):
        sys.exit(_watch_program())
    sys.stdout.flush()
    sys.stderr.flush()
    parent = os.getpid()
    child = os.fork()
    if child == 0:
        _end_with(parent)
        if command in LARGE:
            _end_at_once(work)
        work()
        return
    os._exit(_watch(child))


def _end_at_once(work: Callable[[], None]) -> NoReturn:
    """Do the work and end the process: freeing a large scene piece by piece only takes time."""
    code: object = 0
    try:
        work()
    except SystemExit as end:
        code = end.code
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(code if isinstance(code, int) else int(code is not None))


def _watch(child: int) -> int:
    """Wait for the child, and return the exit code."""

    def pass_on(number: int, _: object) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(child, number)

    # Ctrl-C reaches the child by itself, which ends in order
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, pass_on)
    watch = _Memory(child)
    watch.start()
    _, status = os.waitpid(child, 0)
    if os.WIFEXITED(status):
        return os.WEXITSTATUS(status)
    number = signal.Signals(os.WTERMSIG(status))
    what, remedy = _told(number, watch.most)
    if what is None:
        with contextlib.suppress(OSError):
            signal.signal(number, signal.SIG_DFL)  # SIGKILL has no other way
        os.kill(os.getpid(), number)
        return 128 + number
    _say(what, remedy)
    return 2


def _watch_program() -> int:
    """Run the same command in a second process, and return its exit code."""
    import subprocess

    # Ctrl-C reaches both, and the one that works ends in order
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    line = [sys.executable, "-P", "-m", "tidy_crate", *sys.argv[1:]]
    code = subprocess.run(line, env=os.environ | {UNGUARDED: "1"}, check=False).returncode
    told = windows_crash(code)
    if told is None:
        return code
    _say(*told)
    return 2


def windows_crash(code: int) -> tuple[str, str] | None:
    """Return what an exit code of Windows says of a crash, in plain words, and what to do; None for any other end."""
    status = code & 0xFFFFFFFF
    if status == _IN_PAGE_ERROR:
        return _CHANGED
    return _broke_off(f"{status:#x}") if status in _WINDOWS_CRASHES else None


def _broke_off(how: str) -> tuple[str, str]:
    return (
        f"a library that reads the scene or its files crashed ({how}): a file is badly damaged",
        "save the scene again from its program; survey each of its layers alone to find which it is",
    )


def _told(number: signal.Signals, most: int | None) -> tuple[str | None, str]:
    """Return what happened to the child, in plain words, and what to do; None where it was ended on purpose."""
    if most is not None:
        return (
            f"this takes more than {most >> 30} GiB of memory and was stopped before the machine ran out",
            "look for references within references, or run it on a machine with more memory",
        )
    if number is signal.SIGBUS:
        return _CHANGED
    if number.name in _CRASHES:
        return _broke_off(number.name)
    return None, ""


def _say(what: str, remedy: str) -> None:
    words = sys.argv[1:]
    where = next((word for word in words[1:] if not word.startswith("-") and Path(word).exists()), None)
    if "--json" in words:
        print(json.dumps({"error": {"what": what, "where": where, "remedy": remedy}}, indent=1), flush=True)
    else:
        at = f": {clean(where)}" if where else ""
        print(f"tidy-crate: {what}{at}\n  {remedy}", file=sys.stderr, flush=True)


class _Memory(threading.Thread):
    """Ends a process that takes too much memory. most: the limit in bytes once it was passed."""

    def __init__(self, child: int) -> None:
        super().__init__(daemon=True)
        self._child = child
        self.most: int | None = None

    def run(self) -> None:
        try:
            limit = int(SHARE * os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
        except (ValueError, OSError):
            return
        page = os.sysconf("SC_PAGE_SIZE")
        file = Path(f"/proc/{self._child}/statm")
        while True:
            time.sleep(_EVERY)
            try:
                used = int(file.read_text().split()[1]) * page
            except (OSError, ValueError, IndexError):
                return
            if used > limit:
                self.most = limit
                with contextlib.suppress(ProcessLookupError):
                    os.kill(self._child, signal.SIGKILL)
                return


def _end_with(parent: int) -> None:
    """Let this process end when its parent does, however that ends."""
    if end_with_parent(parent=parent):
        return

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(_EVERY)
        os._exit(1)

    threading.Thread(target=look, daemon=True).start()
