"""Differences that no shot makes: regions lost, one hue, edges of tiles, other curves, balances, orders of channels."""

from __future__ import annotations

from itertools import groupby

import numpy as np

from tidy_crate.core.picture.look import CELLS, FLOOR, QUIET, REGIONS
from tidy_crate.core.review.kept import OBJECTS_OF, PASS_OF, Array, Space, in_cells_of_passes, likeness_of, size_of

# frames of a run of another picture: a longer one is a shot of its own
LONGEST_OTHER = 12
# correlation of the cells of two pictures that have little to do with each other
UNLIKE = 0.6
OTHER_PICTURE = "it is another picture than the frames beside them"
# stops below which a cell is black, and the share of the picture that is so and was not
DARK, LOST = 0.01, 0.02
# changes from one state to the other that a pass by itself needs
CHANGES_OF_A_PASS = 4
# stops by which a picture differs that stays as it is
STILL = 0.005
# stops by which a lamp changes the most different part of a picture, at least
LIGHT = 0.2
# share of the steps within a state that are small where it has one exposure
MOST_STEPS = 0.85
# share by which a change of backdrops may be off that of the picture
LIKE_ALL = 0.35


def never_content(
    space: Space, mean: Array, cells: Array, mask: Array, known: Array, backdrops: Array | None = None
) -> tuple[bool, str]:
    """Return whether the frames of the mask are the odd ones, and what makes them so; no words where a shot may do it.

    Lights go on and off, smoothly over the picture. What no shot does: regions lost, of one hue, or with the edges of
    tiles; another transfer curve, another balance of the channels, another amount of noise.
    backdrops: of `Kept.backdrop_steps`.
    """
    fewer = bool(mask.sum() * 2 <= len(mask))
    if space.name.startswith((PASS_OF, OBJECTS_OF)):
        return fewer, _of_a_pass(space, mean, cells, mask, known)
    if space.name == "flat":
        more = float(mean.sum()) > 0
        count = int(np.abs(np.round(mean)).sum())
        return more, f"{count} small cells have no detail where the frames beside them have some: unfinished or lost"
    if space.name == "vivid":
        return float(mean.sum()) > 0, (
            f"{abs(size_of(space, mean)):.1%} of the picture is of one saturated colour that the frames beside them "
            "lack, as a missing texture is"
        )
    if space.name == "noise":
        size = size_of(space, mean)
        if _by_light(space, cells, mask, known):
            return fewer, ""
        return (size > 0) if abs(size) > 1 else fewer, (
            f"the noise of it, or of a part of it, is {2.0**size:.2f} times that of the frames beside them"
        )
    if space.name in ("sums", "black"):
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
    even = float(np.abs(middle).min()) >= 0.03 and spread <= 0.02 + 0.05 * float(np.abs(middle).max())
    may_be_light = len(set(_runs(mask))) <= 2 and not _with_backdrops(backdrops, middle.mean(), mask, known)
    exposed = even and not may_be_light and _two_exposures(cells, mask, known)
    exposure = f"the exposure is {float(middle.mean()):+.2f} stops off the frames beside them" if exposed else ""
    if space.name in ("balance", "level"):
        return fewer, exposure if space.name == "level" else ""
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
        return fewer, exposure
    return fewer, ""


def is_a_fault(cells: Array) -> bool:
    """Return True when a run differs from the frames on both sides as no shot does.

    cells: of the frame before, the run and the frame after, shape (frames, rows, columns, 3). False where something may
    have come into the picture, or a light.
    """
    mask = np.array([False, *[True] * (len(cells) - 2), False])
    known = np.ones(len(cells) - 1, bool)
    mean = ((cells[1] - cells[0]) + (cells[-2] - cells[-1]))[..., 0].ravel() / 2
    channels = _channels(cells, mask, known)
    if channels is not None:
        gains, before = channels
        lit = before[..., 1] > np.log2(3 * FLOOR)
        if lit.sum() >= 0.05 * lit.size:
            each = gains[lit]
            middle = np.median(each, axis=0)
            spread = float(np.median(np.abs(each - middle)))
            if float(np.abs(middle).min()) >= 0.03 and spread <= 0.02 + 0.1 * float(np.abs(middle).max()):
                # the same all over: another exposure
                return True
    black = (cells[1:-1, ..., 0] < DARK).mean() - (cells[[0, -1], ..., 0] < DARK).mean()
    if float(black) >= LOST:
        return True
    words = never_content(Space("stops", np.zeros((0, 0)), 0.0, 0.0), mean, cells, mask, known)[1]
    return bool(words) and words != OTHER_PICTURE


def _of_a_pass(space: Space, mean: Array, cells: Array, mask: Array, known: Array) -> str:
    """Say that a pass changes with steps with which the picture does not; empty where it does too."""
    picture = in_cells_of_passes(cells)
    if space.name.startswith(PASS_OF):
        # where the pass differs
        size = np.abs(mean.reshape(picture.shape[1], -1)).max(axis=1)
        picture = picture[:, size >= 0.5 * size.max()]
    steps = np.abs(np.diff(picture, axis=0)).mean(axis=(1, 2))
    changes = np.diff(mask) & known
    if changes.sum() < CHANGES_OF_A_PASS:
        return ""
    others = steps[~changes & known]
    usual = float(np.median(others)) if len(others) else 0.0
    if float(np.median(steps[changes])) > 1.5 * usual + STILL:
        return ""
    figure = size_of(space, mean)
    if space.name.startswith(OBJECTS_OF):
        what = f"in {figure:.1%} of the picture objects have other numbers"
        return f"{space.name.removeprefix(OBJECTS_OF)}: {what} than in the frames beside them"
    what = f"a part of it is {figure:+.2f} stops off the frames beside them, and the picture is not"
    return f"{space.name.removeprefix(PASS_OF)}: {what}"


def _changes(mask: Array, known: Array) -> list[int]:
    """Return the frames, by index, after which the state is the other one and the step is known."""
    return [at for at in range(len(mask) - 1) if known[at] and mask[at] != mask[at + 1]]


def _runs(mask: Array) -> list[int]:
    """Return how many frames each state lasts, each time, without the first and the last time, which may be cut off."""
    return [len(list(own)) for _, own in groupby(mask.tolist())][1:-1]


def _two_exposures(cells: Array, mask: Array, known: Array) -> bool:
    """Return True where the brightness has two values and goes from one to the other, unlike a flame's."""
    steps = np.abs(np.diff(cells[..., 0].mean(axis=(1, 2))))
    changes = np.diff(mask) & known
    size = float(np.median(steps[changes]))
    near, others = steps[changes] / size, steps[~changes & known]
    # a lamp may go on besides, or something pass by
    rest = float(np.percentile(others, 100 * MOST_STEPS)) if len(others) else 0.0
    return bool(near.min() >= 0.7 and near.max() <= 1.4 and rest <= 0.25 * size)


def _with_backdrops(steps: Array | None, gain: float, mask: Array, known: Array) -> bool:
    """Return True where plain backdrops are as many stops off as the picture is, each time that the state changes."""
    if steps is None or gain == 0:
        return False
    into = np.diff(mask.astype(int))
    changes = steps[(into != 0) & known] * into[(into != 0) & known]
    return bool(len(changes) and np.all(np.abs(changes / gain - 1) <= LIKE_ALL))


def _by_light(space: Space, cells: Array, mask: Array, known: Array) -> bool:
    """Return True when the light differs between two states: what it falls on is then less noisy, or more so.

    space: noise. The mean of logarithms falls by half the variance, so that more noise alone looks darker.
    """
    apart = np.zeros(cells.shape[1:3])
    noise = (2.0 ** space.values.reshape(-1, *REGIONS) - QUIET) ** 2 * np.log(2) / 2
    rows, columns = (np.arange(CELLS[at]) * REGIONS[at] // CELLS[at] for at in (0, 1))
    changes = _changes(mask, known)
    for at in changes:
        darker = (noise[at + 1] - noise[at])[np.ix_(rows, columns)]
        step = cells[at + 1, ..., 0] - cells[at, ..., 0] + darker
        apart += step if mask[at + 1] else -step
    return float(np.percentile(np.abs(apart / max(1, len(changes))), 95)) >= LIGHT


def _other_picture(cells: Array, mask: Array, known: Array) -> str:
    """Say that one state is another picture, or has its channels in another order; empty for neither.

    A run of frames that is longer is a shot of its own.
    """
    runs = _runs(mask)
    changes = _changes(mask, known)
    pairs = [(cells[at + 1], cells[at]) if mask[at + 1] else (cells[at], cells[at + 1]) for at in changes]
    inside, outside = (np.mean([_linear(one) for one in own], axis=0) for own in zip(*pairs, strict=True))
    plain = float(np.abs(inside - outside).mean())
    for order, name in ORDERS.items():
        turned = float(np.abs(inside[..., order] - outside).mean())
        if turned < 0.25 * plain:
            return f"its channels are in another order: {name}"
    alike = float(np.median([likeness_of(one[..., 0], other[..., 0]) for one, other in pairs]))
    if alike < UNLIKE and runs and min(runs) <= LONGEST_OTHER:
        return OTHER_PICTURE
    return ""


ORDERS = {(2, 1, 0): "blue, green, red", (0, 2, 1): "red, blue, green", (1, 0, 2): "green, red, blue",
          (1, 2, 0): "green, blue, red", (2, 0, 1): "blue, red, green"}  # fmt: skip


def _channels(cells: Array, mask: Array, known: Array) -> tuple[Array, Array] | None:
    """Return the gain of each channel between the states, and its brightness before, both in stops.

    Means over the steps from one state to the other: shape (rows, columns, 3) each.
    """
    changes = _changes(mask, known)
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
