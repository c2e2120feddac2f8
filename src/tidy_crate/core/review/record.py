"""The final record of a job: what was asked, sent, waived, rendered, found, rendered again and paid."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.crate.packing import EditNote, MissingFile
from tidy_crate.core.database import kept
from tidy_crate.core.job.experience import Accuracy, accuracy
from tidy_crate.core.job.ledger import Ledger, products_of, submissions_of
from tidy_crate.core.job.machines import NodeView, machines
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, ProductRow, SubmissionRow, sentences
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.review.run import rendered_by
from tidy_crate.core.review.verdicts import FrameVerdict
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.product import below
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput, tasks_of


class Sending(Model):
    """One submission: what one farm was sent and paid."""

    farm: str
    state: str
    requests: tuple[RenderRequest, ...]
    tasks: int
    uploaded_bytes: int
    reused_bytes: int
    began: str | None
    """UTC, ISO 8601."""
    cost: Amount
    """Refunds taken off."""
    refunded: Amount
    currency: str
    cap: Amount | None
    given_up: bool


class Again(TaskOutput):
    """A task that was rendered more than once."""

    farm: str
    attempts: int
    states: tuple[str, ...]
    """State of each attempt, in order."""
    reasons: tuple[str, ...]
    """Reasons why earlier attempts do not count, by review or farm."""
    cost: Amount
    """All attempts together."""
    currency: str


class Decision(TaskOutput):
    """A decision of a person about a frame."""

    decision: Verdict
    because: str


class Record(Model):
    """All that is known of a job in the end."""

    job: str
    created: str
    """UTC, ISO 8601."""
    reviewed: str | None
    crate: str
    scene: str
    files: int
    bytes: int
    """Size of the crate."""
    into: Path | None
    waived: tuple[Waiver, ...]
    edits: tuple[EditNote, ...]
    """Changes in the staged copy."""
    let_go: tuple[MissingFile, ...]
    """Files that the scene names and that were not sent."""
    submissions: tuple[Sending, ...]
    counts: dict[str, int]
    """Frames by verdict; `unreviewed` for those that no review saw."""
    frames: tuple[FrameVerdict, ...]
    """In use at home, or missing; with verdict, node, attempt and seconds."""
    decisions: tuple[Decision, ...]
    again: tuple[Again, ...]
    nodes: tuple[NodeView, ...]
    accuracy: tuple[Accuracy, ...]
    """Estimate against actual, for each submission that has both."""

    @property
    def poor(self) -> tuple[FrameVerdict, ...]:
        """Frames that are not good."""
        return tuple(one for one in self.frames if one.verdict is not Verdict.GOOD)

    @property
    def complete(self) -> bool:
        """Return True when every frame that was ordered is at home and good."""
        return bool(self.frames) and not self.poor


def record(ledger: Ledger, name: str) -> Record:
    """Gather the record of a job from the ledger; no farm is asked."""
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    with ledger.reading() as session:
        decisions, frames = _products(session, name)
        again = tuple(one for row in submissions for one in _again(session, row))
        nodes = machines(session, submissions)
    into = Path(job.into) if job.into else None
    listed: dict[tuple[TaskKey, str], FrameVerdict] = {}
    orders = [(row, Ordered.of(row, content.requests)) for row in submissions]
    for _, ordered in orders:
        outputs = ordered.outputs()
        for task in tasks_of(ordered.ranges, ordered.requests):
            for output in outputs[task.request]:
                key = (task.key, output)
                if key not in listed:
                    path = below(into or Path(), content.product_path(output, task))
                    listed[key] = frames.get(key) or FrameVerdict.of(
                        task, output, path=path, verdict=Verdict.MISSING, reasons=("it is not at home",)
                    )
    own = tuple(listed.values())
    return Record(
        job=name,
        created=job.created,
        reviewed=job.reviewed,
        crate=job.crate,
        scene=content.original or content.scene,
        files=len(content.files),
        bytes=content.bytes,
        into=into,
        waived=content.waived,
        edits=content.edits,
        let_go=tuple(one for one in content.missing if one.let_go),
        submissions=tuple(_sending(row, ordered) for row, ordered in orders),
        counts=dict(Counter(one.verdict.value if "no review" not in one.unchecked else "unreviewed" for one in own)),
        frames=own,
        decisions=decisions,
        again=again,
        nodes=nodes,
        accuracy=tuple(one for one in accuracy(ledger) if one.job == name),
    )


def _products(session: Session, name: str) -> tuple[tuple[Decision, ...], dict[tuple[TaskKey, str], FrameVerdict]]:
    columns = (
        *TASK_KEY, ProductRow.output, ProductRow.path, ProductRow.verdict, ProductRow.reasons, ProductRow.decision,
        ProductRow.because, AttemptRow.node, AttemptRow.number, AttemptRow.billed, AttemptRow.began, AttemptRow.ended,
        SubmissionRow.farm,
    )  # fmt: skip
    decisions: list[Decision] = []
    frames: dict[tuple[TaskKey, str], FrameVerdict] = {}
    query = products_of(name, *columns).where(ProductRow.home, ProductRow.in_use)
    for request, view, frame, tile, share, *rest in session.execute(query):
        output, path, verdict, reasons, decision, because, node, number, billed, began, ended, farm = rest
        task = Task.of_key(request, view, frame, tile, share)
        rendered = rendered_by(farm, node, number, billed, began, ended)
        frames[(task.key, output)] = FrameVerdict.of(
            task,
            output,
            path=Path(path or ""),
            # what no review saw yet counts as what a person should look at
            verdict=Verdict.SUSPECT if verdict is None else kept(Verdict, verdict, "a verdict"),
            reasons=("it was not reviewed",) if verdict is None else sentences(reasons),
            unchecked=("no review",) if verdict is None else (),
            node=rendered.node,
            attempt=rendered.attempt,
            seconds=rendered.seconds,
        )
        if decision is not None:
            own = kept(Verdict, decision, "a verdict")
            decisions.append(Decision.of(task, output, decision=own, because=because or ""))
    return tuple(decisions), frames


def _again(session: Session, row: SubmissionRow) -> list[Again]:
    """The tasks of a submission that took several attempts."""
    tasks: dict[TaskKey, list[AttemptRow]] = {}
    several = select(*TASK_KEY).where(AttemptRow.submission_id == row.id, AttemptRow.number > 1).distinct()
    wanted = {tuple(key) for key in session.execute(several)}
    if not wanted:
        return []
    for attempt in session.scalars(select(AttemptRow).where(AttemptRow.submission_id == row.id)):
        if attempt.task().key in wanted:
            tasks.setdefault(attempt.task().key, []).append(attempt)
    said: dict[int, list[str]] = {}
    left = (
        select(ProductRow.attempt_id, ProductRow.reasons)
        .join(AttemptRow)
        .where(AttemptRow.submission_id == row.id, ProductRow.reasons.is_not(None))
    )
    for number, text in session.execute(left):
        said.setdefault(number, []).extend(sentences(text))
    found = []
    for attempts in tasks.values():
        attempts.sort(key=lambda one: one.number)
        reasons = [text for one in attempts[:-1] for text in (*said.get(one.id, []), one.error or "")]
        found.append(
            Again.of(
                attempts[0].task(),
                "",
                farm=row.farm,
                attempts=len(attempts),
                states=tuple(one.state for one in attempts),
                reasons=tuple(dict.fromkeys(text.strip().splitlines()[-1] for text in reasons if text.strip())),
                cost=sum((one.cost for one in attempts), start=attempts[0].cost * 0),
                currency=row.currency,
            )
        )
    return sorted(found, key=lambda one: one.task().key)


def _sending(row: SubmissionRow, ordered: Ordered) -> Sending:
    frames = {one.request: one.frames for one in reversed(ordered.ranges)}
    return Sending(
        farm=row.farm,
        state=row.state,
        requests=tuple(one.model_copy(update={"frames": frames.get(one.name, one.frames)}) for one in ordered.requests),
        tasks=row.tasks,
        uploaded_bytes=row.uploaded_bytes,
        reused_bytes=row.reused_bytes,
        began=row.began,
        cost=row.cost,
        refunded=row.refunded,
        currency=row.currency,
        cap=row.cap,
        given_up=row.given_up,
    )
