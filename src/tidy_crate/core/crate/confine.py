"""Shutting a process in: from here on it can read nothing but what it was given. Linux, by Landlock, where there is.

Source: the kernel's user-space API documentation, "Landlock: unprivileged access control".
"""

from __future__ import annotations

import ctypes
import os
import sys
import sysconfig
from collections.abc import Iterable
from pathlib import Path

# system call numbers, the same on every architecture since they were added
_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF = 444, 445, 446
_VERSION_FLAG = 1
_RULE_PATH_BENEATH = 1
_NO_NEW_PRIVILEGES = 38

_EXECUTE, _WRITE_FILE, _READ_FILE, _READ_DIR = 1 << 0, 1 << 1, 1 << 2, 1 << 3
_FILE_RIGHTS = _EXECUTE | _WRITE_FILE | _READ_FILE
_READING = _EXECUTE | _READ_FILE | _READ_DIR
_ALL_FIRST = (1 << 13) - 1
_REFER, _TRUNCATE = 1 << 13, 1 << 14


class _RulesetAttributes(ctypes.Structure):
    _fields_ = (("handled_access_fs", ctypes.c_uint64),)


class _PathBeneath(ctypes.Structure):
    _pack_ = 1
    _fields_ = (("allowed_access", ctypes.c_uint64), ("parent_fd", ctypes.c_int32))


def confine(
    readable: Iterable[Path],
    writable: Iterable[Path],
    listable: Iterable[Path] = (),
    platform: str = sys.platform,
) -> str | None:
    """Deny this process and its children all file access but to these folders. listable: their names only.

    Returns None when the kernel enforces it, else in plain words why it cannot. Call it before any thread starts.
    """
    if not platform.startswith("linux"):
        return "this system has no way to shut a process in without a privilege"
    libc = ctypes.CDLL(None, use_errno=True)
    version = libc.syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), ctypes.c_uint32(_VERSION_FLAG))
    if version < 1:
        return "this kernel does not offer Landlock"
    handled = _ALL_FIRST | (_REFER if version >= 2 else 0) | (_TRUNCATE if version >= 3 else 0)
    attributes = _RulesetAttributes(handled)
    ruleset = libc.syscall(_CREATE_RULESET, ctypes.byref(attributes), ctypes.c_size_t(8), ctypes.c_uint32(0))
    if ruleset < 0:
        return f"Landlock refused ({os.strerror(ctypes.get_errno())})"
    try:
        for folders, rights in ((readable, _READING), (writable, handled), (listable, _READ_DIR)):
            for folder in folders:
                problem = _allow(libc, ruleset, folder, rights)
                if problem:
                    return problem
        if libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0) or libc.syscall(_RESTRICT_SELF, ruleset, ctypes.c_uint32(0)):
            return f"Landlock refused ({os.strerror(ctypes.get_errno())})"
    finally:
        os.close(ruleset)
    return None


def _allow(libc: ctypes.CDLL, ruleset: int, path: Path, rights: int) -> str | None:
    try:
        handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return None  # what is not there needs no permission
    try:
        rule = _PathBeneath(rights if path.is_dir() else rights & _FILE_RIGHTS, handle)
        if libc.syscall(_ADD_RULE, ruleset, _RULE_PATH_BENEATH, ctypes.byref(rule), ctypes.c_uint32(0)):
            return f"Landlock refused a folder ({os.strerror(ctypes.get_errno())})"
    finally:
        os.close(handle)
    return None


def runtime_folders(programs: Iterable[str] = ()) -> list[Path]:
    """What a program needs to run at all: this Python, the system's libraries, and the folders of other programs."""
    found = {Path(sys.prefix), Path(sys.base_prefix), *(Path(p) for p in sysconfig.get_paths().values())}
    found |= {Path(entry).resolve() for entry in sys.path if entry and Path(entry).exists()}
    found |= {Path(folder) for folder in ("/usr", "/lib", "/lib32", "/lib64", "/bin", "/sbin", "/etc", "/proc", "/sys")}
    found |= {Path(program).resolve().parent for program in programs if Path(program).is_absolute()}
    cwd = Path.cwd().resolve()
    # an entry that holds everything would confine nothing
    return sorted(path for path in found if len(path.parts) > 1 and path != cwd)
