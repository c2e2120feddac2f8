"""Frames compared with their neighbours, as they come: what differs from both sides, and where a picture jumps.

Everything is judged by what is usual around it, so that a shot full of motion, noise, rain or flashing light has
limits of its own. Memory: the looks of a few frames, and some numbers of each.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field, replace

import numpy as np

from tidy_crate.core.picture.look import QUIET, Look

# the longest run of frames that is compared with the frames before and after it
LONGEST = 8
# share of the cells that the most different part of a picture is
PART = 0.03


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


@dataclass(frozen=True, slots=True)
class Step:
    """From one frame to the next."""

    change: Difference
    points: float
    """Stops, mean over single pixels."""
    points_twice: float
    """The same against the frame before that; not a number where there is none."""
    likeness: float
    """Correlation of the cells of both, from -1 to 1."""
    same: bool
    """Whether both are the same picture."""


@dataclass
class Measured:
    """What was measured of a sequence. All lists have one entry for each frame."""

    frames: list[int] = field(default_factory=list)
    steps: list[Step | None] = field(default_factory=list)
    """From the frame before; None where that is not known."""
    asides: list[tuple[Difference, ...]] = field(default_factory=list)
    """Of the runs of 1, 2, … frames that end before this frame, whose other side is known."""
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

    def add(self, frame: int, look: Look) -> None:
        """Take the next frame. frames ascend."""
        found, near = self.found, self._near
        if found.frames and frame - found.frames[-1] != self._spacing:
            near.clear()
        near.append(look)
        found.frames.append(frame)
        found.levels.append(look.level)
        found.noises.append(float(np.median(look.noise)))
        found.marks.append(look.mark)
        found.steps.append(self._step() if len(near) > 1 else None)
        runs = (list(near)[-length - 2 :] for length in range(1, len(near) - 1))
        found.asides.append(tuple(_aside(run[0], run[1:-1], run[-1]) for run in runs))

    def _step(self) -> Step:
        before, now = self._near[-2], self._near[-1]
        points = now.points.astype(np.float32)
        twice = self._near[-3].points.astype(np.float32) if len(self._near) > 2 else np.float32("nan")
        return Step(
            change=_difference(
                now.cells - before.cells,
                now.vivid - before.vivid,
                _stops_of_noise([now]) - _stops_of_noise([before]),
                _new_flat([now], [before]) + _new_flat([before], [now]),
            ),
            points=float(np.abs(points - before.points.astype(np.float32)).mean()),
            points_twice=float(np.abs(points - twice).mean()),
            likeness=_likeness(before.cells[..., 0], now.cells[..., 0]),
            same=self.found.marks[-1] == self.found.marks[-2],
        )


def _aside(before: Look, run: list[Look], after: Look) -> Difference:
    cells = np.mean([one.cells for one in run], axis=0) if len(run) > 1 else run[0].cells
    vivid = np.mean([one.vivid for one in run], axis=0) - np.maximum(before.vivid, after.vivid)
    found = _difference(
        _outside(cells, before.cells, after.cells),
        np.maximum(vivid, 0),
        _outside(_stops_of_noise(run), _stops_of_noise([before]), _stops_of_noise([after])),
        _new_flat(run, [before, after]),
    )
    # of the mean brightness apart: when everything moves, each cell spans a lot and the mean hardly anything
    level = _outside(cells[..., 0].mean(), before.cells[..., 0].mean(), after.cells[..., 0].mean())
    return replace(found, level=float(level))


def _difference(cells: np.ndarray, vivid: np.ndarray, noise: np.ndarray, flat: int) -> Difference:
    """cells: differences, of the shape of `Look.cells`. noise: differences in stops, by region."""
    stops = cells[..., 0]
    size = np.abs(stops)
    all_over = float(np.median(noise))
    return Difference(
        level=float(stops.mean()),
        brightness=float(np.median(stops)),
        picture=float(size.mean()),
        part=_most(size),
        colour=float(np.hypot(cells[..., 1], cells[..., 2]).mean()),
        vivid=float(np.abs(vivid).mean()),
        flat=float(flat),
        noise=all_over,
        patch=float(np.abs(noise - all_over).max()),
    )


def _most(values: np.ndarray) -> float:
    count = max(1, round(values.size * PART))
    return float(np.partition(values.ravel(), -count)[-count:].mean())


def _likeness(one: np.ndarray, other: np.ndarray) -> float:
    one, other = one - one.mean(), other - other.mean()
    size = float(np.sqrt((one * one).sum() * (other * other).sum()))
    return float((one * other).sum()) / size if size > 1e-9 else 1.0


def _outside(values: np.ndarray, one: np.ndarray, other: np.ndarray) -> np.ndarray:
    return np.asarray(values - np.clip(values, np.minimum(one, other), np.maximum(one, other)))


def _stops_of_noise(looks: list[Look]) -> np.ndarray:
    return np.asarray(np.mean([np.log2(one.noise + QUIET) for one in looks], axis=0))


def _new_flat(run: list[Look], sides: list[Look]) -> int:
    """Count the small cells that are flat in the whole run, and neither they nor those beside them on a side of it."""
    flat = run[0].flat
    if any(one.flat.shape != flat.shape for one in (*run, *sides)):
        return 0
    for one in run[1:]:
        flat = flat & one.flat
    if not flat.any():
        return 0
    known = sides[0].flat | sides[-1].flat
    return int(np.count_nonzero(flat & ~_grown(known)))


def _grown(mask: np.ndarray) -> np.ndarray:
    """A mask and all cells beside it: what moved a little is not new."""
    padded = np.pad(mask, 1)
    rows, columns = mask.shape
    found = np.zeros_like(mask)
    for y in range(3):
        for x in range(3):
            found |= padded[y : y + rows, x : x + columns]
    return found
