"""Frames compared with their neighbours, as they come: what differs from both sides, and where a picture jumps.

Everything is judged by what is usual around it, so that a shot full of motion, noise, rain or flashing light has
limits of its own. Memory: the looks of a few frames, and some numbers of each.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field, fields

import numpy as np

from tidy_crate.core.picture.look import QUIET, Look
from tidy_crate.core.picture.pass_look import PassLook
from tidy_crate.core.review.kept import BLACK, Kept, likeness_of

# the longest run of frames that is compared with the frames before and after it
LONGEST = 8
# share of the cells that the most different part of a picture is
PART = 0.03

# small cells of one brightness that make a backdrop
BACKDROP = 3
# the power of two of a region's noise, above which it has some; the share of the regions that say how much there is
NOISY, LEAST_NOISY = float(np.log2(3 * QUIET)), 0.25


@dataclass(frozen=True, slots=True)
class Difference:
    """Between two frames; or of a run of frames, how far it is outside what the frames before and after it span."""

    level: float
    """Stops, mean brightness, with its sign."""
    brightness: float
    """Stops, median over the cells, with its sign."""
    picture: float
    """Stops, mean over the cells."""
    part: float
    """Stops, mean of the most different cells."""
    colour: float
    """Mean over the cells."""
    vivid: float
    """Share of the picture."""
    flat: float
    """Number of small cells."""
    noise: float
    """Power of two, with its sign."""
    patch: float
    """Power of two."""
    highlight: float
    """Stops, of the brightest thousandth of the pixels, with its sign."""
    comb: float
    """Share of the rows of the region that differs most: rows of two pictures in turn."""
    lines: float
    """Stops, of the oddest row or column."""


COLUMNS = tuple(one.name for one in fields(Difference))


@dataclass(frozen=True, slots=True)
class Step:
    """From one frame to the next."""

    change: Difference
    points: float
    """Stops, mean over single pixels."""
    points_twice: float
    """Against the frame before that; not a number where there is none."""
    likeness: float
    """Correlation of the cells of both, from -1 to 1."""
    same: bool
    """True when both are the same picture."""


@dataclass
class Measured:
    """The measures of a sequence. All lists have one entry for each frame."""

    frames: list[int] = field(default_factory=list)
    steps: list[Step | None] = field(default_factory=list)
    """From the frame before; None where that is not known."""
    asides: list[np.ndarray] = field(default_factory=list)
    """Measures of the runs of 1, 2, … frames that end before this frame, whose other side is known.

    A row for each run, a column for each of `COLUMNS`; 32-bit.
    """
    levels: list[float] = field(default_factory=list)
    noises: list[float] = field(default_factory=list)
    marks: list[bytes] = field(default_factory=list)


class Neighbours:
    """Measures a sequence frame by frame.

    spacing: what the numbers of two neighbours differ by. After a gap nothing is compared with what was before it.
    """

    def __init__(self, spacing: int) -> None:
        self._spacing = spacing
        self._near: deque[Look] = deque(maxlen=LONGEST + 2)
        self.found = Measured()
        self.kept = Kept()

    def add(self, frame: int, look: Look, passes: Mapping[str, PassLook] | None = None) -> None:
        """Take the next frame. frames ascend. passes: the looks of its passes beside the picture."""
        found, near = self.found, self._near
        if found.frames and frame - found.frames[-1] != self._spacing:
            near.clear()
        near.append(look)
        self.kept.add(look, passes)
        found.frames.append(frame)
        found.levels.append(look.level)
        found.noises.append(float(np.median(look.noise)))
        found.marks.append(look.mark)
        found.steps.append(self._step() if len(near) > 1 else None)
        found.asides.append(_asides(list(near)) if len(near) > 2 else np.zeros((0, len(COLUMNS)), np.float32))

    def _step(self) -> Step:
        before, now = self._near[-2], self._near[-1]
        noise_before, noise_now = _noise(before), _noise(now)
        points = now.points.astype(np.float32)
        twice = self._near[-3].points.astype(np.float32) if len(self._near) > 2 else np.float32("nan")
        (change,) = _differences(
            (now.cells - before.cells)[None],
            (now.vivid - before.vivid)[None],
            (noise_now - noise_before)[None],
            (np.maximum(noise_now, noise_before) >= NOISY)[None],
            [_new_flat(now.flat > 0, now, (before,)) + _new_flat(before.flat > 0, before, (now,))],
            (now.highlight - before.highlight)[None],
            (now.comb - before.comb)[None],
            (now.lines - before.lines)[None],
            steps=True,
        ).tolist()
        return Step(
            change=Difference(*change),
            points=float(np.abs(points - before.points.astype(np.float32)).mean()),
            points_twice=float(np.abs(points - twice).mean()),
            likeness=likeness_of(before.cells[..., 0], now.cells[..., 0]),
            same=self.found.marks[-1] == self.found.marks[-2],
        )


def _asides(near: list[Look]) -> np.ndarray:
    """Measure the runs of 1, 2, … frames before the last one. The frame before a run is its other side."""
    *before, after = near
    count = len(before) - 1
    lengths = np.arange(1, count + 1)
    cells = np.stack([one.cells for one in before])
    vivid = np.stack([one.vivid for one in before])
    *noises, noise_after = map(_noise, near)
    noise = np.stack(noises)
    highlight = np.stack([one.highlight for one in before])
    runs, sides = _means(cells, lengths), cells[-2::-1]
    of_runs = _means(noise, lengths)
    found = _differences(
        outside(runs, sides, after.cells),
        np.maximum(_means(vivid, lengths) - np.maximum(vivid[-2::-1], after.vivid), 0),
        outside(of_runs, noise[-2::-1], noise_after),
        np.maximum(np.maximum(of_runs, noise[-2::-1]), noise_after) >= NOISY,
        _flat_runs(before, after),
        outside(_means(highlight, lengths), highlight[-2::-1], after.highlight),
        *(_more(np.stack([getattr(one, name) for one in near]), lengths) for name in ("comb", "lines")),
        steps=False,
    )
    # of the mean brightness apart: when everything moves, each cell spans a lot and the mean hardly anything
    levels = [one[..., 0].mean(axis=(-2, -1)) for one in (runs, sides, after.cells)]
    found[:, 0] = outside(levels[0], levels[1], levels[2])
    return found


def _means(values: np.ndarray, lengths: np.ndarray) -> np.ndarray:
    """The means of the last 1, 2, … values, without the first one."""
    shape = (-1, *[1] * (values.ndim - 1))
    return np.asarray(np.cumsum(values[:0:-1], axis=0) / lengths.reshape(shape).astype(np.float32))


def _more(values: np.ndarray, lengths: np.ndarray) -> np.ndarray:
    """Return by how much runs have more than the frames on both sides."""
    runs, sides = _means(values[:-1], lengths), values[-3::-1]
    return np.asarray(np.maximum(runs - np.maximum(sides, values[-1]), 0))


def _differences(
    cells: np.ndarray,
    vivid: np.ndarray,
    noise: np.ndarray,
    noisy: np.ndarray,
    flat: list[int],
    highlight: np.ndarray,
    comb: np.ndarray,
    lines: np.ndarray,
    *,
    steps: bool,
) -> np.ndarray:
    """Sum differences up: a row for each, a column for each of `COLUMNS`.

    noise: as powers of two, by region. noisy: the regions that have noise; others say nothing of how much there is.
    steps: True for steps from frame to frame. Of runs, a part with less noise does not count: something plain passes.
    """
    stops = cells[..., 0].reshape(len(cells), -1)
    size = np.abs(stops)
    regions = noise.reshape(len(noise), -1)
    all_over = _median_of(regions, noisy.reshape(regions.shape))
    apart = regions - all_over[:, None]
    most = max(1, round(size.shape[1] * PART))
    columns = (
        stops.mean(axis=1),
        np.median(stops, axis=1),
        size.mean(axis=1),
        np.partition(size, -most, axis=1)[:, -most:].mean(axis=1),
        np.hypot(cells[..., 1], cells[..., 2]).mean(axis=(1, 2)),
        np.abs(vivid).mean(axis=(1, 2)),
        flat,
        all_over,
        np.maximum(apart, np.abs(apart) if steps else 0).max(axis=1),
        highlight,
        np.abs(comb).max(axis=(1, 2)),
        np.abs(lines).max(axis=1),
    )
    return np.stack([np.asarray(one, np.float32) for one in columns], axis=1)


def _median_of(regions: np.ndarray, noisy: np.ndarray) -> np.ndarray:
    """The median of those regions of a row that have noise; of all where few have."""
    chosen = noisy | (noisy.sum(axis=1) < LEAST_NOISY * noisy.shape[1])[:, None]
    # what is left out is sorted to the end; NumPy's own median without gaps takes ten times as long on short rows
    ordered = np.sort(np.where(chosen, regions, np.inf), axis=1)
    count, row = chosen.sum(axis=1), np.arange(len(regions))
    return np.asarray((ordered[row, (count - 1) // 2] + ordered[row, count // 2]) / 2)


def outside(values: np.ndarray, one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Return by how much values are above or below all between two others, with the sign."""
    return np.asarray(values - np.clip(values, np.minimum(one, other), np.maximum(one, other)))


def _noise(look: Look) -> np.ndarray:
    return np.log2(look.noise + QUIET)


def _flat_runs(before: list[Look], after: Look) -> list[int]:
    """For the runs of 1, 2, … frames: cells that are flat in all of it, and on no side of it."""
    if any(one.flat.shape != after.flat.shape for one in before):
        return [0] * (len(before) - 1)
    found = []
    flat = np.ones(after.flat.shape, bool)
    for index in range(len(before) - 1, 0, -1):
        flat = flat & (before[index].flat > 0)
        found.append(_new_flat(flat, before[index], (before[index - 1], after)) if flat.any() else 0)
    return found


def _new_flat(flat: np.ndarray, own: Look, sides: tuple[Look, ...]) -> int:
    """Count the small cells that are flat, and neither they nor those beside them are so on the sides.

    Sky or a plain backdrop between moving things is as bright as it is elsewhere on the sides, and does not count.
    flat: of them, those of a run. own: a frame of the run.
    """
    if any(one.flat.shape != flat.shape for one in sides) or not flat.any():
        return 0
    known = sides[0].flat > 0
    for one in sides[1:]:
        known = known | (one.flat > 0)
    new = flat & ~_grown(known)
    if not new.any():
        return 0
    usual = {value for one in sides for value in _backdrops(one)}
    usual |= {round(value + off, 2) for value in usual for off in (-0.01, 0.01)}
    # what was not rendered is black as a rule, and so counts twice
    odd = np.array([(value < BLACK) + 1 if round(float(value), 2) not in usual else 0 for value in own.plain])
    return int(odd[own.flat[new] - 1].sum()) if len(odd) else 0


def _backdrops(look: Look) -> list[float]:
    """Return the brightness of what is flat in several small cells of a frame."""
    times = np.bincount(look.flat.ravel(), minlength=len(look.plain) + 1)[1:]
    return [round(float(value), 2) for value, count in zip(look.plain, times, strict=False) if count >= BACKDROP]


def _grown(mask: np.ndarray) -> np.ndarray:
    """A mask and all cells beside it: what moved a little is not new."""
    padded = np.pad(mask, 1)
    rows, columns = mask.shape
    found = np.zeros_like(mask)
    for y in range(3):
        for x in range(3):
            found |= padded[y : y + rows, x : x + columns]
    return found
