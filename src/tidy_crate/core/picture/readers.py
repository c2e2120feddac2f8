"""Processes that read frames: a library that breaks off over one frame costs that frame, and all cores are at work."""

from __future__ import annotations

import base64
import contextlib
import json
import os
import queue
import subprocess
import threading
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from tidy_crate.core.picture.judge import Expected, Judgement
from tidy_crate.core.picture.thumbnail import Thumbnail
from tidy_crate.core.process import cores, own_helper
from tidy_crate.core.work.attempt import Verdict

# seconds after which a frame is given up
MOST_SECONDS = 600.0
# bytes of files below which starting a second process takes longer than looking
WORTH_PROCESSES = 24 << 20
# frames from which on it is worth it, however small they are
MANY = 40
# frames for each process that are read before their turn
AHEAD = 4
# bytes of one answer
_LONGEST = 64 << 20


def worth_processes(paths: Sequence[Path]) -> int:
    """Return how many processes to read these frames with."""
    if len(paths) >= MANY:
        return min(cores(), len(paths))
    total = 0
    for path in paths:
        with contextlib.suppress(OSError):
            total += path.stat().st_size
        if total >= WORTH_PROCESSES:
            return max(1, min(cores(), len(paths)))
    return 1


@dataclass(frozen=True)
class Looked:
    """A frame to be judged, with what is expected of it."""

    path: Path
    expected: Expected


JudgeFrames = Callable[[Sequence[Looked]], Generator[Judgement, None, None]]
"""Judge frames, in their order. It is closed when no more are wanted."""


def judge_here(frames: Sequence[Looked]) -> Generator[Judgement, None, None]:
    """Judge frames on all cores of this machine, in their order."""
    with FrameReaders(worth_processes([one.path for one in frames])) as readers:
        yield from readers.judge(frames)


class FrameReaders:
    """Some processes, each of which reads one frame after another. To be used in a `with` statement.

    count: how many. seconds: after which a frame is given up.
    """

    def __init__(self, count: int, seconds: float = MOST_SECONDS) -> None:
        self._threads = ThreadPoolExecutor(count)
        self._idle: queue.SimpleQueue[_Reader] = queue.SimpleQueue()
        threads = max(1, cores() // count)
        self._readers = [_Reader(seconds, threads) for _ in range(count)]
        for reader in self._readers:
            self._idle.put(reader)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is not None:
            # no one waits for what is under way
            for reader in self._readers:
                reader.end()
        self._threads.shutdown(cancel_futures=True)
        for reader in self._readers:
            reader.end()

    def judge(self, frames: Sequence[Looked]) -> Iterator[Judgement]:
        """Judge frames, in their order."""
        orders = (
            {"do": "judge", "path": os.fspath(one.path), "expected": one.expected.model_dump(mode="json")}
            for one in frames
        )
        for answer in self._in_turn(orders):
            if answer.broke is not None:
                yield Judgement(verdict=Verdict.BAD, reasons=(answer.broke,))
            else:
                yield Judgement.model_validate(answer.said)

    def thumbnails(self, paths: Sequence[Path], width: int, height: int) -> Iterator[Thumbnail | None]:
        """Shrink frames, in their order. None for one that cannot be read. width, height: at most, in pixels."""
        orders = ({"do": "thumbnail", "path": os.fspath(path), "width": width, "height": height} for path in paths)
        for answer in self._in_turn(orders):
            said = answer.said
            yield Thumbnail(said["width"], said["height"], base64.b64decode(said["pixels"])) if said else None

    def whole(self, path: Path) -> bool:
        """Return whether a frame can be read to its end. It may be asked from several threads."""
        return self._ask({"do": "whole", "path": os.fspath(path)}).said is True

    def _in_turn(self, orders: Iterable[dict[str, Any]]) -> Iterator[_Answer]:
        """Yield answers in the order of their orders. No more are given than a few ahead: answers take memory."""
        waiting: deque[Future[_Answer]] = deque()
        for order in orders:
            waiting.append(self._threads.submit(self._ask, order))
            if len(waiting) > AHEAD * len(self._readers):
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()

    def _ask(self, order: dict[str, Any]) -> _Answer:
        reader = self._idle.get()
        try:
            return reader.ask(order)
        finally:
            self._idle.put(reader)


@dataclass(frozen=True)
class _Answer:
    said: Any = None
    broke: str | None = None
    """Why there is no answer."""


class _Reader:
    """One process, started when it is first asked and again after it broke off."""

    def __init__(self, seconds: float, threads: int) -> None:
        self._seconds = seconds
        self._threads = threads
        self._process: subprocess.Popen[bytes] | None = None
        self._ended = False

    def ask(self, order: dict[str, Any]) -> _Answer:
        process = self._started()
        assert process.stdin is not None and process.stdout is not None
        late = threading.Event()

        def give_up() -> None:
            late.set()
            process.kill()

        limit = threading.Timer(self._seconds, give_up)
        limit.start()
        try:
            process.stdin.write(json.dumps(order).encode() + b"\n")
            process.stdin.flush()
            line = process.stdout.readline(_LONGEST)
        except OSError:
            line = b""
        finally:
            limit.cancel()
        if line.endswith(b"\n"):
            said = json.loads(line)
            if "error" in said:
                raise RuntimeError(f"reading {order['path']}: {said['error']}")
            return _Answer(said=said["answer"])
        self._forget()
        if late.is_set():
            return _Answer(broke=f"reading it took longer than {self._seconds:.0f} seconds and was stopped")
        return _Answer(broke="the library that reads pictures crashed on it: the file is badly damaged")

    def end(self) -> None:
        """End the process."""
        self._ended = True
        self._forget()

    def _started(self) -> subprocess.Popen[bytes]:
        if self._process is None:
            line, environment = own_helper("tidy_crate.core.picture.reader", str(self._threads))
            self._process = subprocess.Popen(
                line, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment
            )
            if self._ended:
                self._process.kill()
        return self._process

    def _forget(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.communicate()
