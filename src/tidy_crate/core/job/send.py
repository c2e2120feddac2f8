"""Sending: upload what the farm lacks, let it read the crate, compare, and only then submit."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from decimal import Decimal
from pathlib import Path

from sqlalchemy import select

from tidy_crate.core.check.asked import Asked
from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.check.run import Against, check_crate
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import read_test_frames
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.farm.card import FarmCard, Machine, Program
from tidy_crate.core.farm.links.interface import Delivered, Delivering, FarmLink, needed
from tidy_crate.core.farm.overlay import Overlay, overlay
from tidy_crate.core.farm.protocol import Capability, JobOrder, JobState, Reading, Start
from tidy_crate.core.files import inside
from tidy_crate.core.job.asked import Difference, differences, forms_asked, requests_asked, test_ranges
from tidy_crate.core.job.ledger import Ledger, job_named, new_job, new_key
from tidy_crate.core.job.outage import Outage, say_nothing
from tidy_crate.core.job.repeats import Earlier, sent_before
from tidy_crate.core.job.submission import confirm
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.versions import NotComparable, parse_version
from tidy_crate.core.work.options import BUILT_IN, USUAL_BATCH, USUAL_RETRIES, SendOptions, Wish, layered
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import TaskRange, ranges_of, tasks_of, whole

# the state of a submission that the farm has not confirmed
SENDING = "sending"


class Sending(Model):
    """What would be sent, before anything is."""

    crate: Path
    delivered: PackingList
    """The packing list as it is in the crate, which the farm gets."""
    packing: PackingList
    """The same with what is asked of it now."""
    farm: str
    machine: str
    nodes: int
    batch: int
    """Tasks that a node takes at a time."""
    ranges: tuple[TaskRange, ...]
    """The tasks that this farm is to render."""
    tests: tuple[TaskRange, ...] = ()
    """Those of them that are rendered first, while the rest is held."""
    tasks: int
    """How many that is."""
    products: int
    """How many files they leave."""
    options: SendOptions
    """All wishes in effect."""
    wishes: tuple[Wish, ...] = ()
    """The same, each with where it comes from."""
    differences: tuple[Difference, ...] = ()
    """What is asked otherwise than the crate was packed."""
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
        own = set(tasks)
        tests = ranges_of(task for task in tasks_of(self.tests, self.packing.requests) if task in own)
        update = {
            "ranges": ranges,
            "tests": tests,
            "tasks": len(tasks),
            "products": sum(len(requests[task.request].outputs) for task in tasks),
            "nodes": min(self.nodes, -(-len(tasks) // self.batch)),
        }
        return self.model_copy(update=update)

    def order(self, crate: str) -> JobOrder:
        """The order for the farm. crate: the farm's name for the crate."""
        options = self.options
        return JobOrder(
            key=new_key(),
            crate=crate,
            requests=self.packing.requests,
            tasks=self.ranges,
            batch=self.batch,
            nodes=self.nodes,
            machine=self.machine,
            outputs=self.overlay.outputs,
            forms=forms_asked(self.packing.requests, options),
            retries=USUAL_RETRIES if options.retries is None else options.retries,
            priority=options.priority or "",
            reclaimable=bool(options.reclaimable),
            gpus=options.gpus,
            devices=options.devices or (),
            memory_gb=options.memory_gb,
            programs=options.programs or {},
            start=Start(options.start or "at-once"),
            tests=self.tests,
            cap=options.cap,
        )


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
    layers: Sequence[tuple[str, SendOptions]],
    today: date,
    origin: Path | None = None,
    views: tuple[str, ...] = (),
) -> Sending:
    """Look the crate over once more, as it is asked for and against the farm's rules, before it is sent.

    layers: the wishes, see `layered`. today: for prices that may be old. origin: see `check_crate`. views: some of the
    views that the wishes come to, by name; all of them where none is named.
    Raises Blocked when the crate lacks something needed, WrongUsage on wishes that scene or farm do not know.
    """
    crate = crate.absolute()
    content = read_packing_list(crate)
    if content.blocking:
        names = ", ".join(one.authored for one in content.blocking[:5])
        raise Blocked(f"the crate lacks files that these frames need: {names}", crate, "relink them and collect again")
    content.to_render()
    options, wishes = layered((("built in", BUILT_IN), *layers))
    chosen = _fits(card, options)
    tested = tested_here(crate, content)
    requests = requests_asked(content, _scene_of(crate, content, options), options, tested)
    if views:
        requests = tuple(_only(request, views) for request in requests)
    asked = content.model_copy(update={"requests": requests})
    tests = test_ranges(requests, options, tested) if options.start == "tested" else ()
    batch, nodes = options.batch or USUAL_BATCH, options.nodes
    against = Against(
        cards=(card,), today=today,
        wishes=Wishes(chosen.name, nodes, batch, priority=options.priority, reclaimable=options.reclaimable),
    )  # fmt: skip
    forms = forms_asked(requests, options)
    way = Asked(
        requests,
        {name: form.format for name, form in forms.items() if form.format},
        {name: form.compression for name, form in forms.items() if form.compression},
    )
    result = check_crate(crate, against, origin, way if requests != content.requests or forms else None)
    tasks = asked.tasks
    most = min(chosen.nodes, card.limits.nodes or chosen.nodes)
    # more machines than there are batches would only start up and be billed
    useful = min(nodes or most, most, -(-tasks // batch))
    return Sending(
        crate=crate,
        delivered=content,
        packing=asked,
        farm=card.name,
        machine=chosen.name,
        nodes=useful,
        batch=batch,
        ranges=whole(requests),
        tests=tests,
        tasks=tasks,
        products=sum(request.task_count * len(request.outputs) for request in requests),
        options=options,
        wishes=wishes,
        differences=differences(content, requests, options),
        errors=tuple(f for f in result.findings if f.severity is Severity.ERROR),
        warnings=tuple(f for f in result.findings if f.severity is Severity.WARNING and not f.waived),
        waived=tuple(f for f in result.findings if f.waived),
        accepted=result.accepted,
        overlay=overlay(card, content.essentials.outputs),
    )


def _only(request: RenderRequest, views: tuple[str, ...]) -> RenderRequest:
    return request.model_copy(update={"views": tuple(view for view in request.views if view.name in views)})


def tested_here(crate: Path, content: PackingList) -> tuple[int, ...]:
    """Return the frames of a crate that were rendered here as a test, in their order."""
    own = content.digest
    return tuple(sorted({one.frame for one in read_test_frames(crate) if one.contents == own}))


def _scene_of(crate: Path, content: PackingList, options: SendOptions) -> Survey | None:
    """The scene in the crate; None where no wish names anything in it."""
    if not options.cameras and not options.variants:
        return None
    scene = inside(crate, content.scene)
    maps = load_maps(maps=content.settings_maps)
    return format_of(scene).read(scene, None, next(iter(content.requests), None), maps, None, content.tokens)


def _fits(card: FarmCard, options: SendOptions) -> Machine:
    """Return the machine class of a card that is wanted. Raises WrongUsage where card and wishes disagree."""
    named = card.machine_named(options.machine)
    card.priority_named(options.priority)
    fitting = [one for one in card.machine if not _misfit(one, options)] if options.machine is None else [named]
    chosen = fitting[0] if fitting else named
    if trouble := _misfit(chosen, options):
        raise WrongUsage(trouble, f"{card.name}, {chosen.name}", f"see what it has: tidy-crate farm show {card.name}")
    for name, version in (options.programs or {}).items():
        program = card.program_called(name)
        if program is None or not _offers(program, version):
            offered = program.offered if program is not None else "it is not on its card"
            raise WrongUsage(f"the farm does not offer {name} {version}", card.name, f"offered: {offered}")
    return chosen


def _misfit(machine: Machine, options: SendOptions) -> str:
    """Why a machine class does not do what is wished, empty where it does."""
    if options.reclaimable and machine.reclaimable is None:
        return "this machine class is never taken back, so it is no cheaper that way"
    if options.gpus is not None and options.gpus > machine.gpus:
        return f"{options.gpus} GPUs are wanted, a node has {machine.gpus}"
    if options.devices and not set(options.devices) & set(machine.device_kinds):
        return f"{' or '.join(options.devices)} is wanted, a node renders on {' or '.join(machine.device_kinds)}"
    if options.memory_gb is not None and options.memory_gb > machine.memory_gb:
        return f"{options.memory_gb:g} GiB of memory are wanted, a node has {machine.memory_gb:g}"
    return ""


def _offers(program: Program, version: str) -> bool:
    try:
        return parse_version(version) in program.offered
    except NotComparable:
        return False


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
    tell: Callable[[str], None] = say_nothing,
) -> Sent:
    """Upload and submit.

    tell: is told of outages of the farm, which the upload outlives.

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
    delivered = _deliver(deliver, sending, delivered_before(ledger, card.name, sending), progress, Outage(tell))
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
        if job is None:
            _note_estimate(entered, quote)
        row = SubmissionRow(
            job_id=name, number=len(entered.submissions) + 1, farm=card.name, card=str(card_path), key=order.key,
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
    submission = Submission(
        farm=card.name, uploaded_bytes=delivered.uploaded_bytes, reused_bytes=delivered.reused_bytes,
        tasks=sending.tasks,
    )  # fmt: skip
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


def delivered_before(ledger: Ledger, farm: str, sending: Sending) -> dict[str, str]:
    """Return by path in the crate the BLAKE3 of what a farm got of it last."""
    last = (
        select(JobRow)
        .join(SubmissionRow)
        .where(JobRow.name == sending.packing.name, SubmissionRow.farm == farm)
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
