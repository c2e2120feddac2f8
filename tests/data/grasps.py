"""A render command that reaches for what it must not have, says what it got, and leaves a process behind."""

# ruff: noqa: PTH116, PTH118, PTH123

from __future__ import annotations

import contextlib
import ctypes
import os
import stat
import sys
from collections.abc import Callable

KNOWN = {"null", "zero", "full", "random", "urandom", "shm", "fd", "stdin", "stdout", "stderr"}
# reading the files of other users: the superuser keeps that
READ_ANYTHING = 1 << 2
found: list[str] = []


def tries(name: str, work: Callable[[], object]) -> None:
    with contextlib.suppress(OSError):
        work()
        found.append(name)


def make(folder: str, kind: int) -> None:
    path = os.path.join(folder, "made")
    os.mknod(path, kind | 0o600, os.makedev(1, 3))


def read(path: str) -> None:
    os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK))


tries("the terminal", lambda: os.open("/dev/tty", os.O_RDWR))
for folder in (".", "/dev", "/dev/shm", "/tmp"):
    tries(f"a device in {folder}", lambda folder=folder: make(folder, stat.S_IFCHR))
    tries(f"a disk in {folder}", lambda folder=folder: make(folder, stat.S_IFBLK))
for path, _, names in os.walk("/dev"):
    for name in names:
        one = os.path.join(path, name)
        if name not in KNOWN and stat.S_IFMT(os.stat(one, follow_symlinks=False).st_mode) in (
            stat.S_IFCHR,
            stat.S_IFBLK,
        ):
            tries(one, lambda one=one: read(one))
with open("/proc/self/status") as status:
    for line in status:
        if line.startswith(("CapEff", "CapBnd", "CapPrm")) and int(line.split()[1], 16) & ~READ_ANYTHING:
            found.append(" ".join(line.split()))
libc = ctypes.CDLL(None)
if libc.unshare(0x20000) == 0:
    found.append("mounts of its own")
if libc.mount(b"none", b"/dev", b"tmpfs", 0, None) == 0:
    found.append("a mount")
# the harmless neighbours still work
for path in ("/dev/null", "/dev/zero", "/dev/urandom"):
    with open(path, "rb") as stream:
        stream.read(1)
with open("/dev/null", "wb") as stream:
    stream.write(b"x")
with open("/dev/shm/own", "w") as own:
    own.write("x")
if os.fork() == 0:
    os.setsid()
    if os.fork() == 0:
        os.closerange(0, 3)
        os.execve(sys.executable, [sys.executable, "-c", "import time; time.sleep(99.75)"], {})
    os._exit(0)
sys.exit("grasped: " + ", ".join(found) if found else "grasped nothing")
