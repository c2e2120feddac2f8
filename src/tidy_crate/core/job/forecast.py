"""Forecast of a job: remaining time and money as a range, from the frames that have rendered so far."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.job.tables import AttemptRow
from tidy_crate.core.model import Model
from tidy_crate.core.money import Cost, Range
from tidy_crate.core.work.task import TaskState

# of a normal distribution: from the middle to the 90th percentile
_Z = 1.2816
# tasks that are looked at for how alike neighbours are
SAMPLE = 500
# spread of the mean, as a share, while a single frame is known
ONE_FRAME = 0.5


class Forecast(Model):
    """Remaining time and final cost of a job. Low, likely and high are the 10th, 50th and 90th percentile."""

    seconds_left: float | None
    """Likely seconds of farm time, None before the first frame."""
    seconds: Range | None = None
    """The same as a range."""
    cost: Cost | None
    """Cost of the whole job; None where it cannot be told, or is in several currencies."""


@dataclass(frozen=True)
class Rendered:
    """Statistics of the rendered tasks of a submission."""

    count: int
    mean: float
    """Billed seconds of a task."""
    deviation: float
    """Standard deviation of one task, in seconds."""
    alike: float
    """Correlation of neighbours along the shot, 0 to 0.95."""

    @property
    def error(self) -> float:
        """Standard error of the mean, in seconds: neighbours that are alike tell less."""
        if self.count < 2:
            return ONE_FRAME * self.mean
        independent = max(1.0, self.count * (1 - self.alike) / (1 + self.alike))
        return self.deviation / math.sqrt(independent)


def rendered(session: Session, submission: int) -> Rendered | None:
    """Sum up what has rendered of a submission, None before the first task."""
    done = (
        AttemptRow.submission_id == submission, AttemptRow.state == TaskState.DONE.value, AttemptRow.billed > 0,
        AttemptRow.latest,
    )  # fmt: skip
    sums = select(func.count(), func.sum(AttemptRow.billed), func.sum(AttemptRow.billed * AttemptRow.billed))
    count, total, squares = session.execute(sums.where(*done)).one()
    if not count or total is None or squares is None:
        return None
    mean = float(total) / count
    spread = max(0.0, float(squares) / count - mean * mean) * count / max(1, count - 1)
    row = select(AttemptRow.billed).where(*done).order_by(AttemptRow.frame).limit(SAMPLE)
    return Rendered(int(count), mean, math.sqrt(spread), _alike([float(one or 0) for one in session.scalars(row)]))


def _alike(seconds: Sequence[float]) -> float:
    """Correlation of neighbours (lag 1), 0 where there are too few."""
    if len(seconds) < 8:
        return 0.0
    mean = sum(seconds) / len(seconds)
    around = [one - mean for one in seconds]
    whole = sum(one * one for one in around)
    if whole <= 0:
        return 0.0
    return min(0.95, max(0.0, sum(a * b for a, b in pairwise(around)) / whole))


@dataclass(frozen=True)
class Part:
    """A submission, for the forecast of its job."""

    left: int
    """Tasks that are not done."""
    known: Rendered | None
    nodes: int
    """Machines at work on it."""
    clock: float
    """Seconds that its machines have been on the clock, all together."""
    spent: Decimal
    currency: str


def forecast(parts: Sequence[Part]) -> Forecast:
    """From what has rendered: the rest at the same pace, on the machines at work, at the price their time has had.

    Farms render side by side, so the last one that ends counts for the time; costs are added up.
    """
    currencies = {part.currency for part in parts}
    single = next(iter(currencies)) if len(currencies) == 1 else None
    spent = sum((part.spent for part in parts), Decimal(0))
    open_parts = [part for part in parts if part.left]
    if not open_parts:
        cost = Cost(currency=single, low=spent, likely=spent, high=spent) if single else None
        return Forecast(seconds_left=0.0, seconds=Range(low=0, likely=0, high=0), cost=cost)
    if any(part.known is None for part in open_parts):
        return Forecast(seconds_left=None, cost=None)
    times: list[tuple[float, float, float]] = []
    money = [float(spent)] * 3
    for part in open_parts:
        assert part.known is not None
        work = _work(part.left, part.known)
        times.append(tuple(one / max(1, part.nodes) for one in work))  # type: ignore[arg-type]
        if part.clock > 0:
            # start-up is paid already: what is to come costs node time only
            rate = float(part.spent) / part.clock
            money = [sum_ + rate * one for sum_, one in zip(money, work, strict=True)]
    low, likely, high = (max(column) for column in zip(*times, strict=True))
    cost = None
    if single is not None:
        amounts = [Decimal(str(round(one, 4))) for one in money]
        cost = Cost(currency=single, low=amounts[0], likely=amounts[1], high=amounts[2])
    return Forecast(seconds_left=likely, seconds=Range(low=low, likely=likely, high=high), cost=cost)


def _work(left: int, known: Rendered) -> tuple[float, float, float]:
    """Seconds of machine time that are to come: low, likely, high."""
    likely = left * known.mean
    # of the mean, which is the same for all frames, and of the frames themselves
    spread = math.sqrt((left * known.error) ** 2 + left * known.deviation**2)
    return max(0.0, likely - _Z * spread), likely, likely + _Z * spread
