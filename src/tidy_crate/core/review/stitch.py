"""Stitching: the tiles and sample shares of a job, put together to full frames on their own numbers."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import os_reason, refuse_links
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.missing import Unavailable
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.model import Model
from tidy_crate.core.picture.join import PartError, Piece, join
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.review.at_home import AtHome, at_home
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.parts import samples_of, window
from tidy_crate.core.work.product import below
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput, tasks_of


class StitchedFrame(TaskOutput):
    """One full frame of one output."""

    path: Path
    parts: int
    """Files that it was put together from."""
    seams: tuple[str, ...] = ()
    """Edges between two tiles at which the picture breaks: one of them is probably wrong."""


class Stitched(Model):
    """All full frames that could be put together, and what kept the others away."""

    job: str
    stitched: tuple[StitchedFrame, ...]
    missing: tuple[Unavailable, ...]
    """Tiles and shares that are not at home, or were called bad."""
    wrong: tuple[Unavailable, ...]
    """Tiles and shares that do not fit the others."""


def is_split(requests: tuple[RenderRequest, ...]) -> bool:
    """Return True when pictures of these requests come in tiles or in shares of their samples."""
    return any(one.tile_count > 1 or one.shares > 1 for one in requests)


def whole_tasks(ordered: Ordered) -> Iterator[tuple[RenderRequest, Task, list[Task]]]:
    """Yield each full picture of an order, with the tasks that it is put together from."""
    requests = {request.name: request for request in ordered.requests}
    pictures: dict[Task, list[Task]] = {}
    for task in tasks_of(ordered.ranges, ordered.requests):
        pictures.setdefault(Task(task.request, task.frame, task.view), []).append(task)
    for task, parts in pictures.items():
        yield requests[task.request], task, parts


def stitch(ledger: Ledger, name: str, progress: Progress = silent) -> Stitched:
    """Put together what a job ordered in tiles and shares, in the folder beside them.

    A full frame that is newer than its parts stays as it is.
    Raises WrongUsage for a job without tiles and shares, or one that was never retrieved.
    """
    job, submissions = submissions_of(ledger, name)
    content = job.packing_list()
    if job.into is None:
        raise WrongUsage(
            "the frames of this job were not retrieved yet", name, f"tidy-crate retrieve {name} --into DIR"
        )
    into = Path(job.into)
    work: dict[Task, tuple[RenderRequest, list[Task]]] = {}
    for row in submissions:
        ordered = Ordered.of(row, content.requests)
        if not is_split(ordered.requests):
            continue
        for request, task, parts in whole_tasks(ordered):
            known = work.setdefault(task, (request, []))[1]
            known += [part for part in parts if part not in known]
    if not work:
        raise WrongUsage("no picture of this job is split into tiles or shares", name)
    home = at_home(ledger, name)
    stitched: list[StitchedFrame] = []
    missing: list[Unavailable] = []
    wrong: list[Unavailable] = []
    for done, (task, (request, _)) in enumerate(work.items(), 1):
        for output in request.outputs:
            target = content.product_path(output, task)
            refuse_links(into, [target.parent])
            found = _one(content, request, task, output, home, into, target)
            if isinstance(found, StitchedFrame):
                stitched.append(found)
            else:
                missing += found[0]
                wrong += found[1]
        progress(Step("stitch", done, len(work), "frames", str(task)))
    return Stitched(job=name, stitched=tuple(stitched), missing=tuple(missing), wrong=tuple(wrong))


def _one(
    content: PackingList,
    request: RenderRequest,
    task: Task,
    output: str,
    home: dict[tuple[TaskKey, str], AtHome],
    into: Path,
    target: PurePosixPath,
) -> StitchedFrame | tuple[list[Unavailable], list[Unavailable]]:
    parts = [
        Task(task.request, task.frame, task.view, tile, share)
        for tile in (range(request.tile_count) if request.tile_count > 1 else (None,))
        for share in (range(request.shares) if request.shares > 1 else (None,))
    ]
    missing, pieces = [], []
    for part in parts:
        found = home.get((part.key, output))
        if found is None or found.verdict is Verdict.BAD or not found.path.is_file():
            gone = found is None or found.verdict is not Verdict.BAD
            why = "it is not at home" if gone else "it is bad, by the review"
            missing.append(Unavailable.of(part, output, why=why))
            continue
        own = window(request.width, request.height, request.tiles, part.tile)
        pieces.append(Piece(found.path, own, _weight(request, part.share), part.share in (None, 0)))
    if missing:
        return missing, []
    place = below(into, target)
    if place.is_file() and place.stat().st_mtime > max(piece.path.stat().st_mtime for piece in pieces):
        return StitchedFrame.of(task, output, path=place, parts=len(pieces))
    try:
        seams = join(pieces, request.width, request.height, content.output(output).variables, place)
    except PartError as error:
        return [], [Unavailable.of(parts[error.index], output, why=str(error))]
    except OSError as error:
        raise TidyCrateError(
            f"cannot write a frame ({os_reason(error)})", place, "make room, then run it again"
        ) from error
    return StitchedFrame.of(task, output, path=place, parts=len(pieces), seams=tuple(seams))


def _weight(request: RenderRequest, share: int | None) -> float:
    """The part of all samples that a share has; all shares alike where the number of samples is not known."""
    if share is None:
        return 1.0
    if request.samples is None:
        return 1.0 / request.shares
    return len(samples_of(request.samples, request.shares, share)) / request.samples
