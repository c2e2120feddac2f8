"""Standing of a job up to its record: render, retrieve, review, rerender, stitch, deliver, report."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from pathlib import Path

from sqlalchemy import func, select

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.farm.protocol import JobState
from tidy_crate.core.files import read_input
from tidy_crate.core.job.ledger import products_of, submissions_of
from tidy_crate.core.job.rerender import to_rerender
from tidy_crate.core.job.tables import AttemptRow, JobRow, ProductRow, SubmissionRow, from_text
from tidy_crate.core.job.track import JobView, known, track
from tidy_crate.core.money import rounded
from tidy_crate.core.review.deliver import DIGESTS
from tidy_crate.core.review.stitch import is_split
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task
from tidy_crate.core.workflow.shot import Shot, words_of
from tidy_crate.core.workflow.standing import Question, Standing, StepName, StepState, counted

# above this share of a job, bad frames have one cause, which rendering again does not mend
MOST_AGAIN = 0.5


@dataclass(frozen=True)
class JobFacts:
    """A job as the farms and the ledger know it."""

    row: JobRow
    view: JobView
    verdicts: dict[str | None, int]
    """Products in use at home, by verdict; None for those that no review saw."""
    to_fetch: int
    """Products of the latest attempts that are not at home."""


def job_facts(shot: Shot, row: JobRow) -> JobFacts:
    """Ask the farms how a job stands. One that does not answer counts as it was last heard.

    Of a job that is rendered, with every file at home, no farm has anything to tell.
    """
    view = known(shot.desk.ledger, row.id)
    if view.state != JobState.DONE or view.at_home < view.products:
        view = track(shot.desk.ledger, row.id, shot.desk.links, frames=False, last_known=True)
    fresh, _ = submissions_of(shot.desk.ledger, row.id)
    with shot.desk.ledger.reading() as session:
        query = products_of(row.id, ProductRow.verdict, func.count()).where(ProductRow.in_use)
        counts = {verdict: int(count) for verdict, count in session.execute(query.group_by(ProductRow.verdict))}
        away = (AttemptRow.latest, ProductRow.home.is_(False), SubmissionRow.given_up.is_(False))
        fresh_ones = products_of(row.id, func.count()).where(*away)
        to_fetch = session.scalar(fresh_ones) or 0
    return JobFacts(fresh, view, counts, to_fetch)


def render_step(shot: Shot, facts: JobFacts) -> Standing:
    """Look how far the farms are. The rest of a job goes elsewhere by rule where its farm is silent for too long."""
    view, name = facts.view, StepName.RENDER
    job, command = view.job, words_of("track", facts.view.job)
    done = f"{view.done} of {view.total} tasks rendered"
    if view.cost is not None and view.currency:
        done += f", {rounded(view.cost)} {view.currency} billed"
    if view.state == "done":
        return Standing(step=name, state=StepState.DONE, said=done, command=command)
    asked = {
        "held": ("it is held", words_of("resume", job)),
        "offered": ("the farm's quote waits for your yes", words_of("resume", job)),
        "unpaid": ("the account has to be paid up", words_of("jobs", "--balance")),
        "paused": (f"it is paused{_why(view)}", _resumed(view)),
        "cancelled": ("it was cancelled", words_of("handover", job, "--to", "FARM")),
        "failed": (f"{view.counts.failed} of its tasks failed", words_of("rerender", job, "--failed")),
    }.get(view.state)
    if asked is not None and not (view.state == "failed" and not view.counts.failed):
        text, answer = asked
        ask = Question(text=f"{job}: {text}", commands=(answer, command))
        said = f"{text}; {done}"
        return Standing(step=name, state=StepState.PERSON, said=said, questions=(ask,), command=command)
    if view.unheard:
        rest = rest_of(shot, facts)
        if rest is not None:
            said = (
                f"{', '.join(rest.given_up)} is silent since {rest.since:%H:%M}: the rest goes to {rest.name}, by rule"
            )
            words = [word for farm in rest.given_up for word in ("--from", farm)]
            line = words_of("handover", job, *words, "--to", rest.farm)
            return Standing(step=name, state=StepState.TO_DO, said=said, command=line)
        one = view.unheard[0]
        said = f"{one.farm} does not answer: {one.trouble}; as last heard, {done}"
        return Standing(step=name, state=StepState.FARM, said=said, command=command)
    left = view.forecast.seconds_left
    shares = (view.done, view.total)
    return Standing(step=name, state=StepState.FARM, said=done, command=command, seconds=left, progress=shares)


@dataclass(frozen=True)
class Rest:
    """The rest of a job, which another farm is to take."""

    given_up: tuple[str, ...]
    """Farms that are silent."""
    since: datetime
    farm: str
    """The other one, as it was named."""
    name: str
    cap: Decimal
    """What is left of the job's cap."""


def rest_of(shot: Shot, facts: JobFacts) -> Rest | None:
    """Return what a rule gives to another farm: none without a cap, or where no farm bills in its currency."""
    minutes, silent = shot.rules.hand_over_after, facts.view.unheard
    heard = [one.heard for one in silent]
    if minutes is None or shot.cap is None or not silent or None in heard:
        return None
    since = max(one for one in heard if one is not None)
    if shot.desk.now() - since < timedelta(minutes=minutes):
        return None
    cap, currency = shot.cap
    left = cap - facts.view.costs.get(currency, Decimal(0))
    for farm in shot.spare or shot.farms:
        card = shot.desk.card(farm)
        if card.name not in facts.view.farms and card.currency == currency and left > 0:
            return Rest(tuple(one.farm for one in silent), since.astimezone(), farm, card.name, left)
    return None


def retrieve_step(shot: Shot, facts: JobFacts) -> Standing:
    """Look whether every frame that was rendered is at home."""
    view, name = facts.view, StepName.RETRIEVE
    into = view.into or shot.into
    command = words_of("retrieve", view.job, "--into", into)
    said = f"{view.at_home} of {view.products} files in {into}"
    if facts.to_fetch and view.at_home >= view.products:
        said = f"{counted(facts.to_fetch, 'file')} rendered again, still to come"
    elif view.products and view.at_home >= view.products:
        return Standing(step=name, state=StepState.DONE, said=said, command=command)
    return Standing(step=name, state=StepState.TO_DO, said=said, command=command)


def review_step(facts: JobFacts) -> Standing:
    """Look whether every frame at home was judged."""
    job, name = facts.row.id, StepName.REVIEW
    command = words_of("review", job)
    fresh = facts.verdicts.get(None, 0)
    if facts.row.reviewed is None:
        return Standing(step=name, state=StepState.TO_DO, said="no frame was opened yet", command=command)
    if fresh:
        return Standing(step=name, state=StepState.STALE, said=f"{counted(fresh, 'file')} to judge", command=command)
    counts = ", ".join(f"{count} {verdict}" for verdict, count in sorted(facts.verdicts.items(), key=str) if verdict)
    return Standing(step=name, state=StepState.DONE, said=counts or "no file to judge", command=command)


def rerender_step(shot: Shot, facts: JobFacts) -> Standing:
    """Look what is not good: by rule it is rendered again so many times, and else it waits for a person."""
    job, name, rules = facts.row.id, StepName.RERENDER, shot.rules
    command = words_of("rerender", job)
    suspect = facts.verdicts.get(Verdict.SUSPECT.value, 0)
    wanted = to_rerender(shot.desk.ledger, job, suspect=rules.suspect == "rerender")
    tasks = wanted.tasks
    if tasks:
        frames = format_frames(sorted({task.frame for task in tasks}))
        tried = attempts(shot, job)
        most = max(tried.get(task, 1) for task in tasks)
        total = facts.view.total
        if total > 1 and len(tasks) > MOST_AGAIN * total:
            text = f"{len(tasks)} of {total} frames are not good: the cause is likely in the scene or the farm"
            return _ask(name, text, command, (words_of("review", job), command))
        if most <= rules.rerender:
            said = f"{_frames(frames)}, by rule (attempt {most + 1} of {rules.rerender + 1})"
            return Standing(step=name, state=StepState.TO_DO, said=said, command=command)
        again = f" after {most} attempts" if most > 1 else ""
        text = f"{_frames(frames)}: not good{again}"
        accept = words_of("accept", job, "--frames", frames, "--because", "REASON")
        return _ask(name, text, command, (command, accept))
    if suspect:
        text = f"{counted(suspect, 'suspect file')}: look at them, and accept or reject them"
        look = words_of("look", job, "-o", f"{job}.png")
        accept = words_of("accept", job, "--verdict", "suspect", "--because", "REASON")
        return _ask(name, text, command, (look, accept, words_of("rerender", job, "--suspect")))
    bad = facts.verdicts.get(Verdict.BAD.value, 0)
    if bad:
        said = f"{counted(bad, 'bad file')} rendered again, and not at home yet"
        return Standing(step=name, state=StepState.FARM, said=said, command=command)
    return Standing(step=name, state=StepState.UNNEEDED, said="every frame is good")


def attempts(shot: Shot, job: str) -> dict[Task, int]:
    """Return how often each task of a job was tried."""
    with shot.desk.ledger.reading() as session:
        latest = select(AttemptRow).join(SubmissionRow).where(SubmissionRow.job_id == job, AttemptRow.number > 1)
        found: dict[Task, int] = {}
        for one in session.scalars(latest):
            found[one.task()] = max(one.number, found.get(one.task(), 1))
        return found


def stitch_step(facts: JobFacts) -> Standing:
    """Look whether pictures that came in parts were put together."""
    name, job = StepName.STITCH, facts.row
    content = job.packing_list()
    if not is_split(content.requests):
        return Standing(step=name, state=StepState.UNNEEDED, said="each picture came as one")
    command = words_of("stitch", job.id)
    into = Path(job.into or ".")
    lacking = 0
    for request in content.to_render():
        for output in request.outputs:
            for view in request.views or (None,):
                for frame in request.numbers():
                    task = Task(request.name, frame, view.name if view is not None else "")
                    lacking += not (into / content.product_path(output, task)).is_file()
    if lacking:
        said = f"{counted(lacking, 'picture')} to put together"
        return Standing(step=name, state=StepState.TO_DO, said=said, command=command)
    return Standing(step=name, state=StepState.DONE, said="every picture is whole", command=command)


def deliver_step(shot: Shot, facts: JobFacts) -> Standing:
    """Look whether the accepted frames are delivered where it was said."""
    name, job, target = StepName.DELIVER, facts.row, shot.deliver
    if target is None:
        return Standing(step=name, state=StepState.UNNEEDED, said="no place to deliver to is named")
    command = words_of("deliver", job.id, "-o", target)
    written = target / DIGESTS if target.is_dir() else target
    if not written.exists():
        return Standing(step=name, state=StepState.TO_DO, said=f"to {target}", command=command)
    if _older(written, from_text(job.reviewed)):
        return Standing(step=name, state=StepState.STALE, said="delivered before the last review", command=command)
    count = len(read_input(written).splitlines()) if written.name == DIGESTS else None
    said = f"{counted(count, 'file')} in {target}" if count is not None else f"{target}"
    return Standing(step=name, state=StepState.DONE, said=said, command=command)


def report_step(shot: Shot, facts: JobFacts) -> Standing:
    """Look whether the record is written, of the job as it is now."""
    name, job, file = StepName.REPORT, facts.row, shot.report
    if file is None:
        return Standing(step=name, state=StepState.UNNEEDED, said="no file for the record is named")
    command = words_of("report", job.id, "-o", file)
    if not file.exists():
        return Standing(step=name, state=StepState.TO_DO, said=f"to {file}", command=command)
    if _older(file, from_text(job.reviewed)):
        return Standing(step=name, state=StepState.STALE, said="written before the last review", command=command)
    return Standing(step=name, state=StepState.DONE, said=str(file), command=command)


def _older(file: Path, when: datetime | None) -> bool:
    return when is not None and file.stat().st_mtime < when.timestamp()


def _ask(name: StepName, text: str, command: tuple[str, ...], answers: tuple[tuple[str, ...], ...]) -> Standing:
    ask = Question(text=text, commands=answers)
    return Standing(step=name, state=StepState.PERSON, said=text, questions=(ask,), command=command)


def _resumed(view: JobView) -> tuple[str, ...]:
    """Return the line that lets a paused job go on; one that is at its cap gets a higher one."""
    at_cap = next((one for one in view.at if one.cap is not None and "cap" in one.why), None)
    if at_cap is None or at_cap.cap is None:
        return words_of("resume", view.job)
    likely = view.forecast.cost.high if view.forecast.cost is not None else at_cap.cap * 2
    enough = max(likely, at_cap.cap * Decimal("1.5"), at_cap.cost * Decimal("1.5"))
    return words_of("resume", view.job, "--cap", f"{rounded(enough)} {at_cap.currency}")


def _why(view: JobView) -> str:
    return f" ({'; '.join(view.why)})" if view.why else ""


def _frames(text: str) -> str:
    return f"frame {text}" if text.lstrip("-").isdigit() else f"frames {text}"
