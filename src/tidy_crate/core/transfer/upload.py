"""Uploading files: only what the farm lacks, down to the chunk; small files many at a time; several packs on their way.

Nothing that a farm has acknowledged is sent again. After a break the farm is asked again what it still lacks.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path
from threading import BoundedSemaphore, Event, Lock
from typing import Protocol

from blake3 import blake3

from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, TidyCrateError
from tidy_crate.core.files import hash_file, open_input, os_reason
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.transfer.chunks import Chunk, chunks
from tidy_crate.core.transfer.pack import MOST_PIECES, SMALL, Piece, in_packs

# bytes of the stretches of a large file that is new: where nothing is like it, no cut need be found
STRETCH = 4 << 20
# bytes of a large file that are cut and asked about at a time
SEGMENT = 16 << 20
# packs on their way at a time, and packs in memory at a time
CONNECTIONS, IN_MEMORY = 4, 6
# files that are read and cut at a time
READERS = 2


@dataclass(frozen=True, slots=True)
class Source:
    """A file to be sent."""

    blake3: str
    bytes: int
    path: Path
    like: str | None = None
    """BLAKE3 of an earlier state of the file that the far end may have."""


@dataclass(frozen=True, slots=True)
class Refused:
    """A piece that a farm did not take, and why."""

    file: str
    offset: int
    why: str


class Receiver(Protocol):
    """The far end. Every call may be repeated safely, and raises FarmError, FarmBusy where it may work later."""

    def missing(self, sources: Sequence[Source]) -> set[str]:
        """Return the BLAKE3 of those files that it does not have complete."""

    def lacking(self, source: Source, pieces: Sequence[Chunk]) -> list[Chunk]:
        """Return those chunks of a file that it has nowhere. Those that it has it puts in their places."""

    def take(self, pieces: Sequence[Piece]) -> list[Refused]:
        """Take in a pack. Return what it refuses; the rest is safe there."""

    def finish(self, source: Source) -> bool:
        """Verify a file that was sent in chunks. Return whether it is what was announced."""


@dataclass(frozen=True)
class Uploaded:
    """The result of an upload."""

    sent: int
    """Bytes of contents that were sent."""
    had: int
    """Bytes that the farm had."""


class _Stopped(Exception):
    """Another part of the upload met an error that ends it all."""


class Upload:
    """One upload. Used once."""

    def __init__(self, receiver: Receiver, progress: Progress = silent) -> None:
        self._receiver, self._progress = receiver, progress
        self._lock = Lock()
        self._room = BoundedSemaphore(IN_MEMORY)
        self._stop = Event()
        self._sent = self._had = self._total = 0
        self._on_the_way: set[str] = set()

    def run(self, sources: Iterable[Source]) -> Uploaded:
        """Send what the farm lacks. One file that fails cancels no other; the first error is raised at the end.

        Raises Blocked for a file that is not as it was packed. A farm that cannot be reached ends it at once.
        """
        every = list({source.blake3: source for source in sources}.values())
        lacking = self._receiver.missing(every)
        self._total = sum(source.bytes for source in every)
        self._had = sum(source.bytes for source in every if source.blake3 not in lacking)
        wanted = [source for source in every if source.blake3 in lacking]
        self._tell("")
        with ThreadPoolExecutor(CONNECTIONS) as senders, ThreadPoolExecutor(READERS) as readers:
            runs: list[Future[None]] = []
            small = [source for source in wanted if source.bytes <= SMALL]
            runs += [senders.submit(self._small, group) for group in in_packs(small, lambda one: one.bytes)]
            large = sorted((source for source in wanted if source.bytes > SMALL), key=lambda one: -one.bytes)
            runs += [readers.submit(self._large, source, senders) for source in large]
            try:
                errors = self._gathered(runs)
            except BaseException:
                # a user who stops it does not wait for the rest
                self._stop.set()
                senders.shutdown(wait=False, cancel_futures=True)
                readers.shutdown(wait=False, cancel_futures=True)
                raise
        if errors:
            raise errors[0]
        return Uploaded(self._sent, self._had)

    def _gathered(self, runs: Sequence[Future[None]]) -> list[TidyCrateError]:
        """Wait for all of it, and return what went wrong."""
        errors: list[TidyCrateError] = []
        for run in as_completed(runs):
            try:
                run.result()
            except _Stopped:
                continue
            except FarmBusy as error:
                # it would be the same for every other file
                self._stop.set()
                errors.insert(0, error)
            except TidyCrateError as error:
                errors.append(error)
        return errors

    # ---- small files

    def _small(self, group: Sequence[Source]) -> None:
        """Send small files as one pack."""
        self._halt()
        pieces: list[Piece] = []
        failed: TidyCrateError | None = None
        for source in group:
            try:
                pieces.append(Piece(source.blake3, 0, source.blake3, _read_small(source), source.bytes))
            except TidyCrateError as error:
                failed = error
        if pieces:
            self._take(pieces, group[0].path.name)
        if failed is not None:
            raise failed

    # ---- large files

    def _large(self, source: Source, senders: ThreadPoolExecutor) -> None:
        """Send those chunks of a file that the farm lacks, while the rest is still being cut."""
        runs: list[Future[None]] = []
        twice: list[Chunk] = []
        try:
            for data, found in segments(source):
                self._halt()
                by_place = {chunk.offset: chunk for chunk in found}
                lacking = self._receiver.lacking(source, found)
                with self._lock:
                    fresh: list[Chunk] = []
                    for chunk in lacking:
                        known = by_place[chunk.offset]
                        # the same bytes in two places: the farm copies them once it has them
                        (twice if known.blake3 in self._on_the_way else fresh).append(known)
                        self._on_the_way.add(known.blake3)
                    self._had += sum(chunk.bytes for chunk in found) - sum(chunk.bytes for chunk in lacking)
                begin = found[0].offset if found else 0
                pieces = [
                    Piece(source.blake3, one.offset, one.blake3, data[one.offset - begin :][: one.bytes], source.bytes)
                    for one in fresh
                ]
                runs += [
                    self._send(pack, senders, source.path.name) for pack in in_packs(pieces, lambda one: len(one.data))
                ]
            for run in runs:
                run.result()
            self._repeat(source, twice, senders)
            if not self._receiver.finish(source):
                raise self._spoilt(source)
        finally:
            for run in runs:
                run.cancel()

    def _repeat(self, source: Source, twice: Sequence[Chunk], senders: ThreadPoolExecutor) -> None:
        """Ask again for chunks that another place or file was about to bring, and send what did not arrive there."""
        for at in range(0, len(twice), MOST_PIECES):
            part = twice[at : at + MOST_PIECES]
            lacking = {chunk.offset for chunk in self._receiver.lacking(source, part)}
            with self._lock:
                self._had += sum(chunk.bytes for chunk in part if chunk.offset not in lacking)
            left = [chunk for chunk in part if chunk.offset in lacking]
            for chunk in left:
                data = _read(source.path, chunk.offset, chunk.bytes)
                piece = Piece(source.blake3, chunk.offset, chunk.blake3, data, source.bytes)
                self._send([piece], senders, source.path.name).result()

    # ---- both

    def _send(self, pieces: Sequence[Piece], senders: ThreadPoolExecutor, name: str) -> Future[None]:
        while not self._room.acquire(timeout=0.2):
            self._halt()
        try:
            run = senders.submit(self._take, pieces, name)
        except BaseException:
            self._room.release()
            raise
        run.add_done_callback(lambda _: self._room.release())
        return run

    def _take(self, pieces: Sequence[Piece], name: str) -> None:
        self._halt()
        refused = self._receiver.take(pieces)
        lost = {(one.file, one.offset) for one in refused}
        with self._lock:
            self._sent += sum(len(one.data) for one in pieces if (one.file, one.offset) not in lost)
        self._tell(name)
        if refused:
            raise FarmError(f"the farm does not take what was sent ({refused[0].why})", name, "run the command again")

    def _spoilt(self, source: Source) -> TidyCrateError:
        """Return why a file did not arrive as it was announced."""
        if _size(source.path) != source.bytes or hash_file(source.path) != source.blake3:
            return _changed(source)
        return FarmError("what arrived at the farm is not what was sent", source.path.name, "run the command again")

    def _halt(self) -> None:
        if self._stop.is_set():
            raise _Stopped

    def _tell(self, name: str) -> None:
        # told under the lock, so that a bar never goes back
        with self._lock:
            done = min(self._total, self._sent + self._had)
            self._progress(Step("upload", done, self._total, "bytes", name))


def segments(source: Source, size: int = SEGMENT) -> Iterator[tuple[memoryview, list[Chunk]]]:
    """Yield a large file part by part: bytes, and the chunks in them, content-defined where something is like the file.

    size: bytes that are read at a time. Raises Blocked for a file that is not as long as it was packed.
    """
    if _size(source.path) != source.bytes:
        raise _changed(source)
    rest, offset, seen = b"", 0, 0
    try:
        with open_input(source.path) as stream:
            while seen < source.bytes:
                fresh = stream.read(min(size, source.bytes - seen))
                if not fresh:
                    raise _changed(source)
                seen += len(fresh)
                data = memoryview(rest + fresh if rest else fresh)
                last = seen == source.bytes
                found = chunks(data, offset, last=last) if source.like is not None else _stretches(data, offset)
                used = found[-1].offset + found[-1].bytes - offset if found else 0
                if found:
                    yield data, found
                rest, offset = bytes(data[used:]), offset + used
    except OSError as error:
        raise Blocked(f"the file cannot be read ({os_reason(error)})", source.path, "collect again") from error


def _stretches(data: memoryview, offset: int) -> list[Chunk]:
    """Return a part of a file as stretches of one size."""
    parts = ((at, data[at : at + STRETCH]) for at in range(0, len(data), STRETCH))
    return [Chunk(offset + at, len(part), blake3(part).hexdigest()) for at, part in parts]


def _read_small(source: Source) -> bytes:
    """Return a small file's bytes, which are what the packing list promises. Raises Blocked where they are not."""
    data = _read(source.path, 0, source.bytes + 1)
    if len(data) != source.bytes or blake3(data).hexdigest() != source.blake3:
        raise _changed(source)
    return data


def _read(path: Path, offset: int, size: int) -> bytes:
    try:
        with open_input(path) as stream:
            stream.seek(offset)
            return stream.read(size)
    except OSError as error:
        raise Blocked(f"the file cannot be read ({os_reason(error)})", path, "collect again") from error


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError as error:
        raise Blocked(f"the file cannot be read ({os_reason(error)})", path, "collect again") from error


def _changed(source: Source) -> Blocked:
    return Blocked("a file of the crate is not as it was packed", source.path, "collect again")
