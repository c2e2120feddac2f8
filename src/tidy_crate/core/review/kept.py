"""Numbers that are kept of all frames of a sequence, by which two states of it are told apart."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture import look, pass_look
from tidy_crate.core.picture.look import QUIET, Look
from tidy_crate.core.picture.pass_look import PassLook

Array = np.ndarray
# frames that are looked at together, so that time and memory do not grow faster than the sequence
STRETCH = 1000
# share of a space's numbers that tell how large a step is
MOST = 0.03
# the noise of a part of the picture counts that much less than that of all of it
NOISE_OF_A_PART = 2.0
# stops by which a backdrop differs where its exposure or colour is off, and nothing is lost
SHADE = 0.35
# stops below which a small cell is black
BLACK = 0.005
# small cells of one brightness that make a backdrop of a frame, and the share of the frames that makes it the shot's
PLENTY, MOST_FRAMES = 3, 0.7
# share of the frames from which on another brightness may be that of a backdrop in another exposure
SOME = 0.1
# share of the picture in which objects have other numbers
OBJECTS = 0.02
# different objects of a sequence that are told apart
MOST_OBJECTS = 4096
# names of spaces of one number
ONE_NUMBER = ("sums", "black", "brightest", "level")
# how the name of a space begins that is a pass, of numbers or of objects
PASS_OF, OBJECTS_OF = "pass ", "objects of "


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
    of: int = 0
    """Numbers that there are in all: those that never change are left out. 0 for all of them."""


@dataclass(frozen=True)
class PassValues:
    """One pass of a sequence."""

    name: str
    values: np.ndarray
    """Shape (frames, cells, channels) in stops; of objects (frames, 1, objects) with the share of each."""
    objects: bool


class Kept:
    """The numbers of the looks of a sequence, frame by frame."""

    def __init__(self) -> None:
        self._cells: list[Array] = []
        self._vivid: list[Array] = []
        self._noise: list[Array] = []
        self._flat: list[Array] = []
        self._plain: list[Array] = []
        self._highlight: list[float] = []
        self._passes: list[Mapping[str, PassLook]] = []

    def add(self, seen: Look, passes: Mapping[str, PassLook] | None = None) -> None:
        """Take the next frame. passes: the looks of its passes beside the picture."""
        self._passes.append(passes or {})
        self._cells.append(seen.cells.astype(np.float16))
        self._vivid.append(seen.vivid.astype(np.float16))
        self._noise.append(np.log2(seen.noise + QUIET).astype(np.float16))
        self._flat.append(seen.flat)
        self._plain.append(seen.plain)
        self._highlight.append(float(seen.highlight))

    def part(self, own: slice) -> Kept:
        """Return the numbers of a stretch of frames."""
        found = Kept()
        for name, each in vars(self).items():
            setattr(found, name, each[own])
        return found

    def __len__(self) -> int:
        return len(self._cells)

    @property
    def cells(self) -> Array:
        """Shape (frames, rows, columns, 3): see `Look.cells`."""
        return np.stack(self._cells).astype(np.float32)

    def brightness(self, at: int) -> Array:
        """Return the brightness of the cells of one frame, by its index: shape (rows, columns), in stops."""
        return self._cells[at][..., 0].astype(np.float32)

    @property
    def passes(self) -> list[PassValues]:
        """The passes that all frames have."""
        return pass_values(self._passes)

    def _black(self) -> Iterator[float]:
        """Yield how many small cells of each frame are black, where most frames have none: they count twice."""
        found = [
            float(np.isin(cells, np.flatnonzero(plain < BLACK) + 1).sum())
            for cells, plain in zip(self._flat, self._plain, strict=True)
        ]
        usual = float(np.median(found)) if found else 0.0
        yield from (max(0.0, one - usual) for one in found)

    def backdrop_steps(self) -> Array:
        """Return by how many stops plain backdrops change from each frame to the next; no number where there are none.

        Shape (frames less one,). A light that goes on does not fall on a sky; another exposure changes it as well.
        """
        found = np.full(max(0, len(self) - 1), np.nan)
        for at, ((one, other), (before, after)) in enumerate(
            zip(pairwise(self._flat), pairwise(self._plain), strict=True)
        ):
            both = (one > 0) & (other > 0) if one.shape == other.shape else np.zeros(0, bool)
            if both.sum() >= PLENTY:
                here, there = np.append(before, before[-1:]), np.append(after, after[-1:])
                now = there[np.minimum(other[both], len(after)) - 1].astype(np.float32)
                found[at] = float(np.median(now - here[np.minimum(one[both], len(before)) - 1].astype(np.float32)))
        return found

    def spaces(self, rules: ReviewRules) -> Iterator[Space]:
        """Yield every kind of number, those that tell most of a fault first."""
        count = len(self)
        cells = self.cells
        unfinished = _without_backdrops(self._flat, self._plain)
        if len({one.shape for one in unfinished}) == 1:
            yield _varying("flat", np.stack(unfinished).reshape(count, -1), 0.5, 0.05)
        yield _varying("vivid", np.stack(self._vivid).reshape(count, -1), 0.2, 0.02)
        yield Space("stops", cells[..., 0].reshape(count, -1), 2 * rules.picture, 0.01)
        yield Space("colour", cells[..., 1:].reshape(count, -1), rules.colour, 0.002)
        # of the picture as a whole: when everything moves, each cell spans a lot and these hardly anything
        yield Space("balance", cells[..., 1:].mean(axis=(1, 2)), rules.colour / 2, 0.001)
        yield Space("level", cells[..., 0].mean(axis=(1, 2))[:, None], rules.brightness, 0.005)
        noise = np.stack(self._noise).reshape(count, -1).astype(np.float32)
        yield Space("noise", noise, rules.noise, 0.02)
        # counts and sizes of one number for each frame, in its own limit: what is lost elsewhere each time
        sums = {
            "sums": np.array([float(one.sum()) for one in unfinished]) / rules.flat,
            "black": 2 * np.array(list(self._black())) / rules.flat,
            "brightest": np.array(self._highlight) / rules.highlight,
        }
        for name, each in sums.items():
            yield Space(name, each[:, None].astype(np.float32), 1.0, 0.05)
        for one in self.passes:
            least, floor = (OBJECTS / 2, OBJECTS / 10) if one.objects else (2 * rules.picture, 0.01)
            kind = OBJECTS_OF if one.objects else PASS_OF
            yield Space(f"{kind}{one.name}", one.values.reshape(count, -1), least, floor)


def pass_values(looks: Sequence[Mapping[str, PassLook]]) -> list[PassValues]:
    """Return the passes that all frames of a sequence have, in the same form."""
    if not looks:
        return []
    found = []
    for name in looks[0]:
        own = [one.get(name) for one in looks]
        if any(one is None for one in own):
            continue
        known = [one for one in own if one is not None]
        objects = any(one.shares for one in known)
        if objects and all(one.shares for one in known):
            found.append(PassValues(name, _shares(known)[:, None, :], True))
        elif not objects and len({one.values.shape for one in known}) == 1 and known[0].values.size:
            values = np.stack([one.values for one in known]).astype(np.float32)
            found.append(PassValues(name, values.reshape(len(known), -1, values.shape[-1]), False))
    return found


def in_cells_of_passes(cells: np.ndarray) -> np.ndarray:
    """Return the picture in the cells of the passes: shape (frames, cells, 3)."""
    down, across = look.CELLS[0] // pass_look.CELLS[0], look.CELLS[1] // pass_look.CELLS[1]
    rows, columns = pass_look.CELLS
    found = cells.reshape(len(cells), rows, down, columns, across, 3).mean(axis=(2, 4))
    return np.asarray(found.reshape(len(cells), rows * columns, 3))


def _shares(looks: Sequence[PassLook]) -> np.ndarray:
    numbers = sorted({number for one in looks for number in one.shares})
    column = {number: at % MOST_OBJECTS for at, number in enumerate(numbers)}
    found = np.zeros((len(looks), min(len(numbers), MOST_OBJECTS)), np.float32)
    for row, one in zip(found, looks, strict=True):
        for number, share in one.shares.items():
            row[column[number]] += share
    return found


def _without_backdrops(flat: Sequence[Array], plain: Sequence[Array]) -> list[Array]:
    """Return which small cells of each frame are flat and no backdrop: of a brightness that most frames have plenty of.

    flat, plain: see `Look`. A camera that shakes uncovers sky here and there.
    """
    counts: Counter[int] = Counter()
    steps = [np.round(one.astype(np.float32) * 100).astype(int) for one in plain]
    for cells, values in zip(flat, steps, strict=True):
        times = np.bincount(cells.ravel(), minlength=len(values) + 1)[1:]
        counts.update({int(value) for value in values[times[: len(values)] >= PLENTY]})
    usual = {value for value, frames in counts.items() if frames >= MOST_FRAMES * len(flat)}
    near = range(-round(100 * SHADE), round(100 * SHADE) + 1)
    usual = {value + off for value in usual for off in near}
    some = [value for value, frames in counts.items() if value not in usual and frames >= SOME * len(flat)]
    usual |= {value + off for value in _of_other_exposures(flat, steps, some) for off in near}
    found = []
    for cells, values in zip(flat, steps, strict=True):
        odd = np.concatenate([[False], np.array([int(value) not in usual for value in values], bool)])
        found.append(odd[np.minimum(cells, len(odd) - 1)])
    return found


def _of_other_exposures(flat: Sequence[Array], steps: Sequence[Array], values: Sequence[int]) -> set[int]:
    """Return those brightnesses of flat cells that have a flat cell of another brightness in the frame before or after.

    They are a backdrop whose exposure or colour changes. Where something was lost, the other frames have detail.
    """
    found = set()
    for value in values:
        shares = []
        own = [np.isin(cells, np.flatnonzero(each == value) + 1) for cells, each in zip(flat, steps, strict=True)]
        for (one, other), (cells, others) in zip(pairwise(own), pairwise(flat), strict=True):
            if one.shape == other.shape and (one.sum() >= PLENTY) != (other.sum() >= PLENTY):
                shares.append(float((others[one] > 0).mean() if one.sum() >= PLENTY else (cells[other] > 0).mean()))
        if shares and float(np.mean(shares)) >= MOST_FRAMES:
            found.add(value)
    return found


def _varying(name: str, values: Array, least: float, floor: float) -> Space:
    """Return a space without the numbers that are the same in all frames, which most of these are."""
    varies = (values != values[0]).any(axis=0)
    varies[0] = True
    return Space(name, values[:, varies].astype(np.float32), least, floor, values.shape[1])


def likeness_of(one: np.ndarray, other: np.ndarray) -> float:
    """Return the correlation of the brightness of two pictures, by cells; 1 where both are even."""
    one, other = one - one.mean(), other - other.mean()
    size = float(np.sqrt((one * one).sum() * (other * other).sum()))
    return float((one * other).sum()) / size if size > 1e-9 else 1.0


def size_of(space: Space, mean: Array) -> float:
    """Return a difference in one number, in the measure of its space."""
    if space.name == "flat":
        return float((mean > 0.5).sum() - (mean < -0.5).sum())
    if space.name == "vivid":
        return float(mean.sum() / (space.of or mean.size))
    if space.name == "noise":
        middle, most = float(np.median(mean)), float(mean[np.argmax(np.abs(mean))])
        # all over the picture, or in a part of it
        return middle if abs(middle) >= 0.5 * abs(most) else most / NOISE_OF_A_PART
    if space.name in ONE_NUMBER:
        return float(mean[0])
    if space.name == "colour":
        u, v = mean.reshape(-1, 2).T
        return float(np.hypot(u, v).mean())
    if space.name.startswith(OBJECTS_OF):
        # what some objects gain others lose
        return float(np.abs(mean).sum() / 2)
    most = max(1, round(MOST * len(mean)))
    return float(mean[np.argsort(-np.abs(mean))[:most]].mean())
