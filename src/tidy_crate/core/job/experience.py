"""Lessons of earlier jobs: accuracy of estimates, and the factor by which a farm's machines differ from the
expected.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.database import kept
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.estimate.offer import AGAIN_SHARE, AGAIN_WEIGHT, OTHER_MACHINE, Experience
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.protocol import JobOrder, JobState
from tidy_crate.core.job.ledger import Ledger, all_jobs
from tidy_crate.core.job.tables import AttemptRow, NodeRow, SubmissionRow, from_text
from tidy_crate.core.model import Model
from tidy_crate.core.money import Cost, Range
from tidy_crate.core.work.task import TaskState

# by which share the mean time of a frame differs from job to job on one farm: a standard deviation
JOB_SPREAD = 0.05
# no job counts for more than this, whatever went wrong in it
MOST_FACTOR = 4.0


class Accuracy(Model):
    """One finished submission: what was expected, and what it came to."""

    job: str
    farm: str
    machine: str
    cost: Cost
    paid: float
    """In the currency of `cost`."""
    cost_in_range: bool
    seconds: Range
    took: float | None
    """Farm seconds from the first submission's start to the last machine's end; None where it is not known."""
    frame_factor: float | None
    """Time of a task against the estimate as it would have been without any correction."""


@dataclass
class _Seen:
    """Known facts of one farm and machine class."""

    logs: list[float] = field(default_factory=list)
    tasks: int = 0
    again: int = 0


class Experiences:
    """Facts in the ledger about farms and machine classes.

    Read once, then asked for each quote. Farms are told apart as in `FarmCard.site`.
    """

    def __init__(self, ledger: Ledger) -> None:
        self._seen: dict[tuple[str, str], _Seen] = {}
        with ledger.reading() as session:
            for row, quote in _finished(session):
                place = row.site or f"name {row.farm}"
                seen = self._seen.setdefault((place, quote.machine), _Seen())
                factor = _frame_factor(session, row, quote)
                if factor is not None:
                    seen.logs.append(math.log(min(MOST_FACTOR, max(1 / MOST_FACTOR, factor))))
                first = (AttemptRow.submission_id == row.id, AttemptRow.number == 1)
                later = (AttemptRow.submission_id == row.id, AttemptRow.number == 2)
                seen.tasks += session.scalar(select(func.count()).where(*first)) or 0
                seen.again += session.scalar(select(func.count()).where(*later)) or 0

    def __call__(self, card: FarmCard, machine: str) -> Experience:
        """Return what is known of a machine class; the usual where nothing is.

        The factor is the mean of a normal posterior for its logarithm, from a prior around none.
        """
        seen = self._seen.get((card.site, machine)) or self._seen.get((f"name {card.name}", machine))
        if seen is None or not seen.logs:
            return Experience()
        before, each = 1 / OTHER_MACHINE**2, 1 / JOB_SPREAD**2
        precise = before + each * len(seen.logs)
        mean = each * sum(seen.logs) / precise
        again = (AGAIN_SHARE * AGAIN_WEIGHT + seen.again) / (AGAIN_WEIGHT + seen.tasks)
        spread = math.sqrt(1 / precise + JOB_SPREAD**2)
        return Experience(factor=math.exp(mean), spread=spread, jobs=len(seen.logs), again=again, tasks=seen.tasks)


def accuracy(ledger: Ledger) -> tuple[Accuracy, ...]:
    """Return how the estimates of all finished submissions did, the oldest first."""
    with ledger.reading() as session:
        found = []
        for row, quote in _finished(session):
            last = session.scalar(select(func.max(NodeRow.until)).where(NodeRow.submission_id == row.id))
            began, ended = from_text(row.began), from_text(last)
            paid = row.cost
            found.append(
                Accuracy(
                    job=row.job_id, farm=row.farm, machine=quote.machine, cost=quote.cost, paid=float(paid),
                    cost_in_range=quote.cost.holds(paid), seconds=quote.seconds,
                    took=(ended - began).total_seconds() if began and ended else None,
                    frame_factor=_frame_factor(session, row, quote),
                )
            )  # fmt: skip
        return tuple(found)


def _finished(session: Session) -> Iterator[tuple[SubmissionRow, Quote]]:
    for job in all_jobs(session):
        for row in job.submissions:
            if row.state == JobState.DONE.value and row.estimate:
                yield row, kept(Quote.model_validate_json, row.estimate, "an estimate")


def _frame_factor(session: Session, row: SubmissionRow, quote: Quote) -> float | None:
    """Time of a task against the estimate without its correction. Only first tries count."""
    done = (
        AttemptRow.submission_id == row.id, AttemptRow.number == 1, AttemptRow.state == TaskState.DONE.value,
        AttemptRow.billed > 0,
    )  # fmt: skip
    mean = session.scalar(select(func.avg(AttemptRow.billed)).where(*done))
    expected = quote.task_seconds
    order = kept(JobOrder.model_validate_json, row.order, "an order") if row.order else None
    if mean is None or not expected or expected <= 0 or order is None or order.batch != quote.batch:
        return None
    return float(mean) / expected * quote.correction
