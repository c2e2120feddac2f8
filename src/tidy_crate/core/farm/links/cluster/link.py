"""The link to one's own machines: batches by an engine, crate and frames on shared storage. See interface.Engine.

On the shared storage:

    crates/NAME-DIGEST/        the crate
    jobs/NAME-KEY/order.json   what was ordered
    jobs/NAME-KEY/records/     what nodes have done, a line per task
    jobs/NAME-KEY/frames/, logs/, control.json
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.dask import Certificates
from tidy_crate.core.farm.links.cluster.engines import engine_of
from tidy_crate.core.farm.links.cluster.interface import Engine
from tidy_crate.core.farm.links.cluster.orders import Orders, task_line
from tidy_crate.core.farm.links.cluster.records import Records
from tidy_crate.core.farm.links.cluster.storage import ClusterOrder, RenderedAgain, Storage, told
from tidy_crate.core.farm.links.interface import NOTHING, Delivered, FarmLink, Moved, Trial, tried
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import (
    Action,
    Changes,
    ControlOrder,
    Counts,
    JobOrder,
    JobState,
    JobSummary,
    Start,
)
from tidy_crate.core.files import CHUNK, inside, open_input, read_input, write_bytes
from tidy_crate.core.progress import Progress
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.task import Task, TaskState, tasks_of

POLL = 0.5
# seconds between two questions to the scheduler about a job that is not done
ASK_SCHEDULER = 20.0
# seconds after handing out in which the scheduler may not know of it yet
JUST_HANDED = 20.0
# times in a row that what is left may be handed out again without a frame that comes of it
MOST_IDLE = 2
GONE = "its node was lost, and the scheduler does not try it again"


class ClusterFarm:
    """One's own machines, by a card."""

    actions = frozenset({Action.PAUSE, Action.RESUME, Action.CANCEL, Action.RERENDER})

    def __init__(self, card: FarmCard, certificates: Certificates | None = None, engine: Engine | None = None) -> None:
        """engine: in place of the one that the card's address names, for those that other packages bring."""
        self._card = card
        if card.cluster.shared is None:
            remedy = "add shared = '/path' below [cluster]: where crates and frames go"
            raise FarmError("the card names no shared storage", card.name, remedy)
        alone = card.url.lower().startswith("here:")
        self._storage = Storage(Path(card.cluster.shared), card.cluster.shared_on_nodes, own=alone)
        self._engine = engine or engine_of(card, self._storage, certificates)
        self._orders = Orders(card, self._storage, self._engine.fulfils)
        self._jobs: dict[str, Records] = {}

    def link(self) -> FarmLink:
        """The cluster as a link."""
        return FarmLink(
            self._card.name, deliver=self, submit=self, changes=self, fetch=self, control=self, trial=self.trial
        )  # fmt: skip

    def trial(self) -> Iterator[Trial]:
        """See FarmLink.trial."""

        def written() -> str:
            shared = self._storage.shared
            probe = shared / f".tidy-crate-{time.time_ns()}"
            with told(shared):
                write_bytes(probe, b"may this be written?")
                probe.unlink()
            return f"{shared} can be written from here"

        yield tried("write to the shared storage", written)
        yield tried("meet the scheduler and its workers", self._engine.meet)

    # ---- delivering

    def to_send(self, crate: Path, content: PackingList) -> int:
        """See Delivering.to_send."""
        return 0 if self._storage.has(_crate_name(content), content) else content.bytes

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        """See Delivering.deliver."""
        name = _crate_name(content)
        if self._storage.has(name, content):
            return Delivered(name, 0, content.bytes, None)
        copied = self._storage.take(crate, name, content, progress)
        return Delivered(name, copied, content.bytes - copied, None)

    # ---- orders

    def submit(self, order: JobOrder) -> str:
        """See Submitting.submit. Raises FarmError where no worker shows that it can do it, with what each one says."""
        self._orders.need_possible(order)
        job = f"{order.crate.rpartition('-')[0]}-{hashlib.blake2b(order.key.encode(), digest_size=5).hexdigest()}"
        if not self._storage.knows(job):
            self._storage.make(job)
            self._storage.keep(job, ClusterOrder(order=order, submitted=datetime.now(UTC)))
        placed = self._storage.placed(job)
        if not placed.sent and not placed.tests_sent:
            self._send_out(job, placed)
        return job

    def _send_out(self, job: str, placed: ClusterOrder) -> None:
        """Hand what may begin now to the scheduler."""
        order = placed.order
        tests = list(tasks_of(order.tests, order.requests)) if order.start is Start.TESTED else []
        if order.start is not Start.AT_ONCE and not placed.tests_sent:
            if tests:
                placed = self._begin(job, placed, tests, 1, "test")
            else:
                given = self._orders.for_node(order, self._storage.content(order.crate))
                self._storage.write_batches(job, given, ())
                self._engine.show(self._orders.line(job))
            self._storage.keep(job, placed.model_copy(update={"tests_sent": True}))
            return
        done = set(tests)
        tasks = [task for task in tasks_of(order.tasks, order.requests) if task not in done]
        placed = self._begin(job, placed, tasks, 1, "batch")
        self._storage.keep(job, placed.model_copy(update={"sent": True, "tests_sent": True}))

    def _begin(self, job: str, placed: ClusterOrder, tasks: Sequence[Task], first: int, kind: str) -> ClusterOrder:
        """Hand tasks out. first: number of the attempt. Return the order as it is now.

        The order is noted before anything is handed out, so that whoever looks knows when that was.
        """
        order = placed.order
        placed = placed.model_copy(update={"handed": datetime.now(UTC)})
        self._storage.keep(job, placed)
        content = self._storage.content(order.crate)
        batches = list(self._orders.batches(placed, content, tasks, first, f"{kind}-{placed.turn}"))
        names = self._storage.write_batches(job, self._orders.for_node(order, content), batches)
        longest = max((len(one["tasks"]) for one in batches), default=0)
        self._engine.begin(self._orders.for_engine(job, order, content, names, longest))
        return placed

    # ---- how it stands

    def _look(self, job: str) -> Records:
        """The records of a job, up to date."""
        if job not in self._jobs:
            ordered = self._orders.class_of(self._storage.placed(job).order)
            self._jobs[job] = Records(
                self._storage.job(job) / "records", lambda node: self._orders.price_of(node, ordered)
            )
        self._jobs[job].look()
        return self._jobs[job]

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary."""
        placed, records = self._storage.placed(job), self._look(job)
        order = placed.order
        placed = self._take_care(job, placed, records)
        least = placed.least()
        latest = [
            change.attempt for task, change in records.latest().items() if change.attempt.number >= least.get(task, 0)
        ]
        total = sum(1 for _ in tasks_of(order.tasks, order.requests))
        done = sum(one.state is TaskState.DONE for one in latest)
        rendering = sum(one.state is TaskState.RENDERING for one in latest)
        # a failure after which a node tries again is none yet
        final = (
            (task, change.attempt.number) in records.final
            for task, change in records.latest().items()
            if change.attempt.number >= least.get(task, 0) and change.attempt.state is TaskState.FAILED
        )
        failed = sum(final)
        open_ = max(0, total - done - failed)
        counts = Counts(done=done, failed=failed, rendering=min(rendering, open_), waiting=max(0, open_ - rendering))
        if placed.cancelled:
            counts = Counts(done=done, failed=failed, cancelled=open_)
        capped = self._storage.capped(job, placed.turn) if order.cap is not None else ""
        return JobSummary(
            job=job,
            state=_state(placed, counts, capped=bool(capped)),
            why=capped or ("" if rendering or not open_ else records.why[:500]),
            submitted=placed.submitted,
            now=datetime.now(UTC),
            cost=sum((one.attempt.cost for one in records.attempts.values()), Decimal(0)).quantize(Decimal("0.0001")),
            currency=self._card.currency,
            counts=counts,
            cursor=records.cursor,
        )

    def _take_care(self, job: str, placed: ClusterOrder, records: Records) -> ClusterOrder:
        """Hand out again what is left where the engine has nothing more to do for the job. Return the order as it is.

        An engine that was restarted has forgotten its batches, and one whose node was lost may have given them up. What
        is left after two such rounds without a frame is noted as lost: on the storage, so that every later command
        knows it, in whatever process. An engine that does not answer is asked again later: the storage holds the truth.
        """
        if placed.cancelled or placed.paused or not self._asks_now(placed, records):
            return placed
        tests = frozenset(tasks_of(placed.order.tests, placed.order.requests))
        left = [task for task in self._left(placed, records) if placed.sent or task in tests]
        before = records.cursor
        try:
            if not left or self._engine.under_way(job):
                records.why = self._engine.why(job) if left else ""
                return placed
            if self._storage.capped(job, placed.turn) or self._look(job).cursor != before:
                return placed
            placed = self._hand_out_again(job, placed, left)
            if placed.idle <= MOST_IDLE:
                return placed
            why = self._engine.why(job)
        except FarmBusy as error:
            records.why = f"{error.what}; what is on the shared storage is shown"
            return placed
        except FarmError as error:
            why = error.what
        self._note_lost(job, placed, records, left, why)
        return placed

    @staticmethod
    def _asks_now(placed: ClusterOrder, records: Records) -> bool:
        """Return whether it is time to ask the engine about a job."""
        if placed.handed is None or (datetime.now(UTC) - placed.handed).total_seconds() < JUST_HANDED:
            return False
        if records.asked and time.monotonic() - records.asked < ASK_SCHEDULER:
            return False
        records.asked = time.monotonic()
        return True

    def _hand_out_again(self, job: str, placed: ClusterOrder, left: Sequence[Task]) -> ClusterOrder:
        """Hand out what an engine has given up, unless that has brought nothing too often. Return the order.

        A round in which the engine does not answer is none. One that it refuses counts.
        """
        total = sum(1 for _ in tasks_of(placed.order.tasks, placed.order.requests))
        done = total - len(left)
        idle = 1 + (placed.idle if placed.idle and done <= placed.done_then else 0)
        refused = None
        if idle <= MOST_IDLE:
            placed = placed.model_copy(update={"turn": placed.turn + 1})
            try:
                self._hand_out_left(job, placed, left)
            except FarmBusy:
                raise
            except FarmError as error:
                refused = error
            placed = self._storage.placed(job)
        placed = placed.model_copy(update={"idle": idle, "done_then": done})
        self._storage.keep(job, placed)
        if refused is not None and idle >= MOST_IDLE:
            raise refused
        return placed

    def _note_lost(self, job: str, placed: ClusterOrder, records: Records, left: Sequence[Task], said: str) -> None:
        """Note tasks as lost. said: what the engine says of it."""
        why = "; ".join([*([said] if said else []), *self._storage.left_out(job)])[:1000]
        latest, least = records.latest(), placed.least()
        lines = []
        for task in left:
            last = latest[task].attempt if task in latest else None
            number = max(last.number if last is not None else 1, least.get(task, 1))
            node = last.node if last is not None and last.node else "unknown"
            lines.append(
                {"task": task_line(task), "attempt": number, "state": "failed", "node": node, "final": True,
                 "error": f"{GONE}; left out: {why}" if why else GONE}
            )  # fmt: skip
        self._storage.note_lost(job, lines)
        self._look(job)

    def _left(self, placed: ClusterOrder, records: Records) -> list[Task]:
        """Return the tasks that are neither done nor given up."""
        latest, least = records.latest(), placed.least()

        def is_open(task: Task) -> bool:
            last = latest[task].attempt if task in latest else None
            if last is None or last.number < least.get(task, 0):
                return True
            return last.state is not TaskState.DONE and (task, last.number) not in records.final

        return [task for task in tasks_of(placed.order.tasks, placed.order.requests) if is_open(task)]

    def changes(self, job: str, cursor: str) -> Changes:
        """See Telling.changes."""
        records = self._look(job)
        tasks, after, more = records.page(cursor)
        nodes = records.nodes(gone=self._storage.placed(job).cancelled)
        return Changes(cursor=after, more=more, tasks=tasks, nodes=nodes)

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """See Telling.wait."""
        until = time.monotonic() + seconds
        while time.monotonic() < until and self._look(job).cursor == cursor:
            time.sleep(min(POLL, max(0.0, until - time.monotonic())))

    def log(self, job: str, log: str) -> str:
        """See Telling.log."""
        path = inside(self._storage.job(job) / "logs", log)
        with told(path):
            return read_input(path).decode("utf-8", "replace")

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """See Fetching.fetch."""
        source = inside(self._storage.job(job) / "frames", product.key)
        with told(source), open_input(source) as stream, target.open("ab" if offset else "wb") as out:
            stream.seek(offset)
            left = product.bytes - offset
            while left > 0 and (chunk := stream.read(min(CHUNK, left))):
                out.write(chunk)
                moved(len(chunk))
                left -= len(chunk)

    def control(self, job: str, order: ControlOrder) -> None:
        """See Controlling.control."""
        placed = self._storage.placed(job)
        if order.key in placed.keys:
            return
        placed = placed.model_copy(update={"keys": (*placed.keys, order.key)})
        match order.action:
            case Action.CANCEL:
                self._storage.keep(job, placed.model_copy(update={"cancelled": True}))
                self._engine.cancel(job)
            case Action.PAUSE:
                self._storage.keep(job, placed.model_copy(update={"paused": True}))
                self._engine.cancel(job)
            case Action.RESUME:
                # batches of the turn before do nothing any more: a pause gave their machines back
                placed = placed.model_copy(update={"paused": False, "turn": placed.turn + 1, "idle": 0})
                if order.cap is not None:
                    placed = placed.model_copy(update={"order": placed.order.model_copy(update={"cap": order.cap})})
                self._storage.keep(job, placed)
                if placed.sent:
                    self._hand_out_left(job, placed, self._left(placed, self._look(job)))
                else:
                    self._send_out(job, placed.model_copy(update={"tests_sent": True}))
            case Action.RERENDER:
                tasks = list(tasks_of(order.tasks, placed.order.requests))
                latest = self._look(job).latest()
                first = 1 + max((latest[task].attempt.number for task in tasks if task in latest), default=0)
                mark = hashlib.blake2b(order.key.encode(), digest_size=4).hexdigest()
                again = RenderedAgain(tasks=order.tasks, first=first, mark=mark)
                placed = placed.model_copy(update={"again": (*placed.again, again), "idle": 0})
                self._storage.keep(job, placed)
                self._begin(job, placed, tasks, first, f"again-{mark}")
            case _:
                return

    def _hand_out_left(self, job: str, placed: ClusterOrder, left: Sequence[Task]) -> None:
        """Hand out what is left of a job."""
        latest = self._look(job).latest()
        if not left:
            return
        first = 1 + max((latest[task].attempt.number for task in left if task in latest), default=0)
        self._begin(job, placed, left, first, "left")


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to one's own machines. See registry.Opener. A scheduler asks for no token, but for certificates."""
    return ClusterFarm(card, getattr(token, "certificates", None)).link()


def _state(placed: ClusterOrder, counts: Counts, *, capped: bool) -> JobState:
    if placed.cancelled:
        return JobState.CANCELLED
    if counts.done + counts.failed >= counts.total:
        return JobState.FAILED if counts.failed else JobState.DONE
    if placed.paused or (capped and not counts.rendering):
        return JobState.PAUSED
    if not placed.sent and placed.tests_sent:
        tests = sum(1 for _ in tasks_of(placed.order.tests, placed.order.requests))
        if counts.done + counts.failed >= tests:
            return JobState.HELD
    return JobState.RENDERING if counts.done or counts.rendering else JobState.WAITING


def _crate_name(content: PackingList) -> str:
    return f"{content.name[:120]}-{content.digest[:12]}"
