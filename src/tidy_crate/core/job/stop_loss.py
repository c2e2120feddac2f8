"""Stop loss: a submission that will break its cap is paused, and it is noted why."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.links.interface import controlling
from tidy_crate.core.farm.protocol import Action, ControlOrder, Counts, JobState
from tidy_crate.core.job.forecast import Part, forecast, rendered
from tidy_crate.core.job.ledger import Ledger, new_key
from tidy_crate.core.job.submission import Links, confirm
from tidy_crate.core.job.tables import AttemptRow, NodeRow, SubmissionRow, seconds_between
from tidy_crate.core.work.task import TaskState

_UNDER_WAY = (JobState.WAITING.value, JobState.RENDERING.value)
# rendered tasks from which on a forecast is believed
ENOUGH = 5


def part_of(session: Session, row: SubmissionRow, counts: Counts | None = None) -> Part:
    """Sum up a submission for the forecast. counts: of its tasks, as the farm has them; from the ledger when None."""
    clock, nodes = 0.0, 0
    for began, until, gone in session.execute(
        select(NodeRow.began, NodeRow.until, NodeRow.gone).where(NodeRow.submission_id == row.id)
    ):
        clock += seconds_between(began, until)
        nodes += not gone
    if row.given_up or row.state in (JobState.CANCELLED.value, JobState.FAILED.value, JobState.DONE.value):
        left = 0
    elif counts is not None:
        left = counts.waiting + counts.rendering
    else:
        done = (AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.DONE.value)
        left = row.tasks - (session.scalar(select(func.count()).select_from(AttemptRow).where(*done)) or 0)
    return Part(left, rendered(session, row.id), nodes, clock, row.cost, row.currency)


def stop_loss(ledger: Ledger, row: SubmissionRow, links: Links) -> bool:
    """Pause a submission whose bill will break its cap: the low end of the forecast is over it, or the bill is.

    Return whether it was paused. A farm that cannot pause is noted as such, and told only once.
    """
    if row.cap is None or row.state not in _UNDER_WAY:
        return False
    with ledger.reading() as session:
        part = part_of(session, row)
    coming = forecast([part]).cost
    known = part.known is not None and part.known.count >= ENOUGH
    if row.cost >= row.cap and part.left:
        why = f"{row.cost:.2f} {row.currency} are spent, the cap is {row.cap:.2f}"
    elif known and coming is not None and coming.low > row.cap:
        why = f"it would cost {coming.low:.2f} {row.currency} at least, the cap is {row.cap:.2f}"
    else:
        return False
    if row.why.startswith(_CANNOT):
        return False
    try:
        link = links(row)
        order = ControlOrder(key=new_key(), action=Action.PAUSE)
        controlling(link, Action.PAUSE).control(confirm(ledger, row, link), order)
        paused = True
    except FarmError as error:
        why, paused = f"{_CANNOT} ({error.what}): {why}", False
    with ledger.writing() as session:
        session.get_one(SubmissionRow, row.id).why = why
    row.why = why
    return paused


_CANNOT = "it could not be paused"
