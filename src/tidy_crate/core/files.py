"""Reading, hashing and writing files so that a crash leaves either the old file or the new one."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import re
import secrets
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO
from urllib.parse import quote_from_bytes, unquote_to_bytes

from tidy_crate.core.errors import Blocked, TidyCrateError, UnreadableInput

CHUNK = 1 << 20
# bytes of a file that is read in one piece
SMALL = 256 << 10
NO_FILE = "it is a device or a pipe, not a file"


def os_reason(error: OSError) -> str:
    """The operating system's reason in lower case, without its number."""
    return (error.strerror or str(error)).lower()


@contextlib.contextmanager
def write_whole(path: Path, *, sync: bool = False) -> Iterator[BinaryIO]:
    """Open a file beside `path` for writing and rename it into place when the block ends well."""
    # by text: files are written by the hundred thousand, and Path objects take longer than the system's calls
    folder, name = os.path.split(str(path))
    draft = os.path.join(folder, f".{name[:100]}.{secrets.token_hex(4)}.part")  # noqa: PTH118
    try:
        try:
            stream = open(draft, "wb")  # noqa: PTH123, SIM115
        except FileNotFoundError:
            path.parent.mkdir(parents=True, exist_ok=True)
            stream = open(draft, "wb")  # noqa: PTH123, SIM115
        with stream:
            yield stream
            if sync:
                stream.flush()
                os.fsync(stream.fileno())
        os.replace(draft, path)  # noqa: PTH105
    except BaseException as error:
        with contextlib.suppress(OSError):
            os.unlink(draft)  # noqa: PTH108
        if isinstance(error, OSError):
            what = f"cannot write the file ({os_reason(error)})"
            raise TidyCrateError(what, path, "check free space and permissions") from error
        raise


@contextlib.contextmanager
def only_one(lock: Path, busy: str, subject: object, wait: float = 0.0) -> Iterator[None]:
    """Let one process at a time run the block. The lock ends with the process that holds it, however that ends.

    lock: a file of its own, which stays. busy: what another process is doing, for the message. wait: seconds.
    Raises Blocked when another process is still at it.
    """
    from filelock import FileLock, Timeout

    try:
        lock.parent.mkdir(parents=True, exist_ok=True)
        held = FileLock(lock, timeout=wait)
        held.acquire()
    except Timeout:
        raise Blocked(f"another command {busy}", subject, "wait until it has ended, and run this one again") from None
    except (OSError, NotImplementedError):
        # where no lock can be made nothing can be written either, and that has its own message
        yield
        return
    try:
        yield
    finally:
        held.release()


_DRAFT = re.compile(r"\..*\.[0-9a-f]{8}\.part|\..*\.part\.[A-Za-z0-9]+")


def remove_drafts(folder: Path) -> None:
    """Remove what a process that was killed left half-written below a folder. Call it under the folder's lock."""
    for where, _, names in os.walk(folder):
        for name in names:
            if _DRAFT.fullmatch(name):
                with contextlib.suppress(OSError):
                    Path(where, name).unlink()


def write_bytes(path: Path, data: bytes) -> None:
    """Replace the file at `path` by `data` in one step."""
    with write_whole(path) as stream:
        stream.write(data)


def write_json(path: Path, document: Any) -> None:
    """Write a JSON document that is the same bytes for the same content on every system."""
    from pydantic_core import to_json

    write_bytes(path, to_json(document, indent=1, inf_nan_mode="constants") + b"\n")


# bytes of a file that people or this tool write: settings, decisions, records
MOST_INPUT = 64 << 20
# bytes of a list of files, which grows with the scene
MOST_LIST = 1 << 30


def open_input(path: Path) -> BinaryIO:
    """Open a file that others may have put there, to read its bytes.

    Opening a pipe would wait for whoever writes into it, and a device can be read for ever. Raises OSError, also for
    what is no regular file.
    """
    return io.BufferedReader(open_unbuffered(path))


def open_unbuffered(path: Path | str) -> io.FileIO:
    """Open a file as `open_input` does, without a buffer: for reading large pieces into memory at hand."""
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    try:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            # a folder is told as every other way of opening it tells it
            folder = stat.S_ISDIR(os.fstat(handle).st_mode)
            number, what = (errno.EISDIR, os.strerror(errno.EISDIR)) if folder else (errno.EINVAL, NO_FILE)
            raise OSError(number, what, str(path))
        return io.FileIO(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


def read_input(path: Path, most: int = MOST_INPUT) -> bytes:
    """Read a whole file that others may have put there: a regular file of at most `most` bytes.

    Raises OSError, also for what is no regular file or is too large.
    """
    with open_input(path) as stream:
        found = os.fstat(stream.fileno())
        if found.st_size > most:
            raise OSError(errno.EFBIG, f"it is larger than {most >> 20} MiB")
        # what grows while it is read is cut, and found to be broken
        return stream.read(most)


def read_json(path: Path, what: str, most: int = MOST_INPUT) -> Any:
    """Read a JSON file; `what` names it in the error ("packing list"). most: bytes at most."""
    from pydantic_core import from_json

    try:
        # unlike the standard library's reader it takes no half of a character, which nothing could write again
        return from_json(read_input(path, most))
    except OSError as error:
        raise UnreadableInput(f"cannot read the {what} ({os_reason(error)})", path) from error
    except ValueError as error:
        raise UnreadableInput(f"the {what} is not valid JSON ({error})", path) from error


def file_mark(path: Path) -> str:
    """Size, time of change and inode: what stays the same as long as a file is not touched. Raises OSError."""
    found = os.stat(path)  # noqa: PTH116 - one call for three values, and asked of very many files
    return f"{found.st_size}:{found.st_mtime_ns}:{found.st_ino}"


def hash_file(path: Path) -> str:
    """BLAKE3 of a file's content, as 64 hexadecimal digits."""
    from blake3 import blake3

    digest = blake3()
    with open_unbuffered(path) as stream:
        piece = _piece(stream.fileno())
        while count := stream.readinto(piece):
            digest.update(piece[:count])
    return digest.hexdigest()


def hash_both(path: Path) -> tuple[str, str]:
    """BLAKE3 and SHA-256 of a file's content, as hexadecimal digits, in one pass."""
    import hashlib

    from blake3 import blake3

    digest, other = blake3(), hashlib.sha256()
    with open_unbuffered(path) as stream:
        piece = _piece(stream.fileno())
        while count := stream.readinto(piece):
            digest.update(piece[:count])
            other.update(piece[:count])
    return digest.hexdigest(), other.hexdigest()


def _piece(handle: int) -> memoryview:
    """Memory for all that is read of a file, piece by piece: a new one each time takes longer than the hashing."""
    return memoryview(bytearray(min(CHUNK, os.fstat(handle).st_size + 1)))


def copy_and_hash(source: Path, target: Path) -> tuple[str, int]:
    """Copy a file and hash it in the same pass. Returns (BLAKE3, bytes)."""
    from blake3 import blake3

    digest, size = blake3(), 0
    with open_unbuffered(source) as stream:
        if os.fstat(stream.fileno()).st_size < SMALL:
            # in one read: of small files there are very many
            data = stream.read()
            with write_whole(target) as out:
                out.write(data)
            return blake3(data).hexdigest(), len(data)
        with write_whole(target) as out:
            piece = _piece(stream.fileno())
            while count := stream.readinto(piece):
                digest.update(piece[:count])
                out.write(piece[:count])
                size += count
    return digest.hexdigest(), size


def refuse_links(root: Path, folders: Iterable[PurePosixPath]) -> None:
    """Make sure that no folder below `root` that is written to is a link, which would lead the writing elsewhere.

    root itself may be one, since the user named it. Raises Blocked that names the first link.
    """
    seen: set[PurePosixPath] = set()
    real = Path(os.path.realpath(root))
    for folder in folders:
        for one in (*reversed(folder.parents), folder):
            if one in seen or not one.parts:
                continue
            seen.add(one)
            path = root / one
            if path.is_symlink() or (path.exists() and Path(os.path.realpath(path)) != real / one):
                what = "a link stands where files would be written, and they would land where it leads"
                raise Blocked(what, path, "look at it, remove it, and run this again")


# what some system reads as a separator, or takes for the end of a name
_NOT_IN_NAMES = "\\:\0"


def is_plain(text: str) -> bool:
    """Return whether a name, or a path with slashes, needs no change to be one in a crate."""
    return text.isascii() and not any(mark in text for mark in _NOT_IN_NAMES)


def plain_name(name: str) -> str:
    """Return a file's name with `_` for what no name in a crate has: `\\`, `:`, zero, and bytes that are not UTF-8."""
    if is_plain(name):
        return name
    return "".join("_" if c in _NOT_IN_NAMES or "\ud800" <= c <= "\udfff" else c for c in name)


def quoted(path: Path | str) -> str:
    """Return a path as it is typed in a command line."""
    import shlex

    text = legible(str(path))
    return shlex.quote(text) if os.name != "nt" else f'"{text}"' if " " in text else text


def legible(text: str) -> str:
    """Return a text that every file and every program can hold: bytes that are not UTF-8 are written out."""
    return text if text.isascii() else text.encode("utf-8", "backslashreplace").decode()


_BYTES = "bytes:"


def text_of(path: Path | str) -> str:
    """Return a path as a text that every file and database can hold, and that `path_of` makes the path of again.

    A path is bytes on Linux: one that is not UTF-8, or begins like it, is written with percent signs after `bytes:`.
    """
    text = os.fspath(path)
    if not text.startswith(_BYTES) and (text.isascii() or legible(text) == text):
        return text
    return _BYTES + quote_from_bytes(os.fsencode(text), safe="/")


def path_of(text: str) -> str:
    """Return the path that `text_of` wrote down, as text that the system's own calls take."""
    return os.fsdecode(unquote_to_bytes(text[len(_BYTES) :])) if text.startswith(_BYTES) else text


def inside(folder: Path, relative: str) -> Path:
    """`folder / relative`, for a relative path that came from outside and may be hostile.

    Raises UnreadableInput when it is absolute, climbs out, or holds what some system reads as a separator.
    """
    parts = relative.split("/")
    if any(part in ("", "..", ".") for part in parts) or any(mark in relative for mark in _NOT_IN_NAMES):
        raise UnreadableInput("a path that does not stay inside its folder", repr(relative))
    return folder / relative
