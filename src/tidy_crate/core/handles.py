"""Writing below a folder by its handle: what is renamed or linked at that moment leads no writing elsewhere."""

from __future__ import annotations

import contextlib
import errno
import os
import sys
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from tidy_crate.core.errors import Blocked, TidyCrateError
from tidy_crate.core.files import os_reason

_FOLDER = getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_PATH", 0)
# where Linux shows a process's own handles as paths, which every library can open
_HANDLES = Path("/proc/self/fd")
_BY_HANDLE = sys.platform == "linux" and os.mkdir in os.supports_dir_fd and _HANDLES.is_dir()


@contextlib.contextmanager
def writable(root: Path, place: PurePosixPath) -> Iterator[Path]:
    """Give the path of a file below `root` for writing, with its folder made and held open.

    On Linux each folder below `root` is opened by its handle without following links, and the path leads through the
    handle; it is good only inside of the block. root itself may be a link, since the user named it. Elsewhere it is the
    plain path. Raises Blocked where a link stands in the place of a folder, TidyCrateError where none can be made.
    """
    with writable_folder(root, place.parent) as folder:
        yield folder / place.name


@contextlib.contextmanager
def writable_folder(root: Path, folder: PurePosixPath) -> Iterator[Path]:
    """As `writable`, for a whole folder below `root`."""
    plain = root / folder
    if not _BY_HANDLE:
        plain.mkdir(parents=True, exist_ok=True)
        yield plain
        return
    handle = _opened(root, folder)
    path = _HANDLES / str(handle)
    try:
        yield path
    except TidyCrateError as error:
        # what a person reads names the folder and no handle
        if error.where is not None and Path(error.where).is_relative_to(path):
            error.where = str(plain / Path(error.where).relative_to(path))
        raise
    finally:
        os.close(handle)


def _opened(root: Path, folder: PurePosixPath) -> int:
    """Open a folder below `root`, and make what is missing on the way. Return its handle."""
    try:
        root.mkdir(parents=True, exist_ok=True)
        handle = os.open(root, _FOLDER & ~os.O_NOFOLLOW)
    except OSError as error:
        raise _cannot(root, error) from error
    at = root
    for part in folder.parts:
        at /= part
        try:
            try:
                inner = os.open(part, _FOLDER, dir_fd=handle)
            except FileNotFoundError:
                with contextlib.suppress(FileExistsError):
                    os.mkdir(part, dir_fd=handle)
                inner = os.open(part, _FOLDER, dir_fd=handle)
        except OSError as error:
            raise _cannot(at, error) from error
        finally:
            os.close(handle)
        handle = inner
    return handle


def _cannot(folder: Path, error: OSError) -> TidyCrateError:
    if error.errno in (errno.ELOOP, errno.ENOTDIR):
        what = "a link or a file stands where a folder should be, and what is written would land elsewhere"
        return Blocked(what, folder, "look at it, remove it, and run this again")
    return TidyCrateError(f"cannot make the folder ({os_reason(error)})", folder, "check free space and permissions")
