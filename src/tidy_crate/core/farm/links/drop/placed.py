"""A job at a place: what was ordered, which files are expected, and what is there."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from difflib import get_close_matches

from pydantic import Field

from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.farm.links.drop.bundles import MARK
from tidy_crate.core.farm.links.drop.place import Found
from tidy_crate.core.farm.protocol import JobOrder, JobState, Start, TaskChange
from tidy_crate.core.model import Wire
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.product import product_path
from tidy_crate.core.work.task import Task, TaskRange, TaskState, tasks_of

FRAMES, AGAIN = "frames", "frames-again-"
# bytes that every file may have, whatever the size of its picture: headers, previews, deep samples of small pictures
LEAST_ROOM = 32 << 20


class Again(Wire):
    """A later order for some of the tasks."""

    key: str
    tasks: tuple[TaskRange, ...]


class PlacedOrder(Wire):
    """The contents of `order.json`."""

    order: JobOrder
    submitted: datetime
    again: tuple[Again, ...] = ()
    cancelled: bool = False
    started: bool = False
    """True once a job that waits was told to start."""
    released: datetime | None = None
    """When its rented machines were shut down."""
    keys: tuple[str, ...] = Field(default=())
    """Keys of orders that were carried out."""


@dataclass
class PlacedJob:
    """A job as this process knows it."""

    placed: PlacedOrder
    content: PackingList
    expected: dict[str, tuple[Task, str]]
    """By path below the folder for frames, which task and output a file is."""
    by_name: dict[str, tuple[Task, str] | None]
    """The same by file name alone; None for a name that several have."""
    known: dict[str, Found] = field(default_factory=dict)
    """Files of the last look, those in archives too."""
    archives: dict[str, Found] = field(default_factory=dict)
    """Archives of the last look."""

    def hit(self, path: str) -> tuple[Task, str] | None:
        """Return task and output of a file below a folder for frames, by its path or by its name alone."""
        inner = path.rpartition(MARK)[2]
        stem, dot, extension = inner.rpartition(".")
        # programs of some systems write the extension in capitals
        for one in (inner, f"{stem}{dot}{extension.lower()}", f"{stem}{dot}{extension.upper()}"):
            found = self.expected.get(one) or self.by_name.get(one.rpartition("/")[2])
            if found is not None:
                return found
        return None

    def unexpected(self, most: int = 3) -> list[str]:
        """Return what is wrong with files that nothing expects: each with the name that it may have been meant by."""
        strange = [path for path in sorted(self.known) if self._is_strange(path)]
        found = []
        for path in strange[:most]:
            name = path.rpartition("/")[2]
            # of many thousand names those that have the same number
            number = _last_number(name)
            same = [one for one in self.by_name if _last_number(one) == number] if number is not None else []
            near = get_close_matches(name, same, 1, 0.5)
            found.append(f"{path} is not expected" + (f": is it {near[0]}?" if near else ""))
        if len(strange) > most:
            found.append(f"{len(strange) - most} more files are not expected")
        return found

    def _is_strange(self, path: str) -> bool:
        folder, _, rest = path.partition("/")
        return MARK not in path and (folder == FRAMES or _number(folder) > 0) and self.hit(rest) is None

    def most_bytes(self, path: str) -> int:
        """Return how large an expected file can be, in bytes; 0 for one that is not expected.

        A picture has at most 4 channels of 4 bytes per pass; twice that leaves room for what formats add.
        """
        hit = self.hit(path)
        if hit is None:
            return 0
        task, output = hit
        request = next(one for one in self.placed.order.requests if one.name == task.request)
        passes = len(self.content.output(output).variables) + 2
        return LEAST_ROOM + 2 * request.width * request.height * passes * 4 * 4

    def attempts(self) -> dict[tuple[Task, int], TaskChange]:
        """Every attempt of which files are there, with its products."""
        files: dict[tuple[Task, int], dict[str, Product]] = {}
        latest: dict[tuple[Task, int], float] = {}
        for path, one in self.known.items():
            folder, _, rest = path.partition("/")
            number = 1 if folder == FRAMES else _number(folder) + 1
            hit = self.hit(rest)
            if hit is None or number < 1 or number > len(self.placed.again) + 1:
                continue
            task, output = hit
            product = Product(output=output, key=path, bytes=one.bytes, version=one.version)
            files.setdefault((task, number), {})[output] = product
            latest[task, number] = max(latest.get((task, number), 0.0), one.changed or 0.0)
        outputs = {request.name: request.outputs for request in self.placed.order.requests}
        changes: dict[tuple[Task, int], TaskChange] = {}
        for key, products in files.items():
            task, number = key
            complete = set(products) >= set(outputs[task.request])
            ended = datetime.fromtimestamp(latest[key], UTC) if complete and latest[key] else None
            state = TaskState.DONE if complete else TaskState.RENDERING
            changes[key] = TaskChange(
                task=task,
                attempt=Attempt(number=number, state=state, ended=ended, cost=Decimal(0)),
                products=tuple(products[name] for name in sorted(products)),
            )
        for number, later in enumerate(self.placed.again, 1):
            for task in tasks_of(later.tasks, self.placed.order.requests):
                waiting = Attempt(number=number + 1, state=TaskState.WAITING, cost=Decimal(0))
                changes.setdefault((task, number + 1), TaskChange(task=task, attempt=waiting))
        return changes

    def state(self, done: int, total: int) -> JobState:
        """Return the state of the job. done, total: tasks."""
        placed = self.placed
        if placed.cancelled:
            return JobState.CANCELLED
        if done >= total:
            return JobState.DONE
        if placed.order.start is not Start.AT_ONCE and not placed.started:
            tested = placed.order.start is Start.TESTED
            tests = sum(1 for _ in tasks_of(placed.order.tests, placed.order.requests)) if tested else 0
            if done >= tests:
                return JobState.HELD
        return JobState.RENDERING if self.known else JobState.WAITING

    def mark(self) -> str:
        """Return another text for any change at the place."""
        return _mark(self.known.values(), self.placed)


def _last_number(name: str) -> int | None:
    """The last number in a name, without its extension."""
    digits = re.findall(r"[0-9]{1,9}", name.rpartition(".")[0])
    return int(digits[-1]) if digits else None


def _number(folder: str) -> int:
    text = folder.removeprefix(AGAIN)
    return int(text) if text.isascii() and text.isdigit() and len(text) < 6 else -1


def _mark(files: Iterable[Found], placed: PlacedOrder) -> str:
    """Another text for any change at the place."""
    found = hashlib.blake2b(digest_size=12)
    for one in sorted(files, key=lambda one: one.path):
        found.update(f"{one.path}\0{one.bytes}\0{one.changed}\n".encode("utf-8", "surrogatepass"))
    found.update(placed.model_dump_json().encode())
    return found.hexdigest()


def placed_job(placed: PlacedOrder, content: PackingList, from_zero: bool) -> PlacedJob:
    """Return the job with the files that are expected for it."""
    order = placed.order
    places: dict[str, dict[int, int]] = {}
    for one in order.tasks:
        places.setdefault(one.request, dict.fromkeys(parse_frames(one.frames), 0))
        places[one.request].update(dict.fromkeys(parse_frames(one.frames), 0))
    for own in places.values():
        own.update((frame, number) for number, frame in enumerate(sorted(own)))
    outputs = {request.name: request.outputs for request in order.requests}
    names = {name: naming(content.output(name)) for found in outputs.values() for name in found}
    several = len(order.requests) > 1
    expected: dict[str, tuple[Task, str]] = {}
    by_name: dict[str, tuple[Task, str] | None] = {}
    for task in tasks_of(order.tasks, order.requests):
        shown = task
        if from_zero:
            number = places[task.request][task.frame]
            shown = Task(task.request, number, task.view, task.tile, task.share)
        for output in outputs[task.request]:
            path = product_path(names[output], shown, by_request=several, tokens=content.tokens).as_posix()
            expected[path] = (task, output)
            name = path.rpartition("/")[2]
            by_name[name] = None if name in by_name else (task, output)
    return PlacedJob(placed, content, expected, by_name)
