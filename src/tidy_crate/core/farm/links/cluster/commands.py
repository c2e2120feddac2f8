"""Another scheduler as an engine, by the commands that the card names for it. See card.SchedulerCommands.

Each batch is a call of `submit` with a small program for a node. The ids that it prints are kept on the shared storage:

    jobs/JOB/engine/NAME.sh    what a node runs
    jobs/JOB/engine/ids.json   by batch, its id
"""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.interface import Batches
from tidy_crate.core.farm.links.cluster.shell import ProgramFailed, Shell
from tidy_crate.core.farm.links.cluster.storage import Storage, told
from tidy_crate.core.farm.own_machines import SchedulerCommands
from tidy_crate.core.files import read_input, write_bytes, write_json
from tidy_crate.core.patterns import pattern

# batches whose log is asked for, to say how a job ended
MOST_LOGS = 3


class Commands:
    """The scheduler of a card with `[cluster.commands]`."""

    # all wishes have placeholders: a card that leaves one out does not need it
    fulfils = frozenset({"gpus", "reclaimable"})

    def __init__(self, card: FarmCard, storage: Storage, shell: Shell) -> None:
        if card.cluster.commands is None:
            remedy = "add [cluster.commands] with submit and state"
            raise FarmError("the card does not name the commands of its scheduler", card.name, remedy)
        self._card, self._storage, self._shell = card, storage, shell
        self._commands: SchedulerCommands = card.cluster.commands

    def meet(self) -> str:
        """See Engine.meet. Nothing is asked: commands need a batch to speak of."""
        return f"the commands of the card: {self._commands.submit[0]}, {self._commands.state[0]}"

    def show(self, line: Sequence[str]) -> list[str]:
        """See Engine.show. Nodes are looked at when the scheduler starts a batch on them."""
        return [self._card.machine[0].name]

    def begin(self, batches: Batches) -> None:
        """See Engine.begin."""
        ids = self._ids(batches.job)
        find = pattern(self._commands.id, "the id of a batch") if self._commands.id else None
        try:
            for name in batches.names:
                program = self._program(batches, name)
                said = self._shell.run(filled(self._commands.submit, self._values(batches, program)))
                ids[name] = _id(said, find, self._commands.submit[0])
        finally:
            # what was handed over is known, also when the rest was refused
            with told(self._folder(batches.job)):
                write_json(self._folder(batches.job) / "ids.json", ids)

    def under_way(self, job: str) -> int:
        """See Engine.under_way. What is over is not asked about again."""
        ids = self._ids(job)
        left = {name: one for name, one in ids.items() if self._is_under_way(one)}
        if left != ids:
            with told(self._folder(job)):
                write_json(self._folder(job) / "ids.json", left)
                write_json(self._folder(job) / "over.json", [ids[name] for name in ids if name not in left])
        return len(left)

    def cancel(self, job: str) -> None:
        """See Engine.cancel."""
        for one in self._ids(job).values() if self._commands.cancel else ():
            try:
                self._shell.run(filled(self._commands.cancel, {"id": one}))
            except ProgramFailed:
                continue  # it is over already

    def why(self, job: str) -> str:
        """See Engine.why: what `log` prints of the last batches that are over."""
        if not self._commands.log:
            return ""
        found = []
        for one in _texts(self._folder(job) / "over.json")[-MOST_LOGS:]:
            try:
                said = self._shell.run(filled(self._commands.log, {"id": one}))
            except ProgramFailed as error:
                said = error.answer
            found.append(" ".join(said.split())[-120:])
        return "; ".join(one for one in found if one)

    def _is_under_way(self, one: str) -> bool:
        try:
            said = self._shell.run(filled(self._commands.state, {"id": one}))
        except ProgramFailed:
            # schedulers forget what is over
            return False
        if self._commands.under_way is None:
            return bool(said.strip())
        return bool(pattern(self._commands.under_way, "the state of a batch").search(said))

    def _program(self, batches: Batches, name: str) -> Path:
        """Write what a node runs for a batch. Return where."""
        path = self._folder(batches.job) / f"{name}.sh"
        line = shlex.join([self._card.cluster.python, "-E", "-s", *batches.line, name])
        with told(path):
            path.parent.mkdir(exist_ok=True)
            write_bytes(path, f"#!/bin/sh\nexec {line}\n".encode())
            path.chmod(0o755)
        return path

    def _values(self, batches: Batches, program: Path) -> dict[str, str | None]:
        known = {
            "job": batches.job, "nodes": batches.most, "cores": batches.cores, "memory_gb": batches.memory_gb,
            "gpus": batches.gpus, "rank": batches.rank, "program": self._storage.seen_by_nodes(program),
            "minutes": None if batches.minutes is None else max(1, round(batches.minutes)),
        }  # fmt: skip
        texts = {name: None if value is None else f"{value}" for name, value in known.items()}
        return {**self._card.cluster.submit, **batches.options, **texts}

    def _folder(self, job: str) -> Path:
        return self._storage.job(job) / "engine"

    def _ids(self, job: str) -> dict[str, str]:
        try:
            found = json.loads(read_input(self._folder(job) / "ids.json"))
        except FileNotFoundError:
            return {}
        except (OSError, ValueError) as error:
            raise FarmError("the list of batches cannot be read", self._folder(job), "look at ids.json") from error
        if not isinstance(found, dict):
            raise FarmError("the list of batches is damaged", self._folder(job), "look at ids.json")
        return {str(name): str(one) for name, one in found.items()}


def filled(words: Iterable[str], values: Mapping[str, str | None]) -> list[str]:
    """Put values for placeholders into a command line. A word whose value is left open is left out.

    Raises FarmError for a placeholder that there is not.

    >>> filled(["queue-add", "--slots={nodes}", "--gpus={gpus}"], {"nodes": "4", "gpus": None})
    ['queue-add', '--slots=4']
    """
    found = []
    for word in words:
        names = re.findall(r"\{([a-z][a-z0-9_-]*)\}", word)
        unknown = next((name for name in names if name not in values), None)
        if unknown is not None:
            known = ", ".join(f"{{{name}}}" for name in sorted(values))
            raise FarmError(
                f"the card's command has a placeholder that there is not: {{{unknown}}}", word, f"known: {known}"
            )
        if all(values[name] is not None for name in names):
            found.append(re.sub(r"\{([a-z][a-z0-9_-]*)\}", lambda match: values[match[1]] or "", word))
    return found


def _id(said: str, find: Any, program: str) -> str:
    """Return the id in what `submit` printed. Raises FarmError where there is none."""
    if find is not None:
        match = find.search(said)
        found = str(match[1] or "") if match and match.re.groups else ""
    else:
        found = said.split()[-1] if said.split() else ""
    if not re.fullmatch(r"[\w.:@\[\]/+-]{1,200}", found) or found.startswith("-"):
        short = " ".join(said.split())[:120]
        what = f"no id of a batch is in what {program} prints ({short or 'nothing'})"
        raise FarmError(what, program, "correct id = '...' of [cluster.commands]: its first group is the id")
    return found


def _texts(path: Path) -> list[str]:
    try:
        found = json.loads(read_input(path))
    except (OSError, ValueError):
        return []
    return [str(one) for one in found] if isinstance(found, list) else []
