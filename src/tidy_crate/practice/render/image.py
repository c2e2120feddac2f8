"""Writing a picture's passes as one multi-layer OpenEXR file."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from pathlib import Path

import numpy as np
import OpenEXR

from tidy_crate.core.picture.judge import COLOUR_SOURCES
from tidy_crate.core.scene.model import Output
from tidy_crate.core.work.parts import Window
from tidy_crate.practice.render.shade import Picture


def write_exr(
    path: Path,
    output: Output,
    picture: Picture,
    pixels: Window,
    size: tuple[int, int],
    compression: str | None = None,
) -> None:
    """Write the passes that an output asks for, a tile with its place in the whole picture of that size.

    compression: see formats.COMPRESSIONS. A pass this renderer does not know is left out, and review sees it.
    """
    channels: dict[str, np.ndarray] = {}
    for variable in output.variables:
        channels.update(_channels(variable.source, variable.name, picture, pixels))
    if not channels:
        raise ValueError(f"output {output.name} has no pass that can be rendered")
    path.parent.mkdir(parents=True, exist_ok=True)
    draft = path.with_name(f".{path.stem}.{secrets.token_hex(3)}.exr")
    header = {
        "compression": getattr(OpenEXR, f"{(compression or 'zip').upper()}_COMPRESSION"),
        "type": OpenEXR.scanlineimage,
        "dataWindow": _box(pixels.left, pixels.top, pixels.right, pixels.bottom),
        "displayWindow": _box(0, 0, *size),
    }
    try:
        OpenEXR.File(header, channels).write(str(draft))
        draft.replace(path)
    finally:
        draft.unlink(missing_ok=True)


def _box(left: int, top: int, right: int, bottom: int) -> tuple[np.ndarray, np.ndarray]:
    """A rectangle as the format has it: both corners are in it."""
    return np.array([left, top], np.int32), np.array([right - 1, bottom - 1], np.int32)


# by pass: the plane of each channel, and the type of its numbers; `{}` in a channel is the pass's own name
_PASSES: dict[str, Callable[[Picture], dict[str, tuple[np.ndarray, type]]]] = {
    "beauty": lambda picture: {c: (picture.beauty[:, i], np.float16) for i, c in enumerate("RGB")},
    "alpha": lambda picture: {"A": (picture.alpha, np.float16)},
    "depth": lambda picture: {"{}.Z": (picture.depth, np.float32)},
    "normal": lambda picture: {f"{{}}.{c}": (picture.normal[:, i], np.float16) for i, c in enumerate("XYZ")},
    "objectId": lambda picture: {"{}.id": (picture.object_id, np.uint32)},
}


def knows(source: str) -> bool:
    """Return whether this renderer has a pass."""
    return _own_name(source) in _PASSES


def _own_name(source: str) -> str:
    return "beauty" if source.lower() in COLOUR_SOURCES else source


def _channels(source: str, name: str, picture: Picture, pixels: Window) -> dict[str, np.ndarray]:
    if not knows(source):
        return {}
    return {
        channel.replace("{}", name): np.ascontiguousarray(values.reshape(pixels.height, pixels.width), dtype=kind)
        for channel, (values, kind) in _PASSES[_own_name(source)](picture).items()
    }
