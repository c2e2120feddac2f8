"""The machines at work on a job: which are slow, which fail, and which are paid for and do nothing."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.job.tables import AttemptRow, NodeRow, SubmissionRow, from_text, seconds_between
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.work.task import TaskState

# times the median of all machines from which on one is slow
SLOW = 1.5
# share of failed tries from which on a machine fails, and how many there must be
FAILING, FEW_FAILURES = 0.25, 2
# seconds on the clock without a task, beyond starting up
IDLE = 120.0

Mark = Literal["slow", "failing", "idle"]


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
    gone: bool = False
    """True once it is off the clock."""
    busy: int = 0
    """Tasks that it is rendering."""
    failed: int = 0
    """Tries that failed on it."""
    mean: float | None = None
    """Billed seconds of a task on it, on average."""
    marks: tuple[Mark, ...] = ()
    why: str = ""
    """Reasons for the marks, in plain words."""


def machines(session: Session, submissions: Iterable[SubmissionRow]) -> tuple[NodeView, ...]:
    """Return the machines of all submissions, those with marks first."""
    found: list[NodeView] = []
    for row in submissions:
        found += _of(session, row)
    return tuple(sorted(found, key=lambda one: (not one.marks, one.farm, one.name)))


def _of(session: Session, row: SubmissionRow) -> list[NodeView]:
    query = select(NodeRow).where(NodeRow.submission_id == row.id).order_by(NodeRow.name, NodeRow.began)
    shifts: dict[str, list[NodeRow]] = {}
    for node in session.scalars(query):
        shifts.setdefault(node.name, []).append(node)
    counted = (
        select(AttemptRow.node, AttemptRow.state, func.count(), func.sum(AttemptRow.billed), func.max(AttemptRow.ended))
        .where(AttemptRow.submission_id == row.id, AttemptRow.node.is_not(None))
        .group_by(AttemptRow.node, AttemptRow.state)
    )
    states: dict[str, dict[str, tuple[int, float, str | None]]] = {}
    for name, state, count, billed, ended in session.execute(counted):
        states.setdefault(str(name), {})[state] = (int(count), float(billed or 0), ended)
    every = [_view(row, name, each, states.get(name, {})) for name, each in shifts.items()]
    means = [one.mean for one in every if one.mean]
    median = statistics.median(means) if len(means) > 2 else None
    last = from_text(row.seen)
    return [_marked(one, states.get(one.name, {}), shifts[one.name], median, last) for one in every]


def _view(
    row: SubmissionRow, name: str, shifts: Sequence[NodeRow], states: dict[str, tuple[int, float, str | None]]
) -> NodeView:
    done, seconds, _ = states.get(TaskState.DONE.value, (0, 0.0, None))
    return NodeView(
        farm=row.farm,
        name=name,
        seconds=sum(seconds_between(one.began, one.until) for one in shifts),
        frames=sum(one.tasks for one in shifts),
        cost=sum((one.cost for one in shifts), start=shifts[0].cost * 0),
        currency=row.currency,
        gone=all(one.gone for one in shifts),
        busy=states.get(TaskState.RENDERING.value, (0, 0.0, None))[0],
        failed=states.get(TaskState.FAILED.value, (0, 0.0, None))[0],
        mean=seconds / done if done else None,
    )


def _marked(
    one: NodeView,
    states: dict[str, tuple[int, float, str | None]],
    shifts: Sequence[NodeRow],
    median: float | None,
    last: datetime | None,
) -> NodeView:
    """Say what stands out. last: when the farm was last heard, by its own clock."""
    marks: list[Mark] = []
    why = []
    if one.mean and median and one.mean > SLOW * median and one.frames > 1:
        marks.append("slow")
        why.append(f"{one.mean / median:.1f} times as long a frame as the others")
    tries = one.failed + one.frames
    if one.failed >= FEW_FAILURES and one.failed >= FAILING * tries:
        marks.append("failing")
        why.append(f"{one.failed} of {tries} tries failed")
    if not one.gone and not one.busy and last is not None:
        ended = [at for _, _, text in states.values() if (at := from_text(text)) is not None]
        since = max(ended) if ended else from_text(shifts[-1].began)
        idle = (last - since).total_seconds() if since is not None else 0.0
        if idle > IDLE and ended:
            marks.append("idle")
            why.append(f"paid for and without a frame for {idle / 60:.0f} min")
    return one.model_copy(update={"marks": tuple(marks), "why": "; ".join(why)}) if marks else one
