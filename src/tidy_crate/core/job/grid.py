"""All frames of a job in as many cells as fit: a cell is a frame, or a stretch of frames of a large job."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, String, and_, case, cast, func, select
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
    """The worst state of a part with trouble in it; otherwise the state of the part that is least far."""
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
    rows = list(_rows(submissions, requests))
    total = sum(len(frames) for _, _, frames in rows)
    each = max(1, -(-total // max(1, most)))
    # a view begins a new cell, which costs some
    while each < total and sum(-(-len(frames) // each) for _, _, frames in rows) > max(most, len(rows)):
        each += 1
    with ledger.reading() as session:
        found = _by_state(session, submissions)
    cells = []
    for request, view, frames in rows:
        own = {state: found.get((request, view, state), []) for state in PRECEDENCE}
        for at in range(0, len(frames), each):
            part = frames[at : at + each]
            # frames of a state are sorted: how many are in a stretch is found without looking at each
            counts = {
                state: count
                for state, numbers in own.items()
                if (count := bisect_right(numbers, part[-1]) - bisect_left(numbers, part[0]))
            }
            if waiting := len(part) - sum(counts.values()):
                counts["waiting"] = counts.get("waiting", 0) + waiting
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


def _by_state(session: Session, submissions: Iterable[SubmissionRow]) -> dict[tuple[str, str, str], list[int]]:
    """Return the frames that anything happened to, sorted, by request, view and state."""
    parts = [(row.given_up, _ranked(session, row)) for row in submissions]
    if len(parts) == 1:
        ranked = parts[0][1]
    else:
        merged: dict[tuple[str, str, int], int] = {}
        for given_up, own in parts:
            for (request, view, rank), frames in own.items():
                for frame in frames:
                    at, other = (request, view, frame), merged.get((request, view, frame))
                    # what another farm has done counts before what a given-up one has not
                    if other is None or (rank > other if given_up else rank < other):
                        merged[at] = rank
        ranked = {}
        for (request, view, frame), rank in sorted(merged.items()):
            ranked.setdefault((request, view, rank), []).append(frame)
    return {(request, view, PRECEDENCE[rank]): sorted(frames) for (request, view, rank), frames in ranked.items()}


def _ranked(session: Session, row: SubmissionRow) -> dict[tuple[str, str, int], list[int]]:
    """Return the frames of one submission by request, view and rank of their state.

    The database puts frames of one state together: a hundred thousand rows would take longer to hand over.
    """
    of_this = (AttemptRow.submission_id == row.id, AttemptRow.latest)
    key = (AttemptRow.request, AttemptRow.view, AttemptRow.frame)
    rank = case(*((AttemptRow.state == state.value, _RANK[state.value]) for state in TaskState), else_=0)
    attempts = select(*key, func.min(rank).label("rank")).where(*of_this).group_by(*key).subquery()
    found: ColumnElement[Any] = attempts.c.rank
    source = select(attempts.c.request, attempts.c.view)
    home = select(ProductRow.id).join(AttemptRow).where(*of_this, ProductRow.home).limit(1)
    if session.scalar(home) is not None:
        judged = case(
            *((ProductRow.verdict == verdict.value, _RANK[verdict.value]) for verdict in Verdict),
            (ProductRow.home, _RANK[RETRIEVED]),
            else_=_RANK[TaskState.DONE.value],
        )
        own = select(*key, func.min(judged).label("rank")).join(ProductRow).where(*of_this).group_by(*key).subquery()
        same = and_(*(attempts.c[name] == own.c[name] for name in ("request", "view", "frame")))
        done = _RANK[TaskState.DONE.value]
        found = case((attempts.c.rank == done, func.coalesce(own.c.rank, done)), else_=attempts.c.rank)
        source = source.select_from(attempts.outerjoin(own, same))
    listed = source.add_columns(found, func.aggregate_strings(cast(attempts.c.frame, String), ","))
    result: dict[tuple[str, str, int], list[int]] = {}
    for request, view, worst, frames in session.execute(listed.group_by(attempts.c.request, attempts.c.view, found)):
        result[request, view, int(worst)] = list(map(int, frames.split(",")))
    return result
