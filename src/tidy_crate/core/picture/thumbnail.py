"""A frame as a small picture to look at."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tidy_crate.core.picture.block import Block, Grid
from tidy_crate.core.picture.decode import frame_blocks, read_frame_head
from tidy_crate.core.picture.judge import Expected, judge_head


@dataclass(frozen=True)
class Thumbnail:
    """A small picture in sRGB."""

    width: int
    height: int
    pixels: bytes
    """Red, green, blue, 8 bits each, line by line from the top."""


def thumbnail(path: Path, most_width: int, most_height: int) -> Thumbnail:
    """Shrink a frame by the means of its pixels, never enlarging it. Raises on what cannot be read or is too large."""
    head = read_frame_head(path)
    if (refused := judge_head(head, Expected())) is not None:
        raise ValueError("; ".join(refused.reasons))
    grids: list[Grid] = []
    for block in frame_blocks(path):
        if not grids:
            columns, rows = min(most_width, block.width), min(most_height, block.height)
            grids = [Grid(block.width, block.height, columns, rows) for _ in range(3)]
        elif block.first == 0:
            # the first part is the picture
            break
        for grid, plane in zip(grids, _shown(block), strict=True):
            grid.add(block.first, np.clip(plane, 0, 1))
    linear = np.stack([grid.means() for grid in grids], axis=-1)
    # the sRGB transfer function, IEC 61966-2-1
    shown = np.where(linear <= 0.0031308, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055)
    return Thumbnail(shown.shape[1], shown.shape[0], (shown * 255 + 0.5).astype(np.uint8).tobytes())


def _shown(block: Block) -> list[np.ndarray]:
    """Three planes to show: the colour; without it a tone for each object id, else alpha or the first channel."""
    channels = block.channels
    if all(name in channels for name in "RGB"):
        return [channels[name].astype(np.float32) for name in "RGB"]
    ids = next((pixels for pixels in channels.values() if pixels.dtype.kind in "ui"), None)
    if ids is None:
        return [channels.get("A", next(iter(channels.values()))).astype(np.float32)] * 3
    # steps that never come round again, so that neighbours in number differ in tone
    turns = [(ids * step) % 1.0 for step in (0.618034, 0.754878, 0.569840)]
    return [np.where(ids == 0, 0.0, 0.08 + 0.6 * turn) for turn in turns]
