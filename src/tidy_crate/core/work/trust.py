"""Which command lines of a project may run here: those that the user has agreed to.

Anyone can write a command into a scene's files. Trust is kept in the user's own folder: for each trusted folder the
digests of the commands. A command that has changed is another command.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from blake3 import blake3

from tidy_crate.core.errors import CommandFailed, UnreadableInput, WrongUsage
from tidy_crate.core.files import hash_file, only_one, os_reason, read_json, write_json
from tidy_crate.core.process import Ended, run_program
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.command import filled

WHAT = "list of trusted commands"
SCHEMA = Schema(WHAT, "version", 1)
PATIENCE = 10.0
# a file of a project that a command names counts as part of the command up to this size
_LARGEST_SCRIPT = 16 << 20


@dataclass(frozen=True)
class NamedCommand:
    """A command line that a project names."""

    purpose: str
    """What it is for: `render`, `bake`, `relink`, `export` or `freeze`."""
    words: tuple[str, ...]
    """With its placeholders."""
    origin: str = ""
    """The file that names it."""

    @property
    def line(self) -> str:
        """The command line as people read it."""
        return " ".join(word if word and " " not in word else json.dumps(word) for word in self.words)


class NotTrusted(WrongUsage):
    """A project names commands, and the user has not agreed that they run.

    place: the folder to trust. commands: all that it names.
    """

    def __init__(self, place: Path, commands: Sequence[NamedCommand]) -> None:
        super().__init__(
            "this names commands that would run on this machine, and you have not agreed to them",
            place,
            f"read them; if you know where they come from, run: tidy-crate trust {place}",
        )
        self.place = place
        self.commands = tuple(commands)
        self.said = tuple(f"{one.purpose}: {one.line}" for one in commands)


class Trust:
    """The commands that one user trusts."""

    def __init__(self, file: Path | None = None) -> None:
        """file: where it is kept; without one nothing is trusted."""
        self._file = file

    def holds(self, places: Iterable[Path], words: Sequence[str]) -> bool:
        """Return whether a command of these folders, or of a trusted folder around one of them, may run."""
        known = self.folders()
        real = [_real(place) for place in places]
        around = {folder for place in real for folder in (place, *place.parents)}
        return any(_mark(words, folder) in known.get(str(folder), ()) for folder in around)

    def add(self, place: Path, commands: Iterable[NamedCommand]) -> None:
        """Trust these commands of a folder from now on."""
        place = _real(place)
        with self._changing() as book:
            book.setdefault(str(place), [])
            book[str(place)] = sorted({*book[str(place)], *(_mark(one.words, place) for one in commands)})

    def remove(self, place: Path) -> bool:
        """Trust nothing of a folder any more. Return whether anything of it was trusted."""
        with self._changing() as book:
            return book.pop(str(_real(place)), None) is not None

    def folders(self) -> dict[str, list[str]]:
        """Return the trusted folders with the digests of their commands. Raises UnreadableInput on a broken file."""
        if self._file is None or not self._file.is_file():
            return {}
        content = SCHEMA.without_version(read_json(self._file, WHAT), self._file)
        try:
            return {str(place): [str(mark) for mark in marks] for place, marks in content["trusted"].items()}
        except (AttributeError, KeyError, TypeError) as error:
            raise UnreadableInput(
                f"the {WHAT} is damaged", self._file, "remove it, and trust your projects again"
            ) from error

    def _changing(self) -> _Change:
        if self._file is None:
            raise WrongUsage("there is no folder of the user to keep this in")
        return _Change(self, self._file)


class Agreed(Trust):
    """Trust everything: for a process that starts only after the user's agreement was checked."""

    def holds(self, places: Iterable[Path], words: Sequence[str]) -> bool:
        """See Trust.holds."""
        return True


class _Change:
    """The book, read under a lock and written at the end."""

    def __init__(self, trust: Trust, file: Path) -> None:
        self._trust, self._file = trust, file
        self._lock = only_one(file.with_name(f".{file.name}.lock"), "changes what is trusted", file, PATIENCE)

    def __enter__(self) -> dict[str, list[str]]:
        self._lock.__enter__()
        self._book = self._trust.folders()
        return self._book

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: Any) -> None:
        try:
            if kind is None:
                write_json(self._file, {"version": SCHEMA.version, "trusted": self._book})
        finally:
            self._lock.__exit__(kind, error, trace)


@dataclass(frozen=True)
class Commands:
    """The command lines of one scene or crate, and the right to run those that are trusted."""

    places: tuple[Path, ...] = ()
    """The folders that they belong to; the first is the one that the user is asked about."""
    named: tuple[NamedCommand, ...] = ()
    """All of them."""
    trust: Trust = field(default_factory=Trust)
    environment: Mapping[str, str] = field(default_factory=dict, repr=False)
    """For the programs. No token is in it."""

    def need(self, words: Sequence[str]) -> None:
        """Raise NotTrusted unless a command, given with its placeholders, may run."""
        if not self.trust.holds(self.places, words):
            mine = [one for one in self.named if not self.trust.holds(self.places, one.words)]
            place = self.places[0] if self.places else Path()
            raise NotTrusted(place, mine or [NamedCommand("command", tuple(words))])

    def run(
        self,
        words: Sequence[str],
        values: Mapping[str, str],
        folder: Path,
        limit: float,
        *,
        log: Path | None = None,
        on_line: Callable[[str], None] | None = None,
        what: str = "the host's command",
        watch: bool = False,
    ) -> Ended:
        """Run one of them in a folder. values: for its placeholders. what: its name in errors. See run_program.

        Raises NotTrusted, and CommandFailed with the last lines that it printed when it cannot start, fails, or takes
        longer than `limit` seconds.
        """
        self.need(words)
        line = filled(tuple(words), values)
        try:
            ended = run_program(line, folder, self.environment, limit, log=log, on_line=on_line, watch=watch)
        except (OSError, ValueError) as error:
            reason = os_reason(error) if isinstance(error, OSError) else str(error)
            raise CommandFailed(f"{what} cannot start ({reason})", line[0], _CHECK, started=False) from error
        if ended.late:
            raise CommandFailed(f"{what} did not end within {limit:g} s", line[0], said=ended.text, log=log)
        if ended.code in _NOT_STARTED:
            raise CommandFailed(f"{what} cannot start", line[0], _CHECK, said=ended.text, log=log, started=False)
        if ended.code != 0:
            where = " ".join(line)[:200]
            raise CommandFailed(f"{what} failed with code {ended.code}", where, said=ended.text, log=log)
        return ended


_CHECK = "check the command line and that the program is installed"
# what a shell returns for a command that it cannot run, and for one that it does not find
_NOT_STARTED = (126, 127)


def _mark(words: Sequence[str], folder: Path) -> str:
    """The digest of a command: its words, and the files of the folder that it names."""
    files = []
    for word in words:
        path = Path(os.path.realpath(folder / word)) if word and "\0" not in word and len(word) < 4096 else folder
        try:
            if path.is_relative_to(folder) and path.is_file() and path.stat().st_size <= _LARGEST_SCRIPT:
                files.append([word, hash_file(path)])
        except OSError:
            continue
    return blake3(json.dumps([list(words), files]).encode()).hexdigest()


def _real(place: Path) -> Path:
    return Path(os.path.realpath(place))
