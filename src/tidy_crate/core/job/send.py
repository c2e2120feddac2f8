"""Sending: upload what the farm lacks, let it read the crate, compare, and only then submit."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from decimal import Decimal
from pathlib import Path
from threading import Lock

from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.check.run import Against, check_crate
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, FarmError, TidyCrateError, WrongUsage
from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import Delivering, FarmLink, needed
from tidy_crate.core.farm.overlay import Overlay, overlay
from tidy_crate.core.farm.protocol import Blob, Capability, JobOrder, JobState, Reading
from tidy_crate.core.files import hash_file, inside
from tidy_crate.core.job.ledger import Ledger, job_named, new_job, new_key
from tidy_crate.core.job.repeats import Earlier, sent_before
from tidy_crate.core.job.submission import confirm
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.work.task import TaskRange, tasks_of, whole

# the state of a submission that the farm has not confirmed
SENDING = "sending"
CONNECTIONS = 4


class Sending(Model):
    """What would be sent, before anything is."""

    crate: Path
    packing: PackingList
    farm: str
    machine: str
    nodes: int
    batch: int
    """Tasks that a node takes at a time."""
    ranges: tuple[TaskRange, ...]
    """The tasks that this farm is to render."""
    tasks: int
    """How many that are."""
    products: int
    """How many files they leave."""
    errors: tuple[Finding, ...]
    """What forbids it."""
    warnings: tuple[Finding, ...]
    """What is not waived."""
    waived: tuple[Finding, ...]
    accepted: tuple[Waiver, ...]
    """Waivers of the scene, of which the crate shows nothing."""
    overlay: Overlay
    """What the farm's rules change in what is asked of it."""

    def of(self, ranges: tuple[TaskRange, ...]) -> Sending:
        """The same for some of the tasks only. Raises WrongUsage on tasks that the crate does not have."""
        requests = {request.name: request for request in self.packing.requests}
        tasks = list(tasks_of(ranges, self.packing.requests))
        update = {
            "ranges": ranges,
            "tasks": len(tasks),
            "products": sum(len(requests[task.request].outputs) for task in tasks),
            "nodes": min(self.nodes, -(-len(tasks) // self.batch)),
        }
        return self.model_copy(update=update)


class Submission(Model):
    """What was sent to one farm."""

    farm: str
    uploaded_bytes: int
    reused_bytes: int
    tasks: int


class Sent(Model):
    """A job that runs. warnings, waived, accepted: what was known to be wrong with it, see Sending."""

    job: str
    submissions: tuple[Submission, ...]
    continued: bool = False
    """It had been sent before, and the farm had not confirmed it."""
    warnings: tuple[Finding, ...] = ()
    waived: tuple[Finding, ...] = ()
    accepted: tuple[Waiver, ...] = ()


def prepare(
    crate: Path,
    card: FarmCard,
    machine: str | None,
    nodes: int | None,
    batch: int,
    today: date,
    origin: Path | None = None,
) -> Sending:
    """Look the crate over once more, against the farm's rules too, before it is sent.

    today: for prices that may be old. origin: see `check_crate`. Raises Blocked when the crate lacks something needed.
    """
    crate = crate.absolute()
    content = read_packing_list(crate)
    if content.blocking:
        names = ", ".join(one.authored for one in content.blocking[:5])
        raise Blocked(f"the crate lacks files that these frames need: {names}", crate, "relink them and collect again")
    content.to_render()
    chosen = card.machine_named(machine)
    against = Against(cards=(card,), today=today, wishes=Wishes(chosen.name, nodes, batch))
    result = check_crate(crate, against, origin)
    tasks = content.tasks
    # more machines than there are batches would only start up and be billed
    useful = min(nodes or chosen.nodes, chosen.nodes, -(-tasks // batch))
    return Sending(
        crate=crate,
        packing=content,
        farm=card.name,
        machine=chosen.name,
        nodes=useful,
        batch=batch,
        ranges=whole(content.requests),
        tasks=tasks,
        products=sum(request.task_count * len(request.outputs) for request in content.requests),
        errors=tuple(f for f in result.findings if f.severity is Severity.ERROR),
        warnings=tuple(f for f in result.findings if f.severity is Severity.WARNING and not f.waived),
        waived=tuple(f for f in result.findings if f.waived),
        accepted=result.accepted,
        overlay=overlay(card, content.essentials.outputs),
    )


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
) -> Sent:
    """Upload and submit.

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
    earlier = sent_before(ledger, sending.packing, sending.ranges, card.name) if job is None else None
    if earlier is not None and earlier.confirmed and not again:
        raise repeated(earlier, card.name)
    if quote is not None and link.account is not None:
        account = link.account.account()
        if account.currency == quote.cost.currency and account.balance < quote.cost.likely:
            raise FarmError(
                f"the balance is {account.balance} {account.currency}, the job will cost about {quote.cost.likely}",
                card.name,
            )
    uploaded, reused = upload(sending.crate, sending.packing, deliver, progress)
    registered = deliver.register(sending.packing)
    differs = compare(sending.packing, registered.reading)
    if differs:
        raise Blocked("the farm reads the crate otherwise: " + "; ".join(differs), card.name, "nothing was submitted")
    if earlier is not None and not earlier.confirmed:
        return _continued(ledger, earlier, link, sending)
    order = JobOrder(
        key=new_key(),
        crate=registered.crate,
        requests=sending.packing.requests,
        tasks=sending.ranges,
        batch=sending.batch,
        nodes=sending.nodes,
        machine=sending.machine,
        outputs=sending.overlay.outputs,
    )
    # in the ledger before the farm knows of it: a crash in between must not lose a job that costs money
    name = job or new_job(ledger, sending.crate, sending.packing)
    with ledger.writing() as session:
        entered = job_named(session, name)
        if job is None:
            _note_estimate(entered, quote)
        row = SubmissionRow(
            job_id=name, number=len(entered.submissions) + 1, farm=card.name, card=str(card_path), key=order.key,
            order=order.model_dump_json(), state=SENDING, currency=card.currency, uploaded_bytes=uploaded,
            reused_bytes=reused, cost=Decimal(0), tasks=sending.tasks, products=sending.products, cursor="",
            estimate=quote.model_dump_json() if quote is not None else None,
        )  # fmt: skip
        session.add(row)
        session.flush()
        number = row.id
    if job is None and not again:
        # two sends at once: the one that was entered first is the one that counts
        other = sent_before(ledger, sending.packing, sending.ranges, card.name, but=number)
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
    submission = Submission(farm=card.name, uploaded_bytes=uploaded, reused_bytes=reused, tasks=sending.tasks)
    return _sent(name, submission, sending)


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


def upload(crate: Path, content: PackingList, deliver: Delivering, progress: Progress = silent) -> tuple[int, int]:
    """Send the blobs that the farm lacks, each once. Returns (bytes sent, bytes the farm had).

    One file that fails cancels no other: what can be sent is sent. Raises the first error at the end.
    """
    files = {
        file.blake3: (Blob(blake3=file.blake3, bytes=file.bytes), inside(crate, file.path)) for file in content.files
    }
    total = sum(blob.bytes for blob, _ in files.values())
    lacking = [digest for digest in deliver.missing(blob for blob, _ in files.values()) if digest in files]
    had = total - sum(files[digest][0].bytes for digest in lacking)
    sent, lock = had, Lock()

    def moved(name: str, count: int) -> None:
        nonlocal sent
        with lock:
            sent += count
            progress(Step("upload", sent, total, "bytes", name))

    errors = []
    with ThreadPoolExecutor(CONNECTIONS) as pool:
        for job in [pool.submit(_upload_one, deliver, *files[digest], moved) for digest in lacking]:
            try:
                job.result()
            except TidyCrateError as error:
                errors.append(error)
    if errors:
        raise errors[0]
    return total - had, had


def _upload_one(deliver: Delivering, blob: Blob, path: Path, moved: Callable[[str, int], None]) -> None:
    # what is on disk now must be what the packing list promises
    if path.stat().st_size != blob.bytes or hash_file(path) != blob.blake3:
        raise Blocked("a file of the crate is not as it was packed", path, "collect again")
    deliver.upload(blob, path, lambda count: moved(path.name, count))


def compare(content: PackingList, reading: Reading) -> list[str]:
    """What the farm understood otherwise than the survey, in plain words."""
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
    if quote is not None:
        cost = quote.cost
        job.estimate_low, job.estimate_likely, job.estimate_high = cost.low, cost.likely, cost.high
        job.estimate_currency = cost.currency
