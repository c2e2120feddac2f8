"""Tracking: how a job stands at all its farms, and where it is heading."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.database import kept
from tidy_crate.core.errors import FarmError, WrongUsage
from tidy_crate.core.farm.links.interface import needed
from tidy_crate.core.farm.protocol import Action, Capability, Counts, FarmQuote, JobState
from tidy_crate.core.job.actions import act
from tidy_crate.core.job.forecast import Forecast, Part, forecast
from tidy_crate.core.job.grid import RETRIEVED
from tidy_crate.core.job.handover import call_off
from tidy_crate.core.job.ledger import Ledger, products_at_home, products_of, submissions_of
from tidy_crate.core.job.listing import costs_of, currency_of, joined, single
from tidy_crate.core.job.machines import NodeView, machines
from tidy_crate.core.job.stop_loss import part_of, stop_loss
from tidy_crate.core.job.submission import Links, Ordered, catch_up
from tidy_crate.core.job.tables import (
    TASK_KEY,
    AttemptRow,
    JobRow,
    NodeRow,
    ProductRow,
    SubmissionRow,
    from_text,
    seconds_between,
)
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Cost
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.work.task import Task, TaskState, tasks_of


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
    """Cost of the last attempt, all outputs of the task together."""
    attempt: int
    farm: str
    error: str | None


class FarmView(Model):
    """State of the job at one farm."""

    farm: str
    state: str
    done: int
    total: int
    cost: Amount
    """Billed so far, refunds taken off."""
    currency: str
    refunded: Amount
    cap: Amount | None
    """The limit on its cost."""
    why: str
    """Why it is paused, where no user asked for it."""
    offer: FarmQuote | None
    """The farm's own quote."""
    billing: bool
    """True if machines that were rented for it are still paid for."""
    given_up: bool
    """True if its tasks were handed over to other farms."""
    trouble: str = ""
    """Why it could not be asked: what is shown is as it was last heard."""
    heard: datetime | None = None
    """When it was last heard, by our clock, to half a minute."""


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
    """Those that stand out first."""
    forecast: Forecast
    at: tuple[FarmView, ...] = ()
    """Its state at each farm."""
    estimate: Cost | None = None
    """With which it was sent."""
    at_home: int = 0
    """Products that are on this side."""
    products: int = 0
    into: Path | None = None
    """Their folder."""
    behind: bool = False
    """True if the farm has changes that were not read yet: frames and nodes are as of earlier."""
    finish: datetime | None = None
    """When it is likely done: our clock and the seconds that are left. None where that cannot be told."""
    rate: float | None = None
    """Tasks an hour, of all machines at work together; None before the first."""
    latest: tuple[Path, ...] = ()
    """Frames that came home last, to look at."""
    troubles: tuple[FrameRow, ...] = ()
    """The first tasks that failed, with the end of the node's log."""

    @property
    def billing(self) -> tuple[str, ...]:
        """Farms whose rented machines are still paid for."""
        return tuple(one.farm for one in self.at if one.billing)

    @property
    def unheard(self) -> tuple[FarmView, ...]:
        """Return the farms that did not answer: what is shown of them is as they were last heard."""
        return tuple(one for one in self.at if one.trouble and not one.given_up)

    @property
    def why(self) -> tuple[str, ...]:
        """Return why it is paused, where no user asked for it."""
        return tuple(f"{one.farm}: {one.why}" for one in self.at if one.why)


MOST_TROUBLES = 20
MOST_LATEST = 3


def track(
    ledger: Ledger,
    name: str,
    links: Links,
    *,
    frames: bool = True,
    seconds: float | None = None,
    last_known: bool = False,
    progress: Progress = silent,
) -> JobView:
    """Ask the farms and bring the ledger up to date. What it costs goes with what has changed.

    frames: whether every frame is listed, which costs as much as the job is large. seconds: for which changes are
    read at most from each farm; the view then says that it is behind.
    last_known: whether a farm that cannot be reached counts as it was last heard; see `JobView.unheard`.
    Raises FarmError when a farm cannot be reached.
    """
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    counts, trouble, behind, unheard = [], {}, False, False
    for row in submissions:
        try:
            found, is_behind = _counts(ledger, row, content, links, seconds, progress)
            counts.append(found)
            behind = behind or is_behind
        except FarmError as error:
            if not (row.given_up or last_known):
                raise
            # of a farm that was given up, what it has done counts, and no more is waited for
            trouble[row.id] = f"{error.what}; {error.remedy}" if error.remedy and not row.given_up else error.what
            counts.append(_kept_counts(ledger, row))
            unheard = unheard or not row.given_up
    for row in submissions if not (behind or unheard) else ():
        if stop_loss(ledger, row, links):
            counts[submissions.index(row)] = catch_up(ledger, row, content.requests, links(row)).counts
    with ledger.reading() as session:
        view = _view(session, job, submissions, content, counts, trouble, frames)
    if not (behind or unheard):
        return view
    # what has rendered is not all known yet: nothing can be forecast from it
    unknown = Forecast(seconds_left=None, cost=None)
    return view.model_copy(update={"behind": behind, "forecast": unknown, "finish": None, "rate": None})


def known(ledger: Ledger, name: str) -> JobView:
    """Return a job as the ledger knows it, without its frames; no farm is asked."""
    job, submissions = submissions_of(ledger, name)
    counts = [_kept_counts(ledger, row) for row in submissions]
    with ledger.reading() as session:
        return _view(session, job, submissions, job.packing_list(), counts, {}, frames=False)


def _counts(
    ledger: Ledger,
    row: SubmissionRow,
    content: PackingList,
    links: Links,
    seconds: float | None,
    progress: Progress,
) -> tuple[Counts, bool]:
    """Return the counts of a submission, and whether there are changes that were not read."""
    found = catch_up(ledger, row, content.requests, links(row), seconds=seconds, progress=progress)
    behind = row.cursor != found.cursor
    if row.given_up:
        if not found.state.ended:
            call_off(ledger, row, links)
        return Counts(done=found.counts.done), behind
    return found.counts, behind


def _kept_counts(ledger: Ledger, row: SubmissionRow) -> Counts:
    """Return the counts as the ledger knows them. Of a farm that was given up, only what it has done counts."""
    latest = (AttemptRow.submission_id == row.id, AttemptRow.latest)
    with ledger.reading() as session:
        query = select(AttemptRow.state, func.count()).where(*latest).group_by(AttemptRow.state)
        found: dict[str, int] = {state: int(count) for state, count in session.execute(query)}
    done = found.get(TaskState.DONE.value, 0)
    if row.given_up:
        return Counts(done=done)
    failed, rendering = found.get(TaskState.FAILED.value, 0), found.get(TaskState.RENDERING.value, 0)
    waiting = max(0, row.tasks - done - failed - rendering)
    if row.state == JobState.CANCELLED.value:
        return Counts(done=done, failed=failed, cancelled=waiting + rendering)
    return Counts(done=done, failed=failed, rendering=rendering, waiting=waiting)


def cancel(ledger: Ledger, name: str, links: Links) -> JobView:
    """Stop a job at all its farms. What has rendered stays there and can still be retrieved."""
    act(ledger, name, Action.CANCEL, links)
    return track(ledger, name, links)


def release(ledger: Ledger, name: str, links: Links) -> JobView:
    """Note that the machines that were rented for a job are shut down. Raises WrongUsage where none is paid for."""
    act(ledger, name, Action.RELEASE, links)
    return track(ledger, name, links)


def log_of(ledger: Ledger, name: str, task: Task, links: Links) -> str:
    """Return the logs of all attempts at a task, the last one at the end. Raises WrongUsage when there is none."""
    job, submissions = submissions_of(ledger, name)
    for row in submissions:
        link = links(row)
        telling = needed(link.changes, link, Capability.CHANGES)
        catch_up(ledger, row, job.packing_list().requests, link)
        with ledger.reading() as session:
            every = select(AttemptRow).where(AttemptRow.submission_id == row.id, AttemptRow.frame == task.frame)
            tried = [
                one for one in session.scalars(every.order_by(AttemptRow.number)) if one.task() == task and one.log
            ]
        # attempts of one run of a renderer have one log
        logs = {one.log: f"attempt {one.number}, {one.node or 'unknown node'}, {one.state}" for one in tried}
        texts = {head: telling.log(row.farm_job or "", log) for log, head in logs.items()}
        if len(texts) == 1:
            return next(iter(texts.values()))
        if texts:
            return "\n".join(f"---- {head}\n{text.rstrip()}\n" for head, text in texts.items())
    raise WrongUsage("there is no log of this task yet", str(task))


def _view(
    session: Session,
    job: JobRow,
    submissions: tuple[SubmissionRow, ...],
    content: PackingList,
    counted: list[Counts],
    trouble: dict[int, str],
    frames: bool,
) -> JobView:
    costs = costs_of(submissions)
    counts = Counts(**{name: sum(getattr(one, name) for one in counted) for name in Counts.model_fields})
    nodes = machines(session, submissions)
    parts = [part_of(session, row, one) for row, one in zip(submissions, counted, strict=True)]
    coming = forecast(parts)
    return JobView(
        job=job.id,
        state=joined(row.state for row in submissions if not row.given_up or len(submissions) == 1),
        farms=tuple(row.farm for row in submissions),
        clock=max((_clock(session, row) for row in submissions), default=0.0),
        cost=single(costs),
        currency=currency_of(costs),
        costs=costs,
        done=counts.done,
        total=counts.total,
        counts=counts,
        frames=tuple(_frames(session, submissions, content)) if frames else (),
        nodes=nodes,
        forecast=coming,
        at=tuple(_farm_view(row, one, trouble.get(row.id, "")) for row, one in zip(submissions, counted, strict=True)),
        estimate=_estimate(job),
        at_home=products_at_home(session, job.id),
        products=sum(row.products for row in submissions if not row.given_up),
        into=Path(job.into) if job.into else None,
        latest=tuple(_latest(session, job)),
        finish=_finish(submissions, coming),
        rate=_rate(parts),
        troubles=tuple(_troubles(session, submissions)),
    )


def _clock(session: Session, row: SubmissionRow) -> float:
    last = session.scalar(select(func.max(NodeRow.until)).where(NodeRow.submission_id == row.id))
    return seconds_between(row.began, last)


def _farm_view(row: SubmissionRow, counts: Counts, trouble: str) -> FarmView:
    return FarmView(
        farm=row.farm,
        state=row.state,
        done=counts.done,
        total=counts.total,
        cost=row.cost,
        currency=row.currency,
        refunded=row.refunded,
        cap=row.cap,
        why=row.why,
        offer=kept(FarmQuote.model_validate_json, row.offer, "a quote") if row.offer else None,
        billing=row.billing,
        given_up=row.given_up,
        trouble=trouble,
        heard=from_text(row.heard),
    )


# nothing goes on by itself
_WAITING_FOR_US = {"paused", "held", "offered", "unpaid", "quoting"}


def _finish(submissions: Iterable[SubmissionRow], coming: Forecast) -> datetime | None:
    waits = {row.state for row in submissions if not row.given_up} & _WAITING_FOR_US
    if coming.seconds_left is None or waits:
        return None
    # the farm's clock may be off: it only orders what happens there
    return datetime.now(UTC) + timedelta(seconds=min(coming.seconds_left, 1e9))


def _rate(parts: Iterable[Part]) -> float | None:
    known = [(part.known.mean, part.nodes) for part in parts if part.known is not None and part.left]
    return sum(3600 * nodes / mean for mean, nodes in known if mean > 0) if known else None


def _estimate(job: JobRow) -> Cost | None:
    low, likely, high = job.estimate_low, job.estimate_likely, job.estimate_high
    if low is None or likely is None or high is None or job.estimate_currency is None:
        return None
    return Cost(currency=job.estimate_currency, low=low, likely=likely, high=high)


def _latest(session: Session, job: JobRow) -> Iterator[Path]:
    query = products_of(job.id, ProductRow.path).where(ProductRow.home, ProductRow.in_use)
    for path in session.scalars(query.order_by(ProductRow.id.desc()).limit(MOST_LATEST)):
        if path:
            yield Path(path)


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
