"""The parts of a project that a command line runs: what agreement to the command covers, beside its words.

A word may be a path, hold one (`--script=tools/a.py`, `sh -c "cd tools && ./b"`), or name a module (`-m tools.render`).
A script counts with the code beside it, which the interpreter finds there, and a folder with all code in it.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from tidy_crate.core.files import hash_file

# extensions of files that a program loads and runs, and of archives that interpreters run from
CODE = frozenset(
    (
        ".py", ".pyc", ".pyd", ".pyw", ".pth", ".egg", ".zip", ".whl", ".so", ".dll", ".dylib", ".exe", ".com", ".bat",
        ".cmd", ".ps1", ".sh", ".bash", ".zsh", ".csh", ".pl", ".pm", ".rb", ".lua", ".js", ".mjs", ".cjs", ".jar",
        ".class", ".tcl", ".vbs", ".awk", ".wasm",
    )
)  # fmt: skip
# an interpreter keeps its own notes there, and is told to keep them elsewhere
_NOT_LOADED = frozenset({"__pycache__", ".git"})
# files of one folder that are looked at
MOST_FILES = 20_000
# a longer word is no path
_LONGEST = 4096
_QUOTED = re.compile(r"[\"'`]+")
_SEPARATED = re.compile(r"[\s\"'`=:;,|&<>()]+")


@dataclass(frozen=True)
class Covered:
    """The parts of a project that belong to a command line."""

    files: dict[str, str] = field(default_factory=dict)
    """By path as the command names it, or below the project, the BLAKE3 of the file that it leads to."""
    links: dict[str, str] = field(default_factory=dict)
    """By path, where it really leads, where a link is on the way."""
    folders: tuple[str, ...] = ()
    """Folders whose code is among the files."""
    not_covered: tuple[str, ...] = ()
    """Parts that another could change without being asked about: programs of this machine, folders with too much."""

    def plain(self) -> list[object]:
        """Return it as JSON has it, for a digest; empty where it is nothing."""
        found = [sorted(self.files.items()), sorted(self.links.items()), list(self.folders)]
        return list(found) if any(found) else []


def covered(words: Sequence[str], folder: Path) -> Covered:
    """Return what of a project belongs to a command line. folder: of the project, with no link in it."""
    found = _Found(folder)
    for text in _candidates(words):
        found.take(text)
    if words and not (folder / words[0]).is_file():
        own = words[0] == "{python}"
        found.not_covered.append("the Python of this tool" if own else f"{words[0]}: a program of this machine")
    return Covered(found.files, found.links, tuple(sorted(found.folders)), tuple(found.not_covered))


def _candidates(words: Sequence[str]) -> Iterator[str]:
    """Yield every text in a command line that may be a path, each once."""
    seen: set[str] = set()
    module = False
    for word in words:
        inner = _SEPARATED.split(word)
        texts = [word, *_QUOTED.split(word), *inner]
        # the value of a short option may follow it at once
        texts += [text[2:] for text in texts if re.match(r"-[A-Za-z].", text)]
        for before, text in zip(["", *inner], inner, strict=False):
            name = text if before == "-m" or module else text[2:] if text.startswith("-m") else ""
            if name:
                texts += [f"{name.replace('.', '/')}.py", name.replace(".", "/")]
        module = word == "-m" or word.endswith(" -m")
        for text in texts:
            if text and text not in seen and "\0" not in text and len(text) < _LONGEST:
                seen.add(text)
                yield text


class _Found:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.files: dict[str, str] = {}
        self.links: dict[str, str] = {}
        self.folders: set[str] = set()
        self.not_covered: list[str] = []

    def take(self, text: str) -> None:
        """Take a text that may be a path: from the project's folder on, or from the root."""
        try:
            named, real = Path(os.path.normpath(self.folder / text)), Path(os.path.realpath(self.folder / text))
            mode = real.stat().st_mode
        except (OSError, ValueError):
            return
        if not named.is_relative_to(self.folder):
            named = real
        # a link of the project counts wherever it leads to; files of elsewhere do not
        if not named.is_relative_to(self.folder):
            return
        name = named.relative_to(self.folder).as_posix()
        if real != named:
            self.links[name] = str(real)
        if stat.S_ISDIR(mode):
            self._folder(name, real)
        elif stat.S_ISREG(mode):
            self._file(name, real)
            if real.suffix.lower() in CODE:
                self._folder(named.parent.relative_to(self.folder).as_posix(), real.parent)

    def _file(self, name: str, path: Path) -> None:
        try:
            self.files[name] = hash_file(path)
        except OSError:
            self.not_covered.append(f"{name}: it cannot be read")

    def _folder(self, name: str, path: Path) -> None:
        """Take the code of a folder; of the project's own less, see `_beside`."""
        if name == ".":
            self._beside(path)
        elif name not in self.folders:
            self.folders.add(name)
            self._code(name, path, _walk(path))

    def _beside(self, path: Path) -> None:
        """Take the code that stands in the project's own folder, and the packages there: it holds the pictures too."""
        if "." in self.folders:
            return
        self.folders.add(".")
        packages = sorted(one.parent for one in path.glob("*/__init__.py"))
        own = ((path, one) for one in sorted(os.listdir(path)) if (path / one).is_file())  # noqa: PTH208
        self._code(".", path, (pair for pairs in (own, *map(_walk, packages)) for pair in pairs))

    def _code(self, name: str, folder: Path, files: Iterable[tuple[Path, str]]) -> None:
        for count, (where, one) in enumerate(files):
            if count == MOST_FILES:
                self.not_covered.append(f"{name}: it holds more than {MOST_FILES:,} files")
                return
            path = where / one
            if path.suffix.lower() not in CODE:
                continue
            below = (Path(name) / path.relative_to(folder)).as_posix()
            real = Path(os.path.realpath(path))
            if real != path:
                self.links[below] = str(real)
            if real.is_file():
                self._file(below, real)


def _walk(folder: Path) -> Iterator[tuple[Path, str]]:
    for where, folders, names in os.walk(folder):
        folders[:] = sorted(set(folders) - _NOT_LOADED)
        for name in sorted(names):
            yield Path(where), name
