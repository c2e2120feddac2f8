"""A frame, or a pass of it, as a small picture to look at."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tidy_crate.core.picture.block import Block, Grid, is_ids
from tidy_crate.core.picture.decode import frame_blocks, read_frame_head
from tidy_crate.core.picture.judge import TONES, Expected, judge_head, shown_channels
from tidy_crate.core.picture.tone import Tone, as_stored, srgb

# layers that are shown by their range and not as light
_DATA = ("depth", "z", "normal", "n", "position", "p", "motion", "velocity", "uv", "st")


@dataclass(frozen=True)
class Thumbnail:
    """A small picture in sRGB."""

    width: int
    height: int
    pixels: bytes
    """Red, green, blue, 8 bits each, line by line from the top."""


def thumbnail(path: Path, most_width: int, most_height: int, tone: Tone | None = None) -> Thumbnail:
    """Shrink a frame by the means of its pixels, never enlarging it. Raises on what cannot be read or is too large.

    tone: see `tone_of`; by default sRGB for linear light, and as it is stored for a picture that is made for a screen.
    """
    return _as_picture(small(path, most_width, most_height), tone or _usual(path))


def small(path: Path, most_width: int, most_height: int) -> np.ndarray:
    """Return a frame shrunk by the means of its pixels: shape (height, width, 3), 32-bit, as it is stored.

    Raises on what cannot be read or is too large.
    """
    (found,) = _shrunk(path, most_width, most_height, lambda channels: [("", shown_channels(channels))]).values()
    return found


def passes(path: Path, most_width: int, most_height: int, tone: Tone | None = None) -> dict[str, Thumbnail]:
    """Shrink every layer of a frame, by name; what is no light is shown by its range. Raises as `small` does."""
    found = {}
    for name, values in _shrunk(path, most_width, most_height, _layers).items():
        low, high = _range(values)
        if name.lower() in _DATA or low < 0:
            shown = _as_picture((values - low) / max(high - low, 1e-9), as_stored)
        else:
            shown = _as_picture(values, tone or _usual(path))
        found[name] = shown
    return found


def _range(values: np.ndarray) -> tuple[float, float]:
    """The least and the greatest value to show, without what stands for "nothing there" in much of the picture."""
    high = float(values.max())
    rest = values[values < high - 1e-3 * abs(high)]
    if rest.size and rest.size < 0.98 * values.size:
        high = float(rest.max())
    return float(values.min()), high


def _usual(path: Path) -> Tone:
    return srgb if path.suffix.lower() == ".exr" else as_stored


def _as_picture(values: np.ndarray, tone: Tone) -> Thumbnail:
    shown = tone(values)
    return Thumbnail(shown.shape[1], shown.shape[0], (shown * 255 + 0.5).astype(np.uint8).tobytes())


Choice = Callable[[Sequence[str]], Sequence[tuple[str, tuple[str, ...]]]]


def _layers(channels: Sequence[str]) -> list[tuple[str, tuple[str, ...]]]:
    """Return which channels make a picture each, by the name of their layer."""
    layers: dict[str, list[str]] = {}
    for name in channels:
        layer = "colour" if name in ("R", "G", "B") else name.rpartition(".")[0] or name
        layers.setdefault(layer, []).append(name)
    order = {"R": 0, "X": 0, "G": 1, "Y": 1, "B": 2, "Z": 2}
    found = []
    for name, own in layers.items():
        own.sort(key=lambda channel: order.get(channel.rpartition(".")[2].upper(), 9))
        found.append((name, tuple(own[:3]) if len(own) >= 3 else (own[0],)))
    return found


def _shrunk(path: Path, most_width: int, most_height: int, choose: Choice) -> dict[str, np.ndarray]:
    head = read_frame_head(path)
    if (refused := judge_head(head, Expected())) is not None:
        raise ValueError("; ".join(refused.reasons))
    grids: dict[str, tuple[tuple[str, ...], list[Grid]]] = {}
    for block in frame_blocks(path):
        if block.first == 0:
            # the first part is the picture; the others have passes
            for name, channels in choose(list(block.channels)):
                if name not in grids:
                    columns, rows = min(most_width, block.width), min(most_height, block.height)
                    made = [Grid(block.width, block.height, columns, rows) for _ in range(3)]
                    grids[name] = (channels, made)
        for channels, made in grids.values():
            if all(name in block.channels for name in channels):
                for grid, plane in zip(made, _shown(block, channels), strict=True):
                    grid.add(block.first, plane)
    return {
        name: np.stack([grid.means() for grid in made], axis=-1).astype(np.float32) for name, (_, made) in grids.items()
    }


def _shown(block: Block, channels: tuple[str, ...]) -> list[np.ndarray]:
    """Three planes to show; of object ids a tone for each."""
    planes = [block.channels[name] for name in channels]
    if is_ids(planes[0]):
        return [np.where(planes[0] == 0, 0.0, 0.08 + 0.6 * ((planes[0] * step) % 1.0)) for step in TONES]
    found = [plane.astype(np.float32) for plane in planes]
    return found if len(found) == 3 else found * 3
