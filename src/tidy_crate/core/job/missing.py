"""Products that were ordered and are not at home, each with the reason."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import select

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.farm.protocol import JobState
from tidy_crate.core.job.ledger import Ledger, products_of
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, ProductRow, SubmissionRow
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput, TaskState, tasks_of


class Unavailable(TaskOutput):
    """A product that is not at home, and why."""

    why: str


def missing_products(
    ledger: Ledger, job: str, content: PackingList, submissions: tuple[SubmissionRow, ...]
) -> Iterator[Unavailable]:
    """Yield what is not at home of all that was ordered, each task and output once, with the reason."""
    with ledger.reading() as session:
        products = products_of(job, *TASK_KEY, ProductRow.output).where(ProductRow.home)
        home = {(tuple(key), output) for *key, output in session.execute(products)}
        attempts = (
            select(*TASK_KEY, AttemptRow.state, AttemptRow.error)
            .join(SubmissionRow, SubmissionRow.id == AttemptRow.submission_id)
            .where(SubmissionRow.job_id == job, AttemptRow.latest)
        )
        states: dict[TaskKey, tuple[str, str | None]] = {}
        for *key, state, error in session.execute(attempts):
            # of several submissions the one that is not done explains more
            if state != TaskState.DONE.value or tuple(key) not in states:
                states[tuple(key)] = (state, error)  # type: ignore[index]
    seen: set[Task] = set()
    for submission in submissions:
        ordered = Ordered.of(submission, content.requests)
        outputs = ordered.outputs()
        for task in tasks_of(ordered.ranges, ordered.requests):
            if task in seen:
                continue
            seen.add(task)
            for output in outputs[task.request]:
                if (task.key, output) not in home:
                    yield Unavailable.of(task, output, why=_why(states.get(task.key), submission))


def _why(attempt: tuple[str, str | None] | None, submission: SubmissionRow) -> str:
    """attempt: state and error of the last one."""
    if attempt is None:
        cancelled = submission.state == JobState.CANCELLED.value
        return TaskState.CANCELLED.value if cancelled else TaskState.WAITING.value
    state, error = attempt
    return error or ("the farm left no such output" if state == TaskState.DONE.value else state)
