"""Frames of a farm against the test frames that were rendered here: what is wrong on every frame shows nowhere else."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

import numpy as np

from tidy_crate.core.crate.test_frames import TestFrame, probe_folder, read_test_frames
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.picture.judge import Expected
from tidy_crate.core.picture.look import CELLS, Look
from tidy_crate.core.picture.readers import FrameReaders, Looked
from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.core.work.task import Task, TaskKey

# stops by which a cell may differ without noise; more where the test frame is of another size
PLAIN, RESIZED = 0.03, 0.12
# deviations of the noise of a cell's mean that a cell may differ by
DEVIATIONS = 5.0
# share of the cells that may differ, and stops by which all may
SHARE, LEVEL = 0.02, 0.03


@dataclass(frozen=True)
class Apart:
    """The difference of two frames."""

    level: float
    """Stops, mean brightness, with its sign: the first against the second."""
    mean: float
    """Stops, mean over the cells."""
    share: float
    """Share of the cells that differ by more than noise explains."""

    allowed: float
    """Stops by which the mean brightness may differ."""

    @property
    def differs(self) -> bool:
        """Return True when that is more than noise."""
        return abs(self.level) > self.allowed or self.share > SHARE


def compare(one: Look, other: Look, pixels: tuple[int, int]) -> Apart:
    """Compare two frames of the same number. pixels: of each of them, which tells how far noise carries."""
    change = one.cells - other.cells
    size = np.maximum(np.abs(change[..., 0]), np.hypot(change[..., 1], change[..., 2]))
    cells = CELLS[0] * CELLS[1]
    noises = [float(np.median(look.noise)) for look in (one, other)]
    noise = float(np.hypot(*(own / np.sqrt(count / cells) for own, count in zip(noises, pixels, strict=True))))
    # the mean of logarithms is below the logarithm of the mean by half the variance: more noise looks darker
    bias = abs(noises[0] ** 2 - noises[1] ** 2) * float(np.log(2)) / 2
    resized = pixels[0] != pixels[1]
    allowed = (RESIZED if resized else PLAIN) + DEVIATIONS * noise + bias
    return Apart(
        level=float(change[..., 0].mean()),
        mean=float(np.abs(change[..., 0]).mean()),
        share=float((size > allowed).mean()),
        allowed=LEVEL * (2 if resized else 1) + bias,
    )


def signs_from_here(
    crate: Path, contents: str, frames: Mapping[tuple[TaskKey, str], Path], readers: FrameReaders
) -> Iterable[tuple[TaskKey, str, Sign]]:
    """Yield a sign for each frame of which a test frame was rendered here: a note where both agree.

    crate: the folder that was sent. contents: digest of its packing list. frames: files at home, by task and output.
    Of several test frames of one number, as with a setting switched, the sign says which one is nearest.
    """
    try:
        known = [one for one in read_test_frames(crate) if one.contents == contents]
    except TidyCrateError:
        return
    by_frame: dict[tuple[TaskKey, str], list[TestFrame]] = {}
    for one in known:
        for output in one.files:
            key = (Task(one.request, one.frame, one.view).key, output)
            if key in frames:
                by_frame.setdefault(key, []).append(one)
    paths = {
        key: [frames[key], *(probe_folder(crate) / one.files[key[1]] for one in tests)]
        for key, tests in by_frame.items()
    }
    # one after another for all of them, so that every process is at work
    run = readers.judge([Looked(path, Expected()) for group in paths.values() for path in group])
    for (task, output), tests in by_frame.items():
        judged = list(islice(run, len(paths[(task, output)])))
        looks = [one.look for one in judged]
        sizes = [one.form.width * one.form.height if one.form is not None else 0 for one in judged]
        own = looks[0]
        if own is None:
            continue
        apart = [
            (compare(own, look, (sizes[0], sizes[at])), tests[at - 1])
            for at, look in enumerate(looks[1:], 1)
            if look is not None
        ]
        if apart:
            yield task, output, _sign(apart)


def _sign(apart: list[tuple[Apart, TestFrame]]) -> Sign:
    found, test = min(apart, key=lambda one: (one[0].share, one[0].mean))
    samples = "" if test.samples is None else f", {test.samples} samples"
    which = f"the test frame rendered here ({test.width} x {test.height}{samples})"
    if len(apart) > 1:
        which = f"{which}, the nearest of {len(apart)}"
    if not found.differs:
        text = f"it agrees with {which}: {found.mean:.3f} stops apart on average"
        weight = Weight.NOTE
    else:
        text = f"it differs from {which}: {found.share:.0%} of it by more than noise, {found.level:+.2f} stops in all"
        weight = Weight.SUSPECT
    return Sign(kind=Kind.HERE, weight=weight, text=text, figure=round(found.share, 4), limit=SHARE)
