"""Tracking: how a job stands at all its farms, and where it is heading."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.links.interface import controlling, needed
from tidy_crate.core.farm.protocol import Action, Capability, ControlOrder, Counts, JobState
from tidy_crate.core.job.ledger import Ledger, all_jobs, new_key, products_at_home, submissions_of
from tidy_crate.core.job.submission import Links, Ordered, catch_up, confirm
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, JobRow, NodeRow, ProductRow, SubmissionRow, from_text
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, by_currency
from tidy_crate.core.work.task import Task, TaskState, tasks_of

RETRIEVED = "retrieved"


@dataclass(frozen=True, slots=True)
class FrameRow:
    """One output of one task. A slotted data class, since a job has a hundred thousand of them."""

    request: str
    view: str
    frame: int
    tile: int | None
    share: int | None
    output: str
    state: str
    """waiting, rendering, done, failed, cancelled; then retrieved; then good, suspect, bad or missing."""
    node: str | None
    seconds: float | None
    """Billed for the last attempt."""
    cost: Decimal
    """Of the last attempt, all outputs of the task together."""
    attempt: int
    farm: str
    error: str | None


class NodeView(Model):
    """One machine at one farm."""

    farm: str
    name: str
    seconds: float
    """On the clock, start-up included."""
    frames: int
    """Tasks that it has finished."""
    cost: Amount
    currency: str


class Forecast(Model):
    """Where the job is heading."""

    seconds_left: float | None
    """Of farm time, None before the first frame."""
    cost: Amount | None
    """Of the whole job, None where it cannot be told."""
    currency: str


class JobView(Model):
    """One job in detail."""

    job: str
    state: str
    farms: tuple[str, ...]
    clock: float
    """Seconds of farm time from the first submission to the last thing that is known."""
    cost: Amount | None
    """Billed so far; None for a job at farms of several currencies, see `costs`."""
    currency: str
    """Empty for several currencies."""
    costs: dict[str, Amount]
    """Billed so far, by currency."""
    done: int
    """Tasks that are rendered."""
    total: int
    counts: Counts
    frames: tuple[FrameRow, ...]
    """Empty where they were not asked for."""
    nodes: tuple[NodeView, ...]
    forecast: Forecast
    troubles: tuple[FrameRow, ...] = ()
    """The first tasks that failed, with the end of the node's log."""


class JobLine(Model):
    """One job in a list, as far as the ledger knows."""

    job: str
    created: str
    state: str
    farms: tuple[str, ...]
    products: int
    at_home: int
    cost: Amount | None
    """None for a job at farms of several currencies, see `costs`."""
    currency: str
    costs: dict[str, Amount]
    crate: Path
    into: Path | None


MOST_TROUBLES = 20


def list_jobs(ledger: Ledger) -> tuple[JobLine, ...]:
    """All jobs of all farms, from the ledger alone."""
    with ledger.reading() as session:
        return tuple(_line(session, job) for job in all_jobs(session))


def _line(session: Session, job: JobRow) -> JobLine:
    costs = _costs(job.submissions)
    return JobLine(
        job=job.id,
        created=job.created,
        state=_joined(row.state for row in job.submissions),
        farms=tuple(row.farm for row in job.submissions),
        products=sum(row.products for row in job.submissions),
        at_home=products_at_home(session, job.id),
        cost=_single(costs),
        currency=_currency(costs),
        costs=costs,
        crate=Path(job.crate),
        into=Path(job.into) if job.into else None,
    )


def track(ledger: Ledger, name: str, links: Links, *, frames: bool = True) -> JobView:
    """Ask the farms and bring the ledger up to date. What it costs goes with what has changed.

    frames: whether every frame is listed, which costs as much as the job is large.
    Raises FarmError when a farm cannot be reached.
    """
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    counts = [catch_up(ledger, row, content.requests, links(row)).counts for row in submissions]
    with ledger.reading() as session:
        return _view(session, job, submissions, content, counts, frames)


def cancel(ledger: Ledger, name: str, links: Links) -> JobView:
    """Stop a job at all its farms. What has rendered stays there and can still be retrieved."""
    _, submissions = submissions_of(ledger, name)
    for row in submissions:
        link = links(row)
        farm_job = confirm(ledger, row, link)
        controlling(link, Action.CANCEL).control(farm_job, ControlOrder(key=new_key(), action=Action.CANCEL))
    return track(ledger, name, links)


def log_of(ledger: Ledger, name: str, task: Task, links: Links) -> str:
    """Return the log of the last attempt at a task. Raises WrongUsage when there is none."""
    job, submissions = submissions_of(ledger, name)
    for row in submissions:
        link = links(row)
        telling = needed(link.changes, link, Capability.CHANGES)
        catch_up(ledger, row, job.packing_list().requests, link)
        with ledger.reading() as session:
            latest = select(AttemptRow).where(
                AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.frame == task.frame
            )
            found = next((one for one in session.scalars(latest) if one.task() == task), None)
        if found is not None and found.log:
            return telling.log(row.farm_job or "", found.log)
    raise WrongUsage("there is no log of this task yet", str(task))


def _view(
    session: Session,
    job: JobRow,
    submissions: tuple[SubmissionRow, ...],
    content: PackingList,
    counted: list[Counts],
    frames: bool,
) -> JobView:
    costs = _costs(submissions)
    counts = Counts(**{name: sum(getattr(one, name) for one in counted) for name in Counts.model_fields})
    nodes = tuple(_nodes(session, submissions))
    return JobView(
        job=job.id,
        state=_joined(row.state for row in submissions),
        farms=tuple(row.farm for row in submissions),
        clock=max((_clock(session, row) for row in submissions), default=0.0),
        cost=_single(costs),
        currency=_currency(costs),
        costs=costs,
        done=counts.done,
        total=counts.total,
        counts=counts,
        frames=tuple(_frames(session, submissions, content)) if frames else (),
        nodes=nodes,
        forecast=_forecast(_mean_seconds(session, submissions), counts, nodes, costs),
        troubles=tuple(_troubles(session, submissions)),
    )


def _clock(session: Session, row: SubmissionRow) -> float:
    last = session.scalar(select(func.max(NodeRow.until)).where(NodeRow.submission_id == row.id))
    return _seconds(row.began, last)


def _seconds(begin: str | None, end: str | None) -> float:
    first, last = from_text(begin or None), from_text(end or None)
    return max(0.0, (last - first).total_seconds()) if first and last else 0.0


def _nodes(session: Session, submissions: Iterable[SubmissionRow]) -> Iterator[NodeView]:
    for row in submissions:
        query = select(NodeRow).where(NodeRow.submission_id == row.id).order_by(NodeRow.name, NodeRow.began)
        shifts: dict[str, list[NodeRow]] = {}
        for node in session.scalars(query):
            shifts.setdefault(node.name, []).append(node)
        for name, each in shifts.items():
            yield NodeView(
                farm=row.farm,
                name=name,
                seconds=sum(_seconds(one.began, one.until) for one in each),
                frames=sum(one.tasks for one in each),
                cost=sum((one.cost for one in each), Decimal(0)),
                currency=row.currency,
            )


def _mean_seconds(session: Session, submissions: Iterable[SubmissionRow]) -> float | None:
    ids = [row.id for row in submissions]
    done = (AttemptRow.submission_id.in_(ids), AttemptRow.state == TaskState.DONE.value, AttemptRow.billed > 0)
    found = session.scalar(select(func.avg(AttemptRow.billed)).where(*done))
    return None if found is None else float(found)


def _forecast(mean: float | None, counts: Counts, nodes: Iterable[NodeView], costs: dict[str, Decimal]) -> Forecast:
    """From what has rendered: the rest at the same pace, on the nodes at work, at the price their time has had."""
    cost, currency = _single(costs), _currency(costs)
    left = counts.waiting + counts.rendering
    if not left:
        return Forecast(seconds_left=0.0, cost=cost, currency=currency)
    if mean is None:
        return Forecast(seconds_left=None, cost=None, currency=currency)
    nodes = list(nodes)
    on_the_clock = sum(node.seconds for node in nodes)
    if cost is not None:
        # start-up is paid already: what is to come costs node time only
        to_come = cost * Decimal(left * mean / on_the_clock) if on_the_clock else Decimal(0)
        cost = (cost + to_come).quantize(Decimal("0.0001"))
    return Forecast(seconds_left=left * mean / max(1, len(nodes)), cost=cost, currency=currency)


# what a row says of its attempt, as columns: objects of a hundred thousand rows would fill the memory
_ATTEMPT = (
    AttemptRow.id, AttemptRow.state, AttemptRow.node, AttemptRow.billed, AttemptRow.cost, AttemptRow.number,
    AttemptRow.error,
)  # fmt: skip


def _troubles(session: Session, submissions: Iterable[SubmissionRow]) -> Iterator[FrameRow]:
    for row in submissions:
        failed = (AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.FAILED.value)
        query = select(*_ATTEMPT, *TASK_KEY).where(*failed).order_by(AttemptRow.frame).limit(MOST_TROUBLES)
        for found in session.execute(query):
            identity: tuple[Any, ...] = tuple(found[len(_ATTEMPT) :])
            yield _frame_row(Task.of_key(*identity), "", row, tuple(found[: len(_ATTEMPT)]), None)


def _frames(session: Session, submissions: Iterable[SubmissionRow], content: PackingList) -> Iterator[FrameRow]:
    """Every output of every task that was ordered, by the order of submissions."""
    for row in submissions:
        ordered = Ordered.of(row, content.requests)
        outputs = ordered.outputs()
        latest = (AttemptRow.submission_id == row.id, AttemptRow.latest)
        attempts: dict[tuple[Any, ...], tuple[Any, ...]] = {
            tuple(found[len(_ATTEMPT) :]): tuple(found[: len(_ATTEMPT)])
            for found in session.execute(select(*_ATTEMPT, *TASK_KEY).where(*latest))
        }
        columns = (ProductRow.attempt_id, ProductRow.output, ProductRow.home, ProductRow.verdict)
        judged = {
            (attempt, output): verdict or RETRIEVED
            for attempt, output, home, verdict in session.execute(select(*columns).join(AttemptRow).where(*latest))
            if home or verdict
        }
        for task in tasks_of(ordered.ranges, ordered.requests):
            attempt = attempts.get(task.key)
            for output in outputs[task.request]:
                seen = judged.get((attempt[0], output)) if attempt is not None else None
                yield _frame_row(task, output, row, attempt, seen)


def _frame_row(
    task: Task, output: str, row: SubmissionRow, attempt: tuple[Any, ...] | None, judged: str | None
) -> FrameRow:
    """judged: what is known of the product on this side, None for nothing."""
    cancelled = row.state == JobState.CANCELLED.value
    waiting = TaskState.CANCELLED.value if cancelled else TaskState.WAITING.value
    _, state, node, billed, cost, number, error = attempt or (0, waiting, None, None, Decimal(0), 0, None)
    if judged is not None and state == TaskState.DONE.value:
        state = judged
    return FrameRow(
        request=task.request,
        view=task.view,
        frame=task.frame,
        tile=task.tile,
        share=task.share,
        output=output,
        state=state,
        node=node,
        seconds=billed,
        cost=cost,
        attempt=number,
        farm=row.farm,
        error=error,
    )


def _costs(submissions: Iterable[SubmissionRow]) -> dict[str, Decimal]:
    return by_currency((row.cost, row.currency) for row in submissions)


def _single(costs: dict[str, Decimal]) -> Decimal | None:
    return next(iter(costs.values())) if len(costs) == 1 else None


def _currency(costs: dict[str, Decimal]) -> str:
    return next(iter(costs)) if len(costs) == 1 else ""


def _joined(states: Iterable[str]) -> str:
    """One word for a job at several farms: the least finished."""
    every = set(states)
    for state in ("sending", "rendering", "waiting", "paused", "failed", "cancelled"):
        if state in every:
            return state
    return JobState.DONE.value
