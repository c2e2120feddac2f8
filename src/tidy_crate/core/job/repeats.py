"""Detection of crates that were sent before: an order placed twice is rendered and paid twice."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.database import kept
from tidy_crate.core.farm.protocol import JobOrder, JobState
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.work.task import TaskRange

# of these nothing more comes, so that sending again is what is meant
_CALLED_OFF = (JobState.CANCELLED.value, JobState.FAILED.value)


class Earlier(Model):
    """A submission of the same crate and tasks to the same farm."""

    job: str
    submission: int
    """Its row in the ledger."""
    confirmed: bool
    """True if the farm has said that it has it. Where not, it may have it all the same."""
    state: str


def sent_before(
    ledger: Ledger, packing: PackingList, ranges: Sequence[TaskRange], farm: str, *, but: int | None = None
) -> Earlier | None:
    """Return the submission that this one would repeat: an unconfirmed one first, else the newest; None for none.

    but: the row of the submission in question itself. Only earlier rows count then, so that of two that are entered at
    once exactly one is the repetition.
    """
    with ledger.reading() as session:
        found = [_earlier(row) for row in _alike(session, packing, tuple(ranges), farm, but)]
    return next((one for one in found if not one.confirmed), found[0] if found else None)


def _alike(
    session: Session, packing: PackingList, ranges: tuple[TaskRange, ...], farm: str, but: int | None
) -> list[SubmissionRow]:
    query = (
        select(SubmissionRow)
        .join(JobRow)
        .where(JobRow.name == packing.name, SubmissionRow.farm == farm, SubmissionRow.state.not_in(_CALLED_OFF))
        .where(JobRow.packing == packing.model_dump_json())
        .order_by(SubmissionRow.id.desc())
    )
    if but is not None:
        query = query.where(SubmissionRow.id < but)
    return [row for row in session.scalars(query) if row.order and _order(row.order).tasks == ranges]


def _order(text: str) -> JobOrder:
    return kept(JobOrder.model_validate_json, text, "an order")


def _earlier(row: SubmissionRow) -> Earlier:
    return Earlier(job=row.job_id, submission=row.id, confirmed=row.farm_job is not None, state=row.state)
