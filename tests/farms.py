"""Farms in memory for tests: one that misbehaves on demand, and two ways to reach a farm that are not HTTP."""

from __future__ import annotations

import pickle
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

from blake3 import blake3

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import NOTHING, Delivered, FarmLink, Moved
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import (
    Account,
    Action,
    Changes,
    ControlOrder,
    Counts,
    FarmQuote,
    JobOrder,
    JobState,
    JobSummary,
    NodeChange,
    Reading,
    Registered,
    TaskChange,
)
from tidy_crate.core.files import inside
from tidy_crate.core.job.prepare import Sending, prepare
from tidy_crate.core.progress import Progress
from tidy_crate.core.transfer.chunks import Chunk, chunks
from tidy_crate.core.transfer.pack import Piece
from tidy_crate.core.transfer.upload import Refused, Source, Upload
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.options import SendOptions
from tidy_crate.core.work.task import Task, TaskState, tasks_of

BEGAN = datetime(2026, 11, 20, 8, tzinfo=UTC)


TODAY = date(2026, 11, 20)


def prepared(crate: Path, card: FarmCard, **wishes: object) -> Sending:
    """A crate, prepared for a farm with some wishes."""
    return prepare(crate, card, [("test", SendOptions.model_validate(wishes))], TODAY)


def sources(crate: Path, content: PackingList) -> list[Source]:
    """The files of a crate as an upload takes them."""
    return [Source(file.blake3, file.bytes, inside(crate, file.path)) for file in content.files]


class MemoryFarm:
    """A farm in memory that has everything rendered at once, with every capability.

    Its troubles are switched on by setting an attribute.
    """

    actions = frozenset(Action)

    def __init__(self, name: str = "f", currency: str = "EUR") -> None:
        self.name, self.currency, self.user = name, currency, "w"
        self.blobs: dict[str, bytes] = {}
        self.chunks: dict[str, bytes] = {}
        self.parts: dict[str, dict[int, bytes]] = {}
        self.packs: list[list[tuple[str, int, int]]] = []
        """Every pack that came: file, offset and size of each piece."""
        self.balance = Decimal(100)
        self.order: JobOrder | None = None
        self.submissions = 0
        self.page = 1000
        self.history: list[TaskChange] = []
        """Every change, the oldest first; its length is the cursor."""
        self.keys: set[str] = set()
        self.rerendered: list[Task] = []
        self.asked: list[int] = []
        self.fetched: list[str] = []
        self.pages = 0
        # troubles
        self.breaks = 0
        """Number of downloads that break off."""
        self.damages = 0
        """Number of downloads that arrive damaged."""
        self.forgets = False
        """True if the answer to a submission is lost."""
        self.lost: set[str] = set()
        """Keys of products that cannot be given out."""
        self.fails: set[int] = set()
        """Frames that fail to render."""
        self.reading: dict[str, object] = {}
        """Fields that it understands otherwise."""

    def link(self) -> FarmLink:
        return FarmLink(self.name, self, self, self, self, self, self, self)

    def account(self) -> Account:
        return Account(user=self.user, balance=self.balance, currency=self.currency)

    def missing(self, sources: Sequence[Source]) -> set[str]:
        return {source.blake3 for source in sources} - set(self.blobs)

    def lacking(self, source: Source, pieces: Sequence[Chunk]) -> list[Chunk]:
        """See transfer.upload.Receiver: what another file or an earlier try has brought is put in its place."""
        known = self.chunks | self.blobs
        if source.like in self.blobs:
            data = self.blobs[source.like]
            known |= {one.blake3: data[one.offset :][: one.bytes] for one in chunks(memoryview(data))}
        parts = self.parts.setdefault(source.blake3, {})
        for piece in pieces:
            if piece.blake3 in known:
                parts[piece.offset] = known[piece.blake3]
        return [piece for piece in pieces if piece.blake3 not in known]

    def take(self, pieces: Sequence[Piece]) -> list[Refused]:
        self.packs.append([(piece.file, piece.offset, len(piece.data)) for piece in pieces])
        for piece in pieces:
            data = bytes(piece.data)
            assert blake3(data).hexdigest() == piece.blake3
            if piece.file == piece.blake3:
                self.blobs[piece.file] = data
            else:
                self.chunks[piece.blake3] = data
                self.parts[piece.file][piece.offset] = data
        return []

    def finish(self, source: Source) -> bool:
        parts = self.parts.get(source.blake3, {})
        data = b"".join(parts[offset] for offset in sorted(parts))
        if blake3(data).hexdigest() != source.blake3:
            return False
        self.blobs[source.blake3] = data
        return True

    def to_send(self, crate: Path, content: PackingList) -> int:
        return sum(one.bytes for one in sources(crate, content) if one.blake3 not in self.blobs)

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        done = Upload(self, progress).run(sources(crate, content))
        registered = self.register(content)
        return Delivered(registered.crate, done.sent, done.had, registered.reading)

    def register(self, content: PackingList) -> Registered:
        own = content.essentials
        first = own.outputs[0]
        reading = Reading(
            start=own.frames.start, end=own.frames.end, fps=own.frames.fps,
            resolution=first.resolution.rendered if first.resolution else None, camera=first.camera,
            outputs={output.name: output.passes for output in own.outputs}, missing=(),
        )  # fmt: skip
        return Registered(crate="c", reading=reading.model_copy(update=self.reading))

    def quote(self, order: JobOrder) -> FarmQuote:
        return FarmQuote(cost=Decimal("1.50"), currency=self.currency, seconds=60)

    def submit(self, order: JobOrder) -> str:
        if self.order is None or self.order.key != order.key:
            self.submissions += 1
            self.order = order
            for task in tasks_of(order.tasks, order.requests):
                self.render(task, 1)
        if self.forgets:
            self.forgets = False
            raise FarmError("the line broke", self.name)
        return "1"

    def bytes_of(self, task: Task, output: str, attempt: int) -> bytes:
        return f"{self.name} {task} {output} {attempt}".encode() * 20

    def render(self, task: Task, number: int) -> None:
        assert self.order is not None
        outputs = next(one.outputs for one in self.order.requests if one.name == task.request)
        at = BEGAN + timedelta(seconds=40 + len(self.history))
        failed = task.frame in self.fails
        attempt = Attempt(
            number=number, state=TaskState.FAILED if failed else TaskState.DONE, node="n1", began=at,
            ended=at + timedelta(seconds=1), billed=1.0, cost=Decimal("0.1"), log=f"{task} {number}",
            error="out of memory" if failed else None,
        )  # fmt: skip
        products = []
        for output in () if failed else outputs:
            data = self.bytes_of(task, output, number)
            key = f"{task}|{output}|{number}"
            products.append(Product(output=output, key=key, bytes=len(data), blake3=blake3(data).hexdigest()))
        self.history.append(TaskChange(task=task, attempt=attempt, products=tuple(products)))

    def states(self) -> dict[Task, TaskState]:
        return {change.task: change.attempt.state for change in self.history}

    def summary(self, job: str) -> JobSummary:
        states = list(self.states().values())
        return JobSummary(
            job=job,
            state=JobState.FAILED if TaskState.FAILED in states else JobState.DONE,
            submitted=BEGAN,
            now=BEGAN + timedelta(seconds=60),
            cost=Decimal("0.1") * len(self.history),
            currency=self.currency,
            counts=Counts(done=states.count(TaskState.DONE), failed=states.count(TaskState.FAILED)),
            cursor=str(len(self.history)),
        )

    def changes(self, job: str, cursor: str) -> Changes:
        self.pages += 1
        since = int(cursor or 0)
        upto = min(len(self.history), since + self.page)
        node = NodeChange(
            name="n1", began=BEGAN, until=BEGAN + timedelta(seconds=60), tasks=upto, cost=Decimal("0.1") * upto
        )
        more = upto < len(self.history)
        return Changes(cursor=str(upto), more=more, tasks=tuple(self.history[since:upto]), nodes=(node,))

    def wait(self, job: str, cursor: str, seconds: float) -> None: ...

    def log(self, job: str, log: str) -> str:
        return f"log of {log}"

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        if product.key in self.lost:
            raise FarmError("the farm refuses (there is no such product)", self.name)
        name, output, number = product.key.split("|")
        task = next(change.task for change in self.history if str(change.task) == name)
        data = self.bytes_of(task, output, int(number))
        self.asked.append(offset)
        self.fetched.append(product.key)
        if self.damages:
            self.damages -= 1
            data = data[:-1] + b"?"
        with target.open("ab") as stream:
            if self.breaks:
                self.breaks -= 1
                stream.write(data[offset : offset + 100])
                raise FarmError("crashed", self.name)
            stream.write(data[offset:])

    def control(self, job: str, order: ControlOrder) -> None:
        if order.key in self.keys or self.order is None:
            return
        self.keys.add(order.key)
        if order.action is Action.RERENDER:
            for task in tasks_of(order.tasks, self.order.requests):
                number = max(change.attempt.number for change in self.history if change.task == task) + 1
                self.rerendered.append(task)
                self.render(task, number)


class FolderFarm(MemoryFarm):
    """A place that takes crates and gives out frames, and can do nothing else once it has begun."""

    actions = frozenset()

    def link(self) -> FarmLink:
        return FarmLink(self.name, deliver=self, submit=self, changes=self, fetch=self)


def open_memory(card: FarmCard, token: Token) -> FarmLink:
    """The link of a card whose address is `memory:FILE` or `folder:FILE`. Its state is kept in that file."""
    kind = FolderFarm if card.url.startswith("folder:") else MemoryFarm
    path = Path(card.url.partition(":")[2])
    farm = pickle.loads(path.read_bytes()) if path.is_file() else kind(card.name, card.currency)
    return replace(farm.link(), close=lambda: path.write_bytes(pickle.dumps(farm)) and None)
