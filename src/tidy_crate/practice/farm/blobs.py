"""The farm's store of files: complete ones by their BLAKE3, drafts that arrive in chunks, and an index of chunks.

A chunk that is anywhere in the store is copied from there and never sent again. A file counts as complete only after
all of it was read and verified.
"""

from __future__ import annotations

import os
import secrets
import shutil
import sqlite3
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import BinaryIO

from blake3 import blake3

from tidy_crate.core.farm.protocol import ChunkPlace
from tidy_crate.core.transfer.pack import Head
from tidy_crate.core.transfer.upload import Source, segments

_TABLES = """
CREATE TABLE IF NOT EXISTS draft (file TEXT PRIMARY KEY, bytes INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS chunk (
    file TEXT NOT NULL, offset INTEGER NOT NULL, bytes INTEGER NOT NULL, blake3 TEXT NOT NULL,
    PRIMARY KEY (file, offset)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS chunk_by_contents ON chunk (blake3);
CREATE TABLE IF NOT EXISTS cut (
    blake3 TEXT NOT NULL, file TEXT NOT NULL, offset INTEGER NOT NULL, bytes INTEGER NOT NULL,
    PRIMARY KEY (blake3, file, offset)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS cut_by_file ON cut (file);
"""
# bytes that are left free on the disk
RESERVE = 64 << 20


class NoRoom(Exception):
    """The disk is full."""


class Refusal(Exception):
    """A piece or file cannot be accepted."""


class Blobs:
    """The store below a folder."""

    def __init__(self, folder: Path, room: Callable[[], int | None] = lambda: None) -> None:
        """room: returns the bytes that it may hold, for trying out a full disk; None for as much as the disk has."""
        self._folder, self._room = folder, room
        (folder / "drafts").mkdir(parents=True, exist_ok=True)
        self.repeated = 0
        """Bytes that arrived although they were here and acknowledged, since the farm began."""
        self._made: set[str] = set()
        self._lock = threading.Lock()
        self._files: dict[str, threading.Lock] = {}
        self._index = sqlite3.connect(folder / "chunks.sqlite", check_same_thread=False, isolation_level=None)
        self._index.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;" + _TABLES)
        self._used = sum(path.stat().st_size for path in folder.glob("??/[!.]*"))
        self._check_what_was_not_synced()

    def close(self) -> None:
        """Close the index."""
        self._index.close()

    def path(self, digest: str) -> Path:
        """Return the path of a complete file, whether it exists or not."""
        return self._folder / digest[:2] / digest

    def has(self, digest: str) -> bool:
        """Return whether a complete file is here."""
        return self.path(digest).is_file()

    def put(self, digest: str, draft: Path) -> None:
        """Take over a file that was verified."""
        target = self.path(digest)
        target.parent.mkdir(exist_ok=True)
        draft.replace(target)

    def keep(self, digest: str, data: bytes) -> None:
        """Keep a small file that was verified. Text in place of paths: there are many of them."""
        folder = f"{self._folder}/{digest[:2]}"
        target = f"{folder}/{digest}"
        if os.path.exists(target):  # noqa: PTH110
            self.repeated += len(data)
            return
        if folder not in self._made:
            Path(folder).mkdir(exist_ok=True)
            self._made.add(folder)
        draft = f"{folder}/.{digest}.{threading.get_ident()}"
        try:
            with open(draft, "wb", buffering=0) as stream:  # noqa: PTH123
                stream.write(data)
            os.replace(draft, target)  # noqa: PTH105
        except OSError:
            Path(draft).unlink(missing_ok=True)
            raise

    def draft(self, digest: str) -> Path:
        """A new path for a file that arrives in one piece."""
        return self._folder / "drafts" / f"{digest[:16]}.{secrets.token_hex(4)}.part"

    def need_room(self, size: int) -> None:
        """Raise NoRoom where so many bytes do not fit any more."""
        room = self._room()
        full = room is not None and self._used + size > room
        if full or shutil.disk_usage(self._folder).free < size + RESERVE:
            raise NoRoom("the disk of the farm is full")

    def lacking(self, file: str, total: int, places: Sequence[ChunkPlace], like: str | None = None) -> list[int]:
        """Return which of these chunks of a file are nowhere here. The others are put into its draft.

        like: another file that may be here; it is cut into chunks first, unless that was done.
        """
        if self.has(file):
            return []
        if like is not None and self.has(like):
            self._cut(like)
        with self._only(file):
            return self._lacking(file, total, places)

    def _lacking(self, file: str, total: int, places: Sequence[ChunkPlace]) -> list[int]:
        draft = self._draft_of(file)
        with self._lock:
            known = self._index.execute("SELECT bytes FROM draft WHERE file = ?", (file,)).fetchone()
        if known is None or not draft.is_file():
            self.need_room(total)
            with draft.open("wb") as stream:
                stream.truncate(total)
            with self._lock:
                self._index.execute("DELETE FROM chunk WHERE file = ?", (file,))
                self._index.execute("INSERT OR REPLACE INTO draft VALUES (?, ?)", (file, total))
        elif known[0] != total:
            raise Refusal(f"this file was announced with {known[0]} bytes")
        lacking, copied = [], []
        for number, place in enumerate(places):
            if place.offset + place.bytes > total:
                raise Refusal("a chunk reaches beyond the end of its file")
            with self._lock:
                row = self._index.execute(
                    "SELECT blake3 FROM chunk WHERE file = ? AND offset = ? AND bytes = ?",
                    (file, place.offset, place.bytes),
                ).fetchone()
            if row is not None and row[0] == place.blake3:
                continue
            data = self._anywhere(place)
            if data is None:
                lacking.append(number)
                continue
            _write_at(draft, place.offset, data)
            copied.append((file, place.offset, place.bytes, place.blake3))
        self._note(copied)
        return lacking

    def _cut(self, file: str) -> None:
        """Find the chunks of a complete file, once."""
        with self._only(file):
            with self._lock:
                if self._index.execute("SELECT 1 FROM cut WHERE file = ? LIMIT 1", (file,)).fetchone():
                    return
            path = self.path(file)
            source = Source(file, path.stat().st_size, path, like=file)
            rows = [(one.blake3, file, one.offset, one.bytes) for _, found in segments(source) for one in found]
            with self._lock, self._index:
                self._index.execute("BEGIN")
                self._index.executemany("INSERT OR REPLACE INTO cut VALUES (?, ?, ?, ?)", rows)

    def _anywhere(self, place: ChunkPlace) -> bytes | None:
        """The bytes of a chunk from any file that has it."""
        with self._lock:
            same = (place.blake3, place.bytes)
            rows = self._index.execute(
                "SELECT file, offset FROM chunk WHERE blake3 = ? AND bytes = ? LIMIT 3", same
            ).fetchall()
            rows += self._index.execute(
                "SELECT file, offset FROM cut WHERE blake3 = ? AND bytes = ? LIMIT 3", same
            ).fetchall()
        for file, offset in [*rows, (place.blake3, 0)]:
            for path in (self.path(file), self._draft_of(file)):
                try:
                    with path.open("rb") as stream:
                        stream.seek(offset)
                        data = stream.read(place.bytes)
                except FileNotFoundError:
                    continue
                if blake3(data).hexdigest() == place.blake3:
                    return data
        return None

    def knows(self, head: Head) -> bool:
        """Return whether a piece is here already."""
        if self.has(head.file):
            return True
        with self._lock:
            row = self._index.execute(
                "SELECT 1 FROM chunk WHERE file = ? AND offset = ? AND blake3 = ?",
                (head.file, head.offset, head.blake3),
            ).fetchone()
        return row is not None

    @contextmanager
    def taking(self, size: int) -> Iterator[Taking]:
        """Take in a pack of so many bytes. Raises NoRoom."""
        self.need_room(size)
        stack = ExitStack()
        found = Taking(self, stack)
        try:
            yield found
        finally:
            # noted only after the bytes have left this process; of a pack that breaks off, what came complete
            stack.close()
            self._note(found.rows)
            self._used += sum(length for _, _, length, _ in found.rows)

    def opened(self, file: str) -> tuple[int, BinaryIO] | None:
        """The size and the open draft of a file that was announced; None for another."""
        with self._lock:
            known = self._index.execute("SELECT bytes FROM draft WHERE file = ?", (file,)).fetchone()
        return None if known is None else (known[0], self._draft_of(file).open("rb+", buffering=0))

    def finish(self, file: str) -> bool:
        """Verify a file that came in chunks. Return whether it is complete and right.

        Of one that is not, chunks that do not hold what they should are forgotten. Where all of them do, the whole
        draft is, since it was announced wrongly.
        """
        if self.has(file):
            return True
        with self._only(file):
            draft = self._draft_of(file)
            with self._lock:
                known = self._index.execute("SELECT bytes FROM draft WHERE file = ?", (file,)).fetchone()
                rows = self._index.execute(
                    "SELECT offset, bytes, blake3 FROM chunk WHERE file = ? ORDER BY offset", (file,)
                ).fetchall()
            if known is None or not draft.is_file():
                return False
            end = 0
            for offset, size, _ in rows:
                end = offset + size if offset == end else end
            if end == known[0]:
                found = _hash(draft)
                if found.hexdigest() == file:
                    self.put(file, draft)
                    with self._lock:
                        self._index.execute("DELETE FROM draft WHERE file = ?", (file,))
                        self._index.execute("DELETE FROM chunk WHERE file = ?", (file,))
                    return True
            self._forget(file, draft, rows, complete=end == known[0])
        return False

    def _forget(self, file: str, draft: Path, rows: Iterable[tuple[int, int, str]], *, complete: bool) -> None:
        wrong = []
        with draft.open("rb") as stream:
            for offset, size, digest in rows:
                stream.seek(offset)
                if blake3(stream.read(size)).hexdigest() != digest:
                    wrong.append((file, offset))
        with self._lock:
            if complete and not wrong:
                self._index.execute("DELETE FROM chunk WHERE file = ?", (file,))
            self._index.executemany("DELETE FROM chunk WHERE file = ? AND offset = ?", wrong)

    def sync(self) -> None:
        """Make a checkpoint in the background: what is here now is then not verified again at the next start."""
        threading.Thread(target=self._sync, daemon=True).start()

    def _sync(self) -> None:
        began = time.time()
        if hasattr(os, "sync"):
            os.sync()
            mark = self._folder / "synced"
            mark.write_bytes(b"")
            os.utime(mark, (began, began))

    def _check_what_was_not_synced(self) -> None:
        """Read again what came after the last checkpoint: a power cut may have taken its bytes."""
        mark = self._folder / "synced"
        since = mark.stat().st_mtime - 2 if mark.is_file() else 0.0
        for path in self._folder.glob("??/[!.]*"):
            if path.stat().st_mtime < since:
                continue
            found = _hash(path)
            if found.hexdigest() != path.name:
                path.unlink()

    def _draft_of(self, file: str) -> Path:
        return self._folder / "drafts" / file

    def _note(self, rows: Sequence[tuple[str, int, int, str]]) -> None:
        if rows:
            with self._lock, self._index:
                self._index.execute("BEGIN")
                self._index.executemany("INSERT OR REPLACE INTO chunk VALUES (?, ?, ?, ?)", rows)

    @contextmanager
    def _only(self, file: str) -> Iterator[None]:
        """One at a time for each file."""
        with self._lock:
            own = self._files.setdefault(file, threading.Lock())
        with own:
            yield


class Taking:
    """A pack as it comes in: every part is hashed and written at once."""

    def __init__(self, store: Blobs, stack: ExitStack) -> None:
        self._store, self._stack = store, stack
        self.rows: list[tuple[str, int, int, str]] = []
        self.refused: list[tuple[Head, str]] = []
        self._drafts: dict[str, tuple[int, BinaryIO] | None] = {}
        self._head: Head | None = None
        self._found = blake3()
        self._out: BinaryIO | None = None
        self._small: list[bytes] | None = None
        """The bytes so far of a small file that came whole."""
        self._left = 0
        self._why = ""

    def feed(self, part: Head | memoryview) -> None:
        """Take in a header or bytes. Raises NoRoom where the disk does not take them."""
        try:
            if isinstance(part, Head):
                self._begin(part)
            else:
                self._left -= len(part)
                if self._small is not None:
                    self._small.append(bytes(part))
                else:
                    self._found.update(part)
                    while self._out is not None and part:
                        part = part[self._out.write(part) :]
            if self._left == 0:
                self._end()
        except OSError as error:
            raise NoRoom(f"the disk of the farm does not take it ({error.strerror})") from error

    def _begin(self, head: Head) -> None:
        self._head, self._left = head, head.bytes
        self._out, self._small, self._why = None, None, ""
        if head.file == head.blake3 and head.offset == 0:
            # a whole file of a pack is small enough to be looked at before it is written
            self._small = []
            return
        self._found = blake3()
        if self._store.knows(head):
            self._store.repeated += head.bytes
        if head.file not in self._drafts:
            opened = self._store.opened(head.file)
            self._drafts[head.file] = opened
            if opened is not None:
                self._stack.enter_context(opened[1])
        draft = self._drafts[head.file]
        if draft is not None and head.offset + head.bytes > draft[0]:
            self._why = "it reaches beyond the end of its file"
        elif draft is not None:
            self._out = draft[1]
            self._out.seek(head.offset)
        elif not self._store.has(head.file):
            self._why = "it belongs to no file that was announced"

    def _end(self) -> None:
        head, self._head = self._head, None
        if head is None:
            return
        if self._small is not None:
            data = self._small[0] if len(self._small) == 1 else b"".join(self._small)
            if blake3(data).hexdigest() != head.blake3:
                self._why = _WRONG
            else:
                self._store.keep(head.file, data)
        elif self._found.hexdigest() != head.blake3:
            self._why = _WRONG
        elif not self._why and self._out is not None:
            self.rows.append((head.file, head.offset, head.bytes, head.blake3))
        if self._why:
            self.refused.append((head, self._why))


_WRONG = "its bytes are not what its digest says"


def _hash(path: Path) -> blake3:
    """Read all of a file, into the same memory again and again."""
    found, room = blake3(max_threads=2), bytearray(1 << 20)
    with path.open("rb", buffering=0) as stream, memoryview(room) as view:
        while count := stream.readinto(room):
            found.update(view[:count])
    return found


def _write_at(path: Path, offset: int, data: bytes | memoryview) -> None:
    with path.open("rb+") as stream:
        stream.seek(offset)
        stream.write(data)
