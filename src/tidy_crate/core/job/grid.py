"""All frames of a job in as many cells as fit: a cell is a frame, or a stretch of frames of a large job."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.job.tables import AttemptRow, ProductRow, SubmissionRow
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import TaskState

# the state of a frame is the first of these that one of its outputs and tiles has
PRECEDENCE = (
    "failed", "bad", "missing", "suspect", "cancelled", "waiting", "rendering", "done", "retrieved", "good",
)  # fmt: skip
_RANK = {state: rank for rank, state in enumerate(PRECEDENCE)}
RETRIEVED = "retrieved"


@dataclass(frozen=True, slots=True)
class Cell:
    """A frame, or a stretch of frames of one view."""

    request: str
    view: str
    first: int
    last: int
    frames: int
    state: str
    """Of one with trouble in it, the worst; else of that part that is least far."""
    counts: dict[str, int]
    """Frames by state."""


@dataclass(frozen=True)
class Grid:
    """All frames of a job."""

    cells: tuple[Cell, ...]
    each: int
    """Frames of a full cell."""
    frames: int


def frame_grid(ledger: Ledger, name: str, most: int) -> Grid:
    """Return the frames of a job in at most `most` cells, from the ledger alone."""
    job, submissions = submissions_of(ledger, name)
    requests = job.packing_list().requests
    with ledger.reading() as session:
        states = _states(session, submissions)
    rows = list(_rows(submissions, requests))
    total = sum(len(frames) for _, _, frames in rows)
    each = max(1, -(-total // max(1, most)))
    # a view begins a new cell, which costs some
    while each < total and sum(-(-len(frames) // each) for _, _, frames in rows) > max(most, len(rows)):
        each += 1
    cells = []
    for request, view, frames in rows:
        for at in range(0, len(frames), each):
            part = frames[at : at + each]
            counts: dict[str, int] = {}
            for frame in part:
                state = states.get((request, view, frame), "waiting")
                counts[state] = counts.get(state, 0) + 1
            cells.append(Cell(request, view, part[0], part[-1], len(part), _shown(counts), counts))
    return Grid(tuple(cells), each, total)


def _shown(counts: dict[str, int]) -> str:
    return min(counts, key=lambda state: _RANK.get(state, 0))


def _rows(
    submissions: Iterable[SubmissionRow], requests: tuple[RenderRequest, ...]
) -> Iterator[tuple[str, str, list[int]]]:
    """Every request and view with its frames, each once, in order."""
    found: dict[tuple[str, str], set[int]] = {}
    for row in submissions:
        ordered = Ordered.of(row, requests)
        by_name = {request.name: request for request in ordered.requests}
        for one in ordered.ranges:
            for view in one.views or by_name[one.request].view_names:
                found.setdefault((one.request, view), set()).update(parse_frames(one.frames))
    for (request, view), frames in found.items():
        yield request, view, sorted(frames)


def _states(session: Session, submissions: Iterable[SubmissionRow]) -> dict[tuple[str, str, int], str]:
    """The state of every frame that anything happened to."""
    found: dict[tuple[str, str, int], int] = {}
    for row in submissions:
        ended = row.given_up
        rank = case(*((AttemptRow.state == state.value, _RANK[state.value]) for state in TaskState), else_=0)
        of_this = (AttemptRow.submission_id == row.id, AttemptRow.latest)
        key = (AttemptRow.request, AttemptRow.view, AttemptRow.frame)
        own = {
            (request, view, frame): int(worst)
            for request, view, frame, worst in session.execute(
                select(*key, func.min(rank)).where(*of_this).group_by(*key)
            )
        }
        judged = case(
            *((ProductRow.verdict == verdict.value, _RANK[verdict.value]) for verdict in Verdict),
            (ProductRow.home, _RANK[RETRIEVED]),
            else_=_RANK[TaskState.DONE.value],
        )
        for request, view, frame, worst in session.execute(
            select(*key, func.min(judged)).join(ProductRow).where(*of_this).group_by(*key)
        ):
            if own[request, view, frame] == _RANK[TaskState.DONE.value]:
                own[request, view, frame] = int(worst)
        for at, worst in own.items():
            # what another farm has done counts before what a given-up one has not
            if at not in found or (not ended and worst < found[at]) or (ended and worst > found[at]):
                found[at] = worst
    return {at: PRECEDENCE[rank] for at, rank in found.items()}
