"""Reviewing all frames of a job, on all cores: each by itself, and against the others of its sequence."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.database import kept
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.job.accepting import accepted_frames
from tidy_crate.core.job.ledger import Ledger, now, products_of, submissions_of
from tidy_crate.core.job.standing import put_better_in_place
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, JobRow, ProductRow, SubmissionRow, seconds_between
from tidy_crate.core.picture.judge import Expected
from tidy_crate.core.picture.readers import FrameReaders, JudgeFrames, Looked, judge_here, worth_processes
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.review.folder import promised
from tidy_crate.core.review.here import compare, signs_from_here
from tidy_crate.core.review.judging import Judging, Wanted
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sign import Weight
from tidy_crate.core.review.verdicts import Review
from tidy_crate.core.review.votes import Vote, doubtful, outvoted
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import TaskKey

# where the frames of a job would be that was never retrieved: nowhere
NOT_RETRIEVED = Path("not-retrieved-yet")


def review_job(
    ledger: Ledger,
    name: str,
    progress: Progress = silent,
    *,
    rules: ReviewRules | None = None,
    meant: Iterable[int] = (),
    explain: int | None = None,
    judge: JudgeFrames = judge_here,
) -> Review:
    """Judge every product of a job and note the verdicts in the ledger. Nothing retrieved yet counts as missing.

    rules: in place of those in the crate. meant: frames whose differences from their neighbours are meant.
    explain: a frame whose measures are returned too. judge: reads the frames, here or on other machines.
    """
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    into = Path(job.into) if job.into else NOT_RETRIEVED
    wanted: dict[tuple[TaskKey, str], Wanted] = {}
    known = _rendered(ledger, name)
    for row in submissions:
        ordered = Ordered.of(row, content.requests)
        begins = set(ordered.batches())
        rendered = {key: replace(one, begins=True) if key in begins else one for key, one in known.items()}
        for one in promised(into, content, ordered, rendered):
            wanted.setdefault((one.task.key, one.output), one)
    accepted = accepted_frames(ledger, job.name)
    run = Judging(rules or content.rules.review, frozenset(meant), accepted, explain, judge)
    review = run.judge(list(wanted.values()), progress)
    review = _with_test_frames(Path(job.crate), content, review)
    review = _with_decisions(ledger, name, _with_earlier_attempts(ledger, name, review))
    _note(ledger, name, review)
    if put_better_in_place(ledger, name):
        # what stands there now was judged before
        return review_job(ledger, name, progress, rules=rules, meant=meant, explain=explain, judge=judge)
    return review


def _with_test_frames(crate: Path, content: PackingList, review: Review) -> Review:
    """A review with what the test frames say that were rendered here. Where one agrees, it outvotes the neighbours."""
    there = {(one.task().key, one.output): one.path for one in review.frames if one.verdict is not Verdict.MISSING}
    contents = _digest_now(crate, content)
    if contents is None:
        return review
    with FrameReaders(worth_processes(list(there.values()))) as readers:
        found = {(task, output): sign for task, output, sign in signs_from_here(crate, contents, there, readers)}
    votes = {
        key: Vote("the test frame of it that was rendered here is the same picture", exact=sign.figure == 0)
        for key, sign in found.items()
        if sign.weight is Weight.NOTE
    }
    review = outvoted(review, votes, votes)
    frames = []
    for one in review.frames:
        sign = found.get((one.task().key, one.output))
        if sign is not None:
            update: dict[str, object] = {"signs": (*one.signs, sign)}
            if sign.weight is not Weight.NOTE:
                update["reasons"] = (*one.reasons, sign.text)
                update["verdict"] = Verdict.SUSPECT if one.verdict is Verdict.GOOD else one.verdict
            one = one.model_copy(update=update)
        frames.append(one)
    return review.model_copy(update={"frames": tuple(frames)})


def _with_earlier_attempts(ledger: Ledger, job: str, review: Review) -> Review:
    """A review in which a frame is good that was rendered again and came back as the same picture: it is content.

    That a machine renders the same twice says nothing where it is the machine that is broken.
    """
    asked = doubtful(review, lambda one: one.attempt > 1)
    if not asked:
        return review
    columns = (*TASK_KEY, ProductRow.output, ProductRow.path, AttemptRow.node, AttemptRow.number, SubmissionRow.farm)
    earlier: dict[tuple[TaskKey, str], tuple[Path, str, int]] = {}
    with ledger.reading() as session:
        query = products_of(job, *columns).where(ProductRow.home, ProductRow.in_use.is_(False)).order_by(ProductRow.id)
        for request, view, frame, tile, share, output, path, node, number, farm in session.execute(query):
            if path and Path(path).is_file():
                key = ((request, view, frame, tile, share), output)
                earlier[key] = Path(path), f"{farm} {node}" if node else "", number
    pairs = [
        (one, *earlier[key])
        for one in asked
        if (key := (one.task().key, one.output)) in earlier
        and (not one.node or one.node != earlier[key][1])
        and earlier[key][2] < one.attempt
    ]
    if not pairs:
        return review
    paths = [path for one, before, _, _ in pairs for path in (one.path, before)]
    with FrameReaders(worth_processes(paths)) as readers:
        judged = list(readers.judge([Looked(path, Expected()) for path in paths]))
    votes: dict[tuple[TaskKey, str], Vote] = {}
    for (one, _, _, number), last, before in zip(pairs, judged[::2], judged[1::2], strict=True):
        if last.look is None or before.look is None or last.form is None or before.form is None:
            continue
        sizes = (last.form.width * last.form.height, before.form.width * before.form.height)
        apart = compare(last.look, before.look, sizes)
        if not apart.differs and apart.share == 0:
            text = f"rendered again, it came back as the same picture as attempt {number}: it is content"
            votes[one.task().key, one.output] = Vote(text, exact=True)
    return outvoted(review, votes)


def _digest_now(crate: Path, content: PackingList) -> str | None:
    """The digest of a crate's packing list; None where it is gone or was collected again since the job was sent."""
    try:
        packed = read_packing_list(crate)
    except TidyCrateError:
        return None
    # a job may ask for other frames, sizes and samples of the same crate
    return packed.digest if packed.model_copy(update={"requests": content.requests}) == content else None


def _with_decisions(ledger: Ledger, job: str, review: Review) -> Review:
    """A review with the verdicts that people decided on."""
    columns = (*TASK_KEY, ProductRow.output, ProductRow.decision, ProductRow.because)
    decided: dict[tuple[TaskKey, str], tuple[str, str]] = {}
    with ledger.reading() as session:
        query = products_of(job, *columns).where(ProductRow.in_use, ProductRow.decision.is_not(None))
        for *key, output, decision, because in session.execute(query):
            decided[(tuple(key), output)] = (decision, because or "")
    if not decided:
        return review
    frames = []
    for one in review.frames:
        decision, because = decided.get((one.task().key, one.output), ("", ""))
        if decision and one.verdict is not Verdict.MISSING:
            words = f"{'accepted' if decision == Verdict.GOOD.value else 'rejected'} by a person: {because}"
            update = {"verdict": Verdict(decision), "reasons": (words, *one.reasons)}
            one = one.model_copy(update=update)
        frames.append(one)
    return review.model_copy(update={"frames": tuple(frames)})


def _rendered(ledger: Ledger, job: str) -> dict[TaskKey, Rendered]:
    """By task, who rendered what is in use."""
    columns = (*TASK_KEY, AttemptRow.node, AttemptRow.number, AttemptRow.billed, AttemptRow.began, AttemptRow.ended)
    query = (
        select(SubmissionRow.id, SubmissionRow.farm, *columns)
        .join(AttemptRow, AttemptRow.submission_id == SubmissionRow.id)
        .join(ProductRow, ProductRow.attempt_id == AttemptRow.id)
        .where(SubmissionRow.job_id == job, ProductRow.in_use)
    )
    found: dict[TaskKey, Rendered] = {}
    with ledger.reading() as session:
        places = _places(session, job)
        for sent, farm, request, view, frame, tile, share, node, number, billed, began, ended in session.execute(query):
            one = rendered_by(farm, node, number, billed, began, ended)
            found[(request, view, frame, tile, share)] = replace(one, place=places.get(sent, ""))
    return found


def _places(session: Session, job: str) -> dict[int, str]:
    """Return farm and machine class of each submission of a job; nothing where all have the same."""
    rows = list(session.scalars(select(SubmissionRow).where(SubmissionRow.job_id == job)))
    found: dict[int, str] = {}
    for row in rows if len(rows) > 1 else ():
        order = kept(JobOrder.model_validate_json, row.order, "an order") if row.order else None
        found[row.id] = f"{row.farm}, {order.machine}" if order is not None else row.farm
    return found if len(set(found.values())) > 1 else {}


def rendered_by(
    farm: str, node: str | None, number: int, billed: float | None, began: str | None, ended: str | None
) -> Rendered:
    """Return who rendered a frame and in how many seconds, from what the ledger has of the attempt."""
    seconds = billed if billed is not None else seconds_between(began, ended)
    return Rendered(f"{farm} {node}" if node else "", number, seconds or None)


def _note(ledger: Ledger, name: str, review: Review) -> None:
    """Write verdicts to the products that count for each task and output."""
    verdicts = {(one.task(), one.output): one for one in review.frames}
    with ledger.writing() as session:
        for row in session.scalars(products_of(name).where(ProductRow.in_use)):
            one = verdicts.get((row.attempt.task(), row.output))
            if one is not None and row.decision is None:
                row.verdict, row.reasons = one.verdict.value, json.dumps(one.reasons)
        session.get_one(JobRow, name).reviewed = now()
