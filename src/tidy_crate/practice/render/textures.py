"""Textures of the practice renderer: linear RGB in memory, looked up bilinearly, repeated."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

MISSING_TILES = 8


def load(path: str) -> np.ndarray:
    """An image as linear RGB, shape (height, width, 3), float32. A missing one is a loud pattern, not an error."""
    if not path or not Path(path).is_file():
        return missing()
    with Image.open(path) as image:
        pixels = np.asarray(image.convert("RGB"), dtype=np.float32) / 255
    # the sRGB transfer function, IEC 61966-2-1
    return np.where(pixels <= 0.04045, pixels / 12.92, ((pixels + 0.055) / 1.055) ** 2.4).astype(np.float32)


def missing() -> np.ndarray:
    """Return what shows where a texture is missing: diagonal stripes that cannot be overlooked."""
    y, x = np.mgrid[0:64, 0:64]
    stripes = ((x + y) // MISSING_TILES) % 2 == 0
    return np.where(stripes[..., None], [0.9, 0.05, 0.0], [0.0, 0.9, 0.85]).astype(np.float32)


def look_up(texture: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Colour at texture coordinates (v upwards), bilinear, repeating. Shape (n, 3)."""
    height, width = texture.shape[:2]
    x = (u % 1.0) * width - 0.5
    y = ((1.0 - v) % 1.0) * height - 0.5
    x0, y0 = np.floor(x).astype(np.int32), np.floor(y).astype(np.int32)
    fx, fy = (x - x0)[:, None], (y - y0)[:, None]
    # from -1 up to the size: one step around is enough
    x1, y1 = np.where(x0 + 1 == width, 0, x0 + 1), np.where(y0 + 1 == height, 0, y0 + 1)
    x0, y0 = np.where(x0 < 0, width - 1, x0), np.where(y0 < 0, height - 1, y0)
    texels = texture.reshape(-1, 3)
    top, bottom = y0 * width, y1 * width
    above = texels[top + x0] * (1 - fx) + texels[top + x1] * fx
    below = texels[bottom + x0] * (1 - fx) + texels[bottom + x1] * fx
    return np.asarray(above * (1 - fy) + below * fy)
