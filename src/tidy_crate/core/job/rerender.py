"""Rendering again only what was rejected or is missing, on its own numbers."""

from __future__ import annotations

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.protocol import RerenderOrder, TaskState
from tidy_crate.core.job.identity import TaskId
from tidy_crate.core.job.ledger import Ledger, SubmissionRow, job_named, new_key
from tidy_crate.core.job.submission import Links, confirm
from tidy_crate.core.model import Model


class Rerender(Model):
    """Tasks to be rendered again. known: whether the frames were reviewed at all."""

    job: str
    tasks: tuple[TaskId, ...]


def to_rerender(ledger: Ledger, name: str) -> Rerender:
    """What the last review rejected or missed. Raises WrongUsage when the job was never reviewed."""
    with ledger.session() as session:
        job = job_named(session, name)
        if all(row.verdict is None for row in job.products):
            raise WrongUsage("the frames of this job were not reviewed yet", name, "run review on it first")
        tasks = {str(row.task()): row.task() for row in job.products if row.verdict in ("bad", "missing")}
        return Rerender(job=job.id, tasks=tuple(sorted(tasks.values(), key=lambda task: (task.request, task.frame))))


def rerender(ledger: Ledger, wanted: Rerender, links: Links) -> None:
    """Ask the farms for the tasks again; each farm for those it has. A task still under way is left alone."""
    with ledger.session() as session:
        job = job_named(session, wanted.job)
        for row in job.submissions:
            link = links(row)
            farm_job = confirm(row, link)
            ended = {task.id for task in link.job(farm_job).tasks if task.state in (TaskState.DONE, TaskState.FAILED)}
            again = tuple(task for task in wanted.tasks if task in ended)
            if again:
                link.rerender(farm_job, RerenderOrder(key=new_key(), tasks=again))
                _reopen(row)
        session.commit()


def _reopen(row: SubmissionRow) -> None:
    row.state = "rendering"
