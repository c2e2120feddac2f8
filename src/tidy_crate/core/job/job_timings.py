"""The timings of a job that was rendered at a farm, for the next estimate."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import func, select

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.database import kept
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.farm.card import Machine
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.tables import AttemptRow, JobRow, SubmissionRow
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskState, tasks_of, whole

# finds the machine class of a submission: by the path of its card, and the class's name
Machines = Callable[[str, str], Machine]


def earlier_times(ledger: Ledger, crate: str) -> dict[int, float]:
    """Return what the frames of a shot took in the newest job of a crate of that name; nothing where there is none."""
    done = (AttemptRow.latest, AttemptRow.state == TaskState.DONE.value, AttemptRow.billed > 0)
    with ledger.reading() as session:
        newest = session.scalar(
            select(SubmissionRow.job_id)
            .join(JobRow)
            .join(AttemptRow, AttemptRow.submission_id == SubmissionRow.id)
            .where(JobRow.name == crate, *done)
            .order_by(SubmissionRow.id.desc())
            .limit(1)
        )
        if newest is None:
            return {}
        rows = session.execute(
            select(AttemptRow.frame, func.avg(AttemptRow.billed))
            .join(SubmissionRow, SubmissionRow.id == AttemptRow.submission_id)
            .where(SubmissionRow.job_id == newest, *done)
            .group_by(AttemptRow.frame)
        )
        return {int(frame): float(seconds or 0.0) for frame, seconds in rows}


def timings_of_job(ledger: Ledger, name: str, machines: Machines, wanted: tuple[RenderRequest, ...]) -> Timings:
    """Return what a job's frames took at its farms, as seconds on a machine of score 100.

    wanted: the requests that are to be estimated. A frame of a request of the same name counts for it; where no name
    is the same, every frame counts for all. Raises UnreadableInput where nothing of the job is rendered yet.
    """
    job, submissions = submissions_of(ledger, name)
    found: dict[tuple[str, int], float] = {}
    sizes: dict[str, RenderRequest] = {}
    parts: dict[tuple[str, int], int] = {}
    with ledger.reading() as session:
        for row in submissions:
            order = kept(JobOrder.model_validate_json, row.order, "an order") if row.order else None
            score = machines(row.card, order.machine).speed if order is not None else 100.0
            done = (AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.DONE.value,
                    AttemptRow.billed > 0)  # fmt: skip
            for attempt in session.scalars(select(AttemptRow).where(*done)):
                key = (attempt.request, attempt.frame)
                # tiles, shares and views of one frame: the whole frame is their sum, a view their mean
                found[key] = found.get(key, 0.0) + float(attempt.billed or 0.0) * score / 100
                parts[key] = parts.get(key, 0) + 1
            requests = order.requests if order is not None else job.packing_list().requests
            sizes |= {request.name: request for request in requests}
    if not found:
        raise UnreadableInput(
            "nothing of this job is rendered yet, so that it has no timings", name, f"track {name} shows it"
        )
    names = {request.name for request in wanted}
    frames = []
    for (request, frame), seconds in sorted(found.items()):
        of = sizes[request]
        count = of.tile_count * of.shares
        # of a frame of which some parts are done yet, the rest takes as long
        frames.append(
            FrameTiming(
                request if request in names else "",
                frame,
                seconds * count / parts[request, frame],
                of.width,
                of.height,
                of.samples,
            )
        )
    return Timings(tuple(frames), 0.0, "job", f"{len(found)} frames of job {job.id}, loading included", score=100.0)


def left_of_job(ledger: Ledger, name: str) -> tuple[RenderRequest, ...]:
    """Return the requests of a job with the frames that are not rendered yet; requests without any are left out."""
    job, submissions = submissions_of(ledger, name)
    requests = job.packing_list().requests
    with ledger.reading() as session:
        done: set[Task] = set()
        for row in submissions:
            latest = (AttemptRow.submission_id == row.id, AttemptRow.latest, AttemptRow.state == TaskState.DONE.value)
            done |= {attempt.task() for attempt in session.scalars(select(AttemptRow).where(*latest))}
    found = []
    for request in requests:
        left = dict.fromkeys(task.frame for task in tasks_of(whole((request,)), (request,)) if task not in done)
        if left:
            found.append(request.model_copy(update={"frames": format_frames(tuple(left))}))
    return tuple(found)
