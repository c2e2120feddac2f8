"""The link to one's own machines: batches on an existing Dask scheduler, crate and frames on shared storage.

On the shared storage:

    crates/NAME-DIGEST/        the crate
    jobs/NAME-KEY/order.json   what was ordered
    jobs/NAME-KEY/records/     what workers have done, a line per task
    jobs/NAME-KEY/frames/, logs/, control.json
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard, Machine, Program
from tidy_crate.core.farm.links.cluster.engine import Certificates, Engine
from tidy_crate.core.farm.links.cluster.here import Here
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
from tidy_crate.core.patterns import matches
from tidy_crate.core.progress import Progress
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.product import product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskState, tasks_of

# seconds that a task may take where card and scene say nothing
USUAL_TASK_SECONDS = 6 * 3600.0
POLL = 0.5
# seconds between two questions to the scheduler about a job that is not done
ASK_SCHEDULER = 20.0
# seconds after handing out in which the scheduler may not know of it yet
JUST_HANDED = 20.0
GONE = "its node was lost, and the scheduler does not try it again"


class ClusterFarm:
    """One's own machines, by a card."""

    actions = frozenset({Action.PAUSE, Action.RESUME, Action.CANCEL, Action.RERENDER})

    def __init__(self, card: FarmCard, certificates: Certificates | None = None) -> None:
        self._card = card
        if card.cluster.shared is None:
            remedy = "add shared = '/path' below [cluster]: where crates and frames go"
            raise FarmError("the card names no shared storage", card.name, remedy)
        self._storage = Storage(Path(card.cluster.shared), card.cluster.shared_on_nodes)
        self._engine: Engine | Here = (
            Here(self._storage, card.machine[0].nodes)
            if urlsplit(card.url).scheme == "here"
            else Engine(card.url, certificates)
        )
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
        self._need_possible(order)
        job = f"{order.crate.rpartition('-')[0]}-{hashlib.blake2b(order.key.encode(), digest_size=5).hexdigest()}"
        if not self._storage.knows(job):
            self._storage.make(job)
            self._storage.keep(job, ClusterOrder(order=order, submitted=datetime.now(UTC)))
        placed = self._storage.placed(job)
        if not placed.sent and not placed.tests_sent:
            self._send_out(job, placed)
        return job

    def _class_of(self, order: JobOrder) -> Machine:
        return next((one for one in self._card.machine if one.name == order.machine), self._card.machine[0])

    def _need_possible(self, order: JobOrder) -> None:
        """Raise FarmError for a wish that nothing here can fulfil: it is not taken in silence."""
        classes = self._card.machine
        chosen = self._class_of(order)
        if len(classes) > 1 and not chosen.hosts:
            remedy = f'add hosts = ["NAME", "RACK-*"] to the machine {chosen.name} of the card'
            raise FarmError(
                f"the card does not say which machines are of the class {chosen.name}", self._card.name, remedy
            )
        refused = {
            "--gpus": order.gpus is not None, "--devices": bool(order.devices), "--reclaimable": order.reclaimable,
        }  # fmt: skip
        for option, wanted in refused.items():
            if wanted:
                what = f"a scheduler of this kind cannot be told {option}, so that it would be ignored"
                raise FarmError(what, self._card.name, f"send it without {option}, or to a class of machines that fits")

    def _send_out(self, job: str, placed: ClusterOrder) -> None:
        """Hand what may begin now to the scheduler."""
        order = placed.order
        tests = list(tasks_of(order.tests, order.requests)) if order.start is Start.TESTED else []
        if order.start is not Start.AT_ONCE and not placed.tests_sent:
            if tests:
                placed = self._begin(job, placed, tests, 1, "test")
            else:
                given = self._for_node(order, self._storage.content(order.crate))
                self._storage.write_batches(job, given, ())
                self._engine.show(self._line(job))
            self._storage.keep(job, placed.model_copy(update={"tests_sent": True}))
            return
        done = set(tests)
        tasks = [task for task in tasks_of(order.tasks, order.requests) if task not in done]
        placed = self._begin(job, placed, tasks, 1, "batch")
        self._storage.keep(job, placed.model_copy(update={"sent": True, "tests_sent": True}))

    def _line(self, job: str) -> list[str]:
        """Return the words by which a node runs its part: program and job, as nodes see them."""
        return [str(self._storage.seen_by_nodes(one)) for one in (self._storage.program(), self._storage.job(job))]

    def _begin(self, job: str, placed: ClusterOrder, tasks: Sequence[Task], first: int, kind: str) -> ClusterOrder:
        """Hand tasks out. first: number of the attempt. Return the order as it is now.

        The order is noted before anything is handed out, so that whoever looks knows when that was.
        """
        order = placed.order
        rank = next((number for number, one in enumerate(self._card.priority) if one.name == order.priority), 0)
        placed = placed.model_copy(update={"handed": datetime.now(UTC)})
        self._storage.keep(job, placed)
        content = self._storage.content(order.crate)
        batches = list(self._batches(placed, content, tasks, first, f"{kind}-{placed.turn}"))
        names = self._storage.write_batches(job, self._for_node(order, content), batches)
        self._engine.begin(self._line(job), names, job, rank, order.nodes)
        return placed

    def _for_node(self, order: JobOrder, content: PackingList) -> dict[str, Any]:
        """Return the facts that every batch of an order needs."""
        program = self._program(order, content)
        command = program.command if program is not None else content.render.command if content.render else ()
        if not command:
            remedy = "add command = [...] to a [[program]] of the card, or a render command to the scene"
            raise FarmError("nothing says how these machines render the scene", self._card.name, remedy)
        crate = self._storage.crate(order.crate)
        limit = self._card.limits.minutes_per_frame
        return {
            "crate": str(self._storage.seen_by_nodes(crate)),
            "scene": content.scene,
            "scene_bytes": (crate / content.scene).stat().st_size,
            "command": list(command),
            "version_command": list(program.version_command) if program is not None else [],
            "version": order.programs.get(program.name, "") if program is not None else "",
            "retries": order.retries,
            "memory_gb": order.memory_gb,
            "hosts": list(self._class_of(order).hosts),
            "seconds": limit * 60 if limit is not None else USUAL_TASK_SECONDS,
        }

    def _program(self, order: JobOrder, content: PackingList) -> Program | None:
        """The card's own program with a command line: one that is ordered, the scene's renderer, else any."""
        able = [one for one in self._card.program if one.command]
        wanted = [*order.programs, content.render.name if content.render else ""]
        named = (one for name in wanted for one in able if name and one.is_called(name))
        return next(named, able[0] if able else None)

    def _batches(
        self, placed: ClusterOrder, content: PackingList, tasks: Sequence[Task], first: int, kind: str
    ) -> Iterator[dict[str, Any]]:
        """Batches of tasks that one command line can render: of one request and view."""
        order, generation = placed.order, placed.generation()
        requests = {request.name: request for request in order.requests}
        split = next((one for one in order.requests if one.tile_count > 1 or one.shares > 1), None)
        if split is not None:
            what = "a command line renders whole pictures, so that these machines take no tiles and sample shares"
            raise FarmError(what, split.name, "send it without --tiles and --sample-shares")
        several = len(order.requests) > 1
        names = {name: naming(content.output(name)) for one in order.requests for name in one.outputs}
        for number, group in enumerate(_groups(tasks, order.batch)):
            request = requests[group[0].request]
            yield {
                "name": f"{kind}-{number:05d}",
                "first": first,
                "turn": placed.turn,
                "values": self._values(order.crate, content, request, group),
                "tasks": [
                    {
                        "task": _task(task),
                        "generation": generation.get(task, "0"),
                        "files": {
                            name: product_path(names[name], task, by_request=several, tokens=content.tokens).as_posix()
                            for name in request.outputs
                        },
                    }
                    for task in group
                ],
            }

    def _values(
        self, crate: str, content: PackingList, request: RenderRequest, group: Sequence[Task]
    ) -> dict[str, str]:
        """Values for the placeholders of the command line, apart from the folder that each batch gets."""
        scene = self._storage.crate(crate) / content.scene
        view = request.view(group[0].view)
        if view is not None and view.variants:
            what = "a command line cannot choose variants, so that these machines cannot render them"
            raise FarmError(what, view.name, "save a scene for each variant, or send it to another farm")
        return {
            "scene": str(self._storage.seen_by_nodes(scene)),
            "host_scene": str(self._storage.seen_by_nodes(format_of(scene).opens(scene))),
            "frames": format_frames([task.frame for task in group]),
            "camera": view.camera if view is not None else "",
            "width": str(request.width),
            "height": str(request.height),
            **(content.render or RenderCommand(command=("-",))).samples_of(request.samples),
        }

    # ---- how it stands

    def _price_of(self, node: str) -> Decimal:
        """Return the price of an hour of a node, by its machine class: see `Machine.hosts`."""
        host = node.rpartition("-")[0]
        classes = self._card.machine
        known = next((one for one in classes if any(matches(host, each) for each in one.hosts)), classes[0])
        return known.price_per_hour or Decimal(0)

    def _look(self, job: str) -> Records:
        """The records of a job, up to date."""
        if job not in self._jobs:
            self._jobs[job] = Records(self._storage.job(job) / "records", self._price_of)
        self._jobs[job].look()
        return self._jobs[job]

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary."""
        placed, records = self._storage.placed(job), self._look(job)
        order = placed.order
        self._note_lost(job, placed, records)
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
        return JobSummary(
            job=job,
            state=_state(placed, counts),
            submitted=placed.submitted,
            now=datetime.now(UTC),
            cost=sum((one.attempt.cost for one in records.attempts.values()), Decimal(0)).quantize(Decimal("0.0001")),
            currency=self._card.currency,
            counts=counts,
            cursor=records.cursor,
        )

    def _note_lost(self, job: str, placed: ClusterOrder, records: Records) -> None:
        """Note as lost what is not done, where the scheduler has nothing more to do for the job.

        It is noted on the storage, so that every later command knows it, in whatever process.
        """
        if not placed.sent or placed.cancelled or placed.paused or placed.handed is None:
            return
        if (datetime.now(UTC) - placed.handed).total_seconds() < JUST_HANDED:
            return
        if records.asked and time.monotonic() - records.asked < ASK_SCHEDULER:
            return
        records.asked = time.monotonic()
        left = self._left(placed, records)
        before = records.cursor
        if not left or self._engine.under_way(job) or self._look(job).cursor != before:
            return
        why = "; ".join(self._storage.left_out(job))[:1000]
        latest, least = records.latest(), placed.least()
        lines = []
        for task in left:
            last = latest[task].attempt if task in latest else None
            number = max(last.number if last is not None else 1, least.get(task, 1))
            node = last.node if last is not None and last.node else "unknown"
            lines.append(
                {"task": _task(task), "attempt": number, "state": "failed", "node": node, "final": True,
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
            case Action.PAUSE:
                self._storage.keep(job, placed.model_copy(update={"paused": True}))
            case Action.RESUME:
                # batches of the turn before do nothing any more: a pause gave their machines back
                placed = placed.model_copy(update={"paused": False, "turn": placed.turn + 1})
                self._storage.keep(job, placed)
                if placed.sent:
                    self._hand_out_left(job, placed)
                else:
                    self._send_out(job, placed.model_copy(update={"tests_sent": True}))
            case Action.RERENDER:
                tasks = list(tasks_of(order.tasks, placed.order.requests))
                latest = self._look(job).latest()
                first = 1 + max((latest[task].attempt.number for task in tasks if task in latest), default=0)
                mark = hashlib.blake2b(order.key.encode(), digest_size=4).hexdigest()
                again = RenderedAgain(tasks=order.tasks, first=first, mark=mark)
                placed = placed.model_copy(update={"again": (*placed.again, again)})
                self._storage.keep(job, placed)
                self._begin(job, placed, tasks, first, f"again-{mark}")
            case _:
                return

    def _hand_out_left(self, job: str, placed: ClusterOrder) -> None:
        """Hand out what is left of a job."""
        records = self._look(job)
        latest = records.latest()
        left = self._left(placed, records)
        if not left:
            return
        first = 1 + max((latest[task].attempt.number for task in left if task in latest), default=0)
        self._begin(job, placed, left, first, "left")


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to one's own machines. See registry.Opener. A scheduler asks for no token, but for certificates."""
    return ClusterFarm(card, getattr(token, "certificates", None)).link()


def _state(placed: ClusterOrder, counts: Counts) -> JobState:
    if placed.cancelled:
        return JobState.CANCELLED
    if counts.done + counts.failed >= counts.total:
        return JobState.FAILED if counts.failed else JobState.DONE
    if placed.paused:
        return JobState.PAUSED
    if not placed.sent and placed.tests_sent:
        tests = sum(1 for _ in tasks_of(placed.order.tests, placed.order.requests))
        if counts.done + counts.failed >= tests:
            return JobState.HELD
    return JobState.RENDERING if counts.done or counts.rendering else JobState.WAITING


def _groups(tasks: Sequence[Task], size: int) -> Iterator[list[Task]]:
    """Neighbours of one request and view, at most so many at a time."""
    group: list[Task] = []
    for task in tasks:
        if group and (len(group) == size or (task.request, task.view) != (group[0].request, group[0].view)):
            yield group
            group = []
        group.append(task)
    if group:
        yield group


def _crate_name(content: PackingList) -> str:
    return f"{content.name[:120]}-{content.digest[:12]}"


def _task(task: Task) -> dict[str, Any]:
    return {"request": task.request, "frame": task.frame, "view": task.view, "tile": task.tile, "share": task.share}
