"""Archives that a farm delivers in place of single frames: unpacked here, and only what was expected in them."""

from __future__ import annotations

import shutil
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

import zstandard

from tidy_crate.core.crate.archive import BoundedHeader
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.links.drop.place import Found, Place
from tidy_crate.core.files import CHUNK, open_input

ENDINGS = (".zip", ".tar", ".tar.gz", ".tgz", ".tar.zst")
# between the name of an archive and that of a file in it
MARK = "!/"
MOST_MEMBERS = 1_000_000
# what libraries raise over an archive that is none, or is cut short
_BROKEN = (zipfile.BadZipFile, tarfile.TarError, zstandard.ZstdError, zlib.error, EOFError, ValueError)


def is_bundle(path: str) -> bool:
    """Return whether a file is an archive by its name."""
    return path.lower().endswith(ENDINGS)


class Bundles:
    """Archives at a place, each fetched and unpacked once.

    most: the bytes that an expected file in one may have; 0 for a file that is not expected.
    """

    def __init__(self, most: Callable[[str], int]) -> None:
        self._most = most
        self._folder: Path | None = None
        self._files: dict[str, Path] = {}
        self._known: dict[tuple[str, int, float | None], tuple[Found, ...]] = {}
        self.broken: dict[str, str] = {}
        """By archive, why it cannot be opened; it may still be on its way."""

    def close(self) -> None:
        """Remove what was unpacked."""
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)

    def members(self, place: Place, path: str, found: Found) -> tuple[Found, ...]:
        """Return the expected files in an archive, as if they were at the place themselves. path: at the place."""
        key = (found.path, found.bytes, found.changed)
        if key not in self._known:
            self.broken.pop(found.path, None)
            self._known[key] = ()
            try:
                self._known[key] = tuple(self._unpacked(place, path, found))
            except _BROKEN as error:
                self.broken[found.path] = f"it cannot be opened ({' '.join(str(error).split())[:100]})"
        return self._known[key]

    def fetch(self, key: str, target: Path, offset: int, size: int) -> int:
        """Append a file of an archive, from `offset` on, to a local file. Return the bytes. Raises FarmError."""
        source = self._files.get(key)
        if source is None:
            raise FarmError("the archive of this frame is gone from the place", key, "run the command again")
        with open_input(source) as stream, target.open("ab" if offset else "wb") as out:
            stream.seek(offset)
            data = stream.read(max(0, size - offset))
            out.write(data)
            return len(data)

    def _unpacked(self, place: Place, path: str, found: Found) -> Iterator[Found]:
        folder = self._room(found.bytes)
        local = folder / f"archive{len(self._known)}"
        place.fetch(path, local, 0, found.bytes, lambda _: None)
        seen: set[str] = set()
        try:
            for name, size, stream in _members(local, found.path):
                most = self._most(name)
                if not most or size <= 0:
                    continue
                if size > most:
                    raise ValueError(f"{name[:80]} has {size:,} bytes, more than a picture of its size takes")
                if name in seen:
                    raise ValueError(f"{name[:80]} is in it more than once")
                seen.add(name)
                # a name of our own: what the archive calls it is never a path here
                target = self._room(size) / f"file{len(self._files)}"
                with target.open("wb") as out:
                    left = size
                    while left > 0 and (chunk := stream.read(min(CHUNK, left))):
                        out.write(chunk)
                        left -= len(chunk)
                if left or stream.read(1):
                    raise ValueError(f"{name[:80]} is not as long as it says")
                key = f"{found.path}{MARK}{name}"
                self._files[key] = target
                yield Found(key, size, found.changed)
        finally:
            local.unlink(missing_ok=True)

    def _room(self, size: int) -> Path:
        if self._folder is None:
            self._folder = Path(tempfile.mkdtemp(prefix="tidy-crate-archive-"))
        if shutil.disk_usage(self._folder).free < size + CHUNK:
            raise FarmError("there is no room here to unpack an archive", self._folder, "make room, then run it again")
        return self._folder


@contextmanager
def _tar(path: Path, name: str) -> Iterator[tarfile.TarFile]:
    if not name.lower().endswith(".zst"):
        with open_input(path) as raw, tarfile.open(fileobj=raw, mode="r:*", tarinfo=BoundedHeader) as archive:
            yield archive
        return
    with (
        open_input(path) as raw,
        zstandard.ZstdDecompressor().stream_reader(raw) as stream,
        tarfile.open(fileobj=stream, mode="r|", tarinfo=BoundedHeader) as archive,
    ):
        yield archive


def _members(path: Path, name: str) -> Iterator[tuple[str, int, IO[bytes]]]:
    """Yield name, size and contents of every plain file; links, devices and what is encrypted are left out."""
    if name.lower().endswith(".zip"):
        with zipfile.ZipFile(path) as archive:
            for info in archive.infolist()[:MOST_MEMBERS]:
                plain = info.compress_type in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
                if plain and not info.flag_bits & 0x41 and not info.is_dir():
                    with archive.open(info) as stream:
                        yield info.filename, info.file_size, stream
        return
    with _tar(path, name) as archive:
        for member in archive:
            data = archive.extractfile(member) if member.isreg() else None
            if data is not None:
                yield member.name, member.size, data
