"""A disk on which names that differ in case only are one name, as on many systems: a folder shown by FUSE.

python tests/folded_disk.py FOLDER MOUNT_POINT
"""

# it speaks in texts, as FUSE does

from __future__ import annotations

import errno
import os
import sys
from typing import Any

from fuse import FUSE, FuseOSError, Operations

STAT = ("st_atime", "st_ctime", "st_gid", "st_mode", "st_mtime", "st_nlink", "st_size", "st_uid")
SPACE = (
    "f_bavail",
    "f_bfree",
    "f_blocks",
    "f_bsize",
    "f_favail",
    "f_ffree",
    "f_files",
    "f_flag",
    "f_frsize",
    "f_namemax",
)


class Folded(Operations):  # type: ignore[misc]
    """Passes everything on to a folder, with each name as the disk has it."""

    def __init__(self, root: str) -> None:
        self.root = root

    def real(self, path: str) -> str:
        """Return the path on the disk below: of each name the one that is there in any case."""
        found = self.root
        for part in filter(None, path.split("/")):
            exact = os.path.join(found, part)
            if not os.path.lexists(exact) and os.path.isdir(found):
                names = os.listdir(found)
                exact = os.path.join(found, next((one for one in names if one.casefold() == part.casefold()), part))
            found = exact
        return found

    def getattr(self, path: str, fh: Any = None) -> dict[str, Any]:
        try:
            found = os.lstat(self.real(path))
        except OSError as error:
            raise FuseOSError(error.errno) from error
        return {name: getattr(found, name) for name in STAT}

    def readdir(self, path: str, fh: Any) -> list[str]:
        return [".", "..", *os.listdir(self.real(path))]

    def access(self, path: str, mode: int) -> None:
        if not os.access(self.real(path), mode):
            raise FuseOSError(errno.EACCES)

    def rename(self, old: str, new: str) -> None:
        source, target = self.real(old), self.real(new)
        if source.casefold() == target.casefold():
            # the same name in another case: that case is kept
            target = os.path.join(os.path.dirname(target), os.path.basename(new))
        os.rename(source, target)

    def statfs(self, path: str) -> dict[str, Any]:
        found = os.statvfs(self.real(path))
        return {name: getattr(found, name) for name in SPACE}

    def readlink(self, path: str) -> str:
        return os.readlink(self.real(path))

    def mkdir(self, path: str, mode: int) -> None:
        os.mkdir(self.real(path), mode)

    def rmdir(self, path: str) -> None:
        os.rmdir(self.real(path))

    def unlink(self, path: str) -> None:
        os.unlink(self.real(path))

    def symlink(self, target: str, source: str) -> None:
        os.symlink(source, self.real(target))

    def link(self, target: str, source: str) -> None:
        os.link(self.real(source), self.real(target))

    def chmod(self, path: str, mode: int) -> None:
        os.chmod(self.real(path), mode)

    def utimens(self, path: str, times: Any = None) -> None:
        os.utime(self.real(path), times)

    def open(self, path: str, flags: int) -> int:
        return os.open(self.real(path), flags)

    def create(self, path: str, mode: int, fi: Any = None) -> int:
        return os.open(self.real(path), os.O_RDWR | os.O_CREAT, mode)

    def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
        return os.pread(fh, size, offset)

    def write(self, path: str, data: bytes, offset: int, fh: int) -> int:
        return os.pwrite(fh, data, offset)

    def truncate(self, path: str, length: int, fh: Any = None) -> None:
        os.truncate(self.real(path), length)

    def fsync(self, path: str, datasync: int, fh: int) -> None:
        os.fsync(fh)

    def release(self, path: str, fh: int) -> None:
        os.close(fh)


if __name__ == "__main__":
    FUSE(Folded(sys.argv[1]), sys.argv[2], foreground=True, nothreads=True, nonempty=True)
