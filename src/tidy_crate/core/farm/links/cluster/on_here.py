"""The work of this machine as a farm: `python -E -s on_here.py FOLDER NODES`, with Python's standard library alone.

It renders the batches that wait in FOLDER/queue, so many at a time, until none waits, and then ends. One process does
that for a folder; another one that is started meanwhile ends at once. A batch that waits is a file with the words that
run `on_node` for it, `RANK-TIME-NUMBER-JOB.json`. It is there until its batch has come to an end, so that the next
start goes on.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

LOOK = 0.1
# seconds without work after which it ends
IDLE = 3.0
# seconds after which the note of a process that is gone counts no more
STALE = 15.0
TOUCH = 3.0
# how much it gives way to whoever works here
NICE = 10
# times that a batch is tried again whose process was killed
MOST_CRASHES = 3
# of what the largest renderer has taken so far, that must be free before another one begins
ROOM = 1.2


class Runner:
    """Renders what waits in a folder."""

    def __init__(self, folder: Path, nodes: int) -> None:
        self.folder, self.nodes = folder, nodes
        self.running: dict[Path, subprocess.Popen[bytes]] = {}
        self.crashes: dict[Path, int] = {}
        self.largest = 0
        self.note = folder / "runner"
        self.touched = 0.0

    def take_over(self) -> bool:
        """Become the one that renders for this folder. Return False where another one does."""
        for _ in range(2):
            try:
                handle = os.open(self.note, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
            except FileExistsError:
                with contextlib.suppress(FileNotFoundError):
                    if time.time() - self.note.stat().st_mtime < STALE:
                        return False
                    self.note.rename(self.note.with_name(f".gone-{os.getpid()}"))
                continue
            os.write(handle, str(os.getpid()).encode())
            os.close(handle)
            return True
        return False

    def work(self) -> None:
        """Render until nothing waits."""
        idle_since = time.time()
        try:
            while time.time() - idle_since < IDLE:
                self._touch()
                self._collect()
                if self._begin() or self.running:
                    idle_since = time.time()
                time.sleep(LOOK)
        finally:
            for process in self.running.values():
                process.terminate()
            for process in self.running.values():
                process.wait()
            with contextlib.suppress(OSError):
                self.note.unlink()

    def _touch(self) -> None:
        if time.time() - self.touched > TOUCH:
            self.touched = time.time()
            with contextlib.suppress(OSError):
                os.utime(self.note)

    def _collect(self) -> None:
        for path, process in list(self.running.items()):
            code = process.poll()
            if code is None:
                self.largest = max(self.largest, memory_below(process.pid))
                continue
            del self.running[path]
            if code < 0 and self.crashes.get(path, 0) < MOST_CRASHES:
                # it was killed: what it had is taken again
                self.crashes[path] = self.crashes.get(path, 0) + 1
                continue
            with contextlib.suppress(OSError):
                path.unlink()

    def _begin(self) -> bool:
        """Begin the next batch where there is room. Return whether one was begun."""
        if len(self.running) >= self.nodes or (self.running and not self._has_room()):
            return False
        for path in sorted((self.folder / "queue").glob("*.json")):
            if path in self.running:
                continue
            try:
                words = json.loads(path.read_bytes())["words"]
            except (OSError, ValueError, KeyError, TypeError):
                continue  # it is being written
            self.running[path] = subprocess.Popen(
                [sys.executable, "-E", "-s", *words], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )  # fmt: skip
            return True
        return False

    def _has_room(self) -> bool:
        free = free_memory()
        return free is None or free > ROOM * self.largest


def free_memory() -> int | None:
    """Return the bytes of memory that are free, None where the system does not say."""
    try:
        found = re.search(r"MemAvailable:\s+(\d+) kB", Path("/proc/meminfo").read_text())
    except OSError:
        return None
    return int(found[1]) << 10 if found else None


def memory_below(root: int) -> int:
    """Return the bytes that the processes below one take; 0 where the system does not say."""
    try:
        from supervise import descendants  # type: ignore[import-not-found]
    except ImportError:
        return 0
    found = 0
    for one in descendants(root) if Path("/proc/self").exists() else ():
        with contextlib.suppress(OSError, ValueError, IndexError):
            found += int(Path(f"/proc/{one}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    return found


def main() -> int:
    """Render what waits."""
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda told, _: sys.exit(128 + told))
    nice: Any = getattr(os, "nice", None)
    if nice is not None:
        with contextlib.suppress(OSError):
            nice(NICE)
    runner = Runner(Path(sys.argv[1]), int(sys.argv[2]))
    if runner.take_over():
        runner.work()
    return 0


if __name__ == "__main__":
    sys.exit(main())
