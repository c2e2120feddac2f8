"""Opening a frame file: its header alone, and its pixels some lines at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image

from tidy_crate.core.asset.exr_header import read_exr_header
from tidy_crate.core.asset.head import open_picture
from tidy_crate.core.picture.block import BLOCK_BYTES, MOST_BYTES, Block

# no picture has more
MOST_PIXELS = 1 << 30
_FORMATS = {
    ".png": ("PNG",), ".jpg": ("JPEG",), ".jpeg": ("JPEG",), ".tif": ("TIFF",), ".tiff": ("TIFF",), ".tga": ("TGA",),
    ".bmp": ("BMP",), ".webp": ("WEBP",), ".jp2": ("JPEG2000",), ".gif": ("GIF",),
}  # fmt: skip
_WIDE = {"I": 4, "F": 4, "I;16": 2, "I;16B": 2, "I;16L": 2, "1": 1}


@dataclass(frozen=True)
class FrameHead:
    """What a frame's header says."""

    width: int
    height: int
    needs_bytes: int
    """Memory that it takes at once to look at its pixels."""
    deep: bool = False
    """Whether it holds any number of samples for each pixel."""


def read_frame_head(path: Path) -> FrameHead:
    """Read a frame's header and none of its pixels. Raises on anything unreadable."""
    if path.suffix.lower() == ".exr":
        parts = read_exr_header(path)
        needs = max(
            part.decoded_bytes if part.subsampled else part.decoded_bytes * min(part.lines, part.height) // part.height
            for part in parts
        )
        return FrameHead(parts[0].width, parts[0].height, needs, any(part.deep for part in parts))
    with _open(path) as image:
        # the library decodes the whole picture; its bytes are as they are stored
        return FrameHead(image.width, image.height, image.width * image.height * _pixel_bytes(image))


def frame_blocks(path: Path) -> Iterator[Block]:
    """Decode a frame, from the top to the bottom of each part. Raises on anything unreadable.

    Colours that are stored as whole numbers are scaled to 0 to 1. Channels of an OpenEXR file keep their type.
    """
    if path.suffix.lower() == ".exr":
        from tidy_crate.core.picture.exr import exr_blocks

        yield from exr_blocks(path)
        return
    with _open(path) as image:
        if image.width * image.height * _pixel_bytes(image) > MOST_BYTES:
            raise ValueError(f"it takes more than {MOST_BYTES >> 30} GiB of memory")
        image.load()
        bands = image.getbands()
        lines = max(1, BLOCK_BYTES // max(1, image.width * len(bands) * 4))
        for first in range(0, image.height, lines):
            part = image.crop((0, first, image.width, min(first + lines, image.height)))
            pixels = np.atleast_3d(np.asarray(part))
            scale = 1.0 / np.iinfo(pixels.dtype).max if pixels.dtype.kind in "ui" else 1.0
            planes = {band: pixels[..., at] * np.float32(scale) for at, band in enumerate(bands)}
            yield Block(first, image.width, image.height, planes)


def reads_to_the_end(path: Path) -> bool:
    """Return whether a frame can be decoded, all of it. A format that is not looked into here counts as readable."""
    if path.suffix.lower() != ".exr" and path.suffix.lower() not in _FORMATS:
        return path.stat().st_size > 0
    try:
        for _ in frame_blocks(path):
            pass
    except Exception:  # noqa: BLE001 - two libraries with errors of every kind, and a file from anywhere
        return False
    return True


def _pixel_bytes(image: Image.Image) -> int:
    # three bands are kept in four bytes
    return _WIDE.get(image.mode, 1 if len(image.getbands()) == 1 else 4)


def _open(path: Path) -> Image.Image:
    """Open a picture as the format that its name says, and as no other: some start programs of their own."""
    formats = _FORMATS.get(path.suffix.lower())
    if formats is None:
        raise ValueError(f"frames of the format {path.suffix or 'without an ending'} are not looked into here")
    return open_picture(path, formats)
