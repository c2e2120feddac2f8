"""Hands batches to simulated nodes and keeps their clocks.

A node's clock counts farm time: start-up, then the processor seconds of what it rendered divided by its speed,
whatever else this machine is doing meanwhile. What a tick costs goes with the nodes and what they finish, not with the
size of the job.
"""

from __future__ import annotations

import heapq
import multiprocessing
import os
import secrets
import threading
import traceback
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from typing import Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from tidy_crate.core.farm.protocol import JobOrder, JobState, Reading
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskState
from tidy_crate.practice.farm.laws import law_times, node_pace
from tidy_crate.practice.farm.node import (
    BatchOrder,
    Report,
    end_with_farm,
    has_report,
    read_reports,
    render_batch,
    synthetic_digest,
    synthetic_product,
    synthetic_seconds,
)
from tidy_crate.practice.farm.reading import read_scene
from tidy_crate.practice.farm.settings import FarmSettings
from tidy_crate.practice.farm.store import (
    AttemptRow,
    FarmJobRow,
    ProductRow,
    ShiftRow,
    Store,
    TaskRow,
    move,
    open_jobs,
    shifts_of,
)

TICK = 0.05
# how long it sleeps when there is nothing to do, if nobody wakes it
IDLE = 2.0
MOST_ATTEMPTS = 3
ERROR_TAIL = 500
# tasks that synthetic nodes finish in one tick
SYNTHETIC_AT_ONCE = 2000


@dataclass
class _Running:
    future: Future[None]
    job: str
    shift: int
    attempts: list[int]
    """Ids of attempts, in the order of the batch."""
    spool: Path
    seen: int = 0


class Scheduler:
    """A thread that moves jobs on until it is stopped."""

    def __init__(self, folder: Path, store: Store, settings: FarmSettings, gone: Callable[[], None]) -> None:
        self._folder = folder
        self._store = store
        self._settings = settings
        self._gone = gone
        self._running: list[_Running] = []
        self._orders: dict[str, JobOrder] = {}
        self._stop = threading.Event()
        self._work = threading.Event()
        self._workers = min(os.cpu_count() or 1, settings.nodes)
        self._pool = self._new_pool()
        self._thread = threading.Thread(target=self._loop, name="scheduler", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def wake(self) -> None:
        """There is work."""
        self._work.set()

    def run_down(self) -> None:
        """Do here and now all that there is to do, in place of a thread: for synthetic nodes only."""
        while True:
            with self._store.writing() as session:
                if not self._hand_out(session):
                    return

    def stop(self) -> None:
        """End; what is under way is rendered again after the next start."""
        self._stop.set()
        self._work.set()
        self._thread.join(timeout=30)
        self._pool.shutdown(wait=False, cancel_futures=True)

    def read(self, folder: Path, scene: str) -> Reading:
        """Let a node read a scene."""
        return self._pool.submit(read_scene, folder, scene).result(timeout=300)

    def crate_folder(self, crate: str) -> Path:
        """Where a crate is on the farm's disk."""
        return self._folder / "crates" / crate

    def _new_pool(self) -> ProcessPoolExecutor:
        spawned = multiprocessing.get_context("spawn")
        return ProcessPoolExecutor(self._workers, mp_context=spawned, initializer=end_with_farm)

    def _loop(self) -> None:
        changed = True
        while not self._stop.is_set():
            # who writes keeps the service waiting, so only where there is something to write
            if changed or self._work.is_set() or self._has_news():
                self._work.clear()
                with self._store.writing() as session:
                    changed = self._take_in(session)
                    changed |= self._hand_out(session)
            if self._running or changed:
                self._stop.wait(0 if changed and self._settings.synthetic_seconds else TICK)
            else:
                self._work.wait(IDLE)
                if not self._folder.is_dir():
                    # whoever removed it wants no farm, and nothing could stop this one any more
                    self._gone()
                    return

    def _has_news(self) -> bool:
        """Whether a node has reported a task, or has ended its batch."""
        return any(one.future.done() or has_report(one.spool, one.seen) for one in self._running)

    def _order(self, job: FarmJobRow) -> JobOrder:
        if job.id not in self._orders:
            self._orders[job.id] = job.job_order()
        return self._orders[job.id]

    def _take_in(self, session: Session) -> bool:
        """Note finished frames, and the end of batches."""
        changed = False
        for running in list(self._running):
            ended = running.future.done()
            for report in read_reports(running.spool, running.seen):
                running.seen += 1
                attempt = session.get_one(AttemptRow, running.attempts[report.index])
                self._finish(session, attempt, session.get_one(ShiftRow, running.shift), report)
                changed = True
            if ended:
                self._running.remove(running)
                self._close(session, running)
                changed = True
        return changed

    def _finish(self, session: Session, attempt: AttemptRow, shift: ShiftRow, report: Report) -> None:
        """A node has finished a task."""
        seconds = report.cpu_seconds / self._settings.speed
        job, task = session.get_one(FarmJobRow, attempt.job_id), session.get_one(TaskRow, attempt.task_id)
        for name, value in self._worked(task.task(), shift, seconds).items():
            setattr(attempt, name, value)
        attempt.error = None
        move(job, task, TaskState.DONE)
        for output, (path, digest, size) in report.files.items():
            session.add(
                ProductRow(
                    key=secrets.token_hex(8), attempt_id=attempt.id, output=output, path=str(path), blake3=digest,
                    bytes=size, served=0,
                )
            )  # fmt: skip
        attempt.changed, shift.changed = job.next_change(), job.next_change()

    def _worked(self, task: Task, shift: ShiftRow, seconds: float) -> dict[str, Any]:
        """Set a node's clock forward by a task, and return what that makes of the attempt."""
        began = shift.free_at
        shift.free_at += seconds
        shift.frames += 1
        price = self._settings.price_per_hour / Decimal(3600)
        return {
            "state": TaskState.DONE.value, "began": began, "ended": shift.free_at, "seconds": seconds,
            "cost": (Decimal(str(seconds)) * price).quantize(Decimal("0.000001")),
            "log": f"{task} done in {seconds:.4f} s on {shift.node}\n",
        }  # fmt: skip

    def _close(self, session: Session, running: _Running) -> None:
        shift = session.get_one(ShiftRow, running.shift)
        job = session.get_one(FarmJobRow, running.job)
        shift.busy = False
        error = running.future.exception()
        if isinstance(error, BrokenProcessPool):
            self._pool = self._new_pool()
        for attempt_id in running.attempts[running.seen :]:
            attempt = session.get_one(AttemptRow, attempt_id)
            task = session.get_one(TaskRow, attempt.task_id)
            attempt.error = f"{type(error).__name__}: {error}"[:ERROR_TAIL] if error else "the node left no frame"
            attempt.log = "".join(traceback.format_exception(error)) if error else attempt.error
            attempt.state, attempt.ended, attempt.changed = TaskState.FAILED.value, shift.free_at, job.next_change()
            again = attempt.number < MOST_ATTEMPTS and job.state != JobState.CANCELLED.value
            move(job, task, TaskState.WAITING if again else TaskState.FAILED)

    def _hand_out(self, session: Session) -> bool:
        changed = False
        for job in open_jobs(session):
            busy = any(running.job == job.id for running in self._running)
            if not job.waiting and not busy:
                job.state = (JobState.FAILED if job.failed else JobState.DONE).value
                for shift in shifts_of(session, job):
                    shift.over = True
                changed = True
                continue
            if self._settings.synthetic_seconds:
                changed |= self._synthesise(session, job)
                continue
            while job.waiting and len(self._running) < self._workers:
                free = self._free_shift(session, job)
                if free is None:
                    break
                self._begin(session, job, free)
                changed = True
        return changed

    def _free_shift(self, session: Session, job: FarmJobRow) -> ShiftRow | None:
        """The node that is free first in farm time. All nodes of a job start together."""
        free = [shift for shift in self._on_shift(session, job) if not shift.busy]
        return min(free, key=lambda shift: (shift.free_at, shift.id), default=None)

    def _on_shift(self, session: Session, job: FarmJobRow) -> list[ShiftRow]:
        shifts = shifts_of(session, job)
        on_shift = [shift for shift in shifts if not shift.over]
        if on_shift:
            return on_shift
        order = self._order(job)
        began = max((shift.free_at for shift in shifts), default=0.0)
        count = min(order.nodes, self._settings.nodes, -(-job.waiting // order.batch))
        found = [
            ShiftRow(
                job_id=job.id, node=f"node-{number:02d}", began=began, free_at=began + self._settings.startup_seconds,
                frames=0, busy=False, over=False, changed=job.next_change(),
            )
            for number in range(1, count + 1)
        ]  # fmt: skip
        session.add_all(found)
        session.flush()
        return found

    def _next_batch(self, session: Session, job: FarmJobRow, size: int) -> list[TaskRow]:
        """The next tasks of one request, in order."""
        query = (
            select(TaskRow)
            .where(TaskRow.job_id == job.id, TaskRow.state == TaskState.WAITING.value)
            .order_by(TaskRow.position)
            .limit(size)
        )
        found = list(session.scalars(query))
        return [task for task in found if task.request == found[0].request]

    def _attempt(self, session: Session, job: FarmJobRow, task: TaskRow, node: str) -> AttemptRow:
        """The attempt that begins now: the one that was asked for, or the next one."""
        last = None
        if task.attempts:
            last = session.scalar(
                select(AttemptRow).where(AttemptRow.task_id == task.id, AttemptRow.number == task.attempts)
            )
        if last is not None and last.state == TaskState.WAITING.value:
            attempt = last
        else:
            task.attempts += 1
            attempt = AttemptRow(job_id=job.id, task_id=task.id, number=task.attempts, cost=Decimal(0))
            session.add(attempt)
        attempt.state, attempt.node, attempt.changed = TaskState.RENDERING.value, node, job.next_change()
        move(job, task, TaskState.RENDERING)
        return attempt

    def _begin(self, session: Session, job: FarmJobRow, shift: ShiftRow) -> None:
        order = self._order(job)
        tasks = self._next_batch(session, job, order.batch)
        request = next(one for one in order.requests if one.name == tasks[0].request)
        attempts = [self._attempt(session, job, task, shift.node) for task in tasks]
        for attempt in attempts:
            attempt.began = shift.free_at
        session.flush()
        spool = self._folder / "jobs" / job.id / request.name / f"{tasks[0].position}-{secrets.token_hex(4)}"
        spool.mkdir(parents=True)
        folder = self.crate_folder(order.crate)
        batch = BatchOrder(
            scene=folder / (folder / ".scene").read_text(encoding="utf-8"),
            request=request,
            tasks=tuple(task.task() for task in tasks),
            attempts=tuple(attempt.number for attempt in attempts),
            spool=spool,
            faults=self._settings.faults,
        )
        job.state, shift.busy = JobState.RENDERING.value, True
        try:
            future = self._pool.submit(render_batch, batch)
        except BrokenProcessPool:
            self._pool = self._new_pool()
            future = self._pool.submit(render_batch, batch)
        self._running.append(_Running(future, job.id, shift.id, [attempt.id for attempt in attempts], spool))

    def _synthesise(self, session: Session, job: FarmJobRow) -> bool:
        """Let synthetic nodes finish the next tasks, each on the node that is free first. Written in bulk."""
        order = self._order(job)
        shifts = self._on_shift(session, job)
        free = [(shift.free_at, shift.id, shift) for shift in shifts]
        heapq.heapify(free)
        outputs = {request.name: request.outputs for request in order.requests}
        job.state = JobState.RENDERING.value
        tasks = self._next_batch(session, job, max(1, SYNTHETIC_AT_ONCE // order.batch) * order.batch)
        request = next(one for one in order.requests if one.name == tasks[0].request)
        asked = self._asked_again(session, tasks)
        attempts: list[dict[str, Any]] = []
        shift = free[0][2]
        for number, task in enumerate(tasks):
            first = number % order.batch == 0
            if first and number:
                heapq.heapreplace(free, (shift.free_at, shift.id, shift))
                shift = free[0][2]
            identity = task.task()
            worked = self._worked(identity, shift, self._synthetic(identity, request, shift.node, loads=first))
            task.attempts = max(1, task.attempts)
            attempts.append(
                {
                    "job_id": job.id, "task_id": task.id, "number": task.attempts, "node": shift.node, **worked,
                    "changed": job.next_change(),
                }
            )  # fmt: skip
            move(job, task, TaskState.DONE)
        for shift in {id(shift): shift for _, _, shift in free if shift.frames}.values():
            shift.changed = job.next_change()
        if asked:
            session.execute(delete(AttemptRow).where(AttemptRow.id.in_(asked)))
        inserted = insert(AttemptRow).returning(AttemptRow.id, sort_by_parameter_order=True)
        ids = list(session.scalars(inserted, attempts))
        products = [
            {
                "key": secrets.token_hex(8), "attempt_id": number, "output": output, "path": None,
                "blake3": synthetic_digest(data), "bytes": len(data), "served": 0,
            }
            for task, attempt, number in zip(tasks, attempts, ids, strict=True)
            for output in outputs[task.request]
            for data in [synthetic_product(task.task(), output, attempt["number"])]
        ]  # fmt: skip
        session.execute(insert(ProductRow), products)
        return True

    def _synthetic(self, task: Task, request: RenderRequest, node: str, *, loads: bool) -> float:
        """Return the seconds that a synthetic node takes for a task. loads: it loads the scene first."""
        settings = self._settings
        if settings.synthetic_law is None:
            seconds = synthetic_seconds(task, settings.seed, settings.synthetic_seconds)
        else:
            places = self._places(request)
            seconds = float(
                law_times(settings.synthetic_law, settings.seed, settings.synthetic_seconds, len(places))[
                    places[task.frame]
                ]
            )
        load = settings.synthetic_load if loads else 0.0
        return (seconds + load) * node_pace(settings.seed, node, settings.node_spread) / settings.speed

    @staticmethod
    @lru_cache(16)
    def _places(request: RenderRequest) -> dict[int, int]:
        """The place of each frame in the shot."""
        return {frame: place for place, frame in enumerate(sorted(request.numbers()))}

    @staticmethod
    def _asked_again(session: Session, tasks: Sequence[TaskRow]) -> list[int]:
        """The attempts that were asked for and have not begun; they are written anew when they are done."""
        again = [task.id for task in tasks if task.attempts]
        found: list[int] = []
        for at in range(0, len(again), 500):
            waiting = (
                AttemptRow.task_id.in_(again[at : at + 500]), AttemptRow.state == TaskState.WAITING.value,
            )  # fmt: skip
            found += session.scalars(select(AttemptRow.id).where(*waiting))
        return found
