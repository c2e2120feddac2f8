"""Handing the rest of a job over: from a farm that is given up, or tasks that no farm ever took."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sqlalchemy import select

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError, WrongUsage
from tidy_crate.core.farm.links.interface import controlling
from tidy_crate.core.farm.protocol import Action, ControlOrder, JobState
from tidy_crate.core.job.ledger import Ledger, new_key, products_of, submissions_of
from tidy_crate.core.job.submission import Links, Ordered, confirm
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, ProductRow, SubmissionRow
from tidy_crate.core.work.task import Task, TaskState, tasks_of

_ENDED = (JobState.CANCELLED.value, JobState.FAILED.value)


def left_over(ledger: Ledger, name: str, given_up: Sequence[str]) -> tuple[Path, PackingList, list[Task]]:
    """Return crate, packing list, and the tasks that are neither at home nor with a farm that is still at work on them.

    given_up: farms that do not count any more. Raises WrongUsage for a farm that the job is not at.
    """
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    farms = {row.farm for row in submissions}
    strange = next((farm for farm in given_up if farm not in farms), None)
    if strange is not None:
        raise WrongUsage("the job is not at this farm", strange, f"it is at {', '.join(sorted(farms))}")
    taken: set[Task] = set()
    with ledger.reading() as session:
        home = products_of(name, *TASK_KEY, ProductRow.output).where(ProductRow.home, ProductRow.in_use)
        outputs: dict[Task, set[str]] = {}
        for *key, output in session.execute(home):
            outputs.setdefault(Task.of_key(*key), set()).add(output)
        wanted = {request.name: set(request.outputs) for request in content.requests}
        taken |= {task for task, found in outputs.items() if found >= wanted.get(task.request, set())}
        for row in submissions:
            if row.farm in given_up or row.given_up or row.state in _ENDED:
                continue
            ordered = Ordered.of(row, content.requests)
            own = set(tasks_of(ordered.ranges, ordered.requests))
            failed = select(*TASK_KEY).where(
                AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.FAILED.value
            )
            if JobState(row.state).ended:
                own -= {Task.of_key(*key) for key in session.execute(failed)}
            taken |= own
    left = [task for request in content.requests for task in _tasks(content, request.name) if task not in taken]
    return Path(job.crate), content, left


def _tasks(content: PackingList, request: str) -> list[Task]:
    from tidy_crate.core.work.task import whole

    own = tuple(one for one in content.requests if one.name == request)
    return list(tasks_of(whole(own), own))


def give_up(ledger: Ledger, name: str, farms: Sequence[str], links: Links) -> dict[str, str]:
    """Stop counting on farms of a job, and cancel it there. Return by farm why it could not be told, where it was not.

    What they have rendered can still be brought home. A farm that could not be told is told once it answers again.
    """
    _, submissions = submissions_of(ledger, name)
    trouble: dict[str, str] = {}
    for row in submissions:
        if row.farm not in farms:
            continue
        with ledger.writing() as session:
            session.get_one(SubmissionRow, row.id).given_up = True
        try:
            call_off(ledger, row, links)
        except FarmError as error:
            trouble[row.farm] = error.what
    return trouble


def call_off(ledger: Ledger, row: SubmissionRow, links: Links) -> None:
    """Cancel a submission at its farm."""
    if JobState(row.state).ended if row.state in list(JobState) else False:
        return
    link = links(row)
    farm_job = confirm(ledger, row, link)
    controlling(link, Action.CANCEL).control(farm_job, ControlOrder(key=new_key(), action=Action.CANCEL))
