"""Two populations among the frames of a sequence: frames that share a difference from those beside them.

A shot's content is continuous in time, or it is a light that goes on and off. A fault follows machines: it goes on and
off as frames of a broken machine and of others take turns. So the steps from frame to frame are looked at. Where they
are the same difference forth and back, the sequence has two states, whatever share of the frames either has.

With a job at hand the states are known: node, farm, attempt. Without one they are found from the steps themselves.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture.look import CELLS, FLOOR, QUIET, REGIONS, Look
from tidy_crate.core.review.rendered import Rendered

Array = np.ndarray
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
# largest steps that are tried as the difference
SEEDS = 8
# share of the limits from which on a difference counts that many frames share
SHARED = 0.5
# share of a space's numbers that tell how large a step is
MOST = 0.03
# of a number's steps, the share of their size that always counts as chance: a few that agree may do so by chance
CHANCE = 0.3
# steps within the frames of one machine that tell what is usual
LEAST_INSIDE = 8
# times the other steps that both ends of a single run have to be
ENDS = 3.0
# the noise of a part of the picture counts that much less than that of all of it
NOISE_OF_A_PART = 2.0
# frames of a run of another picture: a longer one is a shot of its own
LONGEST_OTHER = 12
# stops by which a lamp changes the most different part of a picture, at least
LIGHT = 0.2
# correlation of the cells of two pictures that have little to do with each other
UNLIKE = 0.6


@dataclass(frozen=True)
class Space:
    """One kind of number of each frame, by which two states may differ."""

    name: str
    values: Array
    """Shape (frames, numbers), 32-bit."""
    least: float
    """From where on a number differs."""
    floor: float
    """By which a number may be off without any reason."""


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


class Kept:
    """What is kept of the looks of a sequence."""

    def __init__(self) -> None:
        self._cells: list[Array] = []
        self._vivid: list[Array] = []
        self._noise: list[Array] = []
        self._flat: list[Array] = []
        self._highlight: list[float] = []

    def add(self, look: Look) -> None:
        """Take the next frame."""
        self._cells.append(look.cells.astype(np.float16))
        self._vivid.append(look.vivid.astype(np.float16))
        self._noise.append(np.log2(look.noise + QUIET).astype(np.float16))
        self._flat.append(look.flat > 0)
        self._highlight.append(float(look.highlight))

    def __len__(self) -> int:
        return len(self._cells)

    @property
    def cells(self) -> Array:
        """Shape (frames, rows, columns, 3): see `Look.cells`."""
        return np.stack(self._cells).astype(np.float32)

    def spaces(self, rules: ReviewRules) -> Iterator[Space]:
        """Yield every kind of number, those that tell most of a fault first."""
        count = len(self)
        cells = self.cells
        if len({one.shape for one in self._flat}) == 1:
            yield Space("flat", np.stack(self._flat).reshape(count, -1).astype(np.float32), 0.5, 0.05)
        yield Space("vivid", np.stack(self._vivid).reshape(count, -1).astype(np.float32), 0.2, 0.02)
        yield Space("stops", cells[..., 0].reshape(count, -1), 2 * rules.picture, 0.01)
        yield Space("colour", cells[..., 1:].reshape(count, -1), rules.colour, 0.002)
        noise = np.stack(self._noise).reshape(count, -1).astype(np.float32)
        yield Space("noise", noise, rules.noise, 0.02)
        flat = np.array([float(one.sum()) for one in self._flat], np.float32)
        # each in its own limit
        sums = np.stack([flat / rules.flat, np.array(self._highlight, np.float32) / rules.highlight], axis=1)
        yield Space("sums", sums, 1.0, 0.05)


def groups_of(
    kept: Kept, frames: Sequence[int], steps_known: Sequence[bool], rendered: Mapping[int, Rendered], rules: ReviewRules
) -> tuple[list[Group], frozenset[int]]:
    """Return groups of frames that share a difference, none of which has a frame of another.

    Return also the indices of the frames with which a light of the shot goes on or off, where it does so several times.
    steps_known: by index, whether the step from the frame before is one between neighbours.
    """
    count = len(frames)
    if count < 2 * FEW:
        return [], frozenset()
    spaces = list(kept.spaces(rules))
    known = np.array(steps_known[1:], bool)
    found: list[Group] = []
    masks = list(_machines(frames, rendered))
    while masks:
        apart = [(one, cause, mask) for cause, mask in masks for space in spaces
                 if (one := _of_machine(space, known, mask, rules)) is not None]  # fmt: skip
        if not apart:
            break
        (space, figure, clear, mean), cause, mask = max(apart, key=lambda one: one[0][2])
        if _swapped(space, mean, mask, masks):
            (cause, mask), figure = next(one for one in masks if np.array_equal(one[1], ~mask)), -figure
        found.append(_group(kept, mask, cause, space, figure, clear))
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
    return space.name in ("flat", "vivid", "sums") and float(mean.sum()) < 0


def _group(kept: Kept, mask: Array, cause: str, space: Space, figure: float, clear: float) -> Group:
    own, others = (tuple(map(int, np.flatnonzero(one))) for one in (mask, ~mask))
    text = f"{_WORDS[space.name].format(figure=figure, times=2.0 ** abs(figure))}"
    return Group(own, others, cause, space.name, text, figure, clear)


_WORDS = {
    "flat": "{figure:.0f} small cells have no detail where the others have some: unfinished or lost",
    "vivid": "{figure:.1%} of the picture is of one saturated colour that the others lack, as a missing texture is",
    "stops": "the part that differs most is {figure:+.2f} stops off the others",
    "colour": "the colours are {figure:.3f} off those of the others, on average",
    "noise": "the noise is {times:.2f} times that of the others",
    "sums": "what is flat or brightest in it is {figure:.1f} times its limit off the others",
}


def _machines(frames: Sequence[int], rendered: Mapping[int, Rendered]) -> Iterator[tuple[str, Array]]:
    """Yield each node and each later attempt with its frames, those with fewer frames first."""
    known = [rendered.get(frame) for frame in frames]
    columns = {
        "node": [one.node if one is not None else "" for one in known],
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


def _of_machine(
    space: Space, known: Array, mask: Array, rules: ReviewRules
) -> tuple[Space, float, float, Array] | None:
    """Return by how much the frames of a machine differ, and how clear that is; None where it is not."""
    steps = np.diff(space.values, axis=0)
    steps[~known] = 0
    squares = steps**2
    weights = (np.diff(mask.astype(np.float32)) * known)[None]
    if np.abs(weights).sum() < CHANGES:
        return None
    mean, clear = _contrast(steps, squares, weights, space.floor)
    figure = _size(space, mean[0])
    if abs(figure) < _limit(space.name, rules):
        return None
    own = float(_score(mean, clear, space.least)[0])
    changes = int(np.abs(weights).sum())
    if _stands_out(space, steps, weights[0], mean[0], known):
        return space, figure, own, mean[0]
    if own < max(CLEAR, STUDENT[min(changes - 2, len(STUDENT) - 1)]):
        return None
    shuffled = _shuffled(mask, known)
    if not len(shuffled):
        return None
    others = _score(*_contrast(steps, squares, shuffled, space.floor), space.least)
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


def _size(space: Space, mean: Array) -> float:
    """Return a difference in one number, in the measure of its space."""
    if space.name == "flat":
        return float((mean > 0.5).sum() - (mean < -0.5).sum())
    if space.name == "vivid":
        return float(mean.mean())
    if space.name == "noise":
        middle, most = float(np.median(mean)), float(mean[np.argmax(np.abs(mean))])
        # all over the picture, or in a part of it
        return middle if abs(middle) >= 0.5 * abs(most) else most / NOISE_OF_A_PART
    if space.name == "sums":
        return float(mean[np.argmax(np.abs(mean))])
    if space.name == "colour":
        u, v = mean.reshape(-1, 2).T
        return float(np.hypot(u, v).mean())
    most = max(1, round(MOST * len(mean)))
    return float(mean[np.argsort(-np.abs(mean))[:most]].mean())


def _limit(name: str, rules: ReviewRules) -> float:
    """Return from where on a difference counts that many frames share."""
    limits = {
        "flat": float(rules.flat), "vivid": SHARED * rules.vivid, "noise": SHARED * rules.noise,
        "colour": SHARED * rules.colour, "stops": SHARED * 2 * rules.picture, "sums": 1.0,
    }  # fmt: skip
    return limits[name]


def _unknown(
    kept: Kept, spaces: Sequence[Space], known: Array, rules: ReviewRules
) -> tuple[list[Group], frozenset[int]]:
    """Return the group that the steps themselves tell, where no machine is known; and what is a light. See above."""
    cells = kept.cells
    lights = frozenset[int]()
    for space in spaces:
        if space.name == "sums":
            # a light that goes on and off may be the brightest part
            space = Space(space.name, space.values[:, :1], space.least, space.floor)
        steps = np.diff(space.values, axis=0)
        steps[~known] = 0
        squares = steps**2
        sizes = np.abs(np.array([_size(space, step) for step in steps]))
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
            figure = _size(space, mean[0])
            if own >= CLEAR and abs(figure) >= _limit(space.name, rules) and (best is None or own > best[0]):
                best = own, figure, mask, mean[0]
        if best is None:
            continue
        own, figure, mask, mean = best
        odd, why = _never_content(space, mean, cells, mask, known)
        if not why:
            changes = np.flatnonzero(np.diff(mask) & known) + 1
            if space.name == "stops" and len(changes) >= CHANGES:
                lights = frozenset(map(int, changes))
            continue
        mask = mask if odd else ~mask
        group = _group(kept, mask, "", space, figure if odd else -figure, own)
        return [Group(**{**vars(group), "text": why})], frozenset()
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
    if neither.mean() > NEITHER:
        return None
    changes = np.where(into, 1, np.where(out_of, -1, 0))
    order = changes[changes != 0]
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


def _never_content(space: Space, mean: Array, cells: Array, mask: Array, known: Array) -> tuple[bool, str]:
    """Return whether the frames of the mask are the odd ones, and what makes them so; no words where a shot may do it.

    Lights go on and off, smoothly over the picture. What no shot does: regions lost, of one hue, or with the edges of
    tiles; another transfer curve, another balance of the channels, another amount of noise.
    """
    fewer = bool(mask.sum() * 2 <= len(mask))
    if space.name == "flat":
        more = float(mean.sum()) > 0
        count = int(np.abs(np.round(mean)).sum())
        return more, f"{count} small cells have no detail where the frames beside them have some: unfinished or lost"
    if space.name == "vivid":
        return float(mean.sum()) > 0, (
            f"{abs(float(mean.mean())):.1%} of the picture is of one saturated colour that the frames beside them "
            "lack, as a missing texture is"
        )
    if space.name == "noise":
        size = _size(space, mean)
        if _by_light(space, cells, mask, known):
            return fewer, ""
        return (size > 0) if abs(size) > 1 else fewer, (
            f"the noise of it, or of a part of it, is {2.0**size:.2f} times that of the frames beside them"
        )
    if space.name == "sums":
        return float(mean.sum()) > 0, "small cells of it have no detail, each time others: unfinished or lost"
    channels = _channels(cells, mask, known)
    if channels is None:
        return fewer, ""
    other = _other_picture(cells, mask, known)
    if other:
        return fewer, other
    gains, before = channels
    lit = before[..., 1] > np.log2(3 * FLOOR)
    if lit.sum() < 0.05 * lit.size:
        return fewer, ""
    per = [gains[..., at][lit] for at in range(3)]
    middle = np.array([float(np.median(one)) for one in per])
    spread = max(float(np.median(np.abs(one - mid))) for one, mid in zip(per, middle, strict=True))
    if float(np.ptp(middle)) >= 0.06 and spread <= 0.03 + 0.15 * float(np.abs(middle).max()):
        times = ", ".join(
            f"{name} x {2.0**one:.2f}" for name, one in zip(("red", "green", "blue"), middle, strict=True)
        )
        return fewer, f"the balance of the channels differs all over the picture: {times}"
    grid = mean.reshape(*cells.shape[1:3], -1)
    box = _box(np.sqrt((grid**2).sum(axis=-1)))
    if box is not None:
        return fewer, f"{box:.0%} of the picture differs, with the edges of tiles or rows"
    if space.name == "stops":
        # of each channel by itself: that is what a transfer curve is applied to
        level, common = before[lit].ravel(), gains[lit].ravel()
        slope, offset = np.polyfit(level, common, 1)
        rest = common - (slope * level + offset)
        explained = 1 - float(rest.var()) / max(float(common.var()), 1e-9)
        if abs(slope) >= 0.05 and explained >= 0.85:
            return fewer, f"its transfer curve is another one: {slope:+.2f} stops for each stop"
        if float(np.abs(middle).min()) >= 0.03 and spread <= 0.02 + 0.05 * float(np.abs(middle).max()):
            runs = [len(list(own)) for value, own in groupby(mask.tolist())][1:-1]
            if len(set(runs)) > 2 and _two_exposures(cells, mask, known):
                return fewer, f"the exposure is {float(middle.mean()):+.2f} stops off the frames beside them"
    return fewer, ""


def _two_exposures(cells: Array, mask: Array, known: Array) -> bool:
    """Return True where the brightness has two values and goes from one to the other, unlike a flame's."""
    steps = np.abs(np.diff(cells[..., 0].mean(axis=(1, 2))))
    changes = np.diff(mask) & known
    size = float(np.median(steps[changes]))
    near = steps[changes] / size
    return bool(
        near.min() >= 0.7 and near.max() <= 1.4 and float(steps[~changes & known].max(initial=0)) <= 0.25 * size
    )


def _by_light(space: Space, cells: Array, mask: Array, known: Array) -> bool:
    """Return True when the light differs between two states: what it falls on is then less noisy, or more so.

    space: noise. The mean of logarithms falls by half the variance, so that more noise alone looks darker.
    """
    apart = np.zeros(cells.shape[1:3])
    noise = (2.0 ** space.values.reshape(-1, *REGIONS) - QUIET) ** 2 * np.log(2) / 2
    rows, columns = (np.arange(CELLS[at]) * REGIONS[at] // CELLS[at] for at in (0, 1))
    changes = [at for at in range(len(mask) - 1) if known[at] and mask[at] != mask[at + 1]]
    for at in changes:
        darker = (noise[at + 1] - noise[at])[np.ix_(rows, columns)]
        step = cells[at + 1, ..., 0] - cells[at, ..., 0] + darker
        apart += step if mask[at + 1] else -step
    return float(np.percentile(np.abs(apart / max(1, len(changes))), 95)) >= LIGHT


def _other_picture(cells: Array, mask: Array, known: Array) -> str:
    """Say that one state is another picture, or has its channels in another order; empty for neither.

    A run of frames that is longer is a shot of its own.
    """
    runs = [(value, len(list(own))) for value, own in groupby(mask.tolist())][1:-1]
    short = [length for value, length in runs]
    changes = [at for at in range(len(mask) - 1) if known[at] and mask[at] != mask[at + 1]]
    pairs = [(cells[at + 1], cells[at]) if mask[at + 1] else (cells[at], cells[at + 1]) for at in changes]
    inside, outside = (np.mean([_linear(one) for one in own], axis=0) for own in zip(*pairs, strict=True))
    plain = float(np.abs(inside - outside).mean())
    for order, name in ORDERS.items():
        turned = float(np.abs(inside[..., order] - outside).mean())
        if turned < 0.25 * plain:
            return f"its channels are in another order: {name}"
    alike = float(np.median([np.corrcoef(one[..., 0].ravel(), other[..., 0].ravel())[0, 1] for one, other in pairs]))
    if alike < UNLIKE and short and min(short) <= LONGEST_OTHER:
        return "it is another picture than the frames beside them"
    return ""


ORDERS = {(2, 1, 0): "blue, green, red", (0, 2, 1): "red, blue, green", (1, 0, 2): "green, red, blue",
          (1, 2, 0): "green, blue, red", (2, 0, 1): "blue, red, green"}  # fmt: skip


def _channels(cells: Array, mask: Array, known: Array) -> tuple[Array, Array] | None:
    """Return the gain of each channel between the states, and its brightness before, both in stops.

    Means over the steps from one state to the other: shape (rows, columns, 3) each.
    """
    changes = [at for at in range(len(mask) - 1) if known[at] and mask[at] != mask[at + 1]]
    if not changes:
        return None
    gains, befores = [], []
    for at in changes:
        one, other = (at + 1, at) if mask[at + 1] else (at, at + 1)
        inside, outside = _linear(cells[one]), _linear(cells[other])
        gains.append(np.log2((inside + FLOOR / 4) / (outside + FLOOR / 4)))
        befores.append(np.log2(outside + FLOOR / 4))
    return np.mean(gains, axis=0), np.mean(befores, axis=0)


def _linear(cells: Array) -> Array:
    """Return the channels of cells in linear light, from their brightness and shares of colour."""
    mean = FLOOR * (2.0 ** cells[..., 0] - 1)
    total = 3 * mean
    u, v = cells[..., 1], cells[..., 2]
    green = np.maximum(total * (1 - u - v) / 3, 0)
    return np.stack([np.maximum(green + u * total, 0), green, np.maximum(green + v * total, 0)], axis=-1)


def _box(grid: Array) -> float | None:
    """Return the share of the picture that a difference covers, where it is a rectangle with hard edges; else None."""
    size = np.abs(grid)
    top = float(np.percentile(size, 99))
    inside = size >= 0.4 * top
    rows, columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    if not len(rows):
        return None
    box = (slice(rows[0], rows[-1] + 1), slice(columns[0], columns[-1] + 1))
    filled = inside[box].mean()
    outside = np.ones_like(inside)
    outside[max(0, rows[0] - 1) : rows[-1] + 2, max(0, columns[0] - 1) : columns[-1] + 2] = False
    whole = inside[box].size / inside.size
    quiet = bool(not outside.any() or float(np.percentile(size[outside], 95)) <= 0.1 * top)
    small = len(rows) < 2 or len(columns) < 2
    return float(whole) if filled >= 0.9 and quiet and whole <= 0.9 and not small else None
