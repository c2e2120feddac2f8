"""A place for files by fsspec: a folder, an SFTP server or an S3 bucket. What goes wrong is told in plain words."""

from __future__ import annotations

import errno
import hashlib
import posixpath
import secrets
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import Moved
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.links.watch import Watch, waiting
from tidy_crate.core.files import CHUNK, hash_file, open_input, os_reason, read_input

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

# bytes at the end of what an earlier try left that are compared before it is continued
TAIL = 1 << 20
# bytes of a file that is read into memory, at most
MOST_READ = 64 << 20
# the kind of what is neither a file, a link, nor a folder
OTHER = "other"


@dataclass(frozen=True)
class Found:
    """A file at a place."""

    path: str
    """Below the folder that was asked about, with forward slashes."""
    bytes: int
    changed: float | None
    """Seconds since 1970 by the place's own clock, None where it does not say."""
    tag: str = ""
    """The entity tag of a bucket's object, which follows from its contents; empty at other places."""

    @property
    def version(self) -> str:
        """Another text for another file under the same name; empty where the place tells too little for that."""
        if self.changed is None and not self.tag:
            return ""
        told = f"{self.bytes} {self.changed!r} {self.tag}"
        return hashlib.blake2b(told.encode("utf-8", "surrogatepass"), digest_size=10).hexdigest()


class Place:
    """A folder at a place. Paths are relative to it. Every call raises FarmError, FarmBusy where it may work later."""

    def __init__(self, fs: AbstractFileSystem, root: str, farm: str, url: str) -> None:
        self.fs, self.root, self.farm, self.url = fs, root.rstrip("/") or "/", farm, url
        self.watch: Watch | None = None
        """Tells that the line to the place is silent."""

    step = CHUNK
    """Bytes that are read or written at a time."""

    def at(self, path: str) -> str:
        """Return a path as the file system has it."""
        return posixpath.join(self.root, path)

    def check(self) -> None:
        """Raise FarmError where the place is not there, or cannot be written."""
        with self._told("the place cannot be written"):
            self._need_folder()
            probe = self.at(f".tidy-crate-{secrets.token_hex(4)}")
            self.fs.pipe_file(probe, b"may this be written?")
            self.fs.rm_file(probe)

    def _need_folder(self) -> None:
        if not self.fs.exists(self.root):
            remedy = "make it first, or correct the url on the card"
            raise FarmError("there is no such folder or bucket at the place", self.url, remedy)

    def size(self, path: str) -> int | None:
        """Return a file's size in bytes, None where there is none."""
        with self._told("the place cannot be read"):
            self.fs.invalidate_cache()
            try:
                return int(self.fs.info(self.at(path))["size"])
            except FileNotFoundError:
                return None

    def read(self, path: str) -> bytes | None:
        """Return a small file's bytes, None where there is none. Raises FarmError for one that is too large."""
        size = self.size(path)
        if size is None:
            return None
        if size > MOST_READ:
            raise FarmError(
                f"{path} at the place is over {MOST_READ >> 20} MiB", self.farm, "is this really the place?"
            )
        with self._told(f"{path} at the place cannot be read"):
            return self._read(path)

    def _read(self, path: str) -> bytes:
        return bytes(self.fs.cat_file(self.at(path)))

    def write(self, path: str, data: bytes) -> None:
        """Write a small file, complete or not at all."""
        with self._told(f"{path} cannot be written at the place"):
            self._need_folder()
            target = self.at(path)
            self.fs.makedirs(posixpath.dirname(target), exist_ok=True)
            if self._whole_objects:
                self.fs.pipe_file(target, data)
                return
            draft = f"{target}.{secrets.token_hex(4)}.part"
            self.fs.pipe_file(draft, data)
            self._rename(draft, target)

    def make(self, path: str) -> None:
        """Make a folder."""
        with self._told(f"{path} cannot be made at the place"):
            self.fs.makedirs(self.at(path), exist_ok=True)

    def find(self, path: str) -> list[Found]:
        """Return all files below a folder; none where there is no such folder."""
        top = self.at(path).rstrip("/")
        with self._told("the place cannot be listed"):
            self.fs.invalidate_cache()
            try:
                listed: dict[str, dict[str, Any]] = self.fs.find(top, detail=True)
            except FileNotFoundError:
                return []
        start = len(self.fs._strip_protocol(top)) + 1
        return sorted(
            # a pipe or a device is no frame, and would be read for ever
            (_found(name[start:], one) for name, one in listed.items() if one.get("type") != OTHER),
            key=lambda one: one.path,
        )

    def look(self, path: str) -> Found | None:
        """Return a file as it is now, None where there is none."""
        with self._told("the place cannot be read"):
            self.fs.invalidate_cache()
            try:
                return _found(path, self.fs.info(self.at(path)))
            except FileNotFoundError:
                return None

    def send(self, local: Path, path: str, digest: str, moved: Moved) -> int:
        """Send a large file and verify it; what an earlier try has sent is not sent again.

        Return the bytes that the place had already, in an earlier file, and has copied itself.

        digest: BLAKE3 of the file, part of the name of a draft, so that only the same file is continued.
        """
        with self._told(f"{path} cannot be sent to the place"):
            self._need_folder()
            target = self.at(path)
            self.fs.makedirs(posixpath.dirname(target), exist_ok=True)
            kept = self._send(local, target, digest, moved)
        if self.size(path) != local.stat().st_size:
            raise FarmBusy(f"{path} did not arrive complete", self.farm, "run the command again")
        return kept

    def _send(self, local: Path, target: str, digest: str, moved: Moved) -> int:
        draft = f"{target}.{digest[:12]}.part"
        at = self._continues(local, draft)
        if at:
            moved(at)
        with open_input(local) as source, self.fs.open(draft, "ab" if at else "wb", block_size=CHUNK) as out:
            source.seek(at)
            self._write_ahead(out)
            while chunk := source.read(self.step):
                out.write(chunk)
                self._moved(len(chunk), moved)
        self._rename(draft, target)
        return 0

    def _continues(self, local: Path, draft: str) -> int:
        """Return the bytes of a draft that are there and match at their end; 0 to start again."""
        try:
            size = int(self.fs.info(draft)["size"])
        except FileNotFoundError:
            return 0
        if not 0 < size <= local.stat().st_size:
            return 0
        begin = max(0, size - TAIL)
        there = self.fs.cat_file(draft, start=begin, end=size)
        with open_input(local) as source:
            source.seek(begin)
            return size if source.read(size - begin) == there else 0

    def _rename(self, draft: str, target: str) -> None:
        if self.fs.exists(target):
            self.fs.rm_file(target)
        self.fs.mv(draft, target)

    @property
    def _whole_objects(self) -> bool:
        """True where a file appears only when it is complete, so that no draft is needed."""
        return False

    def fetch(self, path: str, target: Path, offset: int, size: int, moved: Moved) -> None:
        """Append a file's bytes from `offset` on to a local file, at most up to `size`."""
        with (
            self._told(f"{path} cannot be fetched from the place"),
            self._opened(path) as source,
            target.open("ab" if offset else "wb") as out,
        ):
            self._append(source, out, offset, size, moved)

    def _append(self, source: Any, out: BinaryIO, offset: int, size: int, moved: Moved) -> None:
        source.seek(offset)
        self._read_ahead(source, size)
        left = size - offset
        while left > 0 and (chunk := source.read(min(self.step, left))):
            out.write(chunk)
            self._moved(len(chunk), moved)
            left -= len(chunk)

    def _moved(self, count: int, moved: Moved) -> None:
        if self.watch is not None:
            self.watch.moved()
        moved(count)

    def _write_ahead(self, stream: Any) -> None:
        """Let an open file take more before it has acknowledged what came before, where the protocol can do that."""

    def _read_ahead(self, stream: Any, size: int) -> None:
        """Ask for an open file's bytes, from where it stands up to `size`, before they are read."""

    def _opened(self, path: str) -> Any:
        return self.fs.open(self.at(path), "rb", block_size=CHUNK)

    def close(self) -> None:
        """Close the connection, where there is one."""

    @contextmanager
    def _told(self, what: str) -> Iterator[None]:
        """Turn what a library raises into one error in plain words."""
        try:
            with waiting(self.watch):
                yield
        except (FarmError, FarmBusy):
            raise
        except FileNotFoundError as error:
            raise FarmError(f"{what} (it is not there)", self.url, "correct the url on the card") from error
        except PermissionError as error:
            remedy = "ask whose place it is for the right to write there"
            raise FarmError(f"{what} (permission denied)", self.url, remedy) from error
        except (TimeoutError, ConnectionError, socket.gaierror, EOFError) as error:
            raise FarmBusy(f"{what} ({_said(error)})", self.url, "run the command again") from error
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                remedy = "make room there, then run the command again: it goes on where it was"
                raise FarmError(f"{what} (it is full)", self.url, remedy) from error
            if error.errno == errno.EROFS:
                raise FarmError(f"{what} (it is read-only)", self.url, "name a place that can be written") from error
            raise FarmError(f"{what} ({os_reason(error)})", self.url) from error


def _said(error: BaseException) -> str:
    return " ".join(str(error).split())[:160] or type(error).__name__


def _found(path: str, one: dict[str, Any]) -> Found:
    return Found(path, int(one.get("size") or 0), _changed(one), str(one.get("ETag") or "").strip('"'))


def _changed(one: dict[str, Any]) -> float | None:
    found: Any = one.get("mtime", one.get("LastModified"))
    if hasattr(found, "timestamp"):
        return float(found.timestamp())
    return float(found) if isinstance(found, int | float) else None


class Folder(Place):
    """A folder that this machine sees."""

    def find(self, path: str) -> list[Found]:
        """See Place.find. A link counts as what it leads to."""
        return [one for one in super().find(path) if Path(self.at(posixpath.join(path, one.path))).is_file()]

    def _opened(self, path: str) -> Any:
        return open_input(Path(self.at(path)))

    def _read(self, path: str) -> bytes:
        return read_input(Path(self.at(path)))

    def _send(self, local: Path, target: str, digest: str, moved: Moved) -> int:
        kept = super()._send(local, target, digest, moved)
        if hash_file(Path(target)) != digest:
            self.fs.rm_file(target)
            raise FarmBusy("what arrived is not what was sent", target, "run the command again")
        return kept


def open_place(card: FarmCard, token: Token) -> Place:
    """Open the place at a card's address. Raises FarmError where it cannot be reached, or does not let us in."""
    parts = urlsplit(card.url)
    match parts.scheme.lower():
        case "file":
            from fsspec.implementations.local import LocalFileSystem

            return Folder(LocalFileSystem(auto_mkdir=False), _local(parts.path), card.name, card.url)
        case "sftp":
            from tidy_crate.core.farm.links.drop.sftp import open_sftp

            return open_sftp(card, token)
        case "s3":
            try:
                from tidy_crate.core.farm.links.drop.s3 import open_s3
            except ModuleNotFoundError as error:
                what = f"what reaches S3 is not installed ({error.name})"
                raise FarmError(what, card.url, "install it: pip install s3fs") from error
            return open_s3(card, token)
    raise FarmError("this is no place for files", card.url, "write file:///..., sftp://... or s3://...")


def _local(path: str) -> str:
    from urllib.request import url2pathname

    return url2pathname(path)
