"""Records that workers write on the shared storage: a line per task and change. They are read as they grow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.links.cluster.storage import told
from tidy_crate.core.farm.protocol import PAGE, NodeChange, TaskChange
from tidy_crate.core.files import open_input
from tidy_crate.core.model import Wire
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.task import Task, TaskState

HOUR = Decimal(3600)


class _Line(Wire):
    """A line of a record."""

    task: Task
    attempt: int
    state: TaskState
    node: str
    began: datetime | None = None
    ended: datetime | None = None
    error: str | None = None
    log: str = ""
    products: tuple[dict[str, Any], ...] = ()
    final: bool = False
    """True for a failure after which no node tries again."""


def machine_of(node: str) -> str:
    """Return the machine of a process on it, which is what a wrangler knows: `n1` of `n1-4711`."""
    return node.rpartition("-")[0] or node


@dataclass
class Records:
    """The records of a job, as far as this process has read them."""

    folder: Path
    price_of: Callable[[str], Decimal]
    """Price of an hour, by the name of a node."""
    attempts: dict[tuple[Task, int], TaskChange] = field(default_factory=dict)
    final: set[tuple[Task, int]] = field(default_factory=set)
    """Attempts after whose failure no node tries again."""
    asked: float = 0.0
    """When the scheduler was last asked about the job, on the clock of this process."""
    why: str = ""
    """Its answer then, about a job that does not render."""
    _read: dict[str, int] = field(default_factory=dict)
    """By record, bytes that were read."""
    _changes: list[TaskChange] = field(default_factory=list)
    _told: int = 0
    """Number of changes that were handed out."""
    _handed: str = ""
    """The cursor after them."""

    @property
    def cursor(self) -> str:
        """Another text for anything new."""
        return str(sum(self._read.values()))

    def look(self) -> None:
        """Read what is new. Raises FarmError for a record that is damaged."""
        with told(self.folder):
            for path in sorted(self.folder.glob("*.jsonl")):
                at = self._read.get(path.name, 0)
                if path.stat().st_size <= at:
                    continue
                with open_input(path) as stream:
                    stream.seek(at)
                    data = stream.read()
                # a line that is still being written waits for the next look
                whole = data[: data.rfind(b"\n") + 1]
                self._read[path.name] = at + len(whole)
                for line in whole.splitlines():
                    self.add(self._change(line, path))

    def add(self, change: TaskChange) -> None:
        """Note a change."""
        self.attempts[change.task, change.attempt.number] = change
        self._changes.append(change)

    def _change(self, data: bytes, path: Path) -> TaskChange:
        try:
            line = _Line.model_validate_json(data)
            products = tuple(
                Product(output=one["output"], key=one["path"], bytes=one["bytes"], blake3=one.get("blake3"))
                for one in line.products
            )
        except (ValidationError, KeyError, TypeError) as error:
            raise FarmError("a record on the shared storage is damaged", path, "look at it") from error
        seconds = (line.ended - line.began).total_seconds() if line.ended and line.began else None
        cost = (self.price_of(line.node) * Decimal(str(max(0.0, seconds or 0.0))) / HOUR).quantize(Decimal("0.000001"))
        if line.final:
            self.final.add((line.task, line.attempt))
        attempt = Attempt(
            number=line.attempt, state=line.state, node=machine_of(line.node), began=line.began, ended=line.ended,
            billed=None if seconds is None else max(0.0, seconds), cost=cost, error=line.error, log=line.log,
        )  # fmt: skip
        return TaskChange(task=line.task, attempt=attempt, products=products)

    def latest(self) -> dict[Task, TaskChange]:
        """Return the last attempt at each task."""
        found: dict[Task, TaskChange] = {}
        for (task, number), change in self.attempts.items():
            if task not in found or found[task].attempt.number < number:
                found[task] = change
        return found

    def page(self, cursor: str) -> tuple[tuple[TaskChange, ...], str, bool]:
        """Return changes that were not handed out, the cursor after them, and whether there are more.

        A process that begins reads all records once.
        """
        if cursor != self._handed:
            # what was handed out last was not kept
            self._told = 0
        found = self._changes[self._told : self._told + PAGE]
        self._told += len(found)
        more = self._told < len(self._changes)
        self._handed = f"{self.cursor}:{self._told}" if more else self.cursor
        return tuple(found), self._handed, more

    def nodes(self, *, gone: bool) -> tuple[NodeChange, ...]:
        """Return the workers that have had tasks. gone: whether the job needs them no more."""
        by_node: dict[str, list[Attempt]] = {}
        for change in self.attempts.values():
            if change.attempt.node and change.attempt.began:
                by_node.setdefault(change.attempt.node, []).append(change.attempt)
        found = []
        for name, every in by_node.items():
            began = min(one.began for one in every if one.began)
            found.append(
                NodeChange(
                    name=name, began=began, until=max(one.ended or one.began or began for one in every), gone=gone,
                    tasks=sum(one.state is TaskState.DONE for one in every),
                    cost=sum((one.cost for one in every), Decimal(0)),
                )
            )  # fmt: skip
        return tuple(found)
