"""Sending: upload what the farm lacks, let it read the crate, compare, and only then submit."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from pathlib import Path

from sqlalchemy import select

from tidy_crate.core.check.finding import Finding
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import Delivered, Delivering, FarmLink, needed
from tidy_crate.core.farm.protocol import Account, Capability, JobState, Reading
from tidy_crate.core.job.ledger import Ledger, job_named, new_job
from tidy_crate.core.job.outage import Outage, say_nothing
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.repeats import Earlier, at_site, sent_before
from tidy_crate.core.job.submission import confirm
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent

# the state of a submission that the farm has not confirmed
SENDING = "sending"


class Submission(Model):
    """Result of sending to one farm."""

    farm: str
    uploaded_bytes: int
    reused_bytes: int
    tasks: int


class Sent(Model):
    """A job that runs."""

    job: str
    submissions: tuple[Submission, ...]
    continued: bool = False
    """It had been sent before, and the farm had not confirmed it."""
    warnings: tuple[Finding, ...] = ()
    """Known troubles of the job, see Sending."""
    waived: tuple[Finding, ...] = ()
    """Troubles that a person waived."""
    accepted: tuple[Waiver, ...] = ()
    """Troubles that a person accepted."""


def send(
    sending: Sending,
    card: FarmCard,
    card_path: Path,
    link: FarmLink,
    ledger: Ledger,
    quote: Quote | None = None,
    progress: Progress = silent,
    *,
    job: str | None = None,
    again: bool = False,
    adds: bool = False,
    tell: Callable[[str], None] = say_nothing,
) -> Sent:
    """Upload and submit.

    adds: counts the quote to the job's estimate, as one of several shares. tell: is told of outages of the farm, which
    the upload outlives.

    A submission of the same crate and tasks that the farm never confirmed is continued: asked for with the same key it
    is one job there, whatever became of the first try. again: submits although the farm has the same already.
    job: adds a submission to a job that was sent before, at another farm or for other tasks, in place of a new job.
    Raises WrongUsage when the farm has the same already; Blocked when errors stand, or when the farm understood the
    crate otherwise than the survey did;
    FarmError when the farm lacks a capability, the balance does not cover the likely cost, or the farm fails.
    """
    if sending.errors:
        first = sending.errors[0]
        more = f" and {len(sending.errors) - 1} more" if len(sending.errors) > 1 else ""
        raise Blocked(f"an error stands{more}: {first.subject}: {first.message}", sending.crate, first.remedy)
    deliver = needed(link.deliver, link, Capability.DELIVER)
    submit = needed(link.submit, link, Capability.SUBMIT)
    if job is not None:
        _same_job(ledger, job, sending)
    account = link.account.account() if link.account is not None else None
    who = account.user if account is not None else ""
    earlier = sent_before(ledger, sending.packing, sending.ranges, card, account=who) if job is None else None
    if earlier is not None and earlier.confirmed and not again:
        raise repeated(earlier, card.name)
    _need_money(card, quote, account)
    delivered = _deliver(deliver, sending, delivered_before(ledger, card, sending), progress, Outage(tell))
    differs = compare(sending.delivered, delivered.reading) if delivered.reading is not None else []
    if differs:
        raise Blocked("the farm reads the crate otherwise: " + "; ".join(differs), card.name, "nothing was submitted")
    if earlier is not None and not earlier.confirmed:
        return _continued(ledger, earlier, link, sending)
    order = sending.order(delivered.crate)
    # in the ledger before the farm knows of it: a crash in between must not lose a job that costs money
    name = job or new_job(ledger, sending.crate, sending.packing)
    with ledger.writing() as session:
        entered = job_named(session, name)
        if job is None or adds:
            _note_estimate(entered, quote)
        row = SubmissionRow(
            job_id=name, number=len(entered.submissions) + 1, farm=card.name, card=str(card_path), key=order.key,
            site=card.site, account=who,
            order=order.model_dump_json(), state=SENDING, currency=card.currency,
            uploaded_bytes=delivered.uploaded_bytes, reused_bytes=delivered.reused_bytes, cost=Decimal(0),
            tasks=sending.tasks, products=sending.products, cursor="", cap=order.cap,
            estimate=quote.model_dump_json() if quote is not None else None,
        )  # fmt: skip
        session.add(row)
        session.flush()
        number = row.id
    if job is None and not again:
        # two sends at once: the one that was entered first is the one that counts
        other = sent_before(ledger, sending.packing, sending.ranges, card, account=who, but=number)
        if other is not None:
            with ledger.writing() as session:
                session.delete(session.get_one(SubmissionRow, number))
            if other.confirmed:
                raise repeated(other, card.name)
            return _continued(ledger, other, link, sending)
    farm_job = submit.submit(order)
    with ledger.writing() as session:
        row = session.get_one(SubmissionRow, number)
        row.farm_job, row.state = farm_job, JobState.WAITING.value
    submission = Submission(
        farm=card.name, uploaded_bytes=delivered.uploaded_bytes, reused_bytes=delivered.reused_bytes,
        tasks=sending.tasks,
    )  # fmt: skip
    return _sent(name, submission, sending)


def _need_money(card: FarmCard, quote: Quote | None, account: Account | None) -> None:
    """Raise FarmError when an account does not cover the likely cost. Two currencies are not compared."""
    if quote is None or account is None or account.currency != quote.cost.currency:
        return
    if account.balance < quote.cost.likely:
        what = f"the balance is {account.balance} {account.currency}, the job will cost about {quote.cost.likely}"
        raise FarmError(what, card.name)


def repeated(earlier: Earlier, farm: str) -> WrongUsage:
    """Return the error for a crate that a farm has already."""
    what = f"{farm} has this crate with these frames already, as {earlier.job} ({earlier.state})"
    return WrongUsage(what, None, f"track {earlier.job} shows it; --again sends, and bills, it once more")


def _continued(ledger: Ledger, earlier: Earlier, link: FarmLink, sending: Sending) -> Sent:
    """Ask again for a submission that was never confirmed, with the key that it has."""
    with ledger.reading() as session:
        row = session.get_one(SubmissionRow, earlier.submission)
        session.expunge(row)
    confirm(ledger, row, link)
    with ledger.writing() as session:
        own = session.get_one(SubmissionRow, earlier.submission)
        if own.state == SENDING:
            own.state = JobState.WAITING.value
    submission = Submission(
        farm=row.farm, uploaded_bytes=row.uploaded_bytes, reused_bytes=row.reused_bytes, tasks=row.tasks
    )
    return _sent(earlier.job, submission, sending, continued=True)


def _sent(job: str, submission: Submission, sending: Sending, *, continued: bool = False) -> Sent:
    return Sent(
        job=job,
        submissions=(submission,),
        continued=continued,
        warnings=sending.warnings,
        waived=sending.waived,
        accepted=sending.accepted,
    )


def _same_job(ledger: Ledger, name: str, sending: Sending) -> None:
    with ledger.reading() as session:
        job = job_named(session, name)
        if job.packing_list() != sending.packing:
            raise WrongUsage("the job was made of another crate", name, "send this crate as a job of its own")


def delivered_before(ledger: Ledger, card: FarmCard, sending: Sending) -> dict[str, str]:
    """Return by path in the crate the BLAKE3 of what a farm got of it last."""
    last = (
        select(JobRow)
        .join(SubmissionRow)
        .where(JobRow.name == sending.packing.name, at_site(card))
        .order_by(SubmissionRow.id.desc())
        .limit(1)
    )
    with ledger.reading() as session:
        job = session.scalars(last).first()
        return {} if job is None else {file.path: file.blake3 for file in job.packing_list().files}


def _deliver(
    deliver: Delivering, sending: Sending, earlier: Mapping[str, str], progress: Progress, outage: Outage
) -> Delivered:
    """Deliver the crate, through times in which the farm does not answer. What has arrived is not sent again.

    A farm that does not answer from the beginning is not waited for.
    """
    begun = False

    def seen(step: Step) -> None:
        nonlocal begun
        begun = True
        progress(step)

    while True:
        try:
            return deliver.deliver(sending.crate, sending.delivered, seen, earlier)
        except FarmBusy as error:
            if not begun:
                raise
            outage.wait(error)


def compare(content: PackingList, reading: Reading) -> list[str]:
    """Return what the farm understood otherwise than the survey, in plain words."""
    own = content.essentials
    differs = []
    if (own.frames.start, own.frames.end) != (reading.start, reading.end):
        differs.append(f"frames {reading.start}-{reading.end}, not {own.frames.start}-{own.frames.end}")
    if abs(own.frames.fps - reading.fps) > 1e-6:
        differs.append(f"{reading.fps:g} frames a second, not {own.frames.fps:g}")
    outputs = {output.name: output.passes for output in own.outputs}
    if outputs != reading.outputs:
        differs.append(f"outputs {_outputs(reading.outputs)}, not {_outputs(outputs)}")
    first = own.outputs[0] if own.outputs else None
    if first and first.resolution and reading.resolution != first.resolution.rendered:
        differs.append(f"resolution {reading.resolution}, not {first.resolution.rendered}")
    if first and reading.camera != first.camera:
        differs.append(f"camera {reading.camera}, not {first.camera}")
    known = {one.path for one in content.missing}
    lost = [path for path in reading.missing if path not in known]
    if lost:
        differs.append("files it cannot find: " + ", ".join(lost[:5]))
    return differs


def _outputs(outputs: dict[str, tuple[str, ...]]) -> str:
    return ", ".join(f"{name} ({' '.join(passes)})" for name, passes in outputs.items()) or "none"


def _note_estimate(job: JobRow, quote: Quote | None) -> None:
    """Note what a job is expected to cost, or add a share of it. Shares in another currency have no sum."""
    if quote is None or job.estimate_currency not in (None, quote.cost.currency):
        return
    cost, none = quote.cost, Decimal(0)
    job.estimate_low = (job.estimate_low or none) + cost.low
    job.estimate_likely = (job.estimate_likely or none) + cost.likely
    job.estimate_high = (job.estimate_high or none) + cost.high
    job.estimate_currency = cost.currency
