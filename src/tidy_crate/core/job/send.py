"""Sending: upload what the farm lacks, let it read the crate, compare, and only then submit."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor, as_completed
from datetime import date
from pathlib import Path

from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.check.run import Against, check_crate
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, FarmError, TidyCrateError
from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.overlay import Overlay, overlay
from tidy_crate.core.farm.protocol import Blob, JobOrder, Reading
from tidy_crate.core.files import hash_file, inside
from tidy_crate.core.job.ledger import JobRow, Ledger, SubmissionRow, new_job, new_key
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.decisions import Waiver

CONNECTIONS = 4


class Sending(Model):
    """What would be sent, before anything is.

    errors: what forbids it. warnings: what nobody has waived. waived: findings to be listed once more, and accepted:
    waivers of the scene, of which the crate shows nothing.
    overlay: what the farm's rules change in what is asked of it.
    """

    crate: Path
    packing: PackingList
    farm: str
    machine: str
    nodes: int
    batch: int
    tasks: int
    products: int
    errors: tuple[Finding, ...]
    warnings: tuple[Finding, ...]
    waived: tuple[Finding, ...]
    accepted: tuple[Waiver, ...]
    overlay: Overlay


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
    tasks = sum(len(request.numbers()) for request in content.requests)
    # nobody needs more machines than there are batches
    useful = min(nodes or chosen.nodes, chosen.nodes, -(-tasks // batch))
    return Sending(
        crate=crate,
        packing=content,
        farm=card.name,
        machine=chosen.name,
        nodes=useful,
        batch=batch,
        tasks=tasks,
        products=sum(len(request.numbers()) * len(request.outputs) for request in content.requests),
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
) -> Sent:
    """Upload and submit.

    Raises Blocked when errors stand, or when the farm understood the crate otherwise than the survey did;
    FarmError when the balance does not cover the likely cost, or the farm fails.
    """
    if sending.errors:
        first = sending.errors[0]
        more = f" and {len(sending.errors) - 1} more" if len(sending.errors) > 1 else ""
        raise Blocked(f"an error stands{more}: {first.subject}: {first.message}", sending.crate, first.remedy)
    account = link.account()
    if quote is not None and account.balance < quote.cost.likely:
        raise FarmError(
            f"the balance is {account.balance} {account.currency}, the job will cost about {quote.cost.likely}",
            card.name,
        )
    uploaded, reused = upload(sending.crate, sending.packing, link, progress)
    registered = link.register(sending.packing)
    differs = compare(sending.packing, registered.reading)
    if differs:
        raise Blocked("the farm reads the crate otherwise: " + "; ".join(differs), card.name, "nothing was submitted")
    order = JobOrder(
        key=new_key(),
        crate=registered.crate,
        requests=sending.packing.requests,
        batch=sending.batch,
        nodes=sending.nodes,
        machine=sending.machine,
        outputs=sending.overlay.outputs,
    )
    with ledger.session() as session:
        # in the ledger before the farm knows of it: a crash in between must not lose a job that costs money
        job = new_job(session, sending.crate, sending.packing)
        _note_estimate(job, quote)
        row = SubmissionRow(
            job_id=job.id, farm=card.name, card=str(card_path), key=order.key, order=order.model_dump_json(),
            state="sending", currency=card.currency, uploaded_bytes=uploaded, reused_bytes=reused, cost="0",
        )  # fmt: skip
        session.add(row)
        session.commit()
        row.farm_job = link.submit(order)
        row.state = "waiting"
        session.commit()
        submission = Submission(farm=card.name, uploaded_bytes=uploaded, reused_bytes=reused, tasks=sending.tasks)
        return Sent(
            job=job.id,
            submissions=(submission,),
            warnings=sending.warnings,
            waived=sending.waived,
            accepted=sending.accepted,
        )


def upload(crate: Path, content: PackingList, link: FarmLink, progress: Progress = silent) -> tuple[int, int]:
    """Send the contents that the farm lacks, each once. Returns (bytes sent, bytes the farm had)."""
    files = {
        file.blake3: (Blob(blake3=file.blake3, bytes=file.bytes), inside(crate, file.path)) for file in content.files
    }
    total = sum(blob.bytes for blob, _ in files.values())
    lacking = link.missing(blob for blob, _ in files.values())
    had = total - sum(files[digest][0].bytes for digest in lacking if digest in files)
    sent = had

    with ThreadPoolExecutor(CONNECTIONS) as pool:
        jobs = {pool.submit(_upload_one, link, *files[digest]): digest for digest in lacking if digest in files}
        for job in as_completed(jobs):
            try:
                job.result()
            except TidyCrateError:
                pool.shutdown(cancel_futures=True)
                raise
            sent += files[jobs[job]][0].bytes
            progress(Step("upload", sent, total, "bytes", files[jobs[job]][1].name))
    return total - had, had


def _upload_one(link: FarmLink, blob: Blob, path: Path) -> None:
    # what is on disk now must be what the packing list promises
    if path.stat().st_size != blob.bytes or hash_file(path) != blob.blake3:
        raise Blocked("a file of the crate is not as it was packed", path, "collect again")
    link.upload(blob, path, lambda _: None)


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
        job.estimate_low, job.estimate_likely, job.estimate_high = map(
            str, (quote.cost.low, quote.cost.likely, quote.cost.high)
        )
