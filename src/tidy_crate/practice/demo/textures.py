"""The demo's textures, drawn from noise with a fixed seed."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image


def write_textures(folder: Path) -> None:
    """Write planks, crate side, paper, rope and sky as PNG files."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(20)
    drawn = {"planks": _planks, "crate_side": _crate_side, "paper": _paper, "rope": _rope, "sky": _sky}
    for name, draw in drawn.items():
        pixels = np.clip(draw(rng) * 255 + 0.5, 0, 255).astype(np.uint8)
        Image.fromarray(pixels, "RGB").save(folder / f"{name}.png", optimize=False)


def _grain(rng: np.random.Generator, height: int, width: int, stretch: int) -> np.ndarray:
    coarse = rng.random((height, max(1, width // stretch)))
    return np.repeat(coarse, stretch, axis=1)[:, :width]


def _planks(rng: np.random.Generator) -> np.ndarray:
    size, boards = 256, 8
    tone = np.repeat(0.55 + 0.35 * rng.random(boards), size // boards)[:, None]
    value = tone * (0.8 + 0.2 * _grain(rng, size, size, 16))
    value[:: size // boards] *= 0.35
    return np.asarray(value[..., None] * np.array([0.62, 0.45, 0.30]))


def _crate_side(rng: np.random.Generator) -> np.ndarray:
    size = 128
    value = 0.65 + 0.25 * _grain(rng, size, size, 8)
    y, x = np.mgrid[0:size, 0:size] / size
    edge = (np.minimum(np.minimum(x, 1 - x), np.minimum(y, 1 - y)) < 0.1) | (np.abs(x - y) < 0.06)
    value = np.where(edge, value * 0.55, value)
    return np.asarray(value[..., None] * np.array([0.80, 0.58, 0.30]))


def _paper(rng: np.random.Generator) -> np.ndarray:
    height, width = 128, 128
    ribs = 0.8 + 0.2 * (np.arange(height)[:, None] % 16 > 1)
    value = ribs * (0.9 + 0.1 * rng.random((height, width)))
    return np.asarray(value[..., None] * np.array([1.0, 0.72, 0.38]))


def _rope(rng: np.random.Generator) -> np.ndarray:
    y, x = np.mgrid[0:64, 0:64]
    value = 0.5 + 0.3 * (((x + y) // 6) % 2) + 0.1 * rng.random((64, 64))
    return np.asarray(value[..., None] * np.array([0.75, 0.66, 0.50]))


def _sky(rng: np.random.Generator) -> np.ndarray:
    height, width = 64, 128
    up = np.linspace(1, -1, height)[:, None, None]
    zenith, horizon, ground = (np.array(c) for c in ([0.10, 0.14, 0.32], [0.72, 0.46, 0.42], [0.05, 0.07, 0.12]))
    above = horizon + (zenith - horizon) * np.clip(up, 0, 1) ** 0.5
    below = horizon * 0.4 + (ground - horizon * 0.4) * np.clip(-up * 4, 0, 1)
    sky = np.where(up >= 0, above, below) * np.ones((height, width, 1))
    stars = (rng.random((height, width, 1)) > 0.994) & (up > 0.35)
    return sky + 0.5 * stars
