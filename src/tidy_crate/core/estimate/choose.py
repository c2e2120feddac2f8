"""Choice of test frames: spread over the shot and over what changes in it, then where they tell most."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.estimate.timing import ShotTimes

Array = NDArray[np.float64]
# of the way along the shot, what counts by change and not by number
BY_CHANGE = 0.6
# frames in a row between test frames that may hide some for which memory runs out
PLATEAU = 5


def along_the_shot(activity: Array | None, frames: int) -> Array:
    """Return where each frame stands along the shot, shape (frames,), going up from 0 to 1.

    activity: features of what is on screen, shape (frames, features), None where they are not known. Frames between
    which much changes stand far apart.
    """
    even = np.linspace(0.0, 1.0, frames) if frames > 1 else np.zeros(1)
    if activity is None or frames < 2:
        return even
    spread = activity.std(axis=0)
    steps = np.abs(np.diff(activity, axis=0)) / np.where(spread > 0, spread, 1.0)
    change = np.cumsum(np.sqrt((steps**2).sum(axis=1)))
    # the last running sum: a sum in another order may be less, and a frame would stand past 1
    total = float(change[-1])
    if not np.isfinite(total) or total <= 0:
        return even
    changed = np.concatenate([[0.0], change / total])
    return np.asarray((1 - BY_CHANGE) * even + BY_CHANGE * changed)


def with_earlier(activity: Array | None, numbers: Sequence[int], earlier: Mapping[int, float]) -> Array | None:
    """Return the features of frames with one more: how long they took in an earlier job, as a logarithm.

    activity: see `along_the_shot`. numbers: the frames, ascending. earlier: seconds by frame; between them it is
    interpolated, and fewer than three say nothing.
    """
    known = sorted(frame for frame, seconds in earlier.items() if seconds > 0)
    if len(known) < 3 or len(numbers) < 2:
        return activity
    column = np.interp(numbers, known, np.log([earlier[frame] for frame in known]))[:, None]
    return column if activity is None else np.concatenate([activity, column], axis=1)


def spread_frames(numbers: tuple[int, ...], count: int, positions: Array | None = None) -> tuple[int, ...]:
    """Return `count` frames in the middle of as many equal stretches of the shot: spread, and not just its ends.

    numbers: all frames, ascending. positions: where they stand, see `along_the_shot`.
    """
    count = min(count, len(numbers))
    if positions is None:
        return tuple(numbers[(2 * at + 1) * len(numbers) // (2 * count)] for at in range(count))
    chosen: list[int] = []
    for at in range(count):
        wanted = (at + 0.5) / count
        free = [index for index in range(len(numbers)) if index not in chosen]
        chosen.append(min(free, key=lambda index: (abs(positions[index] - wanted), index)))
    return tuple(numbers[index] for index in sorted(chosen))


def beside_much_memory(numbers: Sequence[int], memory: Mapping[int, int], limit: float) -> tuple[int, ...]:
    """Return the middle of each stretch without a test frame in which memory may run out, the longest stretch first.

    numbers: all frames, ascending. memory: bytes of each test frame. limit: bytes from which on little is left. A frame
    for which memory runs out takes many times as long, and such frames stand in a row. Beside a test frame memory may
    rise by as much again as it does at most between two neighbouring ones.
    """
    tested = sorted(memory)
    rise = max((abs(memory[after] - memory[before]) for before, after in pairwise(tested)), default=0)
    ends = [None, *tested, None]
    found = []
    for before, after in pairwise(ends):
        if max(memory[one] for one in (before, after) if one is not None) + rise < limit:
            continue
        inside = [one for one in numbers if (before is None or one > before) and (after is None or one < after)]
        if len(inside) >= PLATEAU:
            found.append((-len(inside), inside[len(inside) // 2]))
    return tuple(frame for _, frame in sorted(found))


def most_telling(shot: ShotTimes, count: int = 1) -> tuple[int, ...]:
    """Return frames not yet measured whose times would tell most about the total; fewer where hardly any is left.

    Knowing one number takes the square of its covariance with the total, over its variance, off the variance of the
    total. After each choice, what it would tell is taken out of the others.
    """
    total = shot.draws.sum(axis=1)
    off, rest = shot.draws - shot.draws.mean(axis=0), total - total.mean()
    open_ = np.array([number not in shot.measured for number in shot.numbers])
    chosen: list[int] = []
    while len(chosen) < count and open_.any():
        spread = np.maximum((off**2).mean(axis=0), 1e-12)
        gain = np.where(open_, (off * rest[:, None]).mean(axis=0) ** 2 / spread, -1.0)
        best = int(np.argmax(gain))
        chosen.append(shot.numbers[best])
        open_[best] = False
        known = off[:, best] / np.sqrt(spread[best])
        off = off - known[:, None] * (off * known[:, None]).mean(axis=0)
        rest = rest - known * (rest * known).mean()
    return tuple(sorted(chosen))
