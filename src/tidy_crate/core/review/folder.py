"""Reviewing the frames in a folder, with no job at hand: those that a crate promises, or all that are there."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from itertools import groupby, pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.asset.sequences import frame_numbers
from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.picture.judge import Expected
from tidy_crate.core.picture.readers import JudgeFrames, judge_here
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.review.judging import Judging, Wanted
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.verdicts import Review
from tidy_crate.core.work.parts import window
from tidy_crate.core.work.product import SET_ASIDE, below
from tidy_crate.core.work.task import Task, TaskKey, tasks_of, whole

if TYPE_CHECKING:
    # heavy imports: a folder alone needs neither crates nor the ledger
    from tidy_crate.core.crate.packing import PackingList
    from tidy_crate.core.job.submission import Ordered
    from tidy_crate.core.scene.model import Output

# numbers that are listed as missing: with more of them the files are no sequence
MOST_GAPS = 10_000
PICTURES = {".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff"}


def review_folder(
    folder: Path,
    content: PackingList | None,
    progress: Progress = silent,
    *,
    rules: ReviewRules | None = None,
    meant: Iterable[int] = (),
    explain: int | None = None,
    judge: JudgeFrames = judge_here,
) -> Review:
    """Judge the frames in a folder: all that a crate promises, or without a crate all that are there.

    rules, meant, explain, judge: see `review_job` in `run`.
    """
    if not folder.is_dir():
        raise UnreadableInput("there is no such folder of frames", folder, "check the path")
    if content is not None:
        from tidy_crate.core.job.submission import Ordered

        ordered = Ordered(whole(content.requests), content.requests)
        wanted = list(promised(folder, content, ordered, {}))
        rules = rules or content.rules.review
    else:
        wanted = list(_found(folder))
    run = Judging(rules or ReviewRules(), frozenset(meant), {}, explain, judge)
    review = run.judge(wanted, progress)
    return review if content is not None else review.model_copy(update={"gaps": _gaps(review)})


def _gaps(review: Review) -> dict[str, str]:
    """Return by sequence the numbers that are missing between its frames. One on every second number has no gaps."""
    numbers: dict[tuple[str, Path], list[int]] = {}
    for one in review.frames:
        numbers.setdefault((one.output, one.path.parent), []).append(one.frame)
    found = {}
    for (output, _), own in numbers.items():
        own = sorted(set(own))
        if len(own) > 2:
            spacing = min(after - before for before, after in pairwise(own))
            lost = sorted(set(range(own[0], own[-1] + 1, spacing)) - set(own))
            if 0 < len(lost) <= MOST_GAPS:
                found[output] = format_frames(lost)
    return found


def _found(folder: Path) -> Iterator[Wanted]:
    """All frames below a folder. Of each name without its number a sequence of its own."""
    found = sorted(path for path in folder.rglob("*") if path.suffix.lower() in PICTURES and path.is_file())
    found = [
        path for path in found if SET_ASIDE not in path.relative_to(folder).parts and not path.name.startswith(".")
    ]
    if not found:
        raise UnreadableInput("the folder holds no frames", folder, "name the folder they were retrieved into")
    for place, paths in groupby(found, key=lambda path: path.parent):
        names = [path.name for path in paths]
        numbers = frame_numbers(names)
        series = {name: _series(name, numbers[name]) for name in names}
        several = len(set(series.values())) > 1
        for name in names:
            output = series[name] if several else place.name
            yield Wanted(Task("", numbers[name] or 0), output, place / name, Expected())


def _series(name: str, number: int | None) -> str:
    """The name of the sequence that a file belongs to: its own without its number and what is around that."""
    stem, _, ending = name.rpartition(".")
    if number is None:
        return stem
    runs = [run for run in re.finditer(r"\d+", stem) if int(run[0]) == abs(number)]
    if runs:
        first, after = runs[-1].span()
        stem = f"{stem[:first].rstrip('._- ')} {stem[after:].lstrip('._- ')}".strip()
    return stem or ending


def promised(
    folder: Path, content: PackingList, ordered: Ordered, rendered: Mapping[TaskKey, Rendered]
) -> Iterator[Wanted]:
    """Yield the frames that an order promises. rendered: by task who rendered it, as far as that is known."""
    requests = {request.name: request for request in ordered.requests}
    expected: dict[tuple[str, str, int | None], Expected] = {}
    for task in tasks_of(ordered.ranges, ordered.requests):
        request = requests[task.request]
        for name in request.outputs:
            key = (request.name, name, task.tile)
            if key not in expected:
                output = content.output(name)
                part = window(request.width, request.height, request.tiles, task.tile)
                expected[key] = Expected(
                    width=part.width,
                    height=part.height,
                    passes=output.variables,
                    bit_depth=_bits(content, output),
                    compression=ordered.compressions.get(name, output.compression),
                )
            path = below(folder, content.product_path(name, task))
            yield Wanted(task, name, path, expected[key], rendered.get(task.key))


def _bits(content: PackingList, output: Output) -> int | None:
    """The bits of a channel that were ordered, at least.

    A scene's types of numbers are those that are computed: files of half floats hold them too, unless the brief says
    otherwise.
    """
    brief = content.rules.brief
    said: int | None = brief.ordered(output.name, "bit_depth") if brief is not None else None
    return said if said is not None or output.bit_depth is None else min(16, output.bit_depth)
