"""Judging one frame file by its header and its pixels, and measuring what other frames are compared with."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import Field

from tidy_crate.core.files import legible, os_reason
from tidy_crate.core.model import Model
from tidy_crate.core.picture.block import MOST_BYTES, Block, is_ids
from tidy_crate.core.picture.decode import MOST_PIXELS, Form, FrameHead, frame_blocks, read_frame_head
from tidy_crate.core.picture.look import Look, look_at, stride
from tidy_crate.core.picture.pass_look import PassLook, PassReader
from tidy_crate.core.picture.tiff import unread_tiff
from tidy_crate.core.scene.model import Pass
from tidy_crate.core.work.attempt import Verdict

# a picture whose brightest colour stays below this is black to any eye
BLACK = 1e-5
ALL_BLACK = "it is black all over"
COLOUR_SOURCES = ("beauty", "color", "colour", "rgb", "rgba", "c", "ci")
ALPHA_SOURCES = ("alpha", "a", "opacity")
# the exponent bits of a number that is not finite, and all bits but the sign, by its size in bytes
_FLOATS = {
    2: (np.uint16, 0x7C00, 0x7FFF),
    4: (np.uint32, 0x7F800000, 0x7FFFFFFF),
    8: (np.uint64, 0x7FF0000000000000, 0x7FFFFFFFFFFFFFFF),
}
# invalid numbers that are fewer are single pixels, and no region
FIREFLIES = 16
# these keep every bit of a pixel; an order of one of them is not met by any other
LOSSLESS = ("none", "rle", "zips", "zip", "piz")
# steps that never come round again, so that neighbouring numbers of objects differ in tone
TONES = (0.618034, 0.754878, 0.569840)


class Expected(Model):
    """Expected form of a frame file."""

    width: int | None = None
    """In pixels; None when unknown."""
    height: int | None = None
    """In pixels; None when unknown."""
    passes: tuple[Pass, ...] = ()
    bit_depth: int | None = None
    """Bits of a channel, at least; None when unknown."""
    compression: str | None = None
    """The file format's word for it; None when unknown."""


class Invalid(Model):
    """Numbers of a channel that are infinite or not a number."""

    count: int
    box: tuple[int, int, int, int]
    """Their box: left, top, right, bottom, in pixels from the top left; the last two not included."""


class Judgement(Model):
    """A verdict with its reasons in plain words, and what was measured."""

    verdict: Verdict
    reasons: tuple[str, ...] = ()
    unchecked: tuple[str, ...] = ()
    """Names of checks that were left out, because nothing says how the frame should be."""
    form: Form | None = None
    """None where the header cannot be read."""
    black: bool = False
    """True when its colour is black all over."""
    empty: tuple[str, ...] = ()
    """Channels that are 0 all over."""
    alpha: tuple[float, float, float] | None = None
    """Least, mean and greatest alpha; None where it has none."""
    invalid: dict[str, Invalid] = Field(default_factory=dict)
    seen: dict[str, Any] | None = None
    """The look of it, as `Look.to_json` writes it; None for one too small, or that cannot be read."""
    seen_passes: dict[str, dict[str, Any]] = Field(default_factory=dict)
    """By pass beside the picture, its look, as `PassLook.to_json` writes it."""

    @property
    def look(self) -> Look | None:
        """Return the look that it is compared by."""
        return Look.from_json(self.seen) if self.seen is not None else None

    @property
    def passes(self) -> dict[str, PassLook]:
        """Return the looks of the passes beside the picture, by their names."""
        return {name: PassLook.from_json(said) for name, said in self.seen_passes.items()}


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
        refused = judge_head(head, expected)
        found = refused or judge_blocks(head.width, head.height, frame_blocks(path), expected)
        return found.model_copy(update={"form": head.form})
    except Exception as error:  # noqa: BLE001 - two libraries with errors of every kind, and a file from anywhere
        kind = unread_tiff(path)
        if kind is not None:
            # nothing in the frame says that it is wrong
            words = f"its pixels were not looked at: {kind} is not read here"
            return Judgement(verdict=Verdict.SUSPECT, reasons=(words,), unchecked=("pixels",))
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
    bits = head.form.bits
    if expected.bit_depth is not None and 0 < bits < expected.bit_depth:
        return _bad(f"its channels have {bits} bits, {expected.bit_depth} were ordered")
    lossy = head.form.compression not in (*LOSSLESS, "")
    if expected.compression in LOSSLESS and lossy and head.form.channels:
        order = f"{expected.compression} was ordered"
        return _bad(f"it is compressed with {head.form.compression}, which loses detail: {order}")
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
    reasons += _invalid(seen.invalid)
    black = bool(seen.colour) and seen.black
    if black:
        reasons.append(ALL_BLACK)
    look = seen.look()
    return Judgement(
        verdict=Verdict.BAD if reasons else Verdict.GOOD,
        reasons=tuple(reasons),
        unchecked=tuple(unchecked),
        black=black,
        empty=tuple(name for name in seen.channels if name not in seen.filled),
        alpha=seen.alpha(),
        invalid=seen.invalid,
        seen=look.to_json() if look is not None else None,
        seen_passes={name: one.to_json() for name, one in seen.passes().items()},
    )


def _invalid(found: dict[str, Invalid]) -> list[str]:
    """Say where numbers are invalid; channels in which they are at the same pixels together."""
    alike: dict[tuple[int, tuple[int, int, int, int]], list[str]] = {}
    for name, one in found.items():
        alike.setdefault((one.count, one.box), []).append(name)
    told = []
    for (count, (left, top, right, bottom)), names in alike.items():
        where = "single pixels" if count <= FIREFLIES else f"{right - left} x {bottom - top} pixels"
        names.sort(key=lambda name: ("RGBA".find(name[-1:]) % 5, name))
        told.append(f"{count} invalid numbers in {', '.join(names)}: {where}, from {left}, {top}")
    return told


class _Seen:
    """The measures of a frame, gathered block by block."""

    def __init__(self) -> None:
        self.channels: list[str] = []
        self.colour: list[str] = []
        self.invalid: dict[str, Invalid] = {}
        self.filled: set[str] = set()
        self.black = True
        self._shown: tuple[str, ...] = ()
        self._planes: np.ndarray | None = None
        self._stride = 1
        self._alpha: tuple[float, float, float, int] | None = None
        self._passes: list[PassReader] = []

    def add(self, block: Block) -> None:
        if block.first == 0:
            self._begin(block)
        for name, pixels in block.channels.items():
            largest = self._numbers(name, pixels, block.first)
            if self.black and name in self.colour and largest > BLACK:
                self.black = False
        alpha = block.channels.get("A")
        if alpha is not None and alpha.size:
            least, total, greatest, count = self._alpha or (np.inf, 0.0, -np.inf, 0)
            own = alpha.astype(np.float32)
            self._alpha = (
                min(least, float(own.min())), total + float(own.sum(dtype=np.float64)),
                max(greatest, float(own.max())), count + own.size,
            )  # fmt: skip
        if self._planes is not None and all(name in block.channels for name in self._shown):
            self._keep(block)
        if self._passes:
            self._passes[-1].add(block)

    def _numbers(self, name: str, pixels: np.ndarray, first: int) -> float:
        """Note what is invalid. Returns the largest size of a number, infinity for one that is invalid.

        By the bits of the numbers: the processor does that for many at once, half floats too.
        """
        if not pixels.size:
            return 0.0
        if pixels.dtype.kind != "f":
            largest = float(pixels.max())
        else:
            kind, mask, size = _FLOATS[pixels.dtype.itemsize]
            bits = np.ascontiguousarray(pixels).view(kind) & kind(size)
            top = bits.max()
            largest = float(np.asarray(top).view(pixels.dtype)) if top < mask else np.inf
            if top >= mask:
                self._note_invalid(name, bits >= mask, first)
        if largest > 0:
            self.filled.add(name)
        return largest

    def _note_invalid(self, name: str, wrong: np.ndarray, first: int) -> None:
        rows, columns = np.flatnonzero(wrong.any(axis=1)), np.flatnonzero(wrong.any(axis=0))
        box = int(columns[0]), first + int(rows[0]), int(columns[-1]) + 1, first + int(rows[-1]) + 1
        count = int(np.count_nonzero(wrong))
        if (known := self.invalid.get(name)) is not None:
            count += known.count
            box = min(box[0], known.box[0]), known.box[1], max(box[2], known.box[2]), box[3]
        self.invalid[name] = Invalid(count=count, box=box)

    def _begin(self, block: Block) -> None:
        self.channels += block.channels
        colour = [n for n in block.channels if n in ("R", "G", "B", "L") or n.endswith((".R", ".G", ".B"))]
        self.colour += colour
        if self._planes is None:
            shown = shown_channels(block.channels)
            if all(block.channels[name].shape[1:] == (block.width,) for name in shown):
                self._shown, self._stride = shown, stride(block.width, block.height)
                size = (-(-block.height // self._stride), -(-block.width // self._stride))
                self._planes = np.zeros((3 if is_ids(block.channels[shown[0]]) else len(shown), *size), np.float32)
        self._passes.append(PassReader(block, self._shown))

    def _keep(self, block: Block) -> None:
        assert self._planes is not None
        step = self._stride
        offset = -block.first % step
        at = (block.first + offset) // step
        with np.errstate(all="ignore"):
            for plane, name in zip(self._planes, self._shown, strict=False):
                own = block.channels[name][offset::step, ::step]
                if is_ids(own):
                    for tone, factor in zip(self._planes, TONES, strict=True):
                        tone[at : at + len(own)] = np.where(own == 0, 0, 0.1 + 0.6 * ((own * factor) % 1.0))
                else:
                    plane[at : at + len(own)] = own

    def look(self) -> Look | None:
        planes, self._planes = self._planes, None
        return look_at(planes) if planes is not None else None

    def passes(self) -> dict[str, PassLook]:
        """Return the looks of the passes, of all parts of the file."""
        return {name: one for reader in self._passes for name, one in reader.looks().items()}

    def alpha(self) -> tuple[float, float, float] | None:
        if self._alpha is None or not np.isfinite(self._alpha[1]):
            return None
        least, total, greatest, count = self._alpha
        return least, total / count, greatest


def shown_channels(channels: Iterable[str]) -> tuple[str, ...]:
    """Return the channels that show the picture: its colour, else the first layer with a colour, else one channel."""
    there = list(channels)
    layers = dict.fromkeys(name[: -len("R")] for name in there if name == "R" or name.endswith(".R"))
    colours = [layer for layer in layers if all(f"{layer}{part}" in there for part in "GB")]
    colours.sort(key=lambda layer: (layer != "", layer.rstrip(".").lower() not in COLOUR_SOURCES))
    if colours:
        return tuple(f"{colours[0]}{part}" for part in "RGB")
    single = next((name for name in ("Y", "L", "A") if name in there), there[0])
    return (single,)


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
