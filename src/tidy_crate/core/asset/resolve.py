"""From a path as written to the files it stands for on this disk."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens

WINDOWS = os.name == "nt"


class Member(NamedTuple):
    """One file of an asset. A tuple: there are hundreds of thousands."""

    path: Path
    number: int | None
    """Its frame or tile, None for a single file."""
    bytes: int
    mtime_ns: int
    """Time of change, nanoseconds since the epoch."""


class Resolution(NamedTuple):
    """The files that a path as written stands for."""

    location: Path | None
    """Absolute path, or the pattern of a set; None when the dialect has no meaning on this system."""
    members: tuple[Member, ...] = ()
    """The files that are there."""
    trouble: str | None = None
    """Why nothing usable was found, in plain words."""
    absent: tuple[str, ...] = ()
    """Those of a set that should be there and are not."""


@dataclass
class Disk:
    """The disk as one survey sees it: every folder is listed once and every file is looked at once."""

    tokens: FrameTokens = STANDARD
    """The tokens that make a name a pattern for many files."""
    patterns: bool = True
    """True if names can be patterns at all: in some formats a name is a name."""
    _folders: dict[Path, tuple[str, ...]] = field(default_factory=dict)
    _files: dict[str, Member | str] = field(default_factory=dict)
    _sets: dict[Path, frozenset[str]] = field(default_factory=dict)

    def names(self, folder: Path) -> tuple[str, ...]:
        """The names in a folder; none when it cannot be listed."""
        if folder not in self._folders:
            try:
                self._folders[folder] = tuple(sorted(os.listdir(folder)))  # noqa: PTH208 - names only, fast
            except (OSError, ValueError):
                self._folders[folder] = ()
        return self._folders[folder]

    def is_pattern(self, path: Path) -> bool:
        """Return whether a path stands for many files. A file of that very name counts before any pattern."""
        # of the whole path first: it is asked of every file, and taking a path apart takes longer
        if not self.patterns or not self.tokens.may_have(str(path)) or not self.tokens.find(path.name):
            return False
        return path.name not in self.name_set(path.parent)

    def name_set(self, folder: Path) -> frozenset[str]:
        """The same as a set, for those who ask for one name after the other."""
        if folder not in self._sets:
            self._sets[folder] = frozenset(self.names(folder))
        return self._sets[folder]

    def look(self, path: Path) -> Member | str:
        """The file at `path`, or in plain words why it cannot be used."""
        text = str(path)
        found = self._files.get(text)
        if found is None:
            found = self._files[text] = self.look_at(path)
        return found

    def looked_at(self) -> Iterable[tuple[str, Member | str]]:
        """All files that were looked at, with what was found."""
        return self._files.items()

    def listed(self) -> Iterable[Path]:
        """All folders that were listed."""
        return self._folders

    @staticmethod
    def look_at(path: Path) -> Member | str:
        """The same as `look`, without keeping the answer."""
        try:
            text = str(path)
            found = os.stat(text)  # noqa: PTH116 - by text, and asked of very many files
        except (FileNotFoundError, NotADirectoryError):
            return "there is no such file"
        except ValueError:
            return "the name holds a zero byte"
        except OSError as error:
            return (error.strerror or str(error)).lower()
        if not stat.S_ISREG(found.st_mode):
            folder = stat.S_ISDIR(found.st_mode)
            return "it is a folder, not a file" if folder else "it is a device or a pipe, not a file"
        if not os.access(text, os.R_OK):
            return "it may not be read by this user"
        return Member(path, None, found.st_size, found.st_mtime_ns)


def locate(text: str, anchor: Path) -> Path | None:
    """Return where a path as written points on this system, or None when it can point nowhere here.

    anchor: the folder of the file that names it.
    """
    found = located(text, str(anchor))
    return None if found is None else Path(found)


def located(text: str, folder: str) -> str | None:
    """The same as text, not Path objects: a large scene names files a hundred thousand times."""
    kind = paths.dialect(text)
    if kind in (Dialect.EMPTY, Dialect.URL, Dialect.IDENTIFIER, Dialect.EXPRESSION, Dialect.PACKAGED):
        return None
    if kind in (Dialect.DRIVE, Dialect.SHARE) and not WINDOWS:
        return None
    if kind in (Dialect.RELATIVE, Dialect.SEARCH, Dialect.POSIX) and not WINDOWS:
        return _tidy(folder, text)
    plain = paths.to_slashes(text)
    if kind is Dialect.FILE_URL and paths.dialect(plain) in (Dialect.DRIVE, Dialect.SHARE) and not WINDOWS:
        return None
    return _tidy(folder, plain)


def resolve(text: str, anchor: Path, disk: Disk) -> Resolution:
    """Find the file, or all files of the sequence or tile set, that a path as written stands for."""
    where = located(text, str(anchor))
    if where is None:
        return Resolution(None, trouble=_no_meaning(text))
    location = Path(where)
    if not disk.is_pattern(location):
        found = disk.look(location)
        if isinstance(found, Member):
            return Resolution(location, (found,))
        # a Windows path written on another system: the backslashes were separators after all
        if "\\" in text and not WINDOWS and paths.dialect(text) in (Dialect.RELATIVE, Dialect.SEARCH):
            return resolve(paths.forward_slashes(text), anchor, disk)
        if unfilled := paths.variables(text):
            found = f"{found}, and nothing here fills in {unfilled[0]}"
        return Resolution(location, trouble=found)
    files, trouble = [], _no_match(location, disk)
    for name, number in disk.tokens.members(location.name, disk.names(location.parent)).items():
        found = disk.look(location.with_name(name))
        if isinstance(found, Member):
            files.append(Member(found.path, number, found.bytes, found.mtime_ns))
        else:
            trouble = found
    return Resolution(location, tuple(files), None if files else trouble)


def resolve_each(text: str, names: Iterable[tuple[str, int | None]], anchor: Path, disk: Disk) -> Resolution:
    """Find the files of a set whose paths are all known. text: the pattern that stands for them.

    names: the path of each, with its frame where it stands for a whole one.
    """
    location = locate(text, anchor)
    if location is None:
        return Resolution(None, trouble=_no_meaning(text))
    found, absent, trouble = [], [], None
    for name, number in names:
        path = locate(name, anchor)
        member = disk.look(path) if path is not None else _no_meaning(name)
        if isinstance(member, Member):
            found.append(Member(member.path, number, member.bytes, member.mtime_ns))
        else:
            absent.append(name)
            trouble = member
    if trouble and found:
        trouble = f"{len(absent)} of {len(found) + len(absent)} files are not there"
    return Resolution(location, tuple(found), trouble, tuple(absent))


def _no_match(pattern: Path, disk: Disk) -> str:
    """Return why a pattern has no files: one that differs in its padding only is named."""
    alike = disk.tokens.loose_members(pattern.name, disk.names(pattern.parent))
    return f"no file matches the pattern; {alike[0]} is padded otherwise" if alike else "no file matches the pattern"


def _tidy(folder: str, path: str) -> str:
    """Without `.` and `..` and without following links: a link is a place of its own."""
    if path.startswith("./") and "/." not in path[1:] and "//" not in path:
        return os.path.join(folder, path[2:])  # noqa: PTH118 - the usual form, and nothing in it to tidy
    return os.path.normpath(os.path.join(folder, path))  # noqa: PTH118


def _no_meaning(text: str) -> str:
    match paths.dialect(text):
        case Dialect.EMPTY:
            return "the path is empty"
        case Dialect.DRIVE | Dialect.FILE_URL:
            return "a Windows drive means nothing on this system"
        case Dialect.SHARE:
            return "a network share in Windows form means nothing on this system"
        case Dialect.URL:
            return "it is a web address, which is not fetched"
        case Dialect.IDENTIFIER:
            return f"{text.partition(':')[0]}: is for a resolver that is not installed here"
        case _:
            return "this form of path is not understood yet"
