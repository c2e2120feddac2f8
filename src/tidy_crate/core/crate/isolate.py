"""Taking a process out of sight of the others: no network, no other processes, shared memory of its own. Linux only.

Source: the manual pages namespaces(7), user_namespaces(7), pid_namespaces(7) and unshare(2).
"""

from __future__ import annotations

import ctypes
import os
import sys
from collections.abc import Callable
from pathlib import Path

_NEW_MOUNTS, _NEW_IPC, _NEW_USER, _NEW_PIDS, _NEW_NETWORK = 0x20000, 0x08000000, 0x10000000, 0x20000000, 0x40000000
_NO_SUID, _NO_DEVICES, _NO_EXEC, _RECURSIVE, _PRIVATE = 2, 4, 8, 0x4000, 1 << 18
_SHARED_MEMORY = Path("/dev/shm")

NETWORK, PROCESSES, MEMORY, SIGNALS, FILES = "network", "other processes", "shared memory", "signals", "other files"


def isolate(platform: str = sys.platform) -> frozenset[str]:
    """Go on in a process that has namespaces of its own, and return what it can no longer reach.

    The caller's process waits for that one and ends as it ends. Call it before any thread starts. Where the kernel does
    not allow it nothing happens, and nothing is returned.
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
    child = os.fork()
    if child:
        _, status = os.waitpid(child, 0)
        os._exit(os.waitstatus_to_exitcode(status) & 0xFF)
    found = {NETWORK}
    # what is mounted from here on is seen by this process and its children only
    if libc.mount(b"none", b"/", None, _RECURSIVE | _PRIVATE, None) == 0:
        plain = _NO_SUID | _NO_DEVICES | _NO_EXEC
        if libc.mount(b"proc", b"/proc", b"proc", plain, None) == 0:
            found |= {PROCESSES, SIGNALS}
        memory = os.fsencode(_SHARED_MEMORY)
        if _SHARED_MEMORY.is_dir() and libc.mount(b"tmpfs", memory, b"tmpfs", plain, b"mode=1777") == 0:
            found.add(MEMORY)
    return frozenset(found)


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
