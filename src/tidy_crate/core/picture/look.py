"""The look of a frame: a few thousand numbers by which it is compared with other frames.

Brightness is measured in stops above a floor: `log2(1 + L / FLOOR)` of the mean L of the colour planes, so that a
change by a factor counts alike in the light and in the dark, and black is 0. A firefly of any size weighs little in it.
"""

from __future__ import annotations

import base64
import hashlib
from dataclasses import dataclass, fields
from itertools import pairwise
from typing import Any, Self

import numpy as np

# brightness that cannot be told from black beside a picture that is exposed for 1
FLOOR = 0.01
# what is brighter counts as this: it is a firefly or a lamp
BRIGHTEST = 1e4
# rows and columns of cells, of points, and of regions in which noise is measured
CELLS = (18, 32)
POINTS = (54, 96)
REGIONS = (4, 6)
# pixels along the edge of a small cell, in a picture of up to so many pixels across
SMALL, ACROSS = 16, 1920
# a pixel is vivid when its weakest colour is below this share of its strongest, which is at least so bright
VIVID, LIT = 0.12, 0.04
# neighbouring pixels of one hue differ less than this
HUE = 0.004
# rows of a region that tell whether it is of two pictures in turn
FEWEST_ROWS = 8
# differences of a region that tell its noise: below, the picture is taken to have none
FEWEST_DIFFERENCES = 12
# noise that is taken for none, in stops
QUIET = 0.01
# of a picture whose rows are compared: columns that lie together, which are read at once, and strips of them in each
# region; rows whose columns are compared; and parts of a row that are taken apart
TOGETHER, STRIPS, THIN, PARTS = 11, 2, 128, 4
# a power of two by which rows differ clearly, and standard errors that a mean of many is lowered by
CLEARLY, ERRORS = 0.2, 3.0
# of a picture with so many lines, half of them are looked at
MANY_LINES = 720
# pixels of a picture of which every second one tells the brightest, and the fewest of these
MANY_PIXELS, FEWEST = 200_000, 8
# different values of flat cells that are told apart
MOST_PLAIN = 250
# pixels of a picture that are looked at; of a larger one every second, third … in both directions
MOST = 9_000_000


@dataclass(frozen=True)
class Look:
    """The numbers that are kept of a frame."""

    cells: np.ndarray
    """Shape (*CELLS, 3): mean brightness in stops, and two shares of colour from -1 to 1 (red and blue over green)."""
    points: np.ndarray
    """Shape POINTS: brightness of single pixels, in stops. They show noise and fine motion, which means hide."""
    noise: np.ndarray
    """Shape REGIONS: standard deviation of a pixel against its neighbours, in stops."""
    vivid: np.ndarray
    """Shape CELLS: share of pixels that are saturated and of one hue with their neighbour."""
    flat: np.ndarray
    """For each small cell whose pixels are all alike the position of their brightness in `plain`, from 1; else 0."""
    plain: np.ndarray
    """Brightness of small cells whose pixels are all alike, in stops, each value once."""
    highlight: np.ndarray
    """Shape (): mean of the brightest thousandth of the pixels, in stops."""
    comb: np.ndarray
    """Shape REGIONS: the share of rows that are less like the next one than like the one after that, from 0 to 1.

    Rows of two frames in turn make it more than 0, which neither edges nor noise do.
    """
    lines: np.ndarray
    """Shape (2,): stops by which several single rows, or columns, are off those on both of their sides."""

    @property
    def level(self) -> float:
        """Mean brightness in stops."""
        return float(self.cells[..., 0].mean())

    @property
    def mark(self) -> bytes:
        """Return a digest that is the same for two frames that are the same picture."""
        numbers = self.cells.tobytes() + self.points.tobytes() + self.noise.tobytes()
        return hashlib.blake2b(numbers, digest_size=16).digest()

    def to_json(self) -> dict[str, Any]:
        """Return it as what JSON can carry."""
        return {
            one.name: [
                str(array.dtype),
                array.shape,
                base64.b64encode(np.packbits(array).tobytes() if array.dtype == bool else array.tobytes()).decode(),
            ]
            for one in fields(self)
            for array in [getattr(self, one.name)]
        }

    @classmethod
    def from_json(cls, said: dict[str, Any]) -> Self:
        """Return what `to_json` wrote."""
        found = {}
        for name, (kind, shape, text) in said.items():
            raw = np.frombuffer(base64.b64decode(text) or b"", np.uint8) if text else np.zeros(0, np.uint8)
            if kind == "bool":
                found[name] = np.unpackbits(raw, count=int(np.prod(shape))).astype(bool).reshape(shape)
            else:
                found[name] = raw.view(kind).reshape(shape)
        return cls(**found)


def brightened(look: Look, times: float) -> Look:
    """Return the look of the same picture with its exposure so many times as high, nearly: for dark shots.

    Means of stops are taken for stops of means, which holds where the picture is dark.
    """
    bright = 2.0 ** look.cells[..., 0] - 1
    # a change of light is so many times the stops
    slope = times * 2.0 ** look.cells[..., 0] / (1 + bright * times)
    cells = look.cells.copy()
    cells[..., 0] = np.log2(1 + bright * times)
    cells[..., 1:] *= ((3 * bright + 1) * times / (3 * bright * times + 1))[..., None]

    def exposed(stops: np.ndarray) -> np.ndarray:
        return np.asarray(np.log2(1 + (2.0 ** stops.astype(np.float32) - 1) * times))

    return Look(
        cells=cells.astype(np.float32), points=exposed(look.points).astype(np.float16),
        noise=(look.noise * means(slope, REGIONS)).astype(np.float32), vivid=look.vivid, flat=look.flat,
        plain=np.round(exposed(look.plain), 2).astype(np.float16),
        highlight=exposed(look.highlight).astype(np.float32), comb=look.comb,
        lines=(look.lines * float(slope.mean())).astype(np.float32),
    )  # fmt: skip


def stride(width: int, height: int, most: int = MOST) -> int:
    """Return n where every n-th pixel of a picture is looked at, in both directions. most: pixels that are, about."""
    found = 1
    while (width // found) * (height // found) > most:
        found += 1
    return found


def look_at(planes: np.ndarray) -> Look | None:
    """Return the look of a picture; None for one that is smaller than the cells.

    planes: shape (1 or 3, height, width), 32-bit, linear light. It is changed: what is not a number becomes 0.
    """
    _, height, width = planes.shape
    if height < CELLS[0] or width < CELLS[1]:
        return None
    strips = _strips(planes)
    every = 2 if height >= MANY_LINES else 1
    if every == 2:
        # two lines of each four: noise is measured between neighbours
        lines = height // 4 * 4
        planes = planes[:, :lines].reshape(len(planes), lines // 4, 4, width)[:, :, :2].reshape(len(planes), -1, width)
        height = lines // 2
    _bound(planes)
    stops = planes[0].copy()
    for plane in planes[1:]:
        stops += plane
    stops *= 1 / (FLOOR * len(planes))
    stops += 1
    np.log2(stops, out=stops)
    red, blue, vivid = _colour(planes)
    cells = np.stack([means(stops, CELLS), means(red, CELLS), means(blue, CELLS)], axis=-1)
    rows = np.linspace(0, height - 1, POINTS[0]).astype(int)
    columns = np.linspace(0, width - 1, POINTS[1]).astype(int)
    return Look(
        cells=cells.astype(np.float32),
        points=stops[np.ix_(rows, columns)].astype(np.float16),
        noise=_noise(stops),
        vivid=means(vivid, CELLS).astype(np.float32),
        **_flat(stops, every),
        highlight=_highlight(stops),
        comb=_comb(strips),
        lines=np.array([_spike(strips), _spike(stops[:: max(1, height // THIN)].T)], np.float32),
    )


def _bound(planes: np.ndarray) -> np.ndarray:
    """Return the planes, changed: no value below 0 or above the brightest, 0 for what is not a number."""
    np.clip(planes, 0, BRIGHTEST, out=planes)
    if np.isnan(planes.max(initial=0)):
        np.nan_to_num(planes, copy=False)
    return planes


def means(plane: np.ndarray, grid: tuple[int, int]) -> np.ndarray:
    """Return the means of a plane over a grid of cells whose edges are whole pixels, as even as they can be.

    plane: shape (height, width), at least as many as the grid's rows and columns. Returns the grid's shape, 64-bit.
    """
    rows = np.linspace(0, plane.shape[0], grid[0] + 1).astype(int)
    columns = np.linspace(0, plane.shape[1], grid[1] + 1).astype(int)
    # numbers of 32 bits would lose the small ones over long lines; sums row by row are read as they lie in memory
    lines = [plane[top:bottom].sum(axis=0, dtype=np.float64) for top, bottom in pairwise(rows)]
    sums = np.add.reduceat(np.stack(lines), columns[:-1], axis=1)
    return np.asarray(sums / (np.diff(rows)[:, None] * np.diff(columns)[None, :]))


def _colour(planes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Shares of red and blue over green, and whether a pixel is vivid, of every second pixel where there are enough."""
    step = 2 if planes.shape[1] >= 4 * CELLS[0] and planes.shape[2] >= 4 * CELLS[1] else 1
    small = planes[:, ::step, ::step]
    if len(planes) < 3:
        nothing = np.zeros(small.shape[1:], np.float32)
        return nothing, nothing, nothing
    red, green, blue = small[:3]
    total = red + green + blue + np.float32(FLOOR)
    u, v = (red - green) / total, (blue - green) / total
    strongest = np.maximum(np.maximum(red, green), blue)
    weakest = np.minimum(np.minimum(red, green), blue)
    vivid = (strongest > LIT) & (weakest < VIVID * strongest)
    alike = (np.abs(np.diff(u, axis=1)) < HUE) & (np.abs(np.diff(v, axis=1)) < HUE)
    vivid[:, 1:] &= alike
    vivid[:, 0] = False
    return u, v, vivid.astype(np.float32)


def _noise(stops: np.ndarray) -> np.ndarray:
    """Noise by region, from the mixed second difference of each 2 x 2 pixels, which no slope of brightness changes.

    Of white noise of deviation s it is 2 s; the median of its size is taken, which edges hardly move. After Immerkær,
    "Fast noise variance estimation" (1996), and the median of Donoho and Johnstone (1994).
    """
    height, width = stops.shape[0] // 2 * 2, stops.shape[1] // 2 * 2
    even = stops[:height:2, :width:2] - stops[:height:2, 1:width:2]
    even -= stops[1:height:2, :width:2]
    even += stops[1:height:2, 1:width:2]
    np.abs(even, out=even)
    rows = np.linspace(0, even.shape[0], REGIONS[0] + 1).astype(int)
    columns = np.linspace(0, even.shape[1], REGIONS[1] + 1).astype(int)
    found = np.zeros(REGIONS, np.float32)
    if (even.shape[0] // REGIONS[0]) * (even.shape[1] // REGIONS[1]) < FEWEST_DIFFERENCES:
        # the median of a handful of pixels says which of them it is, and not how much noise there is
        return found
    for row in range(REGIONS[0]):
        for column in range(REGIONS[1]):
            part = even[rows[row] : rows[row + 1], columns[column] : columns[column + 1]].ravel()
            # the median; of an even number the upper one of the two in the middle
            found[row, column] = np.partition(part, part.size // 2)[part.size // 2] * (1.4826 / 2)
    return found


def _strips(planes: np.ndarray) -> np.ndarray:
    """Return the brightness of all rows in some columns, in stops: as many in each region, from left to right."""
    columns = REGIONS[1] * STRIPS
    width = planes.shape[2] // columns
    some = planes[:, :, : width * columns].reshape(*planes.shape[:2], columns, width)[..., :TOGETHER]
    bright = _bound(some.copy()).sum(axis=0)
    bright *= np.float32(1 / (FLOOR * len(planes)))
    bright += 1
    return np.asarray(np.log2(bright, out=bright).reshape(planes.shape[1], -1))


def _comb(strips: np.ndarray) -> np.ndarray:
    """Return `comb` of a look. strips: of `_strips`."""
    # for each row of a region, how much more it differs from the next one than from the one after that
    apart, alike = (
        np.abs(strips[2:] - other).reshape(len(strips) - 2, REGIONS[1], -1).mean(axis=2)
        for other in (strips[1:-1], strips[:-2])
    )
    rows = np.clip(np.log2((apart + QUIET) / (alike + QUIET)) / CLEARLY, -1, 1)
    comb = np.zeros(REGIONS, np.float32)
    if len(rows) < FEWEST_ROWS * REGIONS[0]:
        # of a handful of rows some are always alike
        return comb
    for at, own in enumerate(np.array_split(rows, REGIONS[0])):
        comb[at] = np.maximum(own.mean(axis=0) - ERRORS * own.std(axis=0) / np.sqrt(len(own)), 0)
    return comb


def _spike(stops: np.ndarray) -> float:
    """Return by how many stops rows are off those on both sides, over the width of the picture: the second oddest one.

    Tiles have several edges; a thin thing may be in line with a row.
    """
    parts = np.linspace(0, stops.shape[1], PARTS + 1).astype(int)
    rows = np.add.reduceat(stops, parts[:-1], axis=1) / np.diff(parts)
    own, low, high = rows[1:-1], np.minimum(rows[:-2], rows[2:]), np.maximum(rows[:-2], rows[2:])
    found = np.sort(np.median(np.abs(own - np.clip(own, low, high)), axis=1))
    return float(found[-2]) if len(found) > 1 else 0.0


def _highlight(stops: np.ndarray) -> np.ndarray:
    """Return the mean of the brightest pixels, of every second column where there are enough."""
    pixels = (stops[:, ::2] if stops.size >= MANY_PIXELS else stops).ravel()
    most = max(FEWEST, pixels.size // 1000)
    return np.asarray(np.partition(pixels, -most)[-most:].mean(), np.float32)


def _flat(stops: np.ndarray, every: int) -> dict[str, np.ndarray]:
    """Return `flat` and `plain` of a look. Cells that the edges cut are left out.

    every: one of so many lines is there.
    """
    height, width = stops.shape
    edge = max(4, min(SMALL * max(1, -(-width // ACROSS)), width // 24, every * height // 14))
    deep = edge // every
    rows, columns = height // deep, width // edge
    cells = stops[: rows * deep, : columns * edge].reshape(rows, deep, columns, edge)
    # most cells are not, which a few of their pixels tell
    first = cells[:, 0, :, 0]
    found = first == cells[:, -1, :, -1]
    found &= (first == cells[:, deep // 2, :, edge // 3]) & (first == cells[:, deep // 3, :, -1])
    at = np.nonzero(found)
    own = cells[at[0], :, at[1], :]
    found[at] = own.max(axis=(1, 2)) == own.min(axis=(1, 2)) if len(own) else False
    plain, which = np.unique(np.round(first[found], 2).astype(np.float16), return_inverse=True)
    flat = np.zeros(found.shape, np.uint8)
    # more values than can be told apart share the last one
    flat[found] = np.minimum(which, MOST_PLAIN - 1) + 1
    return {"flat": flat, "plain": plain[:MOST_PLAIN]}
