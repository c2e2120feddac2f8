"""Hands batches to simulated nodes and keeps their clocks.

A node's clock counts farm time: start-up, then the processor seconds of what it rendered divided by its speed,
whatever else this machine is doing meanwhile.
"""

from __future__ import annotations

import multiprocessing
import os
import secrets
import threading
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

from sqlalchemy.orm import Session

from tidy_crate.core.farm.protocol import JobState, Reading, TaskState
from tidy_crate.practice.farm.node import BatchOrder, Report, read_reports, render_batch
from tidy_crate.practice.farm.reading import read_scene
from tidy_crate.practice.farm.settings import FarmSettings
from tidy_crate.practice.farm.store import FarmJobRow, ProductRow, ShiftRow, Store, TaskRow, open_jobs

TICK = 0.05
# how long it sleeps when there is nothing to do, if nobody wakes it
IDLE = 2.0
MOST_ATTEMPTS = 3
ERROR_TAIL = 500


@dataclass
class _Running:
    future: Future[None]
    job: str
    shift: int
    tasks: dict[int, int]  # frame: task
    spool: Path
    seen: set[int]


class Scheduler:
    """A thread that moves jobs on until it is stopped."""

    def __init__(self, folder: Path, store: Store, settings: FarmSettings, gone: Callable[[], None]) -> None:
        self._folder = folder
        self._store = store
        self._settings = settings
        self._gone = gone
        self._running: list[_Running] = []
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
        """Where a crate lies on the farm's disk."""
        return self._folder / "crates" / crate

    def _new_pool(self) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(self._workers, mp_context=multiprocessing.get_context("spawn"))

    def _loop(self) -> None:
        while not self._stop.is_set():
            self._work.clear()
            with self._store.session() as session:
                self._take_in(session)
                self._hand_out(session)
                busy = bool(self._running or session.new or session.dirty)
                session.commit()
            if busy:
                self._stop.wait(TICK)
            else:
                self._work.wait(IDLE)
                if not self._folder.is_dir():
                    # whoever removed it wants no farm, and nobody could stop this one any more
                    self._gone()
                    return

    def _take_in(self, session: Session) -> None:
        """Note finished frames, and the end of batches."""
        for running in list(self._running):
            ended = running.future.done()
            for report in read_reports(running.spool):
                if report.frame in running.tasks and report.frame not in running.seen:
                    running.seen.add(report.frame)
                    self._finish(session, running, report)
            if ended:
                self._running.remove(running)
                self._close(session, running)

    def _finish(self, session: Session, running: _Running, report: Report) -> None:
        task = session.get_one(TaskRow, running.tasks[report.frame])
        shift = session.get_one(ShiftRow, running.shift)
        seconds = report.cpu_seconds / self._settings.speed
        shift.free_at += seconds
        shift.frames += 1
        task.state, task.seconds, task.error = TaskState.DONE.value, seconds, None
        price = self._settings.price_per_hour / Decimal(3600)
        task.cost = str(Decimal(task.cost) + (Decimal(str(seconds)) * price).quantize(Decimal("0.000001")))
        for output, (path, digest, size) in report.files.items():
            task.products.append(
                ProductRow(key=secrets.token_hex(8), output=output, path=str(path), blake3=digest, bytes=size)
            )

    def _close(self, session: Session, running: _Running) -> None:
        shift = session.get_one(ShiftRow, running.shift)
        shift.busy = False
        error = running.future.exception()
        if isinstance(error, BrokenProcessPool):
            self._pool = self._new_pool()
        for frame, task_id in running.tasks.items():
            if frame in running.seen:
                continue
            task = session.get_one(TaskRow, task_id)
            task.error = f"{type(error).__name__}: {error}"[:ERROR_TAIL] if error else "the node left no frame"
            again = task.attempt < MOST_ATTEMPTS and task.state == TaskState.RENDERING.value
            task.state = (TaskState.WAITING if again else TaskState.FAILED).value

    def _hand_out(self, session: Session) -> None:
        for job in open_jobs(session):
            waiting = [task for task in job.tasks if task.state == TaskState.WAITING.value]
            busy = any(running.job == job.id for running in self._running)
            if not waiting and not busy:
                failed = any(task.state == TaskState.FAILED.value for task in job.tasks)
                job.state = (JobState.FAILED if failed else JobState.DONE).value
                for shift in job.shifts:
                    shift.over = True
                continue
            while waiting and len(self._running) < self._workers:
                node = self._free_node(session, job, len(waiting))
                if node is None:
                    break
                batch = _next_batch(waiting, job.job_order().batch)
                waiting = waiting[len(batch) :]
                self._begin(job, node, batch)

    def _free_node(self, session: Session, job: FarmJobRow, waiting: int) -> ShiftRow | None:
        """The node that is free first in farm time. All nodes of a job start together."""
        on_shift = [shift for shift in job.shifts if not shift.over]
        if not on_shift:
            order = job.job_order()
            began = max((shift.free_at for shift in job.shifts), default=0.0)
            count = min(order.nodes, self._settings.nodes, -(-waiting // order.batch))
            for number in range(1, count + 1):
                job.shifts.append(
                    ShiftRow(
                        node=f"node-{number:02d}", began=began, free_at=began + self._settings.startup_seconds,
                        frames=0, busy=False, over=False,
                    )
                )  # fmt: skip
            session.flush()
            on_shift = [shift for shift in job.shifts if not shift.over]
        free = [shift for shift in on_shift if not shift.busy]
        return min(free, key=lambda shift: (shift.free_at, shift.id), default=None)

    def _begin(self, job: FarmJobRow, shift: ShiftRow, batch: list[TaskRow]) -> None:
        order = job.job_order()
        request = next(one for one in order.requests if one.name == batch[0].request)
        for task in batch:
            task.state, task.node, task.attempt = TaskState.RENDERING.value, shift.node, task.attempt + 1
            task.products.clear()
        spool = self._folder / "jobs" / job.id / request.name / f"{batch[0].frame}-{secrets.token_hex(4)}"
        spool.mkdir(parents=True)
        folder = self.crate_folder(order.crate)
        batch_order = BatchOrder(
            scene=folder / (folder / ".scene").read_text(encoding="utf-8"),
            request=request,
            frames=tuple(task.frame for task in batch),
            attempts={task.frame: task.attempt for task in batch},
            spool=spool,
            faults=self._settings.faults,
        )
        job.state, shift.busy = JobState.RENDERING.value, True
        try:
            future = self._pool.submit(render_batch, batch_order)
        except BrokenProcessPool:
            self._pool = self._new_pool()
            future = self._pool.submit(render_batch, batch_order)
        tasks = {task.frame: task.id for task in batch}
        self._running.append(_Running(future, job.id, shift.id, tasks, spool, set()))


def _next_batch(waiting: list[TaskRow], size: int) -> list[TaskRow]:
    """The next tasks of one request, in order."""
    same = [task for task in waiting if task.request == waiting[0].request]
    return same[:size]
