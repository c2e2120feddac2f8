"""The list of all jobs, from the ledger alone."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from pathlib import Path

from sqlalchemy.orm import Session

from tidy_crate.core.job.ledger import Ledger, all_jobs, products_at_home
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, by_currency


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
    billing: tuple[str, ...] = ()
    """Farms whose rented machines are still paid for."""


def list_jobs(ledger: Ledger) -> tuple[JobLine, ...]:
    """All jobs of all farms, from the ledger alone."""
    with ledger.reading() as session:
        return tuple(_line(session, job) for job in all_jobs(session))


def _line(session: Session, job: JobRow) -> JobLine:
    costs = costs_of(job.submissions)
    return JobLine(
        job=job.id,
        created=job.created,
        state=joined(row.state for row in job.submissions),
        farms=tuple(row.farm for row in job.submissions),
        products=sum(row.products for row in job.submissions),
        at_home=products_at_home(session, job.id),
        cost=single(costs),
        currency=currency_of(costs),
        costs=costs,
        crate=Path(job.crate),
        into=Path(job.into) if job.into else None,
        billing=tuple(row.farm for row in job.submissions if row.billing),
    )


def costs_of(submissions: Iterable[SubmissionRow]) -> dict[str, Decimal]:
    """Return what was billed so far, by currency."""
    return by_currency((row.cost, row.currency) for row in submissions)


def single(costs: dict[str, Decimal]) -> Decimal | None:
    """Return the amount where there is one currency only."""
    return next(iter(costs.values())) if len(costs) == 1 else None


def currency_of(costs: dict[str, Decimal]) -> str:
    """Return the currency where there is only one, else nothing."""
    return next(iter(costs)) if len(costs) == 1 else ""


# the least finished first
_STATES = (
    "sending", "quoting", "offered", "unpaid", "rendering", "waiting", "held", "paused", "failed", "cancelled",
)  # fmt: skip


def joined(states: Iterable[str]) -> str:
    """One word for a job at several farms: the least finished."""
    every = set(states)
    for state in _STATES:
        if state in every:
            return state
    return "done"
