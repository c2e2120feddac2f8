"""Rendering again only what was rejected or is missing, on its own numbers."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from sqlalchemy import select

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.links.interface import controlling
from tidy_crate.core.farm.protocol import Action, ControlOrder, JobState
from tidy_crate.core.job.ledger import Ledger, products_of, submissions_of
from tidy_crate.core.job.submission import Links, catch_up, confirm
from tidy_crate.core.job.tables import AttemptRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskState, ranges_of

_POOR = (Verdict.BAD.value, Verdict.MISSING.value)


class Rerender(Model):
    """Tasks to be rendered again."""

    job: str
    tasks: tuple[Task, ...]
    suspect: bool = False
    """True if suspect frames are among them."""


def to_rerender(ledger: Ledger, name: str, *, suspect: bool = False) -> Rerender:
    """Return what the last review or a person rejected, and what the farms failed to render.

    suspect: what is suspect too. A frame that was only never fetched is not rendered again. Raises WrongUsage when the
    job was never reviewed.
    """
    job, submissions = submissions_of(ledger, name)
    if job.reviewed is None:
        raise WrongUsage("the frames of this job were not reviewed yet", name, "run review on it first")
    requests = job.packing_list().requests
    tasks: set[Task] = set()
    for row in submissions:
        tasks |= set(_poor(ledger, row, requests, suspect=suspect))
    return Rerender(job=job.id, tasks=tuple(sorted(tasks, key=lambda task: task.key)), suspect=suspect)


def _poor(
    ledger: Ledger, row: SubmissionRow, requests: Iterable[RenderRequest], *, suspect: bool = False
) -> dict[Task, int]:
    """Tasks of one submission that must be rendered again, with the number of their last attempt.

    What another submission has delivered well is not missed here.
    """
    outputs = {request.name: set(request.outputs) for request in requests}
    found: dict[Task, int] = {}
    good: dict[Task, set[str]] = {}
    with ledger.reading() as session:
        left: dict[int, set[str]] = {}
        for product in session.scalars(products_of(row.job_id)):
            attempt = product.attempt
            poor = product.verdict in _POOR or (suspect and product.verdict == Verdict.SUSPECT.value)
            if product.in_use and not poor:
                good.setdefault(attempt.task(), set()).add(product.output)
            if attempt.submission_id == row.id and attempt.latest:
                left.setdefault(attempt.id, set()).add(product.output)
                if poor:
                    found[attempt.task()] = attempt.number
        under_way: set[Task] = set()
        latest = select(AttemptRow).where(AttemptRow.submission_id == row.id, AttemptRow.latest)
        for attempt in session.scalars(latest):
            if attempt.state not in (TaskState.DONE.value, TaskState.FAILED.value):
                under_way.add(attempt.task())
            elif outputs.get(attempt.request, set()) - left.get(attempt.id, set()):
                found[attempt.task()] = attempt.number
    return {
        task: number
        for task, number in sorted(found.items(), key=lambda item: item[0].key)
        if task not in under_way and outputs.get(task.request, set()) - good.get(task, set())
    }


def rerender(ledger: Ledger, wanted: Rerender, links: Links) -> None:
    """Ask the farms for the tasks again; each farm for those it has. A task still under way is left alone.

    Asked twice for the same attempts, a farm renders once: the order's key follows from them.
    """
    job, submissions = submissions_of(ledger, wanted.job)
    requests, tasks = job.packing_list().requests, set(wanted.tasks)
    for row in submissions:
        if row.given_up:
            # what a farm that was given up has spoilt, another one renders again
            continue
        link = links(row)
        farm_job = confirm(ledger, row, link)
        catch_up(ledger, row, requests, link)
        poor = _poor(ledger, row, requests, suspect=wanted.suspect)
        again = {task: number for task, number in poor.items() if task in tasks}
        if again:
            control = controlling(link, Action.RERENDER)
            control.control(
                farm_job, ControlOrder(key=_key(row, again), action=Action.RERENDER, tasks=ranges_of(again))
            )
            with ledger.writing() as session:
                session.get_one(SubmissionRow, row.id).state = JobState.RENDERING.value


def _key(row: SubmissionRow, tasks: dict[Task, int]) -> str:
    """A key that is the same for the same attempts, however often it is asked for."""
    digest = hashlib.blake2b(row.key.encode(), digest_size=16)
    for task, number in tasks.items():
        digest.update(f"{task} {number}\n".encode())
    return f"again-{digest.hexdigest()}"
