"""Hands batches to simulated nodes and keeps their clocks.

A node's clock counts farm time: start-up, then the processor seconds of what it rendered divided by its speed,
whatever else this machine is doing meanwhile. What a tick costs goes with the nodes and what they finish, not with the
size of the job.
"""

from __future__ import annotations

import heapq
import multiprocessing
import os
import random
import secrets
import threading
import traceback
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from typing import Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from tidy_crate.core.farm.protocol import FarmQuote, JobOrder, JobState, Reading
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
from tidy_crate.practice.farm.reading import program_for, read_scene
from tidy_crate.practice.farm.settings import FarmProgram, FarmSettings
from tidy_crate.practice.farm.store import (
    AttemptRow,
    FarmJobRow,
    ProductRow,
    ShiftRow,
    Store,
    TaskRow,
    every_job,
    job_cost,
    jobs_to_price,
    move,
    open_jobs,
    paid_in,
    shift_cost,
    shifts_of,
)
from tidy_crate.practice.farm.terms import own_quote

TICK = 0.05
# how long it sleeps when there is nothing to do, unless it is woken
IDLE = 2.0
ERROR_TAIL = 500
TAKEN_BACK = "the farm took the machine back"
NODE_LOST = "the node was lost"
# tasks that synthetic nodes finish in one tick
SYNTHETIC_AT_ONCE = 2000


@dataclass
class _Running:
    """A batch on a node that really renders."""

    future: Future[None]
    job: str
    shift: int
    attempts: list[int]
    """Ids of attempts, in the order of the batch."""
    spool: Path
    seen: int = 0
    lost: bool = False
    """True if its node is gone: what it still reports is left alone."""

    def reports(self) -> list[Report]:
        """Return what it has reported since the last look."""
        return read_reports(self.spool, self.seen)

    def has_news(self) -> bool:
        """Return whether there is a report, or it has ended."""
        return self.future.done() or has_report(self.spool, self.seen)

    def ended(self) -> bool:
        """Return whether it has ended."""
        return self.future.done()

    def error(self) -> BaseException | None:
        """Return what ended it, None where it came to its end."""
        return self.future.exception()


@dataclass
class _Clocked(_Running):
    """A batch on a synthetic node that takes its time, by the farm's clock."""

    elapsed: Callable[[], float] = lambda: 0.0
    """Seconds of farm time since the job was submitted."""
    ends: tuple[float, ...] = ()
    """When each of its tasks is done, on the same clock."""
    seconds: tuple[float, ...] = ()
    """Seconds of each task, on a node of the usual speed."""

    def reports(self) -> list[Report]:
        now = self.elapsed()
        done = sum(end <= now for end in self.ends)
        return [Report(index, self.seconds[index], {}) for index in range(self.seen, done)]

    def has_news(self) -> bool:
        return self.seen < len(self.ends) and self.ends[self.seen] <= self.elapsed()

    def ended(self) -> bool:
        return self.ends[-1] <= self.elapsed()

    def error(self) -> BaseException | None:
        return None


class Scheduler:
    """A thread that moves jobs on until it is stopped."""

    def __init__(self, folder: Path, store: Store, settings: FarmSettings, gone: Callable[[], None]) -> None:
        self._folder = folder
        self._store = store
        self._settings = settings
        self._gone = gone
        self._running: list[_Running] = []
        # by job, its order as text and read
        self._orders: dict[str, tuple[str, JobOrder]] = {}
        self._stop = threading.Event()
        self._work = threading.Event()
        self._workers = settings.nodes if settings.clock else min(os.cpu_count() or 1, settings.nodes)
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
        """Return where a crate is on the farm's disk."""
        return self._folder / "crates" / crate

    def _new_pool(self) -> ProcessPoolExecutor:
        spawned = multiprocessing.get_context("spawn")
        return ProcessPoolExecutor(
            min(self._workers, os.cpu_count() or 1), mp_context=spawned, initializer=end_with_farm
        )

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
                fast = changed and self._settings.synthetic_seconds and not self._settings.clock
                self._stop.wait(0 if fast else TICK)
            else:
                self._work.wait(IDLE)
                if not self._folder.is_dir():
                    # the folder was removed, so this farm is not wanted and could not be stopped any more
                    self._gone()
                    return

    def _has_news(self) -> bool:
        """Return whether a node has reported a task, or has ended its batch."""
        return any(one.has_news() for one in self._running)

    def _order(self, job: FarmJobRow) -> JobOrder:
        known = self._orders.get(job.id)
        if known is None or known[0] != job.order:
            known = self._orders[job.id] = (job.order, job.job_order())
        return known[1]

    def _take_in(self, session: Session) -> bool:
        """Note finished frames, and the end of batches."""
        changed = False
        for running in list(self._running):
            ended = running.ended()
            for report in () if running.lost else running.reports():
                attempt = session.get_one(AttemptRow, running.attempts[report.index])
                shift = session.get_one(ShiftRow, running.shift)
                changed = True
                why = self._lost(attempt, shift, report)
                if why is not None:
                    running.lost = True
                    self._lose(session, attempt, shift, why)
                    break
                running.seen += 1
                self._finish(session, attempt, shift, report)
            if ended:
                self._running.remove(running)
                self._close(session, running)
                changed = True
        return changed

    def _finish(self, session: Session, attempt: AttemptRow, shift: ShiftRow, report: Report) -> None:
        """A node has finished a task."""
        seconds = report.cpu_seconds / self._settings.speed / shift.speed
        job, task = session.get_one(FarmJobRow, attempt.job_id), session.get_one(TaskRow, attempt.task_id)
        for name, value in self._worked(task.task(), shift, seconds, job.factor).items():
            setattr(attempt, name, value)
        attempt.error = None
        move(job, task, TaskState.DONE)
        files: dict[str, tuple[str | None, str, int]] = {
            output: (str(path), digest, size) for output, (path, digest, size) in report.files.items()
        }
        if self._settings.clock:
            outputs = next(one.outputs for one in self._order(job).requests if one.name == task.request)
            made = {output: synthetic_product(task.task(), output, attempt.number) for output in outputs}
            files = {output: (None, synthetic_digest(data), len(data)) for output, data in made.items()}
        hostile = any(one.kind == "hostile" and one.frame == task.frame for one in self._settings.faults)
        for output, (path, digest, size) in files.items():
            key = ("../../" if hostile else "") + secrets.token_hex(8)
            session.add(
                ProductRow(
                    key=key, attempt_id=attempt.id, output=output, path=path, blake3=digest, bytes=size, served=0
                )
            )
        attempt.changed, shift.changed = job.next_change(), job.next_change()

    def _lost(self, attempt: AttemptRow, shift: ShiftRow, report: Report) -> str | None:
        """Return why a task is lost with its node although it was rendered, None where it is not."""
        fault = any(one.kind == "lost" and one.frame == attempt.task.frame for one in self._settings.faults)
        if fault and attempt.number == 1:
            return NODE_LOST
        ends = shift.free_at + report.cpu_seconds / self._settings.speed / shift.speed
        return TAKEN_BACK if shift.lost_at is not None and ends > shift.lost_at else None

    def _lose(self, session: Session, attempt: AttemptRow, shift: ShiftRow, why: str) -> None:
        """A node goes away in the middle of a task, and another one comes in its place."""
        job, task = session.get_one(FarmJobRow, attempt.job_id), session.get_one(TaskRow, attempt.task_id)
        gone = shift.lost_at if why == TAKEN_BACK and shift.lost_at is not None else shift.free_at
        worked = max(0.0, gone - shift.free_at)
        price = self._settings.price_per_hour * job.factor / Decimal(3600)
        attempt.state, attempt.error, attempt.log = TaskState.FAILED.value, why, f"{task.task()}: {why}\n"
        attempt.began, attempt.ended, attempt.seconds = shift.free_at, gone, worked
        attempt.cost = (Decimal(str(worked)) * price).quantize(Decimal("0.000001"))
        attempt.changed = job.next_change()
        move(job, task, TaskState.WAITING)
        shift.free_at, shift.over, shift.busy, shift.changed = gone, True, False, job.next_change()
        if why == NODE_LOST:
            # the farm's own fault: that machine's time is not billed
            job.refunded += shift_cost(shift, self._settings.price_per_hour * job.factor, 1)
        session.add(self._shift(job, shift.node, gone, 0.0))
        session.flush()

    def _shift(self, job: FarmJobRow, node: str, began: float, later: float) -> ShiftRow:
        """A node that goes on the clock. later: seconds after which it starts up."""
        settings, order = self._settings, self._order(job)
        number = int(node.rpartition("-")[2])
        lost = None
        if order.reclaimable and settings.reclaims_per_hour:
            chance = random.Random(f"{settings.seed} {job.id} {node} {began}")
            lost = began + later + chance.expovariate(settings.reclaims_per_hour / 3600)
        speeds = settings.node_speeds or (1.0,)
        return ShiftRow(
            job_id=job.id, node=node, began=began + later, free_at=began + later + settings.startup_seconds,
            frames=0, busy=False, over=False, changed=job.next_change(), speed=speeds[(number - 1) % len(speeds)],
            lost_at=None if lost is None else max(lost, began + later + settings.startup_seconds),
        )  # fmt: skip

    def _worked(self, task: Task, shift: ShiftRow, seconds: float, factor: Decimal) -> dict[str, Any]:
        """Set a node's clock forward by a task, and return what that makes of the attempt."""
        began = shift.free_at
        shift.free_at += seconds
        shift.frames += 1
        price = self._settings.price_per_hour * factor / Decimal(3600)
        return {
            "state": TaskState.DONE.value, "began": began, "ended": shift.free_at, "seconds": seconds,
            "cost": (Decimal(str(seconds)) * price).quantize(Decimal("0.000001")),
            "log": f"{task} done in {seconds:.4f} s on {shift.node}\n",
        }  # fmt: skip

    def _close(self, session: Session, running: _Running) -> None:
        shift = session.get_one(ShiftRow, running.shift)
        job = session.get_one(FarmJobRow, running.job)
        if running.lost:
            # those after the one that was lost begin again elsewhere, as the same attempts
            for attempt_id in running.attempts[running.seen + 1 :]:
                attempt = session.get_one(AttemptRow, attempt_id)
                attempt.state, attempt.node, attempt.began = TaskState.WAITING.value, None, None
                attempt.changed = job.next_change()
                move(job, session.get_one(TaskRow, attempt.task_id), TaskState.WAITING)
            return
        shift.busy = False
        error = running.error()
        if isinstance(error, BrokenProcessPool):
            self._pool = self._new_pool()
        for attempt_id in running.attempts[running.seen :]:
            attempt = session.get_one(AttemptRow, attempt_id)
            task = session.get_one(TaskRow, attempt.task_id)
            attempt.error = _in_words(error)[:ERROR_TAIL] if error else "the node left no frame"
            attempt.log = "".join(traceback.format_exception(error)) if error else attempt.error
            attempt.state, attempt.ended, attempt.changed = TaskState.FAILED.value, shift.free_at, job.next_change()
            again = attempt.number <= self._order(job).retries and job.state != JobState.CANCELLED.value
            move(job, task, TaskState.WAITING if again else TaskState.FAILED)

    def _hand_out(self, session: Session) -> bool:
        changed = False
        for job in jobs_to_price(session):
            self._settle(session, job)
            changed = True
        for job in open_jobs(session):
            busy = any(running.job == job.id for running in self._running)
            if self._is_to_wait(session, job, busy):
                changed = True
                continue
            if self._settings.synthetic_seconds and not self._settings.clock:
                changed |= self._synthesise(session, job)
                continue
            while job.waiting and len(self._running) < self._workers:
                free = self._free_shift(session, job)
                if free is None:
                    break
                if not self._begin(session, job, free):
                    break
                changed = True
        return changed

    def _is_to_wait(self, session: Session, job: FarmJobRow, busy: bool) -> bool:
        """Return whether a job begins nothing more: it has come to its end, waits for a look at its test frames,
        or costs.
        """
        if not job.waiting and not busy:
            job.state = (JobState.FAILED if job.failed else JobState.DONE).value
            self._let_go(session, job)
            return True
        if job.tests and job.waiting + job.rendering <= self._tasks(job) - job.tests:
            if not busy:
                job.state, job.tests = JobState.HELD.value, 0
                self._let_go(session, job)
            return True
        cap = self._order(job).cap
        if cap is not None and job.fixed is None:
            spent = job_cost(session, job, self._settings.price_per_hour, self._settings.billing_increment_seconds)
            # what a frame has cost so far, those under way among them, is what the next ones are reckoned to cost
            each = spent / (job.done + job.rendering) * self._order(job).batch if job.done else Decimal(0)
            if spent + each > cap and not busy:
                job.state = JobState.PAUSED.value
                job.why = f"the next batch would cost more than its cap of {cap}: {spent:.2f} is spent"
                self._let_go(session, job)
            return spent + each > cap
        return False

    @staticmethod
    def _tasks(job: FarmJobRow) -> int:
        return job.waiting + job.rendering + job.done + job.failed + job.cancelled

    @staticmethod
    def _let_go(session: Session, job: FarmJobRow) -> None:
        for shift in shifts_of(session, job):
            if not shift.over:
                shift.over, shift.changed = True, job.next_change()

    def _settle(self, session: Session, job: FarmJobRow) -> None:
        """Quote a job that waits for that, and begin one whose money has come."""
        settings = self._settings
        if job.state == JobState.QUOTING.value:
            job.offer = own_quote(self._order(job), settings).model_dump_json()
            job.state = JobState.OFFERED.value
        elif job.state == JobState.UNPAID.value:
            price, increment = settings.price_per_hour, settings.billing_increment_seconds
            spent = sum(
                (job_cost(session, one, price, increment) for one in every_job(session) if one.id != job.id), Decimal(0)
            )
            due = FarmQuote.model_validate_json(job.offer).cost if job.offer else own_quote(
                self._order(job), settings
            ).cost  # fmt: skip
            if settings.balance + paid_in(session) - spent >= due:
                job.fixed = due if job.offer else None
                job.state = job.begins

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
        step = self._settings.arrive_seconds / max(1, count - 1)
        found = [self._shift(job, f"node-{number:02d}", began, step * (number - 1)) for number in range(1, count + 1)]
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
        if job.tests:
            # nothing of the rest begins with the test frames
            query = query.where(TaskRow.position < job.tests)
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

    def _begin(self, session: Session, job: FarmJobRow, shift: ShiftRow) -> bool:
        """Let a node begin the next batch. Returns whether there was one."""
        order = self._order(job)
        tasks = self._next_batch(session, job, order.batch)
        if not tasks:
            return False
        request = next(one for one in order.requests if one.name == tasks[0].request)
        attempts = [self._attempt(session, job, task, shift.node) for task in tasks]
        for attempt in attempts:
            attempt.began = shift.free_at
        session.flush()
        job.state, shift.busy = JobState.RENDERING.value, True
        if self._settings.clock:
            self._begin_by_clock(job, shift, request, [task.task() for task in tasks], attempts)
            return True
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
            forms=order.forms,
            program=self._program(folder),
        )
        try:
            future = self._pool.submit(render_batch, batch)
        except BrokenProcessPool:
            self._pool = self._new_pool()
            future = self._pool.submit(render_batch, batch)
        self._running.append(_Running(future, job.id, shift.id, [attempt.id for attempt in attempts], spool))
        return True

    def _begin_by_clock(
        self, job: FarmJobRow, shift: ShiftRow, request: RenderRequest, tasks: list[Task], attempts: list[AttemptRow]
    ) -> None:
        seconds = tuple(
            self._synthetic(task, request, shift.node, loads=place == 0) * self._settings.speed
            for place, task in enumerate(tasks)
        )
        ends, at = [], shift.free_at
        for each in seconds:
            at += each / self._settings.speed / shift.speed
            ends.append(at if shift.lost_at is None else min(at, shift.lost_at))
        submitted, clock = datetime.fromisoformat(job.submitted), self._settings.clock

        def elapsed() -> float:
            return (datetime.now(UTC) - submitted).total_seconds() * clock

        self._running.append(
            _Clocked(
                Future(), job.id, shift.id, [attempt.id for attempt in attempts], self._folder, elapsed=elapsed,
                ends=tuple(ends), seconds=seconds,
            )
        )  # fmt: skip

    def _program(self, folder: Path) -> FarmProgram | None:
        """The farm's own program for a crate; None for one that the practice renderer renders."""
        scene = (folder / ".scene").read_text(encoding="utf-8")
        return program_for(folder / scene, self._settings)

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
            each = self._synthetic(identity, request, shift.node, loads=first) / shift.speed
            worked = self._worked(identity, shift, each, job.factor)
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
        """The attempts that were asked for and have not begun; they are rewritten when they are done."""
        again = [task.id for task in tasks if task.attempts]
        found: list[int] = []
        for at in range(0, len(again), 500):
            waiting = (
                AttemptRow.task_id.in_(again[at : at + 500]), AttemptRow.state == TaskState.WAITING.value,
            )  # fmt: skip
            found += session.scalars(select(AttemptRow.id).where(*waiting))
        return found


def _in_words(error: BaseException) -> str:
    """Return an error of a node as its message. The log has the rest."""
    said = str(error)
    return said if said and isinstance(error, ValueError) else f"{type(error).__name__}: {said}"
