"""The link to one's own machines: batches on an existing Dask scheduler, crate and frames on shared storage.

On the shared storage:

    crates/NAME-DIGEST/        the crate
    jobs/NAME-KEY/order.json   what was ordered
    jobs/NAME-KEY/records/     what workers have done, a line per task
    jobs/NAME-KEY/frames/, logs/, control.json
"""

from __future__ import annotations

import hashlib
import shutil
import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from pydantic import ValidationError

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.crate.packing import FILE_NAME, PackedFile, PackingList, last_packing_list
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, UnreadableInput
from tidy_crate.core.farm.card import FarmCard, Program
from tidy_crate.core.farm.links.interface import NOTHING, Delivered, FarmLink, Moved, Trial, tried
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import (
    PAGE,
    Action,
    Changes,
    ControlOrder,
    Counts,
    JobOrder,
    JobState,
    JobSummary,
    NodeChange,
    Start,
    TaskChange,
)
from tidy_crate.core.files import CHUNK, hash_file, inside, write_bytes, write_json
from tidy_crate.core.model import Wire
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.product import product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskRange, TaskState, tasks_of

if TYPE_CHECKING:
    from distributed import Client

SECONDS = 20.0
# seconds that a task may take where card and scene say nothing
USUAL_TASK_SECONDS = 6 * 3600.0
POLL = 0.5
# seconds between two questions to the scheduler about a job that is not done
ASK_SCHEDULER = 20.0
GONE = "its worker was lost, and the scheduler does not try it again"
HOUR = Decimal(3600)


class Again(Wire):
    """A later order for some of the tasks."""

    tasks: tuple[TaskRange, ...]
    first: int
    """Number of the attempt."""


class ClusterOrder(Wire):
    """What `order.json` says."""

    order: JobOrder
    submitted: datetime
    sent: bool = False
    """Whether its batches are with the scheduler."""
    tests_sent: bool = False
    cancelled: bool = False
    paused: bool = False
    keys: tuple[str, ...] = ()
    """Keys of orders that were carried out."""


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


@dataclass
class _Known:
    """What this process has read of a job's records."""

    read: dict[str, int] = field(default_factory=dict)
    """By record, bytes that were read."""
    attempts: dict[tuple[Task, int], TaskChange] = field(default_factory=dict)
    order: list[tuple[Task, int]] = field(default_factory=list)
    """Attempts in the order in which they last changed."""
    told: int = 0
    """How many changes were handed out."""
    handed: str = ""
    """The cursor after them."""
    asked: float = 0.0
    """When the scheduler was last asked, on the clock of this process."""
    changes: list[TaskChange] = field(default_factory=list)


class ClusterFarm:
    """One's own machines. shared: the shared storage as this machine sees it."""

    actions = frozenset({Action.PAUSE, Action.RESUME, Action.CANCEL, Action.RERENDER})

    def __init__(self, card: FarmCard) -> None:
        self._card = card
        if card.cluster.shared is None:
            remedy = "add shared = '/path' below [cluster]: where crates and frames go"
            raise FarmError("the card names no shared storage", card.name, remedy)
        self.shared = Path(card.cluster.shared)
        self._jobs: dict[str, _Known] = {}

    def link(self) -> FarmLink:
        """The cluster as a link."""
        return FarmLink(
            self._card.name, deliver=self, submit=self, changes=self, fetch=self, control=self, trial=self.trial
        )

    def trial(self) -> Iterator[Trial]:
        """See FarmLink.trial."""

        def written() -> str:
            probe = self.shared / f".tidy-crate-{time.time_ns()}"
            with _told(self.shared):
                write_bytes(probe, b"may this be written?")
                probe.unlink()
            return f"{self.shared} can be written from here"

        yield tried("write to the shared storage", written)

        def met() -> str:
            with self._client() as client:
                workers: Any = client.scheduler_info(n_workers=-1)["workers"]
                if not workers:
                    raise FarmError("the scheduler has no workers", self._card.url, "start some")
                from tidy_crate.core.farm.links.cluster import on_worker

                accounts = sorted(set(client.run(on_worker.who).values()))
                return f"{len(workers)} workers of the same versions; they render as {', '.join(accounts)}"

        yield tried("meet the scheduler and its workers", met)

    # ---- delivering

    def to_send(self, crate: Path, content: PackingList) -> int:
        """See Delivering.to_send."""
        return 0 if self._has(_crate_name(content), content) else content.bytes

    def _has(self, name: str, content: PackingList) -> bool:
        folder = self.shared / "crates" / name
        try:
            return last_packing_list(folder).digest == content.digest
        except (UnreadableInput, OSError):
            return False

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        """See Delivering.deliver. Files that an earlier try has brought are not copied again."""
        name = _crate_name(content)
        if self._has(name, content):
            return Delivered(name, 0, content.bytes, None)
        draft, done = self.shared / "crates" / f".{name}.part", 0
        with _told(self.shared):
            draft.mkdir(parents=True, exist_ok=True)

        def copy(file: PackedFile) -> int:
            source, target = inside(crate, file.path), inside(draft, file.path)
            if target.is_file() and target.stat().st_size == file.bytes and hash_file(target) == file.blake3:
                return 0
            if not source.is_file() or source.stat().st_size != file.bytes or hash_file(source) != file.blake3:
                raise Blocked("a file of the crate is not as it was packed", source, "collect again")
            with _told(target):
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(source, target)
                if hash_file(target) != file.blake3:
                    raise FarmBusy("what arrived is not what was copied", target, "run the command again")
            return file.bytes

        errors: list[Exception] = []
        copied = 0
        with ThreadPoolExecutor(4) as pool:
            for file, run in [(file, pool.submit(copy, file)) for file in content.files]:
                try:
                    copied += run.result()
                except (Blocked, FarmError) as error:
                    errors.append(error)
                    continue
                done += file.bytes
                progress(Step("upload", done, content.bytes, "bytes", file.path))
        if errors:
            raise errors[0]
        with _told(draft):
            write_bytes(draft / FILE_NAME, content.model_dump_json(indent=1).encode() + b"\n")
            target = self.shared / "crates" / name
            shutil.rmtree(target, ignore_errors=True)
            draft.replace(target)
        return Delivered(name, copied, content.bytes - copied, None)

    # ---- orders

    def submit(self, order: JobOrder) -> str:
        """See Submitting.submit. Raises FarmError where no worker shows that it can do it, with what each one says."""
        job = f"{order.crate.rpartition('-')[0]}-{hashlib.blake2b(order.key.encode(), digest_size=5).hexdigest()}"
        folder = self._folder(job)
        if not (folder / "order.json").is_file():
            with _told(folder):
                for name in ("frames", "records", "logs", "work"):
                    (folder / name).mkdir(parents=True, exist_ok=True)
            self._keep(job, ClusterOrder(order=order, submitted=datetime.now(UTC)))
        placed = self._placed(job)
        if not placed.sent and not placed.tests_sent:
            self._send_out(job, placed)
        return job

    def _send_out(self, job: str, placed: ClusterOrder) -> None:
        """Hand what may begin now to the scheduler."""
        order = placed.order
        if order.start is Start.HELD and not placed.tests_sent:
            self._show(job, placed)
            self._keep(job, placed.model_copy(update={"tests_sent": True}))
            return
        if order.start is Start.TESTED and not placed.tests_sent:
            tests = list(tasks_of(order.tests, order.requests))
            self._begin(job, placed, tests, 1, "test")
            self._keep(job, placed.model_copy(update={"tests_sent": True}))
            return
        tasks = list(tasks_of(order.tasks, order.requests))
        if order.start is Start.TESTED:
            tested = set(tasks_of(order.tests, order.requests))
            tasks = [task for task in tasks if task not in tested]
        self._begin(job, placed, tasks, 1, "batch")
        self._keep(job, placed.model_copy(update={"sent": True, "tests_sent": True}))

    def _show(self, job: str, placed: ClusterOrder) -> None:
        """Let every worker show that it can do it. Raises FarmError where none can."""
        with self._client() as client:
            self._shown(client, self._for_worker(job, placed.order))

    def _shown(self, client: Client, order: dict[str, Any]) -> list[str]:
        from tidy_crate.core.farm.links.cluster import on_worker

        answers: dict[str, Any] = client.run(on_worker.show, order, on_error="return")
        if not answers:
            raise FarmError("the scheduler has no workers", self._card.url, "start some, then send again")
        fit, trouble = [], []
        for address, one in answers.items():
            if isinstance(one, dict) and not one.get("trouble"):
                fit.append(address)
            else:
                said = one.get("trouble") if isinstance(one, dict) else f"{type(one).__name__}: {one}"
                trouble.append(f"{address}: {said}"[:300])
        if not fit:
            raise FarmError("no worker can render it: " + "; ".join(trouble[:5]), self._card.url, "see what each says")
        return trouble

    def _begin(self, job: str, placed: ClusterOrder, tasks: Sequence[Task], first: int, kind: str) -> None:
        from distributed import fire_and_forget

        from tidy_crate.core.farm.links.cluster import on_worker

        order = placed.order
        given = self._for_worker(job, order)
        batches = list(self._batches(job, order, tasks, first, kind))
        with self._client() as client:
            self._shown(client, given)
            rank = next((n for n, one in enumerate(self._card.priority) if one.name == order.priority), 0)
            for number, batch in enumerate(batches):
                future = client.submit(
                    on_worker.run_batch, given, batch, key=f"{job}/{batch['name']}/{first}", pure=False,
                    retries=order.retries, priority=1000 * rank - number,
                )  # fmt: skip
                fire_and_forget(future)  # type: ignore[no-untyped-call]
            # what was submitted must be there before we go
            client.run_on_scheduler(on_worker.worker_name)  # type: ignore[no-untyped-call]

    def _for_worker(self, job: str, order: JobOrder) -> dict[str, Any]:
        content = self._content(order.crate)
        program = self._program(order, content)
        command = program.command if program is not None else content.render.command if content.render else ()
        if not command:
            remedy = "add command = [...] to a [[program]] of the card, or a render command to the scene"
            raise FarmError("nothing says how these machines render the scene", self._card.name, remedy)
        scene = self.shared / "crates" / order.crate / content.scene
        limit = self._card.limits.minutes_per_frame
        return {
            "crate": str(self._on_nodes(self.shared / "crates" / order.crate)),
            "job": str(self._on_nodes(self._folder(job))),
            "scene": content.scene,
            "scene_bytes": scene.stat().st_size,
            "command": list(command),
            "version_command": list(program.version_command) if program is not None else [],
            "version": order.programs.get(program.name, "") if program is not None else "",
            "retries": order.retries,
            "seconds": limit * 60 if limit is not None else USUAL_TASK_SECONDS,
        }

    def _program(self, order: JobOrder, content: PackingList) -> Program | None:
        """The card's own program with a command line: one that is ordered, the scene's renderer, else any."""
        able = [one for one in self._card.program if one.command]
        wanted = [*order.programs, content.render.name if content.render else ""]
        for name in wanted:
            for one in able:
                if name and one.is_called(name):
                    return one
        return able[0] if able else None

    def _batches(
        self, job: str, order: JobOrder, tasks: Sequence[Task], first: int, kind: str
    ) -> Iterator[dict[str, Any]]:
        """Batches of tasks that one command line can render: of one request and view."""
        content = self._content(order.crate)
        requests = {request.name: request for request in order.requests}
        split = next((one for one in order.requests if one.tile_count > 1 or one.shares > 1), None)
        if split is not None:
            what = "a command line renders whole pictures, so that these machines take no tiles and sample shares"
            raise FarmError(what, split.name, "send it without --tiles and --sample-shares")
        several = len(order.requests) > 1
        names = {name: naming(content.output(name)) for one in order.requests for name in one.outputs}
        number = at = 0
        while at < len(tasks):
            group = [tasks[at]]
            while (
                len(group) < order.batch
                and at + len(group) < len(tasks)
                and (tasks[at + len(group)].request, tasks[at + len(group)].view) == (group[0].request, group[0].view)
            ):
                group.append(tasks[at + len(group)])
            at += len(group)
            request = requests[group[0].request]
            files = [
                {
                    name: product_path(names[name], task, by_request=several, tokens=content.tokens).as_posix()
                    for name in request.outputs
                }
                for task in group
            ]
            yield {
                "name": f"{kind}-{number:05d}",
                "first": first,
                "values": self._values(order.crate, content, request, group),
                "tasks": [{"task": _task(task), "files": own} for task, own in zip(group, files, strict=True)],
            }
            number += 1

    def _values(
        self, crate: str, content: PackingList, request: RenderRequest, group: Sequence[Task]
    ) -> dict[str, str]:
        scene = self.shared / "crates" / crate / content.scene
        view = request.view(group[0].view)
        if view is not None and view.variants:
            what = "a command line cannot choose variants, so that these machines cannot render them"
            raise FarmError(what, view.name, "save a scene for each variant, or send it to another farm")
        return {
            "scene": str(self._on_nodes(scene)),
            "host_scene": str(self._on_nodes(format_of(scene).opens(scene))),
            "frames": format_frames([task.frame for task in group]),
            "camera": view.camera if view is not None else "",
            "width": str(request.width),
            "height": str(request.height),
            "samples": str(request.samples or 0),
        }

    def _on_nodes(self, path: Path) -> PurePosixPath | Path:
        """A path on the shared storage as the workers see it."""
        if self._card.cluster.shared_on_nodes is None:
            return path
        return PurePosixPath(self._card.cluster.shared_on_nodes, path.relative_to(self.shared).as_posix())

    @contextmanager
    def _client(self) -> Iterator[Client]:
        """A connection to the scheduler. Raises FarmError for one of another version, FarmBusy where none answers."""
        try:
            import cloudpickle
            from distributed import Client

            from tidy_crate.core.farm.links.cluster import on_worker
        except ModuleNotFoundError as error:
            what = f"what reaches a Dask scheduler is not installed ({error.name})"
            raise FarmError(what, self._card.url, "install it: pip install 'tidy-crate[cluster]'") from error
        # workers need nothing of this package
        cloudpickle.register_pickle_by_value(on_worker)
        parts = urlsplit(self._card.url)
        try:
            client = Client(f"tcp://{parts.hostname}:{parts.port or 8786}", timeout=SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, TimeoutError) as error:
            what = f"the scheduler cannot be reached ({' '.join(str(error).split())[:160]})"
            raise FarmBusy(what, self._card.url, "check that it runs and that the address is right") from error
        try:
            self._need_versions(client)
            yield client
        except (OSError, TimeoutError) as error:
            what = f"the scheduler has gone away ({' '.join(str(error).split())[:160]})"
            raise FarmBusy(what, self._card.url, "run the command again") from error
        finally:
            client.close(timeout=SECONDS)  # type: ignore[no-untyped-call]

    def _need_versions(self, client: Client) -> None:
        """Raise FarmError where workers or scheduler have another version of the engine, or of Python, than we."""
        found: Any = client.get_versions()
        own = _versions(found["client"])
        others = {"the scheduler": _versions(found["scheduler"])}
        others |= {f"worker {name}": _versions(one) for name, one in found["workers"].items()}
        for name, theirs in others.items():
            if theirs != own:
                what = f"{name} has {theirs}, this machine has {own}"
                raise FarmError(what, self._card.url, "install the same versions everywhere")

    # ---- what is on the shared storage

    def _folder(self, job: str) -> Path:
        if not job or "/" in job or "\\" in job or job.startswith("."):
            raise FarmError("this is no name of a job there", job)
        return self.shared / "jobs" / job

    def _keep(self, job: str, placed: ClusterOrder) -> None:
        with _told(self._folder(job)):
            write_bytes(self._folder(job) / "order.json", placed.model_dump_json(indent=1).encode())
            write_json(self._folder(job) / "control.json", {"cancelled": placed.cancelled, "paused": placed.paused})

    def _placed(self, job: str) -> ClusterOrder:
        path = self._folder(job) / "order.json"
        try:
            return ClusterOrder.model_validate_json(path.read_bytes())
        except OSError as error:
            what = f"the shared storage cannot be read ({error.strerror})"
            raise FarmBusy(what, path, "check that it is mounted here") from error
        except ValidationError as error:
            raise FarmError("the order on the shared storage is damaged", path, "send the job again") from error

    def _content(self, crate: str) -> PackingList:
        return last_packing_list(self.shared / "crates" / crate)

    # ---- how it stands

    def _look(self, job: str) -> _Known:
        """Read what workers have written since the last look."""
        known = self._jobs.setdefault(job, _Known())
        folder = self._folder(job) / "records"
        with _told(folder):
            for path in sorted(folder.glob("*.jsonl")):
                at = known.read.get(path.name, 0)
                if path.stat().st_size <= at:
                    continue
                with path.open("rb") as stream:
                    stream.seek(at)
                    data = stream.read()
                # a line that is still being written waits for the next look
                whole = data[: data.rfind(b"\n") + 1]
                known.read[path.name] = at + len(whole)
                for line in whole.splitlines():
                    self._take(known, line, path)
        return known

    def _take(self, known: _Known, data: bytes, path: Path) -> None:
        try:
            line = _Line.model_validate_json(data)
            products = tuple(
                Product(output=one["output"], key=one["path"], bytes=one["bytes"], blake3=one.get("blake3"))
                for one in line.products
            )
        except (ValidationError, KeyError, TypeError) as error:
            raise FarmError("a record on the shared storage is damaged", path, "look at it") from error
        seconds = (line.ended - line.began).total_seconds() if line.ended and line.began else None
        attempt = Attempt(
            number=line.attempt, state=line.state, node=line.node, began=line.began, ended=line.ended,
            billed=None if seconds is None else max(0.0, seconds), cost=self._cost(seconds or 0.0), error=line.error,
            log=line.log,
        )  # fmt: skip
        change = TaskChange(task=line.task, attempt=attempt, products=products)
        known.attempts[line.task, line.attempt] = change
        known.changes.append(change)

    def _cost(self, seconds: float) -> Decimal:
        hour = self._card.machine[0].price_per_hour or Decimal(0)
        return (hour * Decimal(str(max(0.0, seconds))) / HOUR).quantize(Decimal("0.000001"))

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary."""
        placed, known = self._placed(job), self._look(job)
        self._note_lost(job, placed, known)
        latest: dict[Task, TaskChange] = {}
        for (task, number), change in known.attempts.items():
            if task not in latest or latest[task].attempt.number < number:
                latest[task] = change
        states = [change.attempt.state for change in latest.values()]
        total = sum(1 for _ in tasks_of(placed.order.tasks, placed.order.requests))
        final = [
            change
            for change in latest.values()
            if change.attempt.state is TaskState.FAILED
            and (change.attempt.number > placed.order.retries or change.attempt.error == GONE)
        ]
        done, rendering = states.count(TaskState.DONE), states.count(TaskState.RENDERING)
        failed, waiting = len(final), max(0, total - done - rendering - len(final))
        cancelled = waiting + rendering if placed.cancelled else 0
        cost = sum((change.attempt.cost for change in known.attempts.values()), Decimal(0))
        return JobSummary(
            job=job,
            state=_state(placed, done, rendering, failed, total),
            submitted=placed.submitted,
            now=datetime.now(UTC),
            cost=cost.quantize(Decimal("0.0001")),
            currency=self._card.currency,
            counts=Counts(
                waiting=0 if placed.cancelled else waiting,
                rendering=0 if placed.cancelled else rendering,
                done=done, failed=failed, cancelled=cancelled,
            ),
            cursor=_cursor(known),
        )  # fmt: skip

    def _note_lost(self, job: str, placed: ClusterOrder, known: _Known) -> None:
        """Count as failed what is not done, where the scheduler has nothing more to do for the job."""
        if not placed.sent or placed.cancelled or time.monotonic() - known.asked < ASK_SCHEDULER:
            return
        done = {task for (task, _), one in known.attempts.items() if one.attempt.state is TaskState.DONE}
        left = [task for task in tasks_of(placed.order.tasks, placed.order.requests) if task not in done]
        if not left:
            return
        first = known.asked == 0.0
        known.asked = time.monotonic()
        if first and not known.attempts:
            return
        from tidy_crate.core.farm.links.cluster import on_worker

        before = sum(known.read.values())
        with self._client() as client:
            under_way = client.run_on_scheduler(on_worker.batches_under_way, job)  # type: ignore[no-untyped-call]
        if under_way or sum(self._look(job).read.values()) != before:
            return
        for task in left:
            number = max((n for other, n in known.attempts if other == task), default=0)
            last = known.attempts.get((task, number))
            if last is not None and last.attempt.state is TaskState.FAILED:
                continue
            attempt = Attempt(
                number=max(1, number), state=TaskState.FAILED, cost=Decimal(0), error=GONE,
                node=last.attempt.node if last is not None else None,
            )  # fmt: skip
            change = TaskChange(task=task, attempt=attempt)
            known.attempts[task, attempt.number] = change
            known.changes.append(change)

    def changes(self, job: str, cursor: str) -> Changes:
        """See Telling.changes. A process that begins reads all records once."""
        known = self._look(job)
        if cursor != known.handed:
            # what was handed out last was not kept
            known.told = 0
        page = known.changes[known.told : known.told + PAGE]
        known.told += len(page)
        more = known.told < len(known.changes)
        known.handed = f"{_cursor(known)}:{known.told}" if more else _cursor(known)
        return Changes(
            cursor=known.handed,
            more=more,
            tasks=tuple(page),
            nodes=tuple(self._nodes(job, known)),
        )

    def _nodes(self, job: str, known: _Known) -> Iterator[NodeChange]:
        ended = self._placed(job).cancelled
        by_node: dict[str, list[TaskChange]] = {}
        for change in known.attempts.values():
            if change.attempt.node and change.attempt.began:
                by_node.setdefault(change.attempt.node, []).append(change)
        for name, every in by_node.items():
            began = min(one.attempt.began for one in every if one.attempt.began)
            until = max(one.attempt.ended or one.attempt.began or began for one in every)
            yield NodeChange(
                name=name, began=began, until=until, gone=ended,
                tasks=sum(one.attempt.state is TaskState.DONE for one in every),
                cost=sum((one.attempt.cost for one in every), Decimal(0)),
            )  # fmt: skip

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """See Telling.wait."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            if _cursor(self._look(job)) != cursor:
                return
            time.sleep(min(POLL, max(0.0, until - time.monotonic())))

    def log(self, job: str, log: str) -> str:
        """See Telling.log."""
        path = inside(self._folder(job) / "logs", log)
        with _told(path):
            return path.read_bytes().decode("utf-8", "replace")

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """See Fetching.fetch."""
        source = inside(self._folder(job) / "frames", product.key)
        with _told(source), source.open("rb") as stream, target.open("ab" if offset else "wb") as out:
            stream.seek(offset)
            left = product.bytes - offset
            while left > 0 and (chunk := stream.read(min(CHUNK, left))):
                out.write(chunk)
                moved(len(chunk))
                left -= len(chunk)

    def control(self, job: str, order: ControlOrder) -> None:
        """See Controlling.control."""
        placed = self._placed(job)
        if order.key in placed.keys:
            return
        placed = placed.model_copy(update={"keys": (*placed.keys, order.key)})
        match order.action:
            case Action.CANCEL:
                self._keep(job, placed.model_copy(update={"cancelled": True}))
            case Action.PAUSE:
                self._keep(job, placed.model_copy(update={"paused": True}))
            case Action.RESUME:
                placed = placed.model_copy(update={"paused": False})
                self._keep(job, placed)
                if not placed.sent:
                    self._send_out(job, placed.model_copy(update={"tests_sent": True}))
            case Action.RERENDER:
                tasks = list(tasks_of(order.tasks, placed.order.requests))
                known = self._look(job)
                first = 1 + max((number for task, number in known.attempts if task in set(tasks)), default=0)
                mark = hashlib.blake2b(order.key.encode(), digest_size=4).hexdigest()
                self._keep(job, placed)
                self._begin(job, placed, tasks, first, f"again-{mark}")
            case _:
                return


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to one's own machines. See registry.Opener. A scheduler on one's own network asks for no token."""
    del token
    return ClusterFarm(card).link()


def _state(placed: ClusterOrder, done: int, rendering: int, failed: int, total: int) -> JobState:
    if placed.cancelled:
        return JobState.CANCELLED
    if done + failed >= total:
        return JobState.FAILED if failed else JobState.DONE
    if placed.paused:
        return JobState.PAUSED
    if not placed.sent and placed.tests_sent:
        tests = sum(1 for _ in tasks_of(placed.order.tests, placed.order.requests))
        if done + failed >= tests:
            return JobState.HELD
    return JobState.RENDERING if done or rendering else JobState.WAITING


def _cursor(known: _Known) -> str:
    return str(sum(known.read.values()))


def _crate_name(content: PackingList) -> str:
    return f"{content.name[:120]}-{content.digest[:12]}"


def _task(task: Task) -> dict[str, Any]:
    return {"request": task.request, "frame": task.frame, "view": task.view, "tile": task.tile, "share": task.share}


def _versions(found: dict[str, Any]) -> str:
    """The versions that have to agree, as text."""
    host = dict(found.get("host") or {})
    packages = dict(found.get("packages") or {})
    python = ".".join(str(host.get("python", packages.get("python", "?"))).split(".")[:2])
    return f"Python {python}, distributed {packages.get('distributed', '?')}"


@contextmanager
def _told(where: Path) -> Iterator[None]:
    """Turn what the shared storage does into one error in plain words."""
    try:
        yield
    except OSError as error:
        if error.errno in (28, 122):
            remedy = "make room there, then run the command again: it goes on where it was"
            raise FarmError("the shared storage is full", where, remedy) from error
        what = f"the shared storage cannot be used ({error.strerror})"
        raise FarmError(what, where, "check that it is mounted here and may be written") from error
