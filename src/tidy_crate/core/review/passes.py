"""Passes beside the colour, compared with the frames beside: depth, normals, motion, numbers of objects.

Colour and passes come from one geometry. What moves changes both, so a pass is only looked at where the picture itself
is within what the frames beside it span. What differs there is a fault of the pass.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence, Set
from dataclasses import dataclass

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.review.jumps import AROUND, FEW, USUAL_STEP
from tidy_crate.core.review.kept import OBJECTS, STRETCH, Kept, PassValues, in_cells_of_passes
from tidy_crate.core.review.neighbours import LONGEST, PART, outside
from tidy_crate.core.review.sequence import END, OF_A_PIECE, apart_from_each_other
from tidy_crate.core.review.sign import Kind, Sign, Weight

# stops or share of colour by which the picture differs in a cell that says nothing of a pass; and times what is usual
# of the cell, as everything moves in some shots
PICTURE_TOO, TIMES_USUAL = 0.04, 2.5
# the share of the comparisons that is below what is usual, and times a limit where too few tell it. A quarter of the
# frames may be at fault: what the picture does too is left out already
USUAL, UNKNOWN = 75, 3.0
# of two runs that explain as much, the shorter one: how much less each frame makes of it
COUNTS = 0.1
# frames before and after a stretch that are looked at with it
BESIDE = 40


@dataclass(frozen=True)
class _Run:
    first: int
    count: int
    figure: float
    limit: float
    part: bool


def signs_of_passes(
    frames: Sequence[int], known: Sequence[bool], kept: Kept, rules: ReviewRules, grouped: Set[int] = frozenset()
) -> Iterable[tuple[int, Sign]]:
    """Yield the signs of passes, with the number of the frame.

    A long sequence is looked at stretch by stretch, so that memory does not grow with it. known: by index, whether the
    frame before is its neighbour. grouped: indices of frames that are known to differ as a group.
    """
    for first in range(0, len(frames), STRETCH):
        own = slice(max(0, first - BESIDE), min(len(frames), first + STRETCH + BESIDE))
        part = {at - own.start for at in grouped if own.start <= at < own.stop}
        inside = set(frames[first : first + STRETCH])
        for frame, sign in _of_stretch(frames[own], known[own], kept.part(own), rules, part):
            if frame in inside:
                yield frame, sign


def _of_stretch(
    frames: Sequence[int], known: Sequence[bool], kept: Kept, rules: ReviewRules, grouped: Set[int]
) -> Iterable[tuple[int, Sign]]:
    passes = kept.passes
    if not passes:
        return
    picture = in_cells_of_passes(kept.cells)
    for one in passes:
        runs: list[_Run] = []
        for length in range(1, min(LONGEST, len(frames) - 2) + 1):
            runs += _runs_of(one, known, picture, length, rules)
        clearest = sorted(runs, key=lambda run: (-run.figure / run.limit / (1 + COUNTS * run.count), run.first))
        for run in apart_from_each_other(clearest):
            own = range(run.first, run.first + run.count)
            # a run of good frames between two of a group differs from these
            if {run.first - 1, run.first + run.count} & grouped and not grouped & set(own):
                continue
            text = _words(one, run)
            for index in own:
                yield (
                    frames[index],
                    Sign(kind=Kind.PASS, weight=Weight.SUSPECT, text=text, figure=round(run.figure, 4),
                         limit=round(run.limit, 4)),
                )  # fmt: skip


def _words(one: PassValues, run: _Run) -> str:
    if one.objects:
        text = f"{one.name}: in {run.figure:.1%} of the picture objects have other numbers than on both sides"
    else:
        where = "a part of it" if run.part else "it"
        by = f"{run.figure:.2f} stops, and the picture does not"
        text = f"{one.name}: {where} differs from the frames on both sides by {by}"
    return text + (f" (a run of {run.count} frames)" if run.count > 1 else "")


def _run_means(values: np.ndarray, length: int) -> np.ndarray:
    """Return the means of all runs that have a frame before and after: shape (frames - length - 1, ...)."""
    sums = np.cumsum(np.concatenate([np.zeros_like(values[:1]), values]), axis=0, dtype=np.float64)
    return np.asarray((sums[length + 1 : -1] - sums[1 : -length - 1]) / length)


def _outside(values: np.ndarray, length: int) -> np.ndarray:
    """Return how far runs are outside of what the frames before and after span.

    values: shape (frames, cells, channels). Returns shape (frames - length - 1, cells), the largest of the channels, by
    the index of the frame before the run.
    """
    apart = outside(_run_means(values, length), values[: -length - 1], values[length + 1 :])
    return np.asarray(np.abs(apart).max(axis=-1))


def _sizes(one: PassValues, apart: np.ndarray, picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the size of each difference over all of the picture, and of the part that differs most, where it counts.

    apart: shape (n, cells). picture: by how much the picture differs too, shape (n, cells).
    """
    if one.objects:
        # less what the picture shows to be new
        new = (picture >= PICTURE_TOO).mean(axis=1)
        return np.maximum(apart.sum(axis=1) - np.maximum(new - np.median(new), 0), 0), np.zeros(len(apart))
    too = picture >= np.maximum(PICTURE_TOO, TIMES_USUAL * np.median(picture, axis=0))
    counted = np.where(too, 0.0, apart)
    most = max(3, round(PART * counted.shape[1]))
    return counted.mean(axis=1), np.partition(counted, -most, axis=1)[:, -most:].mean(axis=1)


def _runs_of(
    one: PassValues, known: Sequence[bool], picture: np.ndarray, length: int, rules: ReviewRules
) -> Iterable[_Run]:
    values = one.values
    if one.objects:
        # by the largest gain of an object: what one gains another loses
        sides = np.maximum(values[: -length - 1], values[length + 1 :])
        apart = np.maximum(_run_means(values, length) - sides, 0)[:, 0, :]
        steps = np.abs(np.diff(values[:, 0, :], axis=0)) / 2
    else:
        apart = _outside(values, length)
        steps = np.abs(np.diff(values, axis=0)).max(axis=-1)
    colour = _outside(picture, length)
    of_steps = _sizes(one, steps, np.abs(np.diff(picture, axis=0)).max(axis=-1))
    neighbours = np.array(known[1:], bool)
    figures = _sizes(one, apart, colour)
    limits = (OBJECTS, np.inf) if one.objects else (rules.picture, rules.part)
    for part, (sizes, at_steps, least) in enumerate(zip(figures, of_steps, limits, strict=True)):
        for before in map(int, np.flatnonzero(sizes >= least)):
            first = before + 1
            if not neighbours[before : before + length + 1].all():
                continue
            limit = _limit(sizes, before, length, least, rules)
            own = at_steps[before : before + length + 1]
            rest = np.concatenate([at_steps[max(0, before - AROUND) : before], at_steps[first + length :][:AROUND]])
            usual = float(np.percentile(rest, USUAL_STEP)) if len(rest) >= FEW else 0.0
            inner = float(own[1:-1].max(initial=0.0))
            ends = min(own[0], own[-1])
            if sizes[before] >= limit and ends >= max(END * sizes[before], OF_A_PIECE * max(usual, inner)):
                yield _Run(first, length, float(sizes[before]), limit, bool(part))


def _limit(sizes: np.ndarray, at: int, length: int, least: float, rules: ReviewRules) -> float:
    """Return from where on a difference is a sign, by what is usual of runs that share no frame with it."""
    near = np.concatenate([sizes[max(0, at - AROUND) : max(0, at - length - 1)], sizes[at + length + 2 : at + AROUND]])
    return max(least, rules.times * float(np.percentile(near, USUAL))) if len(near) >= FEW else UNKNOWN * least
