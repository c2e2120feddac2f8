"""Tracking: how a job stands at all its farms, and where it is heading."""

from __future__ import annotations

import statistics
from collections.abc import Iterable
from decimal import Decimal
from pathlib import Path

from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import FarmJob, JobState, Node, Task, TaskState
from tidy_crate.core.job.identity import TaskId
from tidy_crate.core.job.ledger import JobRow, Ledger, ProductRow, SubmissionRow, all_jobs, job_named
from tidy_crate.core.job.submission import Links, confirm
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount


class FrameRow(Model):
    """One output of one task. state: waiting, rendering, done, failed; then retrieved; then good, suspect or bad."""

    request: str
    frame: int
    tile: int | None
    output: str
    state: str
    node: str | None
    seconds: float | None
    cost: Amount
    attempt: int
    error: str | None = None


class Forecast(Model):
    """Where the job is heading. seconds_left: of farm time, None before the first frame; cost: of the whole job."""

    seconds_left: float | None
    cost: Amount | None
    currency: str


class JobView(Model):
    """One job in detail. clock: seconds of farm time since it was sent."""

    job: str
    state: str
    farms: tuple[str, ...]
    clock: float
    cost: Amount
    currency: str
    done: int
    total: int
    frames: tuple[FrameRow, ...]
    nodes: tuple[Node, ...]
    forecast: Forecast


class JobLine(Model):
    """One job in a list, as far as the ledger knows."""

    job: str
    created: str
    state: str
    farms: tuple[str, ...]
    products: int
    at_home: int
    cost: Amount
    currency: str
    crate: Path
    into: Path | None


def list_jobs(ledger: Ledger) -> tuple[JobLine, ...]:
    """All jobs of all farms, from the ledger alone."""
    with ledger.session() as session:
        return tuple(_line(job) for job in all_jobs(session))


def _line(job: JobRow) -> JobLine:
    return JobLine(
        job=job.id,
        created=job.created,
        state=_joined(row.state for row in job.submissions),
        farms=tuple(row.farm for row in job.submissions),
        products=len(job.products),
        at_home=sum(row.path is not None for row in job.products),
        cost=sum((Decimal(row.cost) for row in job.submissions), Decimal(0)),
        currency=job.submissions[0].currency if job.submissions else "EUR",
        crate=Path(job.crate),
        into=Path(job.into) if job.into else None,
    )


def track(ledger: Ledger, name: str, links: Links) -> JobView:
    """Ask the farms and bring the ledger up to date. Raises FarmError when a farm cannot be reached."""
    with ledger.session() as session:
        job = job_named(session, name)
        found = [_ask(row, links(row)) for row in job.submissions]
        session.commit()
        return _view(job, found)


def cancel(ledger: Ledger, name: str, links: Links) -> JobView:
    """Stop a job at all its farms. What has rendered stays there and can still be retrieved."""
    with ledger.session() as session:
        job = job_named(session, name)
        for row in job.submissions:
            links(row).cancel(confirm(row, links(row)))
        session.commit()
    return track(ledger, name, links)


def _ask(row: SubmissionRow, link: FarmLink) -> FarmJob:
    found = link.job(confirm(row, link))
    row.state, row.cost = found.state.value, str(found.cost)
    return found


def _view(job: JobRow, found: list[FarmJob]) -> JobView:
    at_home = {(row.request, row.frame, row.tile, row.share, row.output): row for row in job.products}
    outputs = {request.name: request.outputs for request in job.packing_list().requests}
    frames = []
    for farm_job in found:
        for task in farm_job.tasks:
            for output in outputs.get(task.id.request, ()):
                frames.append(_frame_row(task, output, at_home))
    currency = found[0].currency if found else "EUR"
    cost = sum((one.cost for one in found), Decimal(0))
    return JobView(
        job=job.id,
        state=_joined(one.state.value for one in found),
        farms=tuple(row.farm for row in job.submissions),
        clock=max((one.clock for one in found), default=0.0),
        cost=cost,
        currency=currency,
        done=sum(task.state is TaskState.DONE for one in found for task in one.tasks),
        total=sum(len(one.tasks) for one in found),
        frames=tuple(frames),
        nodes=tuple(node for one in found for node in one.nodes),
        forecast=_forecast(found, cost, currency),
    )


def product_key(task: TaskId, output: str) -> tuple[str, int, int, int, str]:
    """How the ledger finds a product."""
    unsplit = (-1 if task.tile is None else task.tile, -1 if task.share is None else task.share)
    return (task.request, task.frame, *unsplit, output)


def _frame_row(task: Task, output: str, at_home: dict[tuple[str, int, int, int, str], ProductRow]) -> FrameRow:
    row = at_home.get(product_key(task.id, output))
    state = task.state.value
    if row is not None and row.path and row.attempt == task.attempt and task.state is TaskState.DONE:
        state = row.verdict or "retrieved"
    return FrameRow(
        request=task.id.request,
        frame=task.id.frame,
        tile=task.id.tile,
        output=output,
        state=state,
        node=task.node,
        seconds=task.seconds,
        cost=task.cost,
        attempt=task.attempt,
        error=task.error,
    )


def _forecast(found: list[FarmJob], cost: Decimal, currency: str) -> Forecast:
    """From what has rendered: the rest at the same pace, on the nodes at work, at the price their time has had."""
    done = [task for one in found for task in one.tasks if task.state is TaskState.DONE and task.seconds]
    open_tasks = sum(task.state in (TaskState.WAITING, TaskState.RENDERING) for one in found for task in one.tasks)
    if not open_tasks:
        return Forecast(seconds_left=0.0, cost=cost, currency=currency)
    if not done:
        return Forecast(seconds_left=None, cost=None, currency=currency)
    per_frame = statistics.fmean(task.seconds or 0.0 for task in done)
    nodes = [node for one in found for node in one.nodes]
    on_the_clock = sum(node.free_at - node.began for node in nodes)
    # start-up is paid already: what is to come costs node time only
    to_come = cost * Decimal(open_tasks * per_frame / on_the_clock) if on_the_clock else Decimal(0)
    return Forecast(
        seconds_left=open_tasks * per_frame / max(1, len(nodes)),
        cost=(cost + to_come).quantize(Decimal("0.0001")),
        currency=currency,
    )


def _joined(states: Iterable[str]) -> str:
    """One word for a job at several farms: the least finished."""
    every = set(states)
    for state in ("sending", "rendering", "waiting", "failed", "cancelled"):
        if state in every:
            return state
    return JobState.DONE.value
