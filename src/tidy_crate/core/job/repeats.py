"""Detection of crates that were sent before: an order placed twice is rendered and paid twice."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import ColumnElement, and_, or_, select
from sqlalchemy.orm import Session

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.database import kept
from tidy_crate.core.farm.card import FarmCard
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
    account: str = ""
    """Who was signed in; empty where that is not known."""


def at_site(card: FarmCard) -> ColumnElement[bool]:
    """Return the condition for submissions to the farm of a card, whatever the card was called then.

    Those of before sites were noted count by the farm's name.
    """
    unknown = and_(SubmissionRow.site == "", SubmissionRow.farm == card.name)
    return or_(SubmissionRow.site == card.site, unknown)


def sent_before(
    ledger: Ledger,
    packing: PackingList,
    ranges: Sequence[TaskRange],
    card: FarmCard,
    *,
    account: str = "",
    but: int | None = None,
) -> Earlier | None:
    """Return the submission that this one would repeat: an unconfirmed one first, else the newest; None for none.

    account: who is signed in; any account counts where it is not known. but: the row of the submission in question
    itself. Only earlier rows count then, so that of two that are entered at once exactly one is the repetition.
    """
    with ledger.reading() as session:
        found = [_earlier(row) for row in _alike(session, packing, tuple(ranges), card, account, but)]
    return next((one for one in found if not one.confirmed), found[0] if found else None)


def _alike(
    session: Session,
    packing: PackingList,
    ranges: tuple[TaskRange, ...],
    card: FarmCard,
    account: str,
    but: int | None,
) -> list[SubmissionRow]:
    query = (
        select(SubmissionRow)
        .join(JobRow)
        .where(JobRow.name == packing.name, at_site(card), SubmissionRow.state.not_in(_CALLED_OFF))
        .where(JobRow.packing == packing.model_dump_json())
        .order_by(SubmissionRow.id.desc())
    )
    if account:
        query = query.where(SubmissionRow.account.in_(("", account)))
    if but is not None:
        query = query.where(SubmissionRow.id < but)
    return [row for row in session.scalars(query) if row.order and _order(row.order).tasks == ranges]


def _order(text: str) -> JobOrder:
    return kept(JobOrder.model_validate_json, text, "an order")


def _earlier(row: SubmissionRow) -> Earlier:
    confirmed = row.farm_job is not None
    return Earlier(job=row.job_id, submission=row.id, confirmed=confirmed, state=row.state, account=row.account)
