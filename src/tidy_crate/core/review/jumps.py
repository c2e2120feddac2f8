"""Steps of a sequence that are much larger than those around them: jumps, cuts, and lamps that go on and off."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.review.neighbours import LONGEST, Measured, Step
from tidy_crate.core.review.sign import Kind, Sign, Weight

# frames on each side that tell what is usual
AROUND = 24
# the least number of comparisons that tell it
FEW = 3
# the share of steps that is below what is usual
USUAL_STEP = 75
# more events of one kind than this, over more than this share of the frames, are a part of the shot
EVENTS, OFTEN = 3, 0.06
# share of the usual number of times that is enough where two nodes meet, and times the limit that it takes elsewhere
CLOSER, APART = 0.8, 2.0
# one less the correlation of the cells of two pictures that have nothing to do with each other, at least
UNLIKE = 0.4
# a lamp changes the most different part of a picture by so many times the change of its mean brightness
LAMP = 3.0
# a fade goes on with at least this share of a step beside it
FADES = 0.4
# stops by which the most different part of a picture has to change for a step to be seen
SEEN = 0.1
# stops between two pictures of a cut
CUT = 0.3
Size = Callable[[Step], float]


@dataclass(frozen=True)
class Jump:
    """A step that is much larger than those around it."""

    index: int
    """Of the frame after it."""
    step: Step
    figure: float
    """Of the first measure that is over its limit."""
    limit: float

    @property
    def is_a_lamp(self) -> bool:
        """Return True when the brightness changes, and far more in a part of the picture than over all of it."""
        change = self.step.change
        bright = abs(change.level) >= 0.5 * change.picture and not is_cut(self.step)
        return bright and change.part >= LAMP * abs(change.level)


def _beside(measured: Measured, size: Size, index: int, edges: set[int]) -> float:
    """Return the larger of the steps before and after one: what moves fast has several large ones in a row."""
    near = [measured.steps[at] for at in (index - 1, index + 1) if 0 < at < len(measured.steps) and at not in edges]
    return max((size(step) for step in near if step is not None), default=0.0)


def signs_of_jumps(measured: Measured, jumps: Sequence[Jump], meets: set[int]) -> Iterable[tuple[int, Sign]]:
    """The signs of jumps. A lamp that goes on and off again and again is noted as a part of the shot."""
    lamps = [one for one in jumps if one.is_a_lamp]
    with_nodes = sum(one.index in meets for one in lamps)
    often = len(lamps) > EVENTS and len(lamps) > OFTEN * len(measured.frames) and 2 * with_nodes <= len(lamps)
    for one in jumps:
        if often and one.is_a_lamp:
            change = f"the brightness changes by {one.step.change.level:+.2f} stops at once"
            text = f"{change}, as it does {len(lamps)} times: taken for a light that is part of the shot"
            yield one.index, _jump_sign(Kind.JUMP, Weight.NOTE, text, one.figure, one.limit)
        else:
            yield from _jump(measured, one.index, one.step, one.figure, one.limit, lamp=one.is_a_lamp)


def jumps_of(measured: Measured, rules: ReviewRules, edges: set[int], meets: set[int]) -> Iterable[Jump]:
    """Steps that are much larger than those around them, apart from the ends of runs that have signs already."""
    for index, step in enumerate(measured.steps):
        if index in edges or step is None:
            continue
        for _, size, least in sizes_of(rules):
            figure = size(step)
            found = usual_and_limit(measured, rules, size, least, index, edges, meets) if figure >= least else None
            if found is not None and figure >= found[1] and not _goes_on(measured, rules, index, step):
                yield Jump(index, step, figure, found[1])
                break


def sizes_of(rules: ReviewRules) -> tuple[tuple[str, Size, float], ...]:
    """The sizes of a step: what each is in words, how it is measured, and from where on it may be a jump."""
    return (
        ("step from the frame before", lambda step: step.change.picture, rules.jump),
        ("step of the most different part", lambda step: step.change.part, rules.part),
        ("step of the mean brightness", lambda step: abs(step.change.level), rules.brightness),
        ("unlike the frame before", _unlike, UNLIKE),
    )


def usual_and_limit(
    measured: Measured, rules: ReviewRules, size: Size, least: float, index: int, edges: set[int], meets: set[int]
) -> tuple[float, float] | None:
    """Return the usual size of the steps around one, and from where on it is a jump.

    None where too few steps tell a jump from motion. least: see `sizes_of`.
    """
    usual = usual_step(measured, size, index, edges | meets)
    if usual is None:
        return None
    times = rules.times * (CLOSER if index in meets else 1.0)
    if index not in meets and least == rules.jump:
        # the limit of the smallest jump is for where a batch begins
        least *= APART
    return usual, max(least, times * max(usual, _beside(measured, size, index, edges)))


def _unlike(step: Step) -> float:
    return 1 - step.likeness


def _goes_on(measured: Measured, rules: ReviewRules, index: int, step: Step) -> bool:
    """Return True for a step that is too small to be seen, or that goes on beside it, as a fade does."""
    if step.change.part < SEEN:
        # too small to be seen
        return True
    own = step.change.level
    if abs(own) < 0.5 * step.change.picture:
        return False
    if abs(own) < rules.brightness:
        return True
    for way in (-1, 1):
        near = [
            one.change.level / own
            for other in (index + way, index + 2 * way)
            if 0 < other < len(measured.steps) and (one := measured.steps[other]) is not None
        ]
        # a fade, or what approaches its end ever more slowly
        if near and (near[0] >= FADES or (len(near) > 1 and near[0] >= 0.1 and near[1] >= FADES * near[0])):
            return True
    return False


def usual_step(measured: Measured, size: Size, index: int, edges: set[int]) -> float | None:
    """Return the usual size of the steps around a frame; None where too few tell."""
    steps = measured.steps
    near = [
        size(step)
        for other in range(max(0, index - AROUND), min(len(steps), index + AROUND + 1))
        if other != index and other not in edges and (step := steps[other]) is not None
    ]
    return float(np.percentile(near, USUAL_STEP)) if len(near) >= FEW else None


def _jump(
    measured: Measured, index: int, step: Step, figure: float, limit: float, *, lamp: bool
) -> Iterable[tuple[int, Sign]]:
    count = len(measured.frames)
    brightness = step.change.level
    cut = is_cut(step)
    short = count - index <= LONGEST and count > 2 * LONGEST
    if cut or abs(brightness) >= 0.5 * step.change.picture:
        what = "the picture is another one" if cut else f"the brightness changes by {brightness:+.2f} stops"
        if short and lamp:
            text = f"{what} at once, and far more in a part of the picture: taken for a light that is part of the shot"
            yield index, _jump_sign(Kind.JUMP, Weight.NOTE, text, figure, limit)
            return
        if short:
            text = f"{what} from frame {measured.frames[index]} to the end"
            for other in range(index, count):
                yield other, _jump_sign(Kind.JUMP, Weight.SUSPECT, text, figure, limit)
            return
        if cut:
            text = f"{what} from here on: a cut"
            yield index, _jump_sign(Kind.CUT, Weight.NOTE, text, figure, limit)
            return
        yield index, _jump_sign(Kind.JUMP, Weight.SUSPECT, f"{what} at once, and stays", figure, limit)
        return
    text = f"the picture jumps from the frame before: {figure:.3f} stops, the limit here is {limit:.3f}"
    yield index, _jump_sign(Kind.JUMP, Weight.BAD if figure >= 4 * limit else Weight.SUSPECT, text, figure, limit)


def _jump_sign(kind: Kind, weight: Weight, text: str, figure: float, limit: float) -> Sign:
    return Sign(kind=kind, weight=weight, text=text, figure=round(figure, 4), limit=round(limit, 4))


def is_cut(step: Step) -> bool:
    """Return whether the picture after a step is another one."""
    return _unlike(step) > UNLIKE and step.change.picture >= CUT
