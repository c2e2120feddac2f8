"""Nodes compared with each other: one whose frames all differ from those of others, frames that took too long."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture.look import QUIET
from tidy_crate.core.review.neighbours import Measured
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sign import Kind, Sign, Weight

# frames of a node, and of all others, that a comparison needs
FEW = 3
# frames to each side from which times are compared
AROUND = 12
# how many times the spread of all others a node's median is off
CLEAR = 4.0
# share of a node's frames that are off to one side
ALIKE = 0.9


def node_signs(measured: Measured, rendered: Mapping[int, Rendered], rules: ReviewRules) -> Iterable[tuple[int, Sign]]:
    """Yield a sign for each frame of a node that is brighter, darker or noisier than what others rendered around it.

    Each frame is compared with the straight line between the nearest frames of other nodes.
    """
    names = [rendered[frame].node if frame in rendered else "" for frame in measured.frames]
    nodes = sorted({name for name in names if name})
    if len(nodes) < 2:
        return
    between = _between(measured.frames, names)
    levels, noises = np.array(measured.levels), np.log2(np.array(measured.noises) + QUIET)
    for values, limit, text in (
        (levels, rules.brightness, "{node}: all its frames are {figure:+.2f} stops off those of other nodes"),
        (noises, rules.noise, "{node}: the noise of all its frames is {times:.2f} times that of other nodes"),
    ):
        off = _off(values, between)
        for node in nodes:
            figure = _figure(off, np.array([name == node for name in names]), limit, of_two=len(nodes) == 2)
            if figure is not None:
                words = text.format(node=node, figure=figure, times=2.0 ** abs(figure))
                sign = Sign(kind=Kind.NODE, weight=Weight.SUSPECT, text=words, figure=round(figure, 4), limit=limit)
                yield from ((frame, sign) for frame, name in zip(measured.frames, names, strict=True) if name == node)


def _figure(off: np.ndarray, is_own: np.ndarray, limit: float, *, of_two: bool) -> float | None:
    """Return the median distance of a node's frames from those of others; None where that says nothing.

    of_two: there are two nodes. Then the other one is as far off the other way, and nothing says which one is right.
    """
    known = ~np.isnan(off)
    own, others = off[is_own & known], off[~is_own & known]
    if len(own) < FEW or len(others) < FEW:
        return None
    figure = float(np.median(own))
    spread = 1.4826 * float(np.median(np.abs(own - figure))) / np.sqrt(len(own))
    alike = float(np.mean(np.sign(own) == np.sign(figure)))
    clear = abs(figure) >= max(limit, CLEAR * spread) and alike >= ALIKE
    return figure if clear and (of_two or abs(figure) > 1.5 * abs(float(np.median(others)))) else None


def _between(frames: Sequence[int], names: Sequence[str]) -> list[tuple[int, int, float] | None]:
    """For each frame the indices of the nearest frames of other nodes before and after it, and its way between them.

    None where there is none on one side, or the frame's own node is not known.
    """
    count = len(frames)
    before, after = [-1] * count, [count] * count
    for at in range(1, count):
        before[at] = at - 1 if names[at - 1] != names[at] else before[at - 1]
    for at in range(count - 2, -1, -1):
        after[at] = at + 1 if names[at + 1] != names[at] else after[at + 1]
    return [
        (one, other, (frames[at] - frames[one]) / (frames[other] - frames[one]))
        if names[at] and one >= 0 and other < count
        else None
        for at, (one, other) in enumerate(zip(before, after, strict=True))
    ]


def _off(values: np.ndarray, between: Sequence[tuple[int, int, float] | None]) -> np.ndarray:
    """Return how far each value is from the line between the nearest ones of other nodes; NaN where there is none."""
    found = np.full(len(values), np.nan)
    for at, sides in enumerate(between):
        if sides is not None:
            before, after, share = sides
            found[at] = values[at] - (values[before] * (1 - share) + values[after] * share)
    return found


def time_signs(frames: Sequence[tuple[int, Rendered | None]], rules: ReviewRules) -> Iterable[tuple[int, Sign]]:
    """Yield a note for each frame that took far longer or shorter than those around it."""
    # a frame that was rendered again came in another batch, which may have loaded the scene for it alone
    known = [one.seconds if one is not None and one.seconds and one.attempt == 1 else np.nan for _, one in frames]
    times = np.array(known, float)
    # the first frame of a batch has loaded the scene too
    begins = np.array([one is not None and one.begins for _, one in frames])
    for at, seconds in enumerate(times):
        around = slice(max(0, at - AROUND), at + AROUND + 1)
        near = times[around][begins[around] == begins[at]]
        near = near[~np.isnan(near)]
        if np.isnan(seconds) or len(near) < FEW:
            continue
        usual = float(np.median(near))
        ratio = seconds / usual if usual else 1.0
        if ratio > rules.slow or ratio < 1 / rules.slow:
            text = f"it took {seconds:.4g} s, {ratio:.2g} times what the frames around it took"
            yield (
                frames[at][0],
                Sign(kind=Kind.TIME, weight=Weight.NOTE, text=text, figure=round(ratio, 3), limit=rules.slow),
            )
