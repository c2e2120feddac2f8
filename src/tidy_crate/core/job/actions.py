"""Actions on a submitted job: pause, resume, cancel, priority, rendering again what failed, release."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from sqlalchemy import select

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.links.interface import controlling
from tidy_crate.core.farm.protocol import Action, ControlOrder, FarmQuote, JobState
from tidy_crate.core.job.ledger import Ledger, new_key, submissions_of
from tidy_crate.core.job.submission import Links, catch_up, confirm
from tidy_crate.core.job.tables import AttemptRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.work.task import Task, TaskState, ranges_of

UNDER_WAY = (JobState.WAITING, JobState.RENDERING)
WAITS = (JobState.PAUSED, JobState.HELD, JobState.OFFERED)


class Refund(Model):
    """The expected refund of cancelling at one farm."""

    farm: str
    state: str
    spent: Amount
    currency: str
    likely: Amount
    """That comes back."""
    because: str


def _asked(rows: Iterable[SubmissionRow], states: Iterable[JobState]) -> list[SubmissionRow]:
    wanted = {state.value for state in states}
    return [row for row in rows if row.state in wanted]


# what is said where no farm of a job is in a state for an action
_CANNOT = {
    Action.PAUSE: "no farm renders this job, so it cannot be paused",
    Action.RESUME: "this job does not wait for you, so it cannot be resumed",
    Action.PRIORITY: "no farm renders this job, so its priority means nothing",
    Action.RELEASE: "no rented machine is paid for this job",
}


def act(
    ledger: Ledger,
    name: str,
    action: Action,
    links: Links,
    *,
    priority: int | None = None,
    cap: tuple[Decimal, str] | None = None,
) -> tuple[str, ...]:
    """Carry out an action at every farm of a job that it concerns. Return these farms.

    cap: for `resume`, another limit on the cost at each farm, with its currency.
    Raises WrongUsage where it concerns none, FarmError where a farm cannot do it.
    """
    job, submissions = submissions_of(ledger, name)
    requests = job.packing_list().requests
    for row in submissions:
        controlling(links(row), action)
        catch_up(ledger, row, requests, links(row))
    concerned = _concerned(submissions, action)
    if not concerned and action is Action.CANCEL:
        # what was asked for is so already
        return ()
    if not concerned:
        states = ", ".join(f"{row.farm}: {row.state}" for row in submissions)
        raise WrongUsage(
            _CANNOT.get(action, f"this job is in no state for: {action.value}"), name, f"it stands like this: {states}"
        )
    if cap is not None:
        for row in concerned:
            _may_cost(row, *cap)
    for row in concerned:
        link = links(row)
        order = ControlOrder(key=new_key(), action=action, priority=priority, cap=cap[0] if cap is not None else None)
        controlling(link, action).control(confirm(ledger, row, link), order)
        if cap is not None:
            with ledger.writing() as session:
                kept = session.get_one(SubmissionRow, row.id)
                kept.cap, kept.why = cap[0], ""
        catch_up(ledger, row, requests, link)
    return tuple(row.farm for row in concerned)


def _may_cost(row: SubmissionRow, cap: Decimal, currency: str) -> None:
    """Raise WrongUsage for a cap that is spent already, or in another currency than the farm's."""
    if currency != row.currency:
        raise WrongUsage(f"{row.farm} bills in {row.currency}, the cap is in {currency}", cap)
    if cap <= row.cost:
        what = f"{row.cost:.2f} {row.currency} are spent at {row.farm} already"
        raise WrongUsage(what, f"--cap {cap}", "name a higher cap")


def _concerned(rows: Iterable[SubmissionRow], action: Action) -> list[SubmissionRow]:
    match action:
        case Action.PAUSE:
            return _asked(rows, UNDER_WAY)
        case Action.RESUME:
            return _asked(rows, WAITS)
        case Action.RELEASE:
            return [row for row in rows if row.billing]
        case Action.CANCEL:
            return [row for row in rows if row.state not in list(JobState) or not JobState(row.state).ended]
        case _:
            return _asked(rows, (*UNDER_WAY, *WAITS, JobState.UNPAID, JobState.QUOTING))


def refunds(ledger: Ledger, name: str, links: Links) -> tuple[Refund, ...]:
    """Work out what cancelling would bring back at each farm: by progress, all of it when the farm is at fault."""
    job, submissions = submissions_of(ledger, name)
    found = []
    for row in submissions:
        summary = catch_up(ledger, row, job.packing_list().requests, links(row))
        if summary.state.ended:
            continue
        likely, because = Decimal(0), "what was rendered is paid by the time it took"
        counts = summary.counts
        if row.offer:
            fixed = FarmQuote.model_validate_json(row.offer).cost
            left = counts.total - counts.done
            likely = min(row.cost, (fixed * left / max(1, counts.total)).quantize(Decimal("0.01")))
            because = f"{left} of {counts.total} frames are not rendered, and the price is fixed"
        elif not row.cost:
            because = "nothing was spent yet"
        found.append(
            Refund(
                farm=row.farm, state=row.state, spent=row.cost, currency=row.currency, likely=likely, because=because
            )
        )
    return tuple(found)


def resubmit_failed(ledger: Ledger, name: str, links: Links) -> tuple[Task, ...]:
    """Ask the farms again for the tasks that failed there. Return them. Raises WrongUsage where none failed."""
    job, submissions = submissions_of(ledger, name)
    requests = job.packing_list().requests
    asked: list[Task] = []
    for row in submissions:
        link = links(row)
        farm_job = confirm(ledger, row, link)
        catch_up(ledger, row, requests, link)
        query = select(AttemptRow).where(
            AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.FAILED.value
        )
        with ledger.reading() as session:
            failed = [one.task() for one in session.scalars(query)]
        if failed and not row.given_up:
            failed.sort(key=lambda task: task.key)
            order = ControlOrder(key=new_key(), action=Action.RERENDER, tasks=ranges_of(failed))
            controlling(link, Action.RERENDER).control(farm_job, order)
            asked += failed
    if not asked:
        raise WrongUsage("no frame of this job has failed", name, f"track {name} shows how it stands")
    return tuple(asked)
