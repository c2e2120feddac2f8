"""Frames that repeat the one before to the last pixel, where pictures of their own were to be expected."""

from __future__ import annotations

from collections.abc import Iterable, Set

import numpy as np

from tidy_crate.core.review.neighbours import Measured, Step
from tidy_crate.core.review.sign import Kind, Sign, Weight

# frames on each side that tell what is usual, and how many steps that takes at least
AROUND, FEW = 24, 4
# when more of the steps are none at all, standing still is a part of the shot
OFTEN = 0.25
# a picture of which only noise changes differs from the one before it no less than from the one before that
ONLY_NOISE = 1.12
# share of the usual noise below which a picture has none
PLAIN = 0.3
# how far a picture moves on at once after a repeated frame, in usual steps
CATCH_UP = 1.55
# frames within which one may stand in another's place, and how many such pairs make it the shot's own going round
NEAR, PAIRS = 8, 3
# frames of a repetition that comes after a step of at least this share of the usual one, and is hardly caught up with
SHORT, GOES_ON, HARDLY = 3, 0.5, 1.25


def repeats(measured: Measured, meets: Set[int] = frozenset()) -> Iterable[tuple[int, Sign]]:
    """Yield index and sign of each frame that repeats another one and should not.

    meets: indices at which two nodes, attempts or batches meet.
    """
    index, count = 1, len(measured.frames)
    while index < count:
        step = measured.steps[index]
        if step is None or not step.same:
            index += 1
            continue
        first = index
        while index < count and (own := measured.steps[index]) is not None and own.same:
            index += 1
        sign = _sign(measured, first, index, bool(meets & set(range(first, index + 1))))
        if sign is not None:
            yield from ((other, sign) for other in range(first, index))


def misplaced(measured: Measured) -> Iterable[tuple[int, Sign]]:
    """Yield index and sign of frames that are the very picture of another one which does not stand beside them."""
    last: dict[bytes, int] = {}
    pairs: list[tuple[int, int]] = []
    for index, mark in enumerate(measured.marks):
        before = last.get(mark)
        if before is not None and 2 <= index - before <= NEAR:
            pairs.append((before, index))
        last[mark] = index
    if len(pairs) > PAIRS:
        return
    steps = measured.steps
    for first, second in pairs:
        around = range(max(1, first - AROUND), min(len(steps), second + AROUND))
        near = [_step(measured, at).change.picture for at in around if at not in (first, first + 1, second, second + 1)
                and steps[at] is not None]  # fmt: skip
        usual = float(np.median(near)) if len(near) >= FEW else 0.0
        if not usual:
            continue
        # the one in the wrong place has the larger step on its outer side
        sizes = {at: one.change.picture / usual if 0 < at < len(steps) and (one := steps[at]) is not None else 0.0
                 for at in (first, second + 1)}  # fmt: skip
        outer = max(sizes, key=lambda at: sizes[at])
        if sizes[outer] < CATCH_UP:
            continue
        wrong, right = (first, second) if outer == first else (second, first)
        text = f"it is the same picture as frame {measured.frames[right]}, and those between differ"
        sign = Sign(kind=Kind.REPEAT, weight=Weight.BAD, text=text, figure=round(sizes[outer], 3), limit=CATCH_UP)
        yield wrong, sign


def _sign(measured: Measured, first: int, after: int, met: bool) -> Sign | None:
    """The sign of the frames from `first` up to before `after`; None where they may well be alike.

    met: True if two nodes or batches meet in it.
    """
    steps = measured.steps
    near = [
        other
        for other in range(max(1, first - AROUND), min(len(steps), after + AROUND))
        if not first <= other < after and steps[other] is not None
    ]
    moving = [other for other in near if not _step(measured, other).same]
    if len(moving) < FEW or len(near) - len(moving) > OFTEN * len(near):
        return None

    def sign(weight: Weight, why: str, figure: float, limit: float) -> Sign:
        text = f"it is the same picture as frame {measured.frames[first - 1]}, to the last pixel, {why}"
        return Sign(kind=Kind.REPEAT, weight=weight, text=text, figure=round(figure, 3), limit=limit)

    pairs = [_step(measured, other) for other in moving if other - 1 in moving]
    if len(pairs) >= FEW and float(np.median([step.points for step in pairs])) > 0:
        noise = float(np.median([measured.noises[other] for other in moving]))
        if measured.noises[first] < PLAIN * noise:
            # nothing of it would change: something plain fills it
            return None
        ratio = float(np.median([step.points_twice / max(step.points, 1e-9) for step in pairs]))
        if ratio < ONLY_NOISE:
            return sign(Weight.BAD, "while the noise of all others differs", ratio, ONLY_NOISE)
    if after >= len(steps) or steps[after] is None or steps[first - 1] is None:
        return None
    usual = float(np.median([_step(measured, other).change.picture for other in moving]))
    before, beyond = (_step(measured, other).change.picture / max(usual, 1e-9) for other in (first - 1, after))
    if beyond >= CATCH_UP:
        return sign(Weight.BAD, f"and the next one moves {beyond:.1f} usual steps at once", beyond, CATCH_UP)
    # what stood in another's place is caught up with; what is held, as a title, goes on where it was
    if after - first <= SHORT and before >= GOES_ON and beyond >= max(HARDLY, before * HARDLY):
        return sign(Weight.SUSPECT, f"and the next one moves {beyond:.1f} usual steps at once", beyond, HARDLY)
    if met and after - first <= SHORT and min(before, beyond) >= GOES_ON:
        # a batch that begins again where it began
        return sign(Weight.SUSPECT, "and before and after it things move", min(before, beyond), GOES_ON)
    return None


def _step(measured: Measured, index: int) -> Step:
    found = measured.steps[index]
    assert found is not None
    return found
