"""One file instead of a folder: a crate as zip, or as tar with zstd, as a stream and the same bytes each time."""

from __future__ import annotations

import stat
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import IO, BinaryIO

import zstandard

from tidy_crate.core.crate.packing import FILE_NAME, PackingList, read_packing_list
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.files import CHUNK, inside, open_input, os_reason, write_whole
from tidy_crate.core.outputs import MARK, mark_file, refuse_foreign
from tidy_crate.core.progress import Progress, Step, silent

ENDINGS = (".zip", ".tar.zst")
# the earliest time a zip can state: an archive knows no clock
_EPOCH = (1980, 1, 1, 0, 0, 0)
_ZSTD_LEVEL = 6
# no packing list is larger, and nothing may be unpacked before it is read
MOST_LIST_BYTES = 1 << 30


def write_archive(crate: Path, target: Path, progress: Progress = silent) -> int:
    """Write a finished crate as one file, the packing list first. Returns its size in bytes.

    In a tar a content that occurs twice is stored once; a zip has no way to say that.
    Raises WrongUsage on an ending that is not known.
    """
    content = read_packing_list(crate)
    kind = _kind(target)
    total = content.bytes
    done = 0
    with write_whole(target) as stream, _writer(kind, stream) as add:
        add(FILE_NAME, crate / FILE_NAME, None)
        first: dict[str, str] = {}
        for file in content.files:
            same = first.setdefault(file.blake3, file.path)
            add(file.path, inside(crate, file.path), same if same != file.path else None)
            done += file.bytes
            progress(Step("archive", done, total, "bytes", file.path))
    return target.stat().st_size


def write_files(target: Path, files: Iterable[tuple[str, Path]]) -> int:
    """Write files as one archive, each under a name with forward slashes. Returns its size in bytes.

    Raises WrongUsage on an ending that is not known.
    """
    kind = _kind(target)
    refuse_foreign(target)
    with write_whole(target) as stream, _writer(kind, stream) as add:
        for name, path in files:
            add(name, path, None)
    mark_file(target)
    return target.stat().st_size


def unpack_archive(archive: Path, folder: Path) -> PackingList:
    """Unpack a crate into an empty or new folder, and only what its packing list names, to the byte it names.

    Raises UnreadableInput on anything else: other files, links, sizes that do not agree, a file that is no archive.
    """
    kind = _kind(archive)
    if folder.exists() and any(folder.iterdir()):
        raise WrongUsage("the folder to unpack into is not empty", folder, "name a new one")
    with _opened(archive) as stream:
        return _unpack(kind, stream, folder)


@contextmanager
def _opened(archive: Path) -> Iterator[BinaryIO]:
    """Open an archive. What goes wrong with it while the block runs is an UnreadableInput that names it."""
    try:
        with open_input(archive) as stream:
            yield stream
    except OSError as error:
        raise UnreadableInput(f"cannot read the archive ({os_reason(error)})", archive) from error
    except (zipfile.BadZipFile, tarfile.TarError, zlib.error, zstandard.ZstdError, EOFError, ValueError) as error:
        raise UnreadableInput(f"the archive is broken ({error})", archive) from error


@contextmanager
def unpacked(crate: Path) -> Iterator[Path]:
    """A crate as a folder, while the block runs: itself, or what its archive holds, in a temporary place.

    Raises UnreadableInput when it is neither.
    """
    if not crate.is_file():
        read_packing_list(crate)
        yield crate
        return
    with tempfile.TemporaryDirectory(prefix="tidy-crate-") as scratch:
        unpack_archive(crate, Path(scratch, "crate"))
        yield Path(scratch, "crate")


def is_archive(path: Path) -> bool:
    """Return whether a file is an archive of a crate by its name."""
    return path.name.lower().endswith(ENDINGS) and path.is_file()


def packing_list_in(crate: Path) -> PackingList:
    """Return the packing list of a crate, or of an archive of one, which begins with it. Raises UnreadableInput."""
    if not is_archive(crate):
        return read_packing_list(crate)
    with tempfile.TemporaryDirectory(prefix="tidy-crate-list-") as scratch, _opened(crate) as stream:
        for name, size, data, _ in _entries(_kind(crate), stream):
            if name != FILE_NAME or data is None:
                break
            _write(Path(scratch, FILE_NAME), data, size)
            return read_packing_list(Path(scratch))
    raise UnreadableInput("the archive does not begin with a packing list", crate)


def _unpack(kind: str, stream: BinaryIO, folder: Path) -> PackingList:
    content: PackingList | None = None
    sizes: dict[str, int] = {}
    seen: set[str] = set()
    for name, size, data, same in _entries(kind, stream):
        if content is None:
            if name != FILE_NAME or size > MOST_LIST_BYTES or data is None:
                raise ValueError("it does not begin with a packing list")
            _write(folder / FILE_NAME, data, size)
            content = read_packing_list(folder)
            sizes = {file.path: file.bytes for file in content.files}
            continue
        if name not in sizes or name in seen:
            raise ValueError(f"it holds an unexpected file: {name[:80]!r}")
        seen.add(name)
        if data is not None:
            if size != sizes[name]:
                raise ValueError(f"{name[:80]!r} is {size} bytes long, not {sizes[name]}")
            _write(inside(folder, name), data, size)
        elif same in seen and same is not None:
            with open_input(inside(folder, same)) as earlier:
                _write(inside(folder, name), earlier, sizes[name])
        else:
            raise ValueError(f"{name[:80]!r} is not a plain file")
    if content is None or seen != set(sizes):
        raise ValueError("it ends before everything is there")
    return content


def _write(path: Path, data: IO[bytes], size: int) -> None:
    """Write exactly `size` bytes: what claims to be small may unfold without end."""
    left = size
    with write_whole(path) as out:
        while left and (chunk := data.read(min(CHUNK, left))):
            out.write(chunk)
            left -= len(chunk)
    if left or data.read(1):
        raise ValueError(f"{path.name} is not as long as it says")


class BoundedHeader(tarfile.TarInfo):
    """A header of a tar archive. Long names and the like are read into memory at once, so they have a limit."""

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> BoundedHeader:
        """See tarfile.TarInfo.frombuf. Raises HeaderError where a name or a note is larger than 1 MiB."""
        found = super().frombuf(buf, encoding, errors)
        if found.type in _NOTES and found.size > MOST_NOTE_BYTES:
            raise tarfile.HeaderError("a name in it has no end")
        return found


_NOTES = (
    tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK, tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE,
    tarfile.GNUTYPE_SPARSE,
)  # fmt: skip
MOST_NOTE_BYTES = 1 << 20


def _entries(kind: str, stream: BinaryIO) -> Iterator[tuple[str, int, IO[bytes] | None, str | None]]:
    """Name, size, content (None for anything but a plain file) and what it is the same as."""
    if kind == ".zip":
        with zipfile.ZipFile(stream) as archive:
            for info in archive.infolist():
                if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) or info.flag_bits & 0x41:
                    raise ValueError(
                        f"{info.filename[:80]!r} is encrypted, or compressed in a way that is not read here"
                    )
                plain = not info.is_dir() and not stat.S_ISLNK(info.external_attr >> 16)
                with archive.open(info) as data:
                    yield info.filename, info.file_size, data if plain else None, None
        return
    with (
        zstandard.ZstdDecompressor().stream_reader(stream) as reader,
        tarfile.open(fileobj=reader, mode="r|", tarinfo=BoundedHeader) as archive,
    ):
        for member in archive:
            content = archive.extractfile(member) if member.isreg() else None
            yield member.name, member.size, content, member.linkname if member.islnk() else None


@contextmanager
def _writer(kind: str, stream: BinaryIO) -> Iterator[Callable[[str, Path, str | None], None]]:
    if kind == ".zip":
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
            archive.comment = MARK
            yield partial(_add_to_zip, archive)
        return
    # one thread: how the work is shared out must not show in the bytes
    compressor = zstandard.ZstdCompressor(level=_ZSTD_LEVEL)
    with (
        compressor.stream_writer(stream, closefd=False) as out,
        tarfile.open(fileobj=out, mode="w|", format=tarfile.PAX_FORMAT) as tar,
    ):
        yield partial(_add_to_tar, tar)


def _add_to_zip(archive: zipfile.ZipFile, name: str, path: Path, same: str | None) -> None:
    del same  # a zip cannot say that two files are one
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = zipfile.ZIP_DEFLATED
    # the same on every system, where the library would note its own
    info.create_system, info.external_attr = 3, (stat.S_IFREG | 0o644) << 16
    info.file_size = path.stat().st_size
    with open_input(path) as source, archive.open(info, "w") as out:
        while chunk := source.read(CHUNK):
            out.write(chunk)


def _add_to_tar(archive: tarfile.TarFile, name: str, path: Path, same: str | None) -> None:
    info = tarfile.TarInfo(name)
    info.mode = 0o644
    if same is not None:
        info.type, info.linkname = tarfile.LNKTYPE, same
        archive.addfile(info)
        return
    info.size = path.stat().st_size
    with open_input(path) as source:
        archive.addfile(info, source)


def _kind(path: Path) -> str:
    found = next((ending for ending in ENDINGS if path.name.lower().endswith(ending)), None)
    if found is None:
        raise WrongUsage("not an archive that can be written or read", path, f"end its name in {' or '.join(ENDINGS)}")
    return found
