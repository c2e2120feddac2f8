"""Parts of a picture: tiles, and shares of its samples."""

from __future__ import annotations

from dataclasses import dataclass

from tidy_crate.core.errors import WrongUsage


@dataclass(frozen=True)
class Window:
    """A rectangle of pixels, from the top left. left and top are in it, right and bottom are not."""

    left: int
    top: int
    right: int
    bottom: int

    @property
    def width(self) -> int:
        """Pixels across."""
        return self.right - self.left

    @property
    def height(self) -> int:
        """Pixels down."""
        return self.bottom - self.top


def window(width: int, height: int, tiles: tuple[int, int], tile: int | None) -> Window:
    """Return the pixels of a tile, the whole picture for None. Tiles cover every pixel exactly once.

    tiles: columns and rows that the picture of width x height pixels is split into. Tiles are numbered row by row from
    the top left, from 0. Raises WrongUsage for a tile that does not exist.
    """
    if tile is None:
        return Window(0, 0, width, height)
    columns, rows = tiles
    if not 0 <= tile < columns * rows:
        raise WrongUsage(f"the picture has {columns * rows} tiles, numbered from 0", tile)
    row, column = divmod(tile, columns)
    return Window(
        width * column // columns,
        height * row // rows,
        width * (column + 1) // columns,
        height * (row + 1) // rows,
    )


def samples_of(samples: int, shares: int, share: int | None) -> range:
    """Return which of a pixel's samples a share renders, all of them for None. Shares differ by one sample at most.

    Raises WrongUsage for a share that does not exist, or more shares than samples.
    """
    if share is None:
        return range(samples)
    if not 0 <= share < shares or shares > samples:
        raise WrongUsage(f"{samples} samples in {shares} shares have no such share", share)
    return range(samples * share // shares, samples * (share + 1) // shares)
