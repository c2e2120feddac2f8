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
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from blake3 import blake3

from tidy_crate.core.farm.protocol import ChunkPlace
from tidy_crate.core.transfer.pack import Piece, unpacked

_TABLES = """
CREATE TABLE IF NOT EXISTS draft (file TEXT PRIMARY KEY, bytes INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS chunk (
    file TEXT NOT NULL, offset INTEGER NOT NULL, bytes INTEGER NOT NULL, blake3 TEXT NOT NULL,
    PRIMARY KEY (file, offset)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS chunk_by_contents ON chunk (blake3);
"""
# bytes that are left free on the disk
RESERVE = 64 << 20


class NoRoom(Exception):
    """The disk is full."""


class Refusal(Exception):
    """What was sent cannot be taken."""


class Blobs:
    """The store below a folder."""

    def __init__(self, folder: Path, room: Callable[[], int | None] = lambda: None) -> None:
        """room: returns the bytes that it may hold, for trying out a full disk; None for as much as the disk has."""
        self._folder, self._room = folder, room
        (folder / "drafts").mkdir(parents=True, exist_ok=True)
        self._lock = threading.Lock()
        self._files: dict[str, threading.Lock] = {}
        self._index = sqlite3.connect(folder / "chunks.sqlite", check_same_thread=False, isolation_level=None)
        self._index.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;" + _TABLES)
        self._used = sum(path.stat().st_size for path in folder.glob("??/*"))
        self._check_what_was_not_synced()

    def close(self) -> None:
        """Close the index."""
        self._index.close()

    def path(self, digest: str) -> Path:
        """Where a complete file is, or would be."""
        return self._folder / digest[:2] / digest

    def has(self, digest: str) -> bool:
        """Whether a file is here, complete."""
        return self.path(digest).is_file()

    def put(self, digest: str, draft: Path) -> None:
        """Take over a file that was verified."""
        target = self.path(digest)
        target.parent.mkdir(exist_ok=True)
        draft.replace(target)

    def draft(self, digest: str) -> Path:
        """A new path for a file that arrives in one piece."""
        return self._folder / "drafts" / f"{digest[:16]}.{secrets.token_hex(4)}.part"

    def need_room(self, size: int) -> None:
        """Raise NoRoom where so many bytes do not fit any more."""
        room = self._room()
        full = room is not None and self._used + size > room
        if full or shutil.disk_usage(self._folder).free < size + RESERVE:
            raise NoRoom("the disk of the farm is full")

    def lacking(self, file: str, total: int, places: Sequence[ChunkPlace]) -> list[int]:
        """Return which of these chunks of a file are nowhere here. The others are put into its draft."""
        if self.has(file):
            return []
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

    def _anywhere(self, place: ChunkPlace) -> bytes | None:
        """The bytes of a chunk from any file that has it."""
        with self._lock:
            rows = self._index.execute(
                "SELECT file, offset FROM chunk WHERE blake3 = ? AND bytes = ? LIMIT 3", (place.blake3, place.bytes)
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

    def take(self, body: memoryview) -> list[tuple[Piece, str]]:
        """Take in a pack. Return the pieces that are refused, each with the reason. Raises BadPack and NoRoom."""
        refused: list[tuple[Piece, str]] = []
        rows: list[tuple[str, int, int, str]] = []
        for piece in unpacked(body):
            why = self._piece(piece, rows)
            if why:
                refused.append((piece, why))
        self._note(rows)
        return refused

    def _piece(self, piece: Piece, rows: list[tuple[str, int, int, str]]) -> str:
        if blake3(piece.data).hexdigest() != piece.blake3:
            return "its bytes are not what its digest says"
        if self.has(piece.file):
            return ""
        if piece.file == piece.blake3 and piece.offset == 0:
            self.need_room(len(piece.data))
            draft = self.draft(piece.file)
            try:
                draft.write_bytes(piece.data)
                self.put(piece.file, draft)
            except OSError as error:
                draft.unlink(missing_ok=True)
                raise NoRoom(f"the disk of the farm does not take it ({error.strerror})") from error
            self._used += len(piece.data)
            return ""
        with self._lock:
            known = self._index.execute("SELECT bytes FROM draft WHERE file = ?", (piece.file,)).fetchone()
        if known is None or piece.offset + len(piece.data) > known[0]:
            return "it belongs to no file that was announced"
        self.need_room(len(piece.data))
        try:
            _write_at(self._draft_of(piece.file), piece.offset, piece.data)
        except OSError as error:
            raise NoRoom(f"the disk of the farm does not take it ({error.strerror})") from error
        self._used += len(piece.data)
        rows.append((piece.file, piece.offset, len(piece.data), piece.blake3))
        return ""

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
                found = blake3(max_threads=blake3.AUTO)
                found.update_mmap(draft)
                if found.hexdigest() == file:
                    with draft.open("rb+") as stream:
                        os.fsync(stream.fileno())
                    self.put(file, draft)
                    with self._lock:
                        self._index.execute("DELETE FROM draft WHERE file = ?", (file,))
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
        """A checkpoint: what is here now is on the disk, and is not verified again at the next start."""
        if hasattr(os, "sync"):
            os.sync()
        (self._folder / "synced").write_bytes(b"")

    def _check_what_was_not_synced(self) -> None:
        """Read again what came after the last checkpoint: a power cut may have taken its bytes."""
        mark = self._folder / "synced"
        since = mark.stat().st_mtime - 2 if mark.is_file() else 0.0
        for path in self._folder.glob("??/*"):
            if path.stat().st_mtime < since:
                continue
            found = blake3()
            found.update_mmap(path)
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


def _write_at(path: Path, offset: int, data: bytes | memoryview) -> None:
    with path.open("rb+") as stream:
        stream.seek(offset)
        stream.write(data)
