"""Taking a process out of sight of the others: no network, memory and devices of its own. Linux only.

Source: the manual pages namespaces(7), user_namespaces(7), pid_namespaces(7), unshare(2), capabilities(7).
"""

from __future__ import annotations

import ctypes
import os
import sys
from collections.abc import Callable, Iterable
from pathlib import Path

from tidy_crate.core.supervise import end_with_parent

_NEW_MOUNTS, _NEW_IPC, _NEW_USER, _NEW_PIDS, _NEW_NETWORK = 0x20000, 0x08000000, 0x10000000, 0x20000000, 0x40000000
_NO_SUID, _NO_DEVICES, _NO_EXEC, _BIND, _RECURSIVE, _PRIVATE = 2, 4, 8, 0x1000, 0x4000, 1 << 18
SHARED_MEMORY = Path("/dev/shm")
# devices that give nothing away and keep nothing
HARMLESS = tuple(Path("/dev", name) for name in ("null", "zero", "full", "random", "urandom"))
# as every system has them: programs open them by these names
_LINKS = {"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"}

_READ_ANYTHING, _LAST_CAPABILITY = 2, 63
_DROP_BOUNDING, _AMBIENT, _CLEAR_ALL = 24, 47, 4
_CAPABILITIES_VERSION = 0x20080522

NETWORK, PROCESSES, MEMORY, SIGNALS, FILES = "network", "other processes", "shared memory", "signals", "other files"
DEVICES, TERMINAL, RIGHTS = "other devices", "the terminal", "special rights"


def isolate(platform: str = sys.platform, devices: Iterable[Path] = ()) -> frozenset[str]:
    """Go on in a process that has namespaces of its own, and return what it can no longer reach.

    devices: files and folders of /dev that it needs beside the harmless ones. The caller's process waits for that one
    and ends as it ends, and that one ends when the caller's does. Call it before any thread starts. Where the kernel
    does not allow it nothing happens, and nothing is returned.
    """
    if not platform.startswith("linux"):
        return frozenset()
    libc = ctypes.CDLL(None, use_errno=True)
    user, group = os.getuid(), os.getgid()
    # the superuser would lose the right to read other users' files in a user namespace, and needs none
    own_user = _NEW_USER if user else 0
    flags = own_user | _NEW_MOUNTS | _NEW_PIDS | _NEW_NETWORK | _NEW_IPC

    def leave() -> bool:
        if libc.unshare(flags):
            return False
        if own_user:
            Path("/proc/self/setgroups").write_text("deny")
            Path("/proc/self/uid_map").write_text(f"{user} {user} 1")
            Path("/proc/self/gid_map").write_text(f"{group} {group} 1")
        return True

    # half of it cannot be undone, so another process tries first
    if not _works(leave) or not leave():
        return frozenset()
    # the kernel forgets this wish when rights change, so it is said again by each process
    end_with_parent()
    child = os.fork()
    if child:
        _, status = os.waitpid(child, 0)
        os._exit(os.waitstatus_to_exitcode(status) & 0xFF)
    # the number of its parent is not to be seen from here; one that has ended shows as 0 too, and takes this along
    end_with_parent()
    found = {NETWORK}
    # what is mounted from here on is seen by this process and its children only
    if libc.mount(b"none", b"/", None, _RECURSIVE | _PRIVATE, None) == 0:
        plain = _NO_SUID | _NO_DEVICES | _NO_EXEC
        if libc.mount(b"proc", b"/proc", b"proc", plain, None) == 0:
            found |= {PROCESSES, SIGNALS}
        if _devices_of_its_own(libc, {*HARMLESS, *devices}):
            found |= {MEMORY, DEVICES}
        elif SHARED_MEMORY.is_dir() and _mounted_memory(libc):
            found.add(MEMORY)
    return frozenset(found)


def _mounted_memory(libc: ctypes.CDLL) -> bool:
    plain = _NO_SUID | _NO_DEVICES | _NO_EXEC
    return bool(libc.mount(b"tmpfs", os.fsencode(SHARED_MEMORY), b"tmpfs", plain, b"mode=1777") == 0)


def _devices_of_its_own(libc: ctypes.CDLL, wanted: set[Path]) -> bool:
    """Cover /dev with a folder that holds these devices only, and shared memory of its own."""
    # they are opened before they are covered, and mounted by their handles
    held = {}
    for path in sorted(wanted):
        # a name that leads out of /dev is no device
        if Path(os.path.realpath(path)).is_relative_to("/dev") and path.exists():
            held[path] = (os.open(path, os.O_PATH), path.is_dir())
    try:
        if libc.mount(b"tmpfs", b"/dev", b"tmpfs", _NO_SUID | _NO_EXEC, b"mode=755,size=1m"):
            return False
        for path, (handle, folder) in held.items():
            if folder:
                path.mkdir(parents=True, exist_ok=True)
            else:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.touch()
            if libc.mount(f"/proc/self/fd/{handle}".encode(), os.fsencode(path), None, _BIND | _RECURSIVE, None):
                # a device less: a renderer that needs it says so
                continue
        for name, target in _LINKS.items():
            Path("/dev", name).symlink_to(target)
        SHARED_MEMORY.mkdir()
        return _mounted_memory(libc)
    finally:
        for handle, _ in held.values():
            os.close(handle)


def has_terminal() -> bool:
    """Return whether this process reaches a terminal, by which it could type into the shell behind it."""
    try:
        os.close(os.open("/dev/tty", os.O_RDWR | os.O_NOCTTY))
    except OSError:
        return False
    return True


class _CapabilityHeader(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Capabilities(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


def drop_rights(platform: str = sys.platform) -> bool:
    """Give up all special rights of this process and of what it starts. Return whether it has none any more.

    The superuser keeps the right to read other users' files: the crate may be theirs.
    """
    if not platform.startswith("linux"):
        return False
    libc = ctypes.CDLL(None, use_errno=True)
    kept = 1 << _READ_ANYTHING if os.geteuid() == 0 else 0
    for right in range(_LAST_CAPABILITY + 1):
        if not kept >> right & 1:
            # refused for numbers that this kernel does not know, and for a process that has no rights at all
            libc.prctl(_DROP_BOUNDING, right, 0, 0, 0)
    libc.prctl(_AMBIENT, _CLEAR_ALL, 0, 0, 0)
    held = (_Capabilities * 2)(_Capabilities(kept, kept, 0), _Capabilities(0, 0, 0))
    return bool(libc.capset(ctypes.byref(_CapabilityHeader(_CAPABILITIES_VERSION, 0)), held) == 0)


def _works(attempt: Callable[[], bool]) -> bool:
    """Return whether something works, tried in a process that ends with it."""
    child = os.fork()
    if child == 0:
        code = 1
        try:
            code = 0 if attempt() else 1
        finally:
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
