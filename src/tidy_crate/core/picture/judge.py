"""Opening one frame file and judging what is in it."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import OpenEXR
from PIL import Image

from tidy_crate.core.asset.exr_header import read_exr_header
from tidy_crate.core.asset.head import open_picture
from tidy_crate.core.files import os_reason
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Pass
from tidy_crate.core.work.attempt import Verdict

# a picture whose brightest colour stays below this is black to any eye
BLACK = 1e-5
# rows and columns of the grid by which neighbours are compared, and the brightness below which all is dark
GRID = (18, 32)
DARKEST = 1e-3
MOST_PIXELS = 1 << 30
# bytes of decoded pixels up to which a frame is looked into of which nobody said how large it is
MOST_BYTES = 1 << 30
_FORMATS = {
    ".png": ("PNG",), ".jpg": ("JPEG",), ".jpeg": ("JPEG",), ".tif": ("TIFF",), ".tiff": ("TIFF",), ".tga": ("TGA",),
    ".bmp": ("BMP",), ".webp": ("WEBP",), ".jp2": ("JPEG2000",), ".gif": ("GIF",),
}  # fmt: skip
COLOUR_SOURCES = ("beauty", "color", "colour", "rgb", "rgba", "c", "ci")
ALPHA_SOURCES = ("alpha", "a", "opacity")


class Expected(Model):
    """What a frame file should be. width, height in pixels, None where nobody said."""

    width: int | None = None
    height: int | None = None
    passes: tuple[Pass, ...] = ()


class Judgement(Model):
    """A verdict with its reasons in plain words, and what went unchecked for want of an expectation.

    look: the picture in few numbers (brightness of a coarse grid, in stops), to be held against its neighbours'.
    """

    verdict: Verdict
    reasons: tuple[str, ...] = ()
    unchecked: tuple[str, ...] = ()
    look: tuple[float, ...] = ()


def judge_file(path: Path, expected: Expected) -> Judgement:
    """Open a frame and judge it. Never raises over what the file holds."""
    try:
        size = path.stat().st_size
    except FileNotFoundError:
        return Judgement(verdict=Verdict.MISSING, reasons=("there is no file",))
    except OSError as error:
        return Judgement(verdict=Verdict.BAD, reasons=(os_reason(error),))
    if size == 0:
        return Judgement(verdict=Verdict.BAD, reasons=("the file is empty",))
    try:
        # the header first: a small file may unpack to any size
        head = read_frame_head(path)
        if (refused := _judge_head(head, expected)) is not None:
            return refused
        width, height, channels = read_channels(path)
    except Exception as error:  # noqa: BLE001 - two libraries with errors of every kind, and a file from anywhere
        detail = " ".join(str(error).split())[:120] or type(error).__name__
        return Judgement(verdict=Verdict.BAD, reasons=(f"it cannot be read to the end ({detail})",))
    return judge_channels(width, height, channels, expected)


@dataclass(frozen=True)
class FrameHead:
    """What a frame's header says."""

    width: int
    height: int
    decoded_bytes: int
    deep: bool = False


def read_frame_head(path: Path) -> FrameHead:
    """Read a frame's header and none of its pixels. Raises on anything unreadable."""
    if path.suffix.lower() == ".exr":
        parts = read_exr_header(path)
        whole = sum(part.decoded_bytes for part in parts)
        return FrameHead(parts[0].width, parts[0].height, whole, any(part.deep for part in parts))
    with _open(path) as image:
        return FrameHead(image.width, image.height, image.width * image.height * len(image.getbands()) * 4)


def _judge_head(head: FrameHead, expected: Expected) -> Judgement | None:
    """A verdict that needs no pixels; None where they must be looked at."""
    ordered = expected.width is not None and expected.height is not None
    if ordered and (head.width, head.height) != (expected.width, expected.height):
        wrong = f"it is {head.width} x {head.height}, not {expected.width} x {expected.height}"
        return Judgement(verdict=Verdict.BAD, reasons=(wrong,))
    if head.width * head.height > MOST_PIXELS:
        return Judgement(verdict=Verdict.BAD, reasons=(f"it claims {head.width} x {head.height} pixels",))
    if head.deep:
        return Judgement(verdict=Verdict.SUSPECT, reasons=("deep samples are not looked into here",))
    # what has the size that was ordered may be as large as that is
    if not ordered and head.decoded_bytes > MOST_BYTES:
        needs = f"it takes {head.decoded_bytes / (1 << 30):.1f} GiB of memory, and nobody said that it should"
        return Judgement(verdict=Verdict.SUSPECT, reasons=(f"its pixels were not looked at: {needs}",))
    return None


def read_channels(path: Path) -> tuple[int, int, dict[str, np.ndarray]]:
    """Width, height and all channels by name, each of shape (height, width). Raises on anything unreadable."""
    if path.suffix.lower() == ".exr":
        return _read_exr(path)
    with _open(path) as image:
        if image.width * image.height > MOST_PIXELS:
            raise ValueError("it claims more pixels than any picture has")
        image.load()
        bands = image.getbands()
        pixels = np.atleast_3d(np.asarray(image))
        scale = 1.0 / np.iinfo(pixels.dtype).max if pixels.dtype.kind in "ui" else 1.0
        return (
            image.width,
            image.height,
            {band: pixels[..., at] * np.float32(scale) for at, band in enumerate(bands)},
        )


def _open(path: Path) -> Image.Image:
    """Open a picture as the format that its name says, and as no other: some start programs of their own."""
    formats = _FORMATS.get(path.suffix.lower())
    if formats is None:
        raise ValueError(f"frames of the format {path.suffix or 'without an ending'} are not looked into here")
    return open_picture(path, formats)


def _read_exr(path: Path) -> tuple[int, int, dict[str, np.ndarray]]:
    with path.open("rb") as stream:
        if stream.read(4) != b"\x76\x2f\x31\x01":
            raise ValueError("it is not an OpenEXR file")
    with _muted():
        header = OpenEXR.File(str(path), header_only=True).header()
        low, high = header["dataWindow"]
        width, height = int(high[0] - low[0] + 1), int(high[1] - low[1] + 1)
        # the header of a hostile file may claim any size: believe it only as far as the file can hold it
        if width <= 0 or height <= 0 or width * height > MOST_PIXELS:
            raise ValueError(f"it claims {width} x {height} pixels")
        file = OpenEXR.File(str(path), separate_channels=True)
        channels: dict[str, np.ndarray] = {}
        for part in range(len(file.parts)):
            for name, channel in file.channels(part).items():
                if channel.pixels is None:
                    raise ValueError(f"channel {name} has no pixels")
                channels[name if name not in channels else f"{part}:{name}"] = channel.pixels
    if not channels:
        raise ValueError("it has no channels")
    return width, height, channels


@contextmanager
def _muted() -> Iterator[None]:
    """The library writes its complaints straight to the process's own output and standard error, past Python."""
    kept: dict[int, int] = {}
    for stream in (1, 2):
        with suppress(OSError):
            kept[stream] = os.dup(stream)
    sys.stdout.flush()
    sink = os.open(os.devnull, os.O_WRONLY)
    try:
        for stream in kept:
            os.dup2(sink, stream)
        yield
    finally:
        for stream, own in kept.items():
            os.dup2(own, stream)
            os.close(own)
        os.close(sink)


def judge_channels(width: int, height: int, channels: dict[str, np.ndarray], expected: Expected) -> Judgement:
    """Judge decoded pixels: size, passes, invalid numbers, blackness."""
    reasons, unchecked = [], []
    if expected.width is None or expected.height is None:
        unchecked.append("size")
    elif (width, height) != (expected.width, expected.height):
        reasons.append(f"it is {width} x {height}, not {expected.width} x {expected.height}")
    if expected.passes:
        absent = [one.name for one in expected.passes if not pass_channels(one, channels)]
        if absent:
            reasons.append("passes are missing: " + ", ".join(absent))
    else:
        unchecked.append("passes")
    for name, pixels in channels.items():
        if pixels.dtype.kind == "f":
            invalid = pixels.size - int(np.count_nonzero(np.isfinite(pixels)))
            if invalid:
                reasons.append(f"{invalid} invalid numbers in {name}")
    colour = _colour_channels(channels)
    if colour and all(not np.any(np.abs(channels[name].astype(np.float32)) > BLACK) for name in colour):
        reasons.append("it is black all over")
    verdict = Verdict.BAD if reasons else Verdict.GOOD
    return Judgement(
        verdict=verdict, reasons=tuple(reasons), unchecked=tuple(unchecked), look=look_of(colour, channels)
    )


def look_of(colour: list[str], channels: dict[str, np.ndarray]) -> tuple[float, ...]:
    """A picture's brightness on a coarse grid, in stops. Means over many pixels: noise hardly shows in them."""
    planes = [channels[name].astype(np.float32) for name in colour[:3] if channels[name].ndim == 2]
    if not planes or any(plane.shape != planes[0].shape for plane in planes):
        return ()
    bright = np.nan_to_num(np.mean(planes, axis=0), nan=0.0, posinf=0.0, neginf=0.0)
    if bright.shape[0] < GRID[0] or bright.shape[1] < GRID[1]:
        return ()
    rows, columns = (np.linspace(0, size, n + 1).astype(int) for size, n in zip(bright.shape, GRID, strict=True))
    sums = np.add.reduceat(np.add.reduceat(bright, rows[:-1], axis=0), columns[:-1], axis=1)
    means = sums / (np.diff(rows)[:, None] * np.diff(columns)[None, :])
    return tuple(np.log2(np.maximum(means, 0) + DARKEST).ravel().round(5).tolist())


def pass_channels(one: Pass, channels: dict[str, np.ndarray]) -> list[str]:
    """The channels that hold a pass: a layer of its name, or the unnamed colour, alpha or depth."""
    layer = [name for name in channels if name == one.name or name.startswith(f"{one.name}.")]
    if layer:
        return layer
    words = {one.name.lower(), one.source.lower()}
    if words & set(COLOUR_SOURCES):
        return [name for name in "RGB" if name in channels] if all(c in channels for c in "RGB") else []
    if words & set(ALPHA_SOURCES):
        return ["A"] if "A" in channels else []
    if words & {"depth", "z"}:
        return ["Z"] if "Z" in channels else []
    return []


def _colour_channels(channels: dict[str, np.ndarray]) -> list[str]:
    return [name for name in channels if name in ("R", "G", "B", "L") or name.endswith((".R", ".G", ".B"))]
