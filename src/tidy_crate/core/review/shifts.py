"""Frames that are shifted as a whole against the motion of those around them: another crop, overscan or lens shift.

The motion of the whole picture from frame to frame is found by least squares on its cells, with a change of exposure
beside it (Lucas and Kanade, "An iterative image registration technique", 1981). A camera moves on; a shifted frame goes
there and back.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence, Set

import numpy as np

from tidy_crate.core.picture.look import CELLS
from tidy_crate.core.review.kept import STRETCH, Kept
from tidy_crate.core.review.neighbours import LONGEST
from tidy_crate.core.review.sign import Kind, Sign, Weight

# frames on each side that tell the usual motion
AROUND = 8
# cells of a shift that counts, at least; and times what is usual of the camera's own unrest
LEAST, TIMES = 0.03, 6.0
# cells of motion above which it is no longer in proportion to the change of brightness
MOST = 0.7
# share of the change that the motion explains, at least; and share of a shift that is not taken back
EXPLAINS, BACK = 0.5, 0.4


def motions(cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the motion of the picture into each frame, and the share of the change that it explains.

    cells: brightness in stops, shape (frames, rows, columns). Returns shapes (frames, 2), in cells across and down, and
    (frames,); both are 0 for the first frame.
    """
    found, explained = np.zeros((len(cells), 2)), np.zeros(len(cells))
    for at in range(1, len(cells)):
        change = (cells[at] - cells[at - 1])[1:-1, 1:-1].ravel()
        down, across = (one[1:-1, 1:-1].ravel() for one in np.gradient((cells[at] + cells[at - 1]) / 2))
        slopes = np.stack([-across, -down, np.ones_like(across)], axis=1)
        motion, *_ = np.linalg.lstsq(slopes, change, rcond=None)
        spread = float(change.var())
        found[at] = motion[:2]
        explained[at] = 1 - float((change - slopes @ motion).var()) / spread if spread > 1e-12 else 0.0
    return found, explained


def signs_of_shifts(
    frames: Sequence[int], known: Sequence[bool], kept: Kept, skipped: Set[int] = frozenset()
) -> Iterable[tuple[int, Sign]]:
    """Yield the signs of shifted frames, with the number of the frame.

    known: by index, whether the frame before is its neighbour. skipped: indices of frames that have signs already.
    """
    if len(frames) < 2 * AROUND:
        return
    # stretch by stretch, so that memory does not grow with the sequence
    parts = [
        motions(kept.part(slice(max(0, at - 1), at + STRETCH)).cells[..., 0]) for at in range(0, len(frames), STRETCH)
    ]
    motion, explained = (
        np.concatenate([each[number][1:] if at else each[number] for at, each in enumerate(parts)]) for number in (0, 1)
    )
    off = np.zeros_like(motion)
    limits = np.full(len(frames), np.inf)
    for at in range(1, len(frames)):
        near = [other for other in range(max(1, at - AROUND), min(len(frames), at + AROUND + 1)) if known[other]]
        beside = motion[near]
        usual = np.median(beside, axis=0)
        off[at] = motion[at] - usual
        unrest = float(np.median(np.hypot(*(beside - usual).T)))
        if known[at] and float(np.hypot(*usual)) <= MOST:
            limits[at] = max(LEAST, TIMES * unrest)
    size = np.hypot(off[:, 0], off[:, 1])
    at = 1
    while at < len(frames):
        end = _end(at, off, size, limits, explained)
        if end is None:
            at += 1
            continue
        text = f"it is shifted by {size[at] / CELLS[1]:.2%} of the width against the motion of the frames around it"
        if not skipped & set(range(at, end)):
            sign = Sign(kind=Kind.SHIFT, weight=Weight.SUSPECT, text=text, figure=round(float(size[at]), 4),
                        limit=round(float(limits[at]), 4))  # fmt: skip
            yield from ((frames[index], sign) for index in range(at, end))
        at = end + 1


def _end(at: int, off: np.ndarray, size: np.ndarray, limits: np.ndarray, explained: np.ndarray) -> int | None:
    """Return the index of the frame that a shift is taken back with, which begins at a frame; None for no shift."""
    if size[at] < limits[at] or explained[at] < EXPLAINS:
        return None
    for end in range(at + 1, min(len(size), at + LONGEST + 1)):
        if not np.isfinite(limits[end]):
            return None
        if size[end] >= limits[end]:
            back = float(np.hypot(*(off[at] + off[end])))
            return end if back <= BACK * size[at] and explained[end] >= EXPLAINS else None
    return None
