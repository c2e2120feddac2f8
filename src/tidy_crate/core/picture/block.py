"""Some lines of a picture, decoded: what all measures of a frame are fed with."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

# bytes of decoded pixels that are looked at together: more costs memory and gains nothing
BLOCK_BYTES = 8 << 20
# bytes of decoded pixels that may be in memory at once for one frame
MOST_BYTES = 1 << 30


@dataclass(frozen=True)
class Block:
    """Lines of one part of a picture."""

    first: int
    """Number of its first line, counted from the top from 0."""
    width: int
    """Width of the part, pixels."""
    height: int
    """Height of the part, pixels."""
    channels: dict[str, np.ndarray]
    """Pixels by channel, each of shape (lines, width); of a subsampled channel fewer."""


def is_ids(pixels: np.ndarray) -> bool:
    """Return True when a channel numbers objects, in whole numbers."""
    return pixels.dtype.kind in "ui"


class Grid:
    """Means of a plane over a coarse grid of cells, gathered block by block.

    The edges of the cells are whole pixels, as even as they can be. Numbers that are not finite count as zero.
    """

    def __init__(self, width: int, height: int, columns: int, rows: int) -> None:
        self._columns = np.linspace(0, width, columns + 1).astype(int)
        self._rows = np.linspace(0, height, rows + 1).astype(int)
        self._sums = np.zeros((height, columns), np.float64)

    def add(self, first: int, plane: np.ndarray) -> None:
        """Add lines from the line `first` on; plane: shape (lines, width)."""
        bright = np.nan_to_num(plane, nan=0.0, posinf=0.0, neginf=0.0)
        self._sums[first : first + len(plane)] = np.add.reduceat(bright, self._columns[:-1], axis=1, dtype=np.float64)

    def means(self) -> np.ndarray:
        """Return the means of all cells, of shape (rows, columns)."""
        sums = np.add.reduceat(self._sums, self._rows[:-1], axis=0)
        return np.asarray(sums / (np.diff(self._rows)[:, None] * np.diff(self._columns)[None, :]))
