"""Reviewing all frames of a job or a folder, on all cores."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from tidy_crate.core.asset.sequences import frame_numbers
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.job.ledger import Ledger, now, products_of, submissions_of
from tidy_crate.core.job.tables import JobRow, ProductRow
from tidy_crate.core.model import Model
from tidy_crate.core.picture.judge import Expected
from tidy_crate.core.picture.readers import FrameReaders, Looked, worth_processes
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.review.neighbours import jumps
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.parts import window
from tidy_crate.core.work.product import SET_ASIDE, below
from tidy_crate.core.work.task import Task, TaskOutput, tasks_of, whole

# where the frames of a job would lie that was never retrieved: nowhere
NOT_RETRIEVED = Path("not-retrieved-yet")
PICTURES = {".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff"}


class FrameVerdict(TaskOutput):
    """One frame file, judged."""

    path: Path
    verdict: Verdict
    reasons: tuple[str, ...]
    unchecked: tuple[str, ...] = ()


_Sequence = tuple[str, str, int | None, int | None, str]


class Review(Model):
    """All verdicts."""

    frames: tuple[FrameVerdict, ...]

    def count(self, verdict: Verdict) -> int:
        """How many frames got a verdict."""
        return sum(frame.verdict is verdict for frame in self.frames)

    @property
    def clean(self) -> bool:
        """Whether every frame is good."""
        return all(frame.verdict is Verdict.GOOD for frame in self.frames)


@dataclass(frozen=True)
class _Wanted:
    task: Task
    output: str
    path: Path
    expected: Expected


def review_job(ledger: Ledger, name: str, progress: Progress = silent) -> Review:
    """Judge every product of a job and note the verdicts in the ledger. Nothing retrieved yet counts as missing."""
    job, _ = submissions_of(ledger, name)
    into = Path(job.into) if job.into else NOT_RETRIEVED
    review = _judge(list(_promised(into, job.packing_list())), progress)
    _note(ledger, name, review)
    return review


def _note(ledger: Ledger, name: str, review: Review) -> None:
    """Write verdicts to the products that count for each task and output."""
    verdicts = {(one.task(), one.output): one for one in review.frames}
    with ledger.writing() as session:
        for row in session.scalars(products_of(name).where(ProductRow.in_use)):
            one = verdicts.get((row.attempt.task(), row.output))
            if one is not None:
                row.verdict, row.reasons = one.verdict.value, json.dumps(one.reasons)
        session.get_one(JobRow, name).reviewed = now()


def review_folder(folder: Path, content: PackingList | None, progress: Progress = silent) -> Review:
    """Judge the frames in a folder: all that a crate promises, or without a crate all that are there."""
    if not folder.is_dir():
        raise UnreadableInput("there is no such folder of frames", folder, "check the path")
    if content is not None:
        return _judge(list(_promised(folder, content)), progress)
    found = sorted(path for path in folder.rglob("*") if path.suffix.lower() in PICTURES and path.is_file())
    found = [
        path for path in found if SET_ASIDE not in path.relative_to(folder).parts and not path.name.startswith(".")
    ]
    if not found:
        raise UnreadableInput("the folder holds no frames", folder, "name the folder they were retrieved into")
    by_folder: dict[Path, list[str]] = {}
    for path in found:
        by_folder.setdefault(path.parent, []).append(path.name)
    numbers = {place: frame_numbers(names) for place, names in by_folder.items()}
    wanted = [
        _Wanted(
            task=Task("", numbers[path.parent][path.name] or 0), output=path.parent.name, path=path, expected=Expected()
        )
        for path in found
    ]
    return _judge(wanted, progress)


def _promised(folder: Path, content: PackingList) -> Iterator[_Wanted]:
    for request in content.requests:
        for name in request.outputs:
            passes = content.output(name).variables
            for task in tasks_of(whole([request]), [request]):
                part = window(request.width, request.height, request.tiles, task.tile)
                expected = Expected(width=part.width, height=part.height, passes=passes)
                path = below(folder, content.product_path(name, task))
                yield _Wanted(task=task, output=name, path=path, expected=expected)


def _judge(wanted: list[_Wanted], progress: Progress) -> Review:
    verdicts = []
    looks: dict[_Sequence, dict[int, tuple[float, ...]]] = {}
    with FrameReaders(worth_processes([one.path for one in wanted])) as readers:
        runs = readers.judge([Looked(one.path, one.expected) for one in wanted])
        for done, (one, judged) in enumerate(zip(wanted, runs, strict=True), 1):
            verdicts.append(
                FrameVerdict.of(
                    one.task,
                    one.output,
                    path=one.path,
                    verdict=judged.verdict,
                    reasons=judged.reasons,
                    unchecked=judged.unchecked,
                )
            )
            if judged.verdict is Verdict.GOOD:
                looks.setdefault(_sequence(verdicts[-1]), {})[one.task.frame] = judged.look
            progress(Step("review", done, len(wanted), "frames", one.path.name))
    return Review(frames=tuple(_with_jumps(verdicts, looks)))


def _with_jumps(
    verdicts: list[FrameVerdict], looks: dict[_Sequence, dict[int, tuple[float, ...]]]
) -> Iterator[FrameVerdict]:
    """A good frame at which the picture jumps is one to look at."""
    found = {key: jumps(by_frame) for key, by_frame in looks.items()}
    for one in verdicts:
        times = found.get(_sequence(one), {}).get(one.frame)
        if times is None or one.verdict is not Verdict.GOOD:
            yield one
        else:
            reason = f"the picture jumps from the frame before, {times:.0f} times the steps around it"
            yield one.model_copy(update={"verdict": Verdict.SUSPECT, "reasons": (*one.reasons, reason)})


def _sequence(one: FrameVerdict) -> _Sequence:
    """What tells apart the sequences whose frames are compared with their neighbours."""
    return one.request, one.view, one.tile, one.share, one.output
