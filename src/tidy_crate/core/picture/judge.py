"""Judging one frame file by its header and its pixels."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import numpy as np

from tidy_crate.core.files import legible, os_reason
from tidy_crate.core.model import Model
from tidy_crate.core.picture.block import MOST_BYTES, Block, Grid
from tidy_crate.core.picture.decode import MOST_PIXELS, FrameHead, frame_blocks, read_frame_head
from tidy_crate.core.scene.model import Pass
from tidy_crate.core.work.attempt import Verdict

# a picture whose brightest colour stays below this is black to any eye
BLACK = 1e-5
# rows and columns of the grid by which neighbours are compared, and the brightness below which all is dark
GRID = (18, 32)
DARKEST = 1e-3
COLOUR_SOURCES = ("beauty", "color", "colour", "rgb", "rgba", "c", "ci")
ALPHA_SOURCES = ("alpha", "a", "opacity")
# the exponent bits of a number that is not finite, by its size in bytes
_NOT_FINITE = {2: (np.uint16, 0x7C00), 4: (np.uint32, 0x7F800000), 8: (np.uint64, 0x7FF0000000000000)}


class Expected(Model):
    """What a frame file should be."""

    width: int | None = None
    """In pixels; None when unknown."""
    height: int | None = None
    """In pixels; None when unknown."""
    passes: tuple[Pass, ...] = ()


class Judgement(Model):
    """A verdict with its reasons in plain words."""

    verdict: Verdict
    reasons: tuple[str, ...] = ()
    unchecked: tuple[str, ...] = ()
    """What was not checked, because nothing says how it should be."""
    look: tuple[float, ...] = ()
    """Brightness on a coarse grid, in stops, for the comparison with neighbours."""


def judge_file(path: Path, expected: Expected) -> Judgement:
    """Open a frame and judge it. Never raises over what the file holds."""
    try:
        size = path.stat().st_size
    except FileNotFoundError:
        return Judgement(verdict=Verdict.MISSING, reasons=("there is no file",))
    except OSError as error:
        return _bad(os_reason(error))
    if size == 0:
        return _bad("the file is empty")
    try:
        # the header first: a small file may unpack to any size
        head = read_frame_head(path)
        if (refused := judge_head(head, expected)) is not None:
            return refused
        return judge_blocks(head.width, head.height, frame_blocks(path), expected)
    except Exception as error:  # noqa: BLE001 - two libraries with errors of every kind, and a file from anywhere
        detail = legible(" ".join(str(error).split())[:120]) or type(error).__name__
        return _bad(f"it cannot be read to the end ({detail})")


def _bad(reason: str) -> Judgement:
    return Judgement(verdict=Verdict.BAD, reasons=(reason,))


def judge_head(head: FrameHead, expected: Expected) -> Judgement | None:
    """A verdict that needs no pixels; None where they must be looked at."""
    ordered = expected.width is not None and expected.height is not None
    if ordered and (head.width, head.height) != (expected.width, expected.height):
        return _bad(f"it is {head.width} x {head.height}, not {expected.width} x {expected.height}")
    if head.width * head.height > MOST_PIXELS:
        return _bad(f"it claims {head.width} x {head.height} pixels")
    if head.deep:
        return Judgement(verdict=Verdict.SUSPECT, reasons=("deep samples are not looked into here",))
    if head.needs_bytes > MOST_BYTES:
        needs = f"that takes {head.needs_bytes / (1 << 30):.1f} GiB of memory"
        return Judgement(verdict=Verdict.SUSPECT, reasons=(f"its pixels were not looked at: {needs}",))
    return None


def judge_blocks(width: int, height: int, blocks: Iterable[Block], expected: Expected) -> Judgement:
    """Judge decoded pixels: size, passes, invalid numbers, blackness. Raises what the blocks raise."""
    seen = _Seen()
    for block in blocks:
        seen.add(block)
    if not seen.channels:
        raise ValueError("it has no channels")
    reasons, unchecked = [], []
    if expected.width is None or expected.height is None:
        unchecked.append("size")
    elif (width, height) != (expected.width, expected.height):
        reasons.append(f"it is {width} x {height}, not {expected.width} x {expected.height}")
    if expected.passes:
        absent = [one.name for one in expected.passes if not pass_channels(one, seen.channels)]
        if absent:
            reasons.append("passes are missing: " + ", ".join(absent))
    else:
        unchecked.append("passes")
    reasons += [f"{count} invalid numbers in {name}" for name, count in seen.invalid.items() if count]
    if seen.colour and seen.black:
        reasons.append("it is black all over")
    return Judgement(
        verdict=Verdict.BAD if reasons else Verdict.GOOD,
        reasons=tuple(reasons),
        unchecked=tuple(unchecked),
        look=seen.look(),
    )


class _Seen:
    """What is measured of a frame, block by block."""

    def __init__(self) -> None:
        self.channels: list[str] = []
        self.colour: list[str] = []
        self.invalid: dict[str, int] = {}
        self.black = True
        self._grid: Grid | None = None
        self._shown: list[str] = []

    def add(self, block: Block) -> None:
        if block.first == 0:
            self._begin(block)
        for name, pixels in block.channels.items():
            if pixels.dtype.kind == "f":
                self.invalid[name] = self.invalid.get(name, 0) + count_invalid(pixels)
        if self.black:
            own = (name for name in self.colour if name in block.channels)
            self.black = not any(np.any(np.abs(block.channels[name].astype(np.float32)) > BLACK) for name in own)
        if self._grid is not None and all(name in block.channels for name in self._shown):
            self._grid.add(block.first, brightness([block.channels[name] for name in self._shown]))

    def _begin(self, block: Block) -> None:
        self.channels += block.channels
        colour = [n for n in block.channels if n in ("R", "G", "B", "L") or n.endswith((".R", ".G", ".B"))]
        self.colour += colour
        level = all(block.channels[name].shape[1:] == (block.width,) for name in colour[:3])
        if self._grid is None and colour and level and block.height >= GRID[0] and block.width >= GRID[1]:
            self._grid, self._shown = Grid(block.width, block.height, GRID[1], GRID[0]), colour[:3]

    def look(self) -> tuple[float, ...]:
        """A picture's brightness on a coarse grid, in stops. Means over many pixels: noise hardly shows in them."""
        if self._grid is None:
            return ()
        means = self._grid.means()
        return tuple(np.log2(np.maximum(means, 0) + DARKEST).ravel().round(5).tolist())


def brightness(planes: list[np.ndarray]) -> np.ndarray:
    """Return the mean of up to three colour planes as 32-bit numbers, of their common shape."""
    found = planes[0].astype(np.float32)
    for plane in planes[1:]:
        found += plane
    found /= len(planes)
    return found


def count_invalid(pixels: np.ndarray) -> int:
    """Return how many floating-point numbers are infinite or not a number.

    By the bits of their exponents: the processor does that for many numbers at once, half floats too.
    """
    kind, mask = _NOT_FINITE[pixels.dtype.itemsize]
    exponents = np.ascontiguousarray(pixels).view(kind) & kind(mask)
    return int(np.count_nonzero(exponents == mask)) if exponents.size and exponents.max() == mask else 0


def pass_channels(one: Pass, channels: Iterable[str]) -> list[str]:
    """The channels that hold a pass: a layer of its name, or the unnamed colour, alpha or depth."""
    there = list(channels)
    layer = [name for name in there if name == one.name or name.startswith(f"{one.name}.")]
    if layer:
        return layer
    words = {one.name.lower(), one.source.lower()}
    if words & set(COLOUR_SOURCES):
        return list("RGB") if all(name in there for name in "RGB") else []
    if words & set(ALPHA_SOURCES):
        return ["A"] if "A" in there else []
    if words & {"depth", "z"}:
        return ["Z"] if "Z" in there else []
    return []
