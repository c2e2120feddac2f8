"""Reviewing all frames of a job or a folder, on all cores."""

from __future__ import annotations

import json
import multiprocessing
import os
from collections.abc import Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.job.ledger import Ledger, job_named
from tidy_crate.core.job.retrieve import REJECTED, place_of
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.review.frame import Expected, Verdict, judge_file
from tidy_crate.core.review.neighbours import jumps

# below this many pixels in all, starting processes takes longer than looking
WORTH_PROCESSES = 60_000_000
# where the frames of a job would lie that was never retrieved: nowhere
NOT_RETRIEVED = Path("not-retrieved-yet")
PICTURES = {".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff"}


class FrameVerdict(Model):
    """One frame file, judged."""

    request: str
    frame: int
    output: str
    path: Path
    verdict: Verdict
    reasons: tuple[str, ...]
    unchecked: tuple[str, ...] = ()


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


class _Wanted(Model):
    request: str
    frame: int
    output: str
    path: Path
    expected: Expected


def review_job(ledger: Ledger, name: str, progress: Progress = silent) -> Review:
    """Judge every product of a job and note the verdicts in the ledger. Nothing retrieved yet counts as missing."""
    with ledger.session() as session:
        job = job_named(session, name)
        into = Path(job.into) if job.into else NOT_RETRIEVED
        review = _judge(list(_promised(into, job.packing_list())), progress)
        rows = {(row.request, row.frame, row.output): row for row in job.products}
        for one in review.frames:
            row = rows[(one.request, one.frame, one.output)]
            row.verdict, row.reasons = one.verdict.value, json.dumps(one.reasons)
        session.commit()
        return review


def review_folder(folder: Path, content: PackingList | None, progress: Progress = silent) -> Review:
    """Judge the frames in a folder: all that a crate promises, or without a crate all that are there."""
    if not folder.is_dir():
        raise UnreadableInput("there is no such folder of frames", folder, "check the path")
    if content is not None:
        return _judge(list(_promised(folder, content)), progress)
    found = sorted(path for path in folder.rglob("*") if path.suffix.lower() in PICTURES and path.is_file())
    found = [path for path in found if REJECTED not in path.relative_to(folder).parts and not path.name.startswith(".")]
    if not found:
        raise UnreadableInput("the folder holds no frames", folder, "name the folder they were retrieved into")
    wanted = [
        _Wanted(request="", frame=_number(path), output=path.parent.name, path=path, expected=Expected())
        for path in found
    ]
    return _judge(wanted, progress)


def _promised(folder: Path, content: PackingList) -> Iterator[_Wanted]:
    for request in content.requests:
        for name in request.outputs:
            expected = Expected(width=request.width, height=request.height, passes=content.output(name).variables)
            for frame in request.numbers():
                path = place_of(folder, content, request, name, frame)
                yield _Wanted(request=request.name, frame=frame, output=name, path=path, expected=expected)


def _judge(wanted: list[_Wanted], progress: Progress) -> Review:
    pixels = sum((one.expected.width or 1920) * (one.expected.height or 1080) for one in wanted)
    verdicts = []
    looks: dict[tuple[str, str], dict[int, tuple[float, ...]]] = {}
    with _pool(pixels) as pool:
        runs = pool.map(judge_file, [one.path for one in wanted], [one.expected for one in wanted], chunksize=4)
        for done, (one, judged) in enumerate(zip(wanted, runs, strict=True), 1):
            verdicts.append(
                FrameVerdict(
                    request=one.request,
                    frame=one.frame,
                    output=one.output,
                    path=one.path,
                    verdict=judged.verdict,
                    reasons=judged.reasons,
                    unchecked=judged.unchecked,
                )
            )
            if judged.verdict is Verdict.GOOD:
                looks.setdefault((one.request, one.output), {})[one.frame] = judged.look
            progress(Step("review", done, len(wanted), "frames", one.path.name))
    return Review(frames=tuple(_with_jumps(verdicts, looks)))


def _with_jumps(
    verdicts: list[FrameVerdict], looks: dict[tuple[str, str], dict[int, tuple[float, ...]]]
) -> Iterator[FrameVerdict]:
    """A good frame at which the picture jumps is one to look at."""
    found = {key: jumps(by_frame) for key, by_frame in looks.items()}
    for one in verdicts:
        times = found.get((one.request, one.output), {}).get(one.frame)
        if times is None or one.verdict is not Verdict.GOOD:
            yield one
        else:
            reason = f"the picture jumps from the frame before, {times:.0f} times the steps around it"
            yield one.model_copy(update={"verdict": Verdict.SUSPECT, "reasons": (*one.reasons, reason)})


def _pool(pixels: int) -> Executor:
    workers = os.cpu_count() or 1
    if pixels < WORTH_PROCESSES or workers == 1:
        # one thread: while it looks, the process's standard error is turned away
        return ThreadPoolExecutor(1)
    return ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn"))


def _number(path: Path) -> int:
    digits = ""
    for character in reversed(path.stem):
        if not character.isdigit():
            break
        digits = character + digits
    return int(digits) if digits else 0
