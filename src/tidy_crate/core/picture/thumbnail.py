"""A frame as a small picture to look at."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tidy_crate.core.picture.block import Block, Grid
from tidy_crate.core.picture.decode import frame_blocks, read_frame_head
from tidy_crate.core.picture.judge import TONES, Expected, is_ids, judge_head, shown_channels


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
    planes = [block.channels[name] for name in shown_channels(block.channels)]
    if is_ids(planes[0]):
        return [np.where(planes[0] == 0, 0.0, 0.08 + 0.6 * ((planes[0] * step) % 1.0)) for step in TONES]
    found = [plane.astype(np.float32) for plane in planes]
    return found if len(found) == 3 else found * 3
