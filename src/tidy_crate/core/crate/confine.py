"""Shutting a process in: from here on it can read nothing but what it was given. Linux, by Landlock, where there is.

Source: the kernel's user-space API documentation, "Landlock: unprivileged access control".
"""

from __future__ import annotations

import ctypes
import os
import shutil
import sys
import sysconfig
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from tidy_crate.core.crate.isolate import FILES, SIGNALS
from tidy_crate.core.files import open_input

# system call numbers, the same on every architecture since they were added
_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF = 444, 445, 446
_VERSION_FLAG = 1
_RULE_PATH_BENEATH = 1
_NO_NEW_PRIVILEGES = 38

_EXECUTE, _WRITE_FILE, _READ_FILE, _READ_DIR = 1 << 0, 1 << 1, 1 << 2, 1 << 3
_MAKE_CHARACTER_DEVICE, _MAKE_BLOCK_DEVICE = 1 << 6, 1 << 11
_READING = _EXECUTE | _READ_FILE | _READ_DIR
_ALL_FIRST = (1 << 13) - 1
_REFER, _TRUNCATE, _DEVICE_CONTROL = 1 << 13, 1 << 14, 1 << 15
_FILE_RIGHTS = _EXECUTE | _WRITE_FILE | _READ_FILE | _TRUNCATE | _DEVICE_CONTROL
_TCP = 1 << 0 | 1 << 1
_ABSTRACT_SOCKETS, _SIGNALS = 1 << 0, 1 << 1
# bytes of the attributes that a version knows
_SIZES = {1: 8, 4: 16, 6: 24}


class _RulesetAttributes(ctypes.Structure):
    _fields_ = (
        ("handled_access_fs", ctypes.c_uint64),
        ("handled_access_net", ctypes.c_uint64),
        ("scoped", ctypes.c_uint64),
    )


class _PathBeneath(ctypes.Structure):
    _pack_ = 1
    _fields_ = (("allowed_access", ctypes.c_uint64), ("parent_fd", ctypes.c_int32))


TCP = "TCP"


@dataclass(frozen=True)
class Confined:
    """Result of putting a process into a sandbox."""

    why_not: str | None
    """Why the kernel does not deny it other files, None where it does."""
    walls: frozenset[str] = frozenset()
    """Resources that it can no longer reach."""


def declared_devices(reads: Iterable[str]) -> list[Path]:
    """Return the devices among what a render command says that its renderer needs, such as those of a graphics card."""
    return [path for path in map(Path, reads) if path != Path("/dev") and path.is_relative_to("/dev")]


def confine(
    readable: Iterable[Path],
    writable: Iterable[Path],
    listable: Iterable[Path] = (),
    devices: Iterable[Path] = (),
    platform: str = sys.platform,
    *,
    tcp: bool = False,
) -> Confined:
    """Deny this process and its children all file access but to these folders, and TCP and signals where it can.

    writable: no devices can be made in them. listable: folders whose names may be read, and no more. devices: may be
    read, written and controlled. tcp: is allowed. Call it before any thread starts.
    """
    if not platform.startswith("linux"):
        return Confined("this system has no way to shut a process in without a privilege")
    libc = ctypes.CDLL(None, use_errno=True)
    version = libc.syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), ctypes.c_uint32(_VERSION_FLAG))
    if version < 1:
        return Confined("this kernel does not offer Landlock")
    handled = _ALL_FIRST | (_REFER if version >= 2 else 0) | (_TRUNCATE if version >= 3 else 0)
    handled |= _DEVICE_CONTROL if version >= 5 else 0
    attributes = _RulesetAttributes(
        handled, _TCP if version >= 4 and not tcp else 0, _ABSTRACT_SOCKETS | _SIGNALS if version >= 6 else 0
    )
    size = _SIZES[max(known for known in _SIZES if known <= version)]
    ruleset = libc.syscall(_CREATE_RULESET, ctypes.byref(attributes), ctypes.c_size_t(size), ctypes.c_uint32(0))
    if ruleset < 0:
        return Confined(f"Landlock refused ({os.strerror(ctypes.get_errno())})")
    try:
        makes_devices = _MAKE_CHARACTER_DEVICE | _MAKE_BLOCK_DEVICE
        writing = handled & ~makes_devices & ~_DEVICE_CONTROL
        controlling = handled & (_WRITE_FILE | _READ_FILE | _READ_DIR | _DEVICE_CONTROL)
        every = ((readable, _READING), (writable, writing), (listable, _READ_DIR), (devices, controlling))
        for folders, rights in every:
            for folder in folders:
                problem = _allow(libc, ruleset, folder, rights)
                if problem:
                    return Confined(problem)
        if libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0) or libc.syscall(_RESTRICT_SELF, ruleset, ctypes.c_uint32(0)):
            return Confined(f"Landlock refused ({os.strerror(ctypes.get_errno())})")
    finally:
        os.close(ruleset)
    # UDP and the like are not among what it can deny
    return Confined(
        None, frozenset({FILES, *({TCP} if version >= 4 and not tcp else ()), *({SIGNALS} if version >= 6 else ())})
    )


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


def program_folders(command: Sequence[str], search: str | None, crate: Path) -> list[Path]:
    """Return what the program of a command line needs to run, as far as that can be told from where it is.

    search: the folders in which a bare name is looked for, as in PATH. Its own folder, or all of an installation that
    it is the program of; the interpreter that its first line names, or of the virtual environment that it is in; and
    files that the command line names. No folder that holds the crate is among them, since originals may be there too.
    """
    found: set[Path] = set()
    where = shutil.which(command[0], path=search) if command else None
    if where is not None:
        for program in (Path(where), Path(where).resolve(), *_interpreters(Path(where))):
            found |= {program, _installation(program)}
    words = (Path(word) for word in command[1:] if Path(word).is_absolute())
    # a file only: the folder of a script may hold the originals too
    found |= {path for path in words if path.is_file()}
    return sorted(path for path in found if len(path.parts) > 2 and not crate.is_relative_to(path))


def _installation(program: Path) -> Path:
    """The folder that a program was installed in with all that belongs to it, else the one that holds it."""
    folder = program.parent
    prefix = folder.parent
    has = {name for name in ("lib", "share", "include", "pyvenv.cfg", "conda-meta") if (prefix / name).exists()}
    # a home may have a bin and a lib too
    installed = has & {"pyvenv.cfg", "conda-meta"} or len(has) > 1
    return prefix if folder.name.lower() in ("bin", "scripts") and installed else folder


def _interpreters(program: Path) -> list[Path]:
    """The programs that run a script, or a virtual environment's Python."""
    found = []
    settings = program.parent.parent / "pyvenv.cfg"
    try:
        for line in settings.read_text(encoding="utf-8").splitlines() if settings.is_file() else ():
            key, _, home = line.partition("=")
            if key.strip().lower() == "home":
                found.append(Path(home.strip()) / "python3")
        with open_input(program) as stream:
            head = stream.readline(1024)
        if head.startswith(b"#!"):
            words = os.fsdecode(head[2:]).split()
            found += [Path(word) for word in words[:2] if Path(word).is_absolute()]
    except (OSError, UnicodeDecodeError):
        pass
    return [one for path in found for one in (path, path.resolve())]


# of /proc what programs read of the machine; the rest is of other processes
_OF_MACHINE = ("cpuinfo", "meminfo", "stat", "sys", "filesystems", "version", "loadavg", "uptime", "self")


def runtime_folders(programs: Iterable[str] = (), *, sees_processes: bool = False) -> list[Path]:
    """Return what a program needs to run at all: this Python, the system's libraries, and the folders of other
    programs.

    sees_processes: /proc shows the other processes of this machine, so only what is not theirs is among them.
    """
    found = {Path(sys.prefix), Path(sys.base_prefix), *(Path(p) for p in sysconfig.get_paths().values())}
    found |= {Path(entry).resolve() for entry in sys.path if entry and Path(entry).exists()}
    found |= {Path(folder) for folder in ("/usr", "/lib", "/lib32", "/lib64", "/bin", "/sbin", "/etc", "/sys")}
    found |= {Path("/proc", name) for name in _OF_MACHINE} if sees_processes else {Path("/proc")}
    found |= {Path(program).resolve().parent for program in programs if Path(program).is_absolute()}
    cwd = Path.cwd().resolve()
    # an entry that holds everything would confine nothing
    return sorted(path for path in found if len(path.parts) > 1 and path != cwd)
