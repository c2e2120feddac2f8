"""The pixels of an OpenEXR file, part by part and some lines at a time: memory does not grow with the picture."""

from __future__ import annotations

import os
import struct
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from threading import Lock
from typing import IO, BinaryIO

import numpy as np
import OpenEXR

from tidy_crate.core.asset.exr_header import MAGIC, MULTI_PART, TILED, ExrPart, exactly, read_exr_parts
from tidy_crate.core.files import legible, open_input
from tidy_crate.core.picture.block import BLOCK_BYTES, MOST_BYTES, Block

_LONG_NAMES = 0x400
_COPIED = 1 << 20
# the longest stored piece that is believed
_MOST_CHUNK = 1 << 30


def exr_blocks(path: Path) -> Iterator[Block]:
    """Decode a file from the top to the bottom of each part. Raises ValueError or what the library raises.

    Channels of the second and later parts that repeat a name get the number of their part before it.
    """
    with open_input(path) as stream:
        parts = read_exr_parts(stream)
        tables = stream.tell()
        used: set[str] = set()
        for number, part in enumerate(parts):
            names = {name: name if name not in used else f"{number}:{name}" for name in part.depths}
            used |= set(part.depths)
            if part.subsampled:
                yield from _at_once(path, number, part, names)
            elif len(parts) == 1:
                # the library takes no path that is not UTF-8
                text = str(path)
                yield from _by_lines(text if legible(text) == text else open_input(path), part, names)
            else:
                with _alone(stream, parts, number, tables) as alone:
                    yield from _by_lines(alone, part, names)


def _by_lines(source: str | IO[bytes], part: ExrPart, names: dict[str, str]) -> Iterator[Block]:
    line_bytes = part.width * sum(part.depths.values())
    if line_bytes * min(part.lines, part.height) > MOST_BYTES:
        raise ValueError(f"its pixels come in pieces of more than {MOST_BYTES >> 30} GiB")
    lines = max(1, BLOCK_BYTES // (line_bytes * part.lines)) * part.lines
    with _muted():
        file = OpenEXR.InputFile(source)
        channels = file.header()["channels"]
        types = {name: _type(str(channel.type)) for name, channel in channels.items()}
    for first in range(0, part.height, lines):
        last = min(first + lines, part.height) - 1
        with _muted():
            planes = file.channels(list(types), scanLine1=part.top + first, scanLine2=part.top + last)
        shape = (last - first + 1, part.width)
        yield Block(
            first,
            part.width,
            part.height,
            {
                names.get(name, name): np.frombuffer(plane, kind).reshape(shape)
                for (name, kind), plane in zip(types.items(), planes, strict=True)
            },
        )


def _type(name: str) -> np.dtype:
    return np.dtype({"HALF": np.float16, "FLOAT": np.float32, "UINT": np.uint32}[name.rsplit(".", 1)[-1]])


def _at_once(path: Path, number: int, part: ExrPart, names: dict[str, str]) -> Iterator[Block]:
    """A part whose channels differ in size has no common lines."""
    if part.decoded_bytes > MOST_BYTES:
        raise ValueError(f"it takes more than {MOST_BYTES >> 30} GiB of memory, and cannot be read by parts")
    with _muted():
        file = OpenEXR.File(str(path), separate_channels=True)
        channels = {names.get(name, name): one.pixels for name, one in file.channels(number).items()}
    if any(pixels is None for pixels in channels.values()):
        raise ValueError("a channel has no pixels")
    yield Block(0, part.width, part.height, channels)


@contextmanager
def _alone(stream: BinaryIO, parts: list[ExrPart], number: int, tables: int) -> Iterator[IO[bytes]]:
    """Copy one part of several, compressed as it is, to a temporary file of its own: the library reads no part alone.

    Source: "OpenEXR File Layout". A piece of a file of several parts begins with its part's number.
    """
    part = parts[number]
    counts = [one.chunks for one in parts[: number + 1]]
    if any(count is None or count <= 0 for count in counts) or sum(filter(None, counts)) > part.height * part.width * 8:
        raise ValueError("its header does not say how many pieces it has")
    expected = -(-part.height // part.lines)
    if not part.tiled and part.chunks != expected:
        raise ValueError(f"its header promises {part.chunks} pieces, and its lines make {expected}")
    count = part.chunks or 0
    stream.seek(tables + 8 * sum(one or 0 for one in counts[:-1]))
    offsets = struct.unpack(f"<{count}Q", exactly(stream, 8 * count))
    with tempfile.TemporaryFile() as alone:
        flags = 2 | _LONG_NAMES | (TILED if part.tiled else 0)
        alone.write(struct.pack("<ii", MAGIC, flags & ~MULTI_PART) + part.raw)
        table = alone.tell()
        alone.write(bytes(8 * count))
        placed = []
        for offset in offsets:
            placed.append(alone.tell())
            stream.seek(offset)
            (of,) = struct.unpack("<i", exactly(stream, 4))
            if of != number:
                raise ValueError("its table of pieces leads to another part")
            head = exactly(stream, 20 if part.tiled else 8)
            (size,) = struct.unpack("<i", head[-4:])
            if not 0 <= size <= _MOST_CHUNK:
                raise ValueError("a piece of it claims an impossible size")
            alone.write(head)
            while size:
                data = exactly(stream, min(size, _COPIED))
                alone.write(data)
                size -= len(data)
        alone.seek(table)
        alone.write(struct.pack(f"<{count}Q", *placed))
        alone.seek(0)
        yield alone


@contextmanager
def _muted() -> Iterator[None]:
    """The library writes its complaints straight to the process's own output and standard error, past Python."""
    # one at a time: of two that overlap, the second would take the first one's silence for the real output
    with _QUIET:
        yield from _silence()


_QUIET = Lock()


def _silence() -> Iterator[None]:
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
