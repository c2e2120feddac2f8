"""Running other programs: with limits on time and output, and with no farm token in their environment."""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import psutil

from tidy_crate.core import supervise
from tidy_crate.core.supervise import end_with_parent

# bytes kept of what a program prints: from its start, and from its end
KEPT_HEAD = 32 << 20
KEPT_TAIL = 1 << 20
# bytes of one line that are looked at
LONGEST_LINE = 1 << 16
# seconds to wait for the end of the output after a program has ended
_GRACE = 2.0
_CHUNK = 1 << 16
# marks all that a program starts, also what has left its family of processes
_MARK = "TIDY_CRATE_RUN"
# tells a helper which process started it
_STARTED_BY = "TIDY_CRATE_STARTED_BY"
# seconds between two looks at a program, at its disk, and at whether a helper's parent is still there
_LOOK, _LOOK_AT_DISK, _LOOK_AT_PARENT = 0.05, 0.5, 0.5
# seconds that the process above a program has for ending all that it started
_ENDING = 10.0
_OWN_SECRETS = ("TIDY_CRATE_TOKEN", "TIDY_CRATE_LEDGER")
_SECRET_WORDS = ("TOKEN", "SECRET", "PASSWORD", "PASSWD", "CREDENTIAL", "API_KEY", "PRIVATE_KEY")


@dataclass(frozen=True)
class Limits:
    """Limits of a program on this machine, with all that it starts."""

    processes: int
    memory_bytes: int
    disk_bytes: int
    """On the disk of its working folder, by how much less is free."""


@dataclass(frozen=True)
class Ended:
    """Result of a program that ended."""

    code: int
    late: bool
    """True if it was ended because its time was over."""
    over: str | None
    """Which limit it passed, as "more than 512 processes", where it was ended for that; else None."""
    seconds: float
    """Wall clock."""
    cpu_seconds: float
    """Processor time of the program and all that it started; 0 where it was not watched."""
    memory_bytes: int
    """At its peak, with all that it started; 0 where it was not watched."""
    output: bytes
    """Its output; of very much, the start and the end."""

    @property
    def text(self) -> str:
        """Return what it printed, as text."""
        return self.output.decode("utf-8", "replace")


def cores() -> int:
    """Return how many cores this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)


def machine_seconds() -> float:
    """Return the processor seconds that all programs of this machine have taken since it started."""
    times = psutil.cpu_times()
    idle = ("idle", "iowait", "guest", "guest_nice")  # what runs in a guest is in user time already
    return float(sum(value for name, value in times._asdict().items() if name not in idle))


def without_tokens(environment: Mapping[str, str], others: Iterable[str] = ()) -> dict[str, str]:
    """Return an environment for a foreign program. others: variables that hold tokens too."""
    hidden = {name.upper() for name in others}
    return {
        name: value
        for name, value in environment.items()
        if not name.upper().startswith(_OWN_SECRETS) and name.upper() not in hidden
    }


def own_helper(module: str, *words: str) -> tuple[list[str], dict[str, str]]:
    """Return the command line and the environment of a helper process: a module of this tool, as a program.

    The working folder is not searched for modules, since it may be a stranger's. Nothing that looks like a secret is in
    the environment: a helper opens scenes that anyone may have made. The module calls `end_with_caller`.
    """
    kept = {
        name: value for name, value in os.environ.items() if not any(word in name.upper() for word in _SECRET_WORDS)
    }
    return [sys.executable, "-P", "-m", module, *words], started_here(without_tokens(kept))


def started_here(environment: Mapping[str, str]) -> dict[str, str]:
    """Return the environment of a helper that this process starts."""
    return {**environment, _STARTED_BY: str(os.getpid())}


def end_with_caller() -> None:
    """End this helper process when the process that started it ends, however that ends.

    It looks at its parent, and does not ask the kernel for a signal: that one comes when the *thread* that started the
    helper ends, and a pool of threads may share helpers.
    """
    parent = os.environ.pop(_STARTED_BY, "")
    if parent.isdigit():
        watch_parent(int(parent))


def watch_parent(parent: int) -> None:
    """End this process soon after its parent has ended. parent: its number."""

    def look() -> None:
        # a parent that has ended leaves its children to another process; Windows keeps its number
        while os.getppid() == parent and (os.name != "nt" or psutil.pid_exists(parent)):
            time.sleep(_LOOK_AT_PARENT)
        os._exit(1)

    threading.Thread(target=look, daemon=True).start()


def end_with_waiting_caller() -> None:
    """Do the same by the kernel, where the thread that started this helper waits for it. Linux needs no thread."""
    parent = os.environ.get(_STARTED_BY, "")
    if parent.isdigit() and not end_with_parent(parent=int(parent)):
        end_with_caller()
    os.environ.pop(_STARTED_BY, None)


def run_program(
    line: Sequence[str],
    folder: Path,
    environment: Mapping[str, str],
    limit: float,
    *,
    log: Path | None = None,
    on_line: Callable[[str], None] | None = None,
    watch: bool = False,
    limits: Limits | None = None,
) -> Ended:
    """Run a program in a folder until it ends, or for `limit` seconds; then all that it started ends too.

    It has a session of its own, so that it reaches no terminal. log: a file for what it prints. on_line: is handed each
    line as it is printed, without its end. watch: measures its memory and processor time. limits: ends it when it
    passes one. Raises OSError when it cannot start.
    """
    mark = secrets.token_hex(8)
    began = time.monotonic()
    process = _started(line, folder, {**environment, _MARK: mark})
    assert process.stdout is not None
    printed = _Printed(process.stdout, on_line)
    watched = _Watch(process.pid, folder, limits, lambda: _end_all(process, mark))
    if watch or limits is not None:
        watched.start()
    late = False
    try:
        try:
            process.wait(max(0.0, limit))
        except subprocess.TimeoutExpired:
            late = True
            _end_all(process, mark)
            process.wait()
        seconds = time.monotonic() - began
        if not printed.ended(_GRACE):
            # something that it started goes on and holds the output open
            _end_all(process, mark)
            printed.ended(_GRACE)
    except BaseException:
        _end_all(process, mark)
        process.wait()
        raise
    finally:
        watched.stop()
        if log is not None:
            log.parent.mkdir(parents=True, exist_ok=True)
            log.unlink(missing_ok=True)  # never through a link that stands there
            log.write_bytes(printed.kept())
    printed.raise_what_went_wrong()
    return Ended(
        process.returncode, late, watched.over, seconds, watched.cpu_seconds, watched.memory_bytes, printed.kept()
    )


def _started(line: Sequence[str], folder: Path, environment: Mapping[str, str]) -> subprocess.Popen[bytes]:
    """Start a program; on Linux below a process that ends all that it starts. Raises OSError when it cannot start."""
    if not sys.platform.startswith("linux"):
        return subprocess.Popen(
            list(line), cwd=folder, env=dict(environment), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, start_new_session=True,
        )  # fmt: skip
    for word in line:
        if "\0" in word:
            raise ValueError("embedded null byte")
    told, report = os.pipe()
    with os.fdopen(told, "rb") as reading:
        try:
            process = subprocess.Popen(
                [sys.executable, "-I", "-S", supervise.__file__, str(os.getpid()), str(report), *line], cwd=folder,
                env=dict(environment), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                start_new_session=True, pass_fds=(report,),
            )  # fmt: skip
        finally:
            os.close(report)
        said = reading.read()
    if said:
        process.communicate()
        number = int(said)
        # as Popen raises it: a missing program is another error than one that may not be run
        raise OSError(number or errno.EINVAL, os.strerror(number or errno.EINVAL), line[0])
    return process


class _Printed:
    """Reads what a program prints in a thread of its own, and keeps a bounded part of it."""

    def __init__(self, stream: IO[bytes], on_line: Callable[[str], None] | None) -> None:
        self._stream = stream
        self._on_line = on_line
        self._head = bytearray()
        self._tail = bytearray()
        self._left_out = 0
        self._line = bytearray()
        self._problem: BaseException | None = None
        self._lock = threading.Lock()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def ended(self, wait: float) -> bool:
        """Return whether the output has ended, after so many seconds at most."""
        self._thread.join(wait)
        return not self._thread.is_alive()

    def kept(self) -> bytes:
        """Return what is kept of it."""
        with self._lock:
            tail = bytes(self._tail[-KEPT_TAIL:])
            left = self._left_out - len(tail)
            gap = b"\n[... %d bytes left out ...]\n" % left if left > 0 else b""
            return bytes(self._head) + gap + tail

    def raise_what_went_wrong(self) -> None:
        """Raise what `on_line` raised."""
        if self._problem is not None:
            raise self._problem

    def _read(self) -> None:
        with self._stream as stream:
            while chunk := os.read(stream.fileno(), _CHUNK):
                with self._lock:
                    room = KEPT_HEAD - len(self._head)
                    self._head += chunk[:room]
                    if rest := chunk[room:] if room > 0 else chunk:
                        self._tail += rest
                        self._left_out += len(rest)
                        if len(self._tail) > 2 * KEPT_TAIL:
                            del self._tail[:-KEPT_TAIL]
                self._hand_on(chunk)
        if self._line:
            # the last line may have no end
            self._hand_on(b"\n")

    def _hand_on(self, chunk: bytes) -> None:
        if self._on_line is None or self._problem is not None:
            return
        try:
            self._lines(chunk)
        except BaseException as error:  # noqa: BLE001 - raised again where the program was started
            self._problem = error

    def _lines(self, chunk: bytes) -> None:
        assert self._on_line is not None
        *whole, rest = (bytes(self._line) + chunk).split(b"\n")
        for line in whole:
            self._on_line(line[:LONGEST_LINE].decode("utf-8", "replace").rstrip("\r"))
        self._line = bytearray(rest[:LONGEST_LINE])


class _Watch:
    """Samples what a program takes while it runs, with all that it starts, and ends it past its limits."""

    def __init__(self, pid: int, folder: Path, limits: Limits | None, end: Callable[[], None]) -> None:
        self._pid = pid
        self._folder = folder
        self._limits = limits
        self._end_it = end
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._sample, daemon=True)
        self._free = shutil.disk_usage(folder).free if limits is not None else 0
        self._next_disk = time.monotonic()
        self.memory_bytes = 0
        self.cpu_seconds = 0.0
        self.over: str | None = None

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._end.set()
        if self._thread.ident is not None:
            self._thread.join()

    def _sample(self) -> None:
        try:
            process = psutil.Process(self._pid)
        except psutil.Error:
            return
        # on Linux the process itself is the one above the program
        own = () if sys.platform.startswith("linux") else (process,)
        while True:
            memory, cpu, count = 0, 0.0, 0
            try:
                for one in (*own, *process.children(recursive=True)):
                    count += 1
                    memory += one.memory_info().rss
                    times = one.cpu_times()
                    cpu += times.user + times.system
            except psutil.Error:
                pass
            self.memory_bytes = max(self.memory_bytes, memory)
            self.cpu_seconds = max(self.cpu_seconds, cpu)
            if self._limits is not None:
                self.over = self._passed(self._limits, count, memory)
                if self.over is not None:
                    self._end_it()
                    return
            if self._end.wait(_LOOK):
                return

    def _passed(self, limits: Limits, count: int, memory: int) -> str | None:
        if count > limits.processes:
            return f"more than {limits.processes:,} processes"
        if memory > limits.memory_bytes:
            return f"more than {limits.memory_bytes / 2**30:.1f} GiB of memory"
        if time.monotonic() >= self._next_disk:
            self._next_disk = time.monotonic() + _LOOK_AT_DISK
            if self._free - shutil.disk_usage(self._folder).free > limits.disk_bytes:
                return f"more than {limits.disk_bytes / 2**30:.1f} GiB of disk"
        return None


def _end_all(process: subprocess.Popen[bytes], mark: str) -> None:
    """End a program and all that it has started: also what has left its family, by the mark in its environment."""
    found: list[psutil.Process] = []
    with contextlib.suppress(psutil.Error):
        found = psutil.Process(process.pid).children(recursive=True)
    if sys.platform.startswith("linux"):
        # the process above it ends them all, also those that no longer show the mark
        with contextlib.suppress(OSError, subprocess.TimeoutExpired):
            process.terminate()
            process.wait(_ENDING)
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error, OSError):
            if one.environ().get(_MARK) == mark:
                found.append(one)
    for one in found:
        with contextlib.suppress(psutil.Error):
            one.kill()
    with contextlib.suppress(OSError):
        process.kill()
    psutil.wait_procs(found, timeout=1)
