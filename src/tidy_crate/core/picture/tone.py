"""From a renderer's numbers to what a screen shows: by the scene's own colour configuration, else plain sRGB."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

Tone = Callable[[np.ndarray], np.ndarray]


def srgb(linear: np.ndarray) -> np.ndarray:
    """Return linear light as sRGB, from 0 to 1; what is brighter is clipped. IEC 61966-2-1."""
    light = np.clip(linear, 0, 1)
    return np.asarray(np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055))


def as_stored(values: np.ndarray) -> np.ndarray:
    """Return values of a picture that is stored for a screen as they are, from 0 to 1."""
    return np.asarray(np.clip(values, 0, 1))


def tone_of(config: Path | None, colour_space: str | None) -> Tone:
    """Return how pictures of a scene are shown: by the usual display and view of its OpenColorIO configuration.

    config: None for a scene without one. colour_space: of the pictures; the configuration's scene-linear one for None.
    A configuration that cannot be used counts as none.
    """
    if config is None:
        return srgb
    try:
        import PyOpenColorIO

        found = PyOpenColorIO.Config.CreateFromFile(str(config))
        display = found.getDefaultDisplay()
        transform = PyOpenColorIO.DisplayViewTransform(
            src=colour_space or PyOpenColorIO.ROLE_SCENE_LINEAR, display=display, view=found.getDefaultView(display)
        )
        processor = found.getProcessor(transform).getDefaultCPUProcessor()
    except Exception:  # noqa: BLE001 - a picture in plain sRGB says more than none
        return srgb

    def shown(linear: np.ndarray) -> np.ndarray:
        # the library writes into what it is given
        pixels = np.array(linear, np.float32, order="C")
        processor.applyRGB(pixels)
        return np.asarray(np.clip(pixels, 0, 1))

    return shown
