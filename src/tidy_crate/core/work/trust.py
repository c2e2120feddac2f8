"""Command lines of a project that may run here: those that the user has trusted.

Anyone can write a command into a scene's files. Trust is kept in the user's own folder: for each trusted folder the
digests of the commands. A command that has changed is another command.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.files import only_one, read_json, text_of, write_json
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.covered import covered

WHAT = "list of trusted commands"
SCHEMA = Schema(WHAT, "version", 1)
PATIENCE = 10.0
FILES, FILE, STATE = "files", "file", "state"
# stands between the words of a command and the paths that it may read; no command line can hold it
_READS = "\0reads"


@dataclass(frozen=True)
class Claim:
    """Something that a project wants to do on this machine: run a command line, or bring files from elsewhere."""

    purpose: str
    """`render`, `bake`, `relink`, `export` or `freeze` for a command line; `files` for a folder outside the project
    that its files come from; `file` for a single file that would be held back; `state` for a folder outside the project
    in which decisions and caches are kept."""
    words: tuple[str, ...]
    """The command line with its placeholders, or the path."""
    origin: str = ""
    """The file that names it."""
    reads: tuple[str, ...] = ()
    """Paths outside the crate that a render command may read during the proof."""

    @property
    def is_command(self) -> bool:
        """Return whether it runs something. Else it is a path."""
        return self.purpose not in (FILES, FILE, STATE)

    @property
    def mark_words(self) -> tuple[str, ...]:
        """Return what is agreed to. A path is no command of that name."""
        return with_reads(self.words, self.reads) if self.is_command else (f"{self.purpose}:", *self.words)

    @property
    def line(self) -> str:
        """The command line or path as people read it."""
        return " ".join(word if word and " " not in word else json.dumps(word) for word in self.words)


def with_reads(words: Sequence[str], reads: Sequence[str]) -> tuple[str, ...]:
    """Return the words of a command with the paths that it may read, as they are agreed to together."""
    return (*words, _READS, *reads) if reads else tuple(words)


_WHAT = {
    False: "this names commands that would run on this machine, and you have not trusted them yet",
    True: "this keeps its decisions and caches outside the project, and you have not agreed to that",
}


class NotTrusted(WrongUsage):
    """A project names commands, and the user has not agreed that they run.

    folder: the one to trust. commands: all that it names.
    """

    def __init__(self, folder: Path, commands: Sequence[Claim]) -> None:
        super().__init__(
            _WHAT[any(one.purpose == STATE for one in commands)],
            folder,
            f"read them; if you trust their source, run: tidy-crate trust {folder}",
        )
        self.folder = folder
        self.commands = tuple(commands)
        self.said = tuple(f"{one.purpose}: {one.line}" for one in commands)


class Trust:
    """The commands that one user trusts."""

    def __init__(self, file: Path | None = None) -> None:
        """file: where it is kept; without one nothing is trusted."""
        self._file = file

    @property
    def bytecode(self) -> Path | None:
        """The user's own folder for what Python compiles of a project's scripts; None where nothing is kept."""
        return self._file.parent / "bytecode" if self._file is not None else None

    def holds(self, folders: Iterable[Path], words: Sequence[str]) -> bool:
        """Return whether a command of these folders, or of a trusted folder around one of them, may run."""
        return self.of(folders)(words)

    def of(self, folders: Iterable[Path]) -> Callable[[Sequence[str]], bool]:
        """Return the same question for these folders. It is quick to ask often."""
        known = self.folders()
        around = {one for folder in map(_real, folders) for one in (folder, *folder.parents)}
        trusted = {folder: frozenset(known[text]) for folder in around if (text := text_of(folder)) in known}
        return lambda words: any(_mark(words, folder) in marks for folder, marks in trusted.items())

    def add(self, folder: Path, claims: Iterable[Claim]) -> None:
        """Trust these claims of a folder from now on."""
        folder = _real(folder)
        with self._changing() as book:
            known = book.get(text_of(folder), [])
            book[text_of(folder)] = sorted({*known, *(_mark(one.mark_words, folder) for one in claims)})

    def remove(self, folder: Path) -> bool:
        """Trust nothing of a folder any more. Return whether anything of it was trusted."""
        with self._changing() as book:
            return book.pop(text_of(_real(folder)), None) is not None

    def folders(self) -> dict[str, list[str]]:
        """Return the trusted folders with the digests of their commands. Raises UnreadableInput on a broken file."""
        if self._file is None or not self._file.is_file():
            return {}
        content = SCHEMA.without_version(read_json(self._file, WHAT), self._file)
        try:
            return {str(folder): [str(mark) for mark in marks] for folder, marks in content["trusted"].items()}
        except (AttributeError, KeyError, TypeError) as error:
            raise UnreadableInput(
                f"the {WHAT} is damaged", self._file, "remove it, and trust your projects again"
            ) from error

    @contextmanager
    def _changing(self) -> Iterator[dict[str, list[str]]]:
        """The book, read and written under a lock."""
        if self._file is None:
            raise WrongUsage("there is no folder of the user to keep this in")
        lock = self._file.with_name(f".{self._file.name}.lock")
        with only_one(lock, "changes what is trusted", self._file, PATIENCE):
            book = self.folders()
            yield book
            write_json(self._file, {"version": SCHEMA.version, "trusted": book})


class Agreed(Trust):
    """Trust everything: for a process that starts only after the user's agreement was checked."""

    def of(self, folders: Iterable[Path]) -> Callable[[Sequence[str]], bool]:
        """See Trust.of."""
        return lambda words: True


def _mark(words: Sequence[str], folder: Path) -> str:
    """The digest of a command: its words, and all of the folder that belongs to it."""
    return blake3(json.dumps([list(words), covered(words, folder).plain()]).encode()).hexdigest()


def _real(folder: Path) -> Path:
    return Path(os.path.realpath(folder))
