"""Two populations among the frames of a sequence: frames that share a difference from those beside them.

A shot's content is continuous in time, or it is a light that goes on and off. A fault follows machines: it goes on and
off as frames of a broken machine and of others take turns. So the steps from frame to frame are looked at. Where they
are the same difference forth and back, the sequence has two states, whatever share of the frames either has.

With a job at hand the states are known: node, farm, attempt. Without one they are found from the steps themselves.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache, partial
from itertools import groupby

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.review.kept import MOST, OBJECTS, OBJECTS_OF, PASS_OF, STRETCH, Array, Kept, Space, size_of
from tidy_crate.core.review.never_content import never_content
from tidy_crate.core.review.rendered import Rendered

# frames of each state, and changes from one to the other, that a comparison needs
FEW, CHANGES = 3, 3
# the same for noise, which what moves through the picture changes too
CHANGES_OF_NOISE = 4
# assignments of the same stretches of frames to other machines that a difference is compared with
SHUFFLES = 200
# times the largest of them that it has to be, and the least of it: a mean over its standard error
CLEARER, CLEAR = 1.1, 6.0
# what a mean of so few changes has to be, from 3 on: Student's t for one in ten thousand, both sides, by its freedom
STUDENT = (99.99, 28.0, 15.5, 11.2, 9.1, 7.9, 7.1, 6.6, 6.2)
# steps that are the difference, as shares of it; those that are none of it
IS, IS_NONE = 0.5, 0.4
# share of the steps that may be neither
NEITHER = 0.03
# the same where so many steps are the difference
MANY_CHANGES, NEITHER_BESIDE_MANY = 8, 0.2
# largest steps that are tried as the difference
SEEDS = 8
# share of the limits from which on a difference counts that many frames share
SHARED = 0.5
# of a number's steps, the share of their size that always counts as chance: a few that agree may do so by chance
CHANCE = 0.3
# steps within the frames of one machine that tell what is usual
LEAST_INSIDE = 8
# times the other steps that both ends of a single run have to be
ENDS = 3.0


@dataclass(frozen=True)
class Group:
    """Frames that share a difference from those beside them."""

    frames: tuple[int, ...]
    """Indices in the sequence."""
    others: tuple[int, ...]
    """Indices of the frames that they were compared with."""
    cause: str
    """The node, farm or attempt that they share; empty where nothing is known of that."""
    space: str
    text: str
    figure: float
    """The difference: stops, share of colour, share of the picture, power of two or number of small cells."""
    clear: float
    """Times its standard error."""


def groups_of(
    kept: Kept, frames: Sequence[int], steps_known: Sequence[bool], rendered: Mapping[int, Rendered], rules: ReviewRules
) -> tuple[list[Group], frozenset[int]]:
    """Return groups of frames that share a difference, none of which has a frame of another.

    Return also the indices of the frames with which a light of the shot goes on or off, where it does so several times.
    A long sequence is looked at stretch by stretch. steps_known: by index, whether the step from the frame before is
    one between neighbours.
    """
    found: list[Group] = []
    lights: set[int] = set()
    count = len(frames)
    stretches = max(1, -(-count // STRETCH))
    for number in range(stretches):
        own = slice(number * count // stretches, (number + 1) * count // stretches)
        groups, changes = _of_stretch(kept.part(own), frames[own], steps_known[own], rendered, rules)
        for one in groups:
            own_frames, others = (tuple(at + own.start for at in each) for each in (one.frames, one.others))
            found.append(replace(one, frames=own_frames, others=others))
        lights |= {at + own.start for at in changes}
    return found, frozenset(lights)


def _of_stretch(
    kept: Kept, frames: Sequence[int], steps_known: Sequence[bool], rendered: Mapping[int, Rendered], rules: ReviewRules
) -> tuple[list[Group], frozenset[int]]:
    if len(frames) < 2 * FEW:
        return [], frozenset()
    spaces = list(kept.spaces(rules))
    known = np.array(steps_known[1:], bool)
    found: list[Group] = []
    masks = list(_machines(frames, rendered))
    while masks:
        stepped = [_steps_of(space, known) for space in spaces]
        apart = []
        for cause, mask in masks:
            # the same for every space, and made only where one asks for them
            shuffled = cache(partial(_shuffled, mask, known))
            apart += [(one, cause, mask) for own in stepped
                      if (one := _of_machine(own, known, mask, shuffled, rules)) is not None]  # fmt: skip
        if not apart:
            break
        (space, figure, clear, mean), cause, mask = max(apart, key=lambda one: one[0][2])
        if _swapped(space, mean, mask, masks):
            (cause, mask), figure = next(one for one in masks if np.array_equal(one[1], ~mask)), -figure
        found.append(_group(mask, cause, space, figure, clear))
        # the others are compared without its frames
        known = known & ~mask[1:] & ~mask[:-1]
        masks = [(name, other & ~mask) for name, other in masks if name != cause and (other & ~mask).sum() >= FEW]
    if found:
        return found, frozenset()
    return _unknown(kept, spaces, known, rules)


def _swapped(space: Space, mean: Array, mask: Array, masks: Sequence[tuple[str, Array]]) -> bool:
    """Return True when of two machines the other one is the odd one: what is lost or of one hue is with it."""
    if not any(np.array_equal(other, ~mask) for _, other in masks):
        return False
    return space.name in ("flat", "vivid", "sums", "black") and float(mean.sum()) < 0


def _group(mask: Array, cause: str, space: Space, figure: float, clear: float) -> Group:
    own, others = (tuple(map(int, np.flatnonzero(one))) for one in (mask, ~mask))
    return Group(own, others, cause, space.name, _in_words(space.name, figure), figure, clear)


_WORDS = {
    "flat": "{figure:.0f} small cells have no detail where the others have some: unfinished or lost",
    "vivid": "{figure:.1%} of the picture is of one saturated colour that the others lack, as a missing texture is",
    "stops": "the part that differs most is {figure:+.2f} stops off the others",
    "colour": "the colours are {figure:.3f} off those of the others, on average",
    "balance": "the balance of the channels is {figure:+.3f} off that of the others, over the picture as a whole",
    "level": "the picture as a whole is {figure:+.2f} stops off the others",
    "noise": "the noise is {times:.2f} times that of the others",
    "sums": "small cells without detail differ in number, by {figure:.1f} times the limit: unfinished or lost",
    "black": "small cells that are black differ in number, by {figure:.1f} times the limit: unfinished or lost",
    "brightest": "its brightest parts are off those of the others, by {figure:.1f} times the limit",
}


def _in_words(name: str, figure: float) -> str:
    if name in _WORDS:
        return _WORDS[name].format(figure=figure, times=2.0 ** abs(figure))
    if name.startswith(OBJECTS_OF):
        return f"{name.removeprefix(OBJECTS_OF)}: in {figure:.1%} of the picture objects have other numbers"
    return f"{name.removeprefix(PASS_OF)}: the part that differs most is {figure:+.2f} stops off the others"


def _machines(frames: Sequence[int], rendered: Mapping[int, Rendered]) -> Iterator[tuple[str, Array]]:
    """Yield each node, farm or machine class, and later attempt with its frames, those with fewer frames first."""
    known = [rendered.get(frame) for frame in frames]
    columns = {
        "node": [one.node if one is not None else "" for one in known],
        # a class of machines as a whole: another driver, or another version
        "place": [one.place if one is not None else "" for one in known],
        "attempt": [f"attempt {one.attempt}" if one is not None and one.attempt > 1 else "" for one in known],
    }
    for own in columns.values():
        names = sorted({name for name in own if name}, key=lambda name: (own.count(name), name))
        for name in names:
            mask = np.array([one == name for one in own])
            if FEW <= mask.sum() <= len(frames) - FEW:
                yield name, mask


def _contrast(steps: Array, squares: Array, weights: Array, floor: float) -> tuple[Array, Array]:
    """Return the mean difference between two states, and how many of its standard errors it is.

    steps: shape (n, numbers). weights: shape (m, n), 1 for a step into the state, -1 out of it, 0 for others. Steps
    into and out of a state take turns, so that what moves on evenly cancels out.
    """
    changes = np.maximum(np.abs(weights).sum(axis=1, keepdims=True), 1)
    mean = weights @ steps / changes
    spread = np.maximum(np.abs(weights) @ squares / changes - mean**2, 0)
    usual = CHANCE**2 * squares.mean(axis=0) / changes
    error = np.sqrt(spread / np.maximum(changes - 1, 1) + usual) + floor
    return mean, np.abs(mean) / error


def _score(mean: Array, clear: Array, least: float) -> Array:
    """Return how clear the clearest numbers of each row are, among those that differ by enough."""
    counted = np.where(np.abs(mean) >= least, clear, 0.0)
    most = 1 if counted.shape[1] < 8 else max(3, round(MOST / 3 * counted.shape[1]))
    return np.asarray(np.partition(counted, -most, axis=1)[:, -most:].mean(axis=1))


@dataclass(frozen=True)
class _Steps:
    """The steps from frame to frame in one space, 0 where they are not known: shape (frames less one, numbers)."""

    space: Space
    steps: Array
    squares: Array


def _steps_of(space: Space, known: Array) -> _Steps:
    steps = np.diff(space.values, axis=0)
    steps[~known] = 0
    return _Steps(space, steps, steps**2)


def _of_machine(
    own_steps: _Steps, known: Array, mask: Array, shuffled: Callable[[], Array], rules: ReviewRules
) -> tuple[Space, float, float, Array] | None:
    """Return by how much the frames of a machine differ, and how clear that is; None where it is not.

    shuffled: returns the weights of other assignments, see `_shuffled`.
    """
    space, steps, squares = own_steps.space, own_steps.steps, own_steps.squares
    weights = (np.diff(mask.astype(np.float32)) * known)[None]
    changes = int(np.abs(weights).sum())
    if changes < CHANGES:
        return None
    mean, clear = _contrast(steps, squares, weights, space.floor)
    figure = size_of(space, mean[0])
    if space.name.startswith(PASS_OF) and (size := _larger(steps, weights[0], known)) >= _limit(space.name, rules):
        return space, figure if abs(figure) >= size else size, CLEAR * size / _limit(space.name, rules), mean[0]
    if abs(figure) < _limit(space.name, rules):
        return None
    own = float(_score(mean, clear, space.least)[0])
    if _stands_out(space, steps, weights[0], mean[0], known):
        return space, figure, own, mean[0]
    if own < max(CLEAR, STUDENT[min(changes - 2, len(STUDENT) - 1)]):
        return None
    assigned = shuffled()
    if not len(assigned):
        return None
    others = _score(*_contrast(steps, squares, assigned, space.floor), space.least)
    return (space, figure, own, mean[0]) if own >= CLEARER * float(others.max()) else None


def _stands_out(space: Space, steps: Array, weights: Array, mean: Array, known: Array) -> bool:
    """Return True when the difference comes with every change of machines, and with no other step."""
    inside = (weights == 0) & known
    size = np.abs(mean)
    chosen = size >= max(space.least, 0.5 * float(np.sort(size)[-min(len(size), 3)]))
    if inside.sum() < LEAST_INSIDE or not chosen.any():
        return False
    part = mean[chosen] / float(mean[chosen] @ mean[chosen])
    share = steps[:, chosen] @ part
    ends = (share * weights)[weights != 0]
    return bool(ends.min() >= IS and float(np.abs(share[inside]).max()) <= 1 / ENDS)


def _larger(steps: Array, weights: Array, known: Array) -> float:
    """Return the size of the steps into a state and out of it, where all of them are far larger than others; else 0.

    For what turns a pass around: the difference then has the sign of what moves through the picture.
    """
    inside = (weights == 0) & known
    if inside.sum() < LEAST_INSIDE:
        return 0.0
    sizes = np.abs(steps).mean(axis=1)
    ends = float(sizes[weights != 0].min())
    return ends if ends >= ENDS * float(sizes[inside].max()) else 0.0


def _shuffled(mask: Array, known: Array) -> Array:
    """Return the weights of other assignments of the same stretches of frames: shape (assignments, steps)."""
    chance = np.random.default_rng(len(mask))
    runs = [(value, len(list(own))) for value, own in groupby(mask.tolist())]
    lengths = [length for _, length in runs]
    values = np.array([value for value, _ in runs])
    found = []
    original = mask.astype(np.float32)
    for _ in range(SHUFFLES):
        other = np.repeat(chance.permutation(values), lengths).astype(np.float32)
        alike = abs(float(np.corrcoef(other, original)[0, 1])) if 0 < other.sum() < len(other) else 1.0
        weights = np.diff(other) * known
        # one that is nearly the same assignment would show the same difference
        if alike < 0.5 and np.abs(weights).sum() >= CHANGES:
            found.append(weights)
    return np.array(found, np.float32).reshape(-1, len(known))


def _limit(name: str, rules: ReviewRules) -> float:
    """Return from where on a difference counts that many frames share."""
    if name.startswith(OBJECTS_OF):
        return OBJECTS
    if name.startswith(PASS_OF):
        return 2 * rules.picture
    limits = {
        "flat": float(rules.flat), "vivid": SHARED * rules.vivid, "noise": SHARED * rules.noise,
        "colour": SHARED * rules.colour, "balance": SHARED * rules.colour, "stops": SHARED * 2 * rules.picture,
        "level": rules.brightness, "sums": 1.0, "black": 1.0, "brightest": 1.0,
    }  # fmt: skip
    return limits[name]


def _unknown(
    kept: Kept, spaces: Sequence[Space], known: Array, rules: ReviewRules
) -> tuple[list[Group], frozenset[int]]:
    """Return the group that the steps themselves tell, where no machine is known; and what is a light. See above."""
    cells, backdrops = kept.cells, kept.backdrop_steps()
    lights = frozenset[int]()
    groups: list[Group] = []
    for space in spaces:
        if space.name == "brightest":
            # a light that goes on and off may be the brightest part
            continue
        found = _steps_of(space, known)
        steps, squares = found.steps, found.squares
        sizes = np.abs(np.array([size_of(space, step) for step in steps]))
        order = np.argsort(-sizes)[:SEEDS]
        best: tuple[float, float, Array, Array] | None = None
        for seed in map(int, order):
            if sizes[seed] < _limit(space.name, rules):
                break
            mask = _two_states(steps, seed, space)
            if mask is None:
                continue
            weights = (np.diff(mask.astype(np.float32)) * known)[None]
            if np.abs(weights).sum() < (CHANGES_OF_NOISE if space.name == "noise" else 2):
                continue
            mean, clear = _contrast(steps, squares, weights, space.floor)
            own = float(_score(mean, clear, space.least)[0])
            figure = size_of(space, mean[0])
            if own >= CLEAR and abs(figure) >= _limit(space.name, rules) and (best is None or own > best[0]):
                best = own, figure, mask, mean[0]
        if best is None:
            continue
        own, figure, mask, mean = best
        odd, why = never_content(space, mean, cells, mask, known, backdrops)
        if not why:
            changes = np.flatnonzero(np.diff(mask) & known) + 1
            if space.name == "stops" and len(changes) >= CHANGES:
                lights = frozenset(map(int, changes))
            continue
        mask = mask if odd else ~mask
        group = _group(mask, "", space, figure if odd else -figure, own)
        groups.append(replace(group, text=why))
    if groups:
        clearest = max(groups, key=lambda one: one.clear)
        # of several that are the same frames, the one that tells most of the fault
        return [next(one for one in groups if one.frames == clearest.frames)], frozenset()
    return [], lights


def _two_states(steps: Array, seed: int, space: Space) -> Array | None:
    """Return which frames are in the state that begins with a step; None where the steps are not of two states."""
    one = steps[seed]
    size = np.abs(one)
    most = min(len(one), max(3, round(MOST * len(one))))
    top = float(np.partition(size, -most)[-most:].mean())
    chosen = size >= max(space.least / 2, 0.5 * top)
    if not chosen.any():
        return None
    part = one[chosen]
    share = steps[:, chosen] @ part / float(part @ part)
    into, out_of = share >= IS, share <= -IS
    neither = (np.abs(share) > IS_NONE) & ~into & ~out_of
    changes = np.where(into, 1, np.where(out_of, -1, 0))
    order = changes[changes != 0]
    # many steps that take turns are none by chance, whatever else moves now and then
    if neither.mean() > (NEITHER if len(order) < MANY_CHANGES else NEITHER_BESIDE_MANY):
        return None
    if len(order) < 2 or np.any(order[1:] == order[:-1]):
        return None
    if len(order) < CHANGES:
        # a single run: both ends stand out from all other steps
        rest = np.abs(steps[changes == 0][:, chosen]).mean(axis=1)
        ends = np.abs(steps[changes != 0][:, chosen]).mean(axis=1)
        if not len(rest) or float(ends.min()) < ENDS * float(np.percentile(rest, 95)):
            return None
    state = np.concatenate([[0], np.cumsum(changes)])
    state -= state.min()
    mask = state > 0
    return mask if FEW <= mask.sum() <= len(mask) - FEW else None
