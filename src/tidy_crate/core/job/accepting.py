"""Accepting and rejecting frames: decisions of people, kept in the ledger and told to farms that bill by them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from tidy_crate.core.database import kept
from tidy_crate.core.errors import FarmBusy, WrongUsage
from tidy_crate.core.farm.protocol import Action, ControlOrder
from tidy_crate.core.job.ledger import Ledger, new_key, now, products_of, submissions_of
from tidy_crate.core.job.submission import Links, confirm, note_to_tell
from tidy_crate.core.job.tables import AcceptanceRow, JobRow, ProductRow, SubmissionRow, sentences
from tidy_crate.core.model import Model
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task, TaskOutput, ranges_of


class Judged(TaskOutput):
    """A product that a person may decide on."""

    farm: str
    verdict: Verdict | None
    """Verdict of the review; None before one."""
    decision: Verdict | None = None
    """The decision of a person: good or bad."""
    reasons: tuple[str, ...] = ()
    because: str = ""


class Decided(Model):
    """A decision about some products, and the farms that were told."""

    job: str
    decision: Verdict
    products: tuple[Judged, ...]
    told: tuple[str, ...] = ()
    """Farms whose bill depends on it."""
    later: tuple[str, ...] = ()
    """Such farms that did not answer: they are told with the next `track`."""


def judged_products(
    ledger: Ledger,
    name: str,
    *,
    frames: Iterable[int] | None = None,
    verdicts: Iterable[Verdict] = (),
    output: str | None = None,
) -> tuple[Judged, ...]:
    """Return the products at home that match: of these frames, these verdicts and this output; all for nothing said."""
    job, _ = submissions_of(ledger, name)
    if job.reviewed is None:
        raise WrongUsage("the frames of this job were not reviewed yet", name, f"tidy-crate review {name}")
    numbers = None if frames is None else set(frames)
    wanted = {one.value for one in verdicts}
    found = []
    with ledger.reading() as session:
        query = products_of(name, ProductRow, SubmissionRow.farm).options(joinedload(ProductRow.attempt))
        for row, farm in session.execute(query.where(ProductRow.in_use)):
            task = row.attempt.task()
            if numbers is not None and task.frame not in numbers:
                continue
            if (wanted and row.verdict not in wanted) or (output is not None and row.output != output):
                continue
            found.append(_judged(row, task, farm))
    return tuple(sorted(found, key=lambda one: (one.output, one.task().key)))


def _judged(row: ProductRow, task: Task, farm: str) -> Judged:
    return Judged.of(
        task,
        row.output,
        farm=farm,
        verdict=row.judged(),
        decision=None if row.decision is None else kept(Verdict, row.decision, "a verdict"),
        reasons=sentences(row.reasons),
        because=row.because or "",
    )


def decide(
    ledger: Ledger, name: str, products: Sequence[Judged], *, accept: bool, because: str, links: Links
) -> Decided:
    """Write down that products are accepted or rejected, and tell the farms that bill by it.

    What is accepted against the review's verdict is remembered for every later job of this crate's name: the same
    frames are not called suspect again for what sets them apart from their neighbours.
    """
    job, submissions = submissions_of(ledger, name)
    decision = Verdict.GOOD if accept else Verdict.BAD
    chosen = {(one.task().key, one.output) for one in products}
    with ledger.writing() as session:
        for row in session.scalars(products_of(name).where(ProductRow.in_use)):
            task = row.attempt.task()
            if (task.key, row.output) not in chosen:
                continue
            if accept and row.verdict not in (None, Verdict.GOOD.value):
                _remember(session, job, task, row.output, because)
            row.decision = row.verdict = decision.value
            row.because = because
        if not accept:
            _forget(session, job, products)
    told, later = [], []
    for row in submissions:
        link = links(row) if row.farm_job else None
        action = Action.ACCEPT if accept else Action.REJECT
        if link is None or link.control is None or action not in link.control.actions:
            continue
        tasks = [one.task() for one in products if one.farm == row.farm]
        if tasks:
            order = ControlOrder(key=new_key(), action=action, tasks=ranges_of(dict.fromkeys(tasks)))
            try:
                link.control.control(confirm(ledger, row, link), order)
            except FarmBusy:
                # it is decided all the same; the farm is told when it answers again
                note_to_tell(ledger, row.id, order)
                later.append(row.farm)
            else:
                told.append(row.farm)
    done = tuple(one.model_copy(update={"decision": decision, "because": because}) for one in products)
    return Decided(job=name, decision=decision, products=done, told=tuple(told), later=tuple(later))


def _remember(session: Session, job: JobRow, task: Task, output: str, because: str) -> None:
    known = session.scalar(
        select(AcceptanceRow).where(
            AcceptanceRow.name == job.name,
            AcceptanceRow.view == task.view,
            AcceptanceRow.output == output,
            AcceptanceRow.frame == task.frame,
        )
    )
    if known is None:
        session.add(
            AcceptanceRow(
                name=job.name, view=task.view, output=output, frame=task.frame, because=because, accepted=now()
            )
        )


def _forget(session: Session, job: JobRow, products: Sequence[Judged]) -> None:
    keys = {(one.view, one.output, one.frame) for one in products}
    for row in session.scalars(select(AcceptanceRow).where(AcceptanceRow.name == job.name)):
        if (row.view, row.output, row.frame) in keys:
            session.delete(row)


def accepted_frames(ledger: Ledger, name: str) -> dict[tuple[str, str], frozenset[int]]:
    """Return, by view and output, the frames that were accepted in any job of a crate's name."""
    found: dict[tuple[str, str], set[int]] = {}
    with ledger.reading() as session:
        for row in session.scalars(select(AcceptanceRow).where(AcceptanceRow.name == name)):
            found.setdefault((row.view, row.output), set()).add(row.frame)
    return {key: frozenset(frames) for key, frames in found.items()}
