"""Opening a frame file: its header alone, and its pixels some lines at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PIL import Image
from pydantic import Field

from tidy_crate.core.asset.exr_header import ExrPart, read_exr_header
from tidy_crate.core.asset.head import open_picture
from tidy_crate.core.model import Model
from tidy_crate.core.picture.block import BLOCK_BYTES, MOST_BYTES, Block

# no picture has more
MOST_PIXELS = 1 << 30
_FORMATS = {
    ".png": ("PNG",), ".jpg": ("JPEG",), ".jpeg": ("JPEG",), ".tif": ("TIFF",), ".tiff": ("TIFF",), ".tga": ("TGA",),
    ".bmp": ("BMP",), ".webp": ("WEBP",), ".jp2": ("JPEG2000",), ".gif": ("GIF",),
}  # fmt: skip
_AS_COLOUR = {"P": "RGB", "PA": "RGBA", "CMYK": "RGB", "YCbCr": "RGB", "LAB": "RGB", "HSV": "RGB", "1": "L"}
_WIDE = {"I": 4, "F": 4, "I;16": 2, "I;16B": 2, "I;16L": 2, "1": 1}


class Form(Model):
    """The storage of a frame: size, channels, compression. Frames of one sequence have one form."""

    width: int = 0
    height: int = 0
    left: int = 0
    """Left edge of the data window, pixels. `top`: its upper edge."""
    top: int = 0
    display: tuple[int, int, int, int] | None = None
    """Display window: left, top, right, bottom, the last two included; None where the format has none."""
    channels: dict[str, str] = Field(default_factory=dict)
    """By name, the type of the numbers: `half`, `float`, `uint`, or bits as `8`."""
    compression: str = ""
    """The file format's word for it; empty where it says nothing."""
    colour: str = ""
    """Its own statement of the colour space."""
    parts: int = 1

    @property
    def bits(self) -> int:
        """Bits of the channel with the fewest."""
        return min((_BITS.get(kind) or int(kind) for kind in self.channels.values()), default=0)


_BITS = {"half": 16, "float": 32, "uint": 32}


@dataclass(frozen=True)
class FrameHead:
    """Header of a frame."""

    width: int
    height: int
    needs_bytes: int
    """Memory that it takes at once to look at its pixels."""
    deep: bool = False
    """True if it holds any number of samples for each pixel."""
    form: Form = field(default_factory=Form)


def read_frame_head(path: Path) -> FrameHead:
    """Read a frame's header and none of its pixels. Raises on anything unreadable."""
    if path.suffix.lower() == ".exr":
        parts = read_exr_header(path)
        needs = max(
            part.decoded_bytes if part.subsampled else part.decoded_bytes * min(part.lines, part.height) // part.height
            for part in parts
        )
        return FrameHead(parts[0].width, parts[0].height, needs, any(part.deep for part in parts), _exr_form(parts))
    with _open(path) as image:
        bits = str(8 * _WIDE.get(image.mode, 1)) if image.mode != "1" else "1"
        form = Form(
            width=image.width,
            height=image.height,
            channels=dict.fromkeys(image.getbands(), bits),
            compression=str(image.info.get("compression", "")),
            colour="profile" if image.info.get("icc_profile") else "",
        )
        # the library decodes the whole picture; its bytes are as they are stored
        return FrameHead(image.width, image.height, image.width * image.height * _pixel_bytes(image), form=form)


def _exr_form(parts: list[ExrPart]) -> Form:
    first = parts[0]
    channels: dict[str, str] = {}
    for number, part in enumerate(parts):
        for name, kind in part.types.items():
            channels[name if name not in channels else f"{number}:{name}"] = kind
    return Form(
        width=first.width, height=first.height, left=first.left, top=first.top, display=first.display,
        channels=channels, compression=first.compression, colour=first.colour, parts=len(parts),
    )  # fmt: skip


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
        # indices into a table, and inks, are no colours
        mode = _AS_COLOUR.get(image.mode, image.mode)
        bands = image.getbands() if mode == image.mode else tuple(mode)
        lines = max(1, BLOCK_BYTES // max(1, image.width * len(bands) * 4))
        for first in range(0, image.height, lines):
            part = image.crop((0, first, image.width, min(first + lines, image.height)))
            pixels = np.atleast_3d(np.asarray(part if mode == image.mode else part.convert(mode)))
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
