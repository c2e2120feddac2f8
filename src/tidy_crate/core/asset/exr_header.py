"""The header of an OpenEXR file, read without its pixels: the library states no channel types unless it decodes them.

Source: "OpenEXR File Layout", the project's documentation.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

MAGIC = 20000630
_MULTI_PART = 0x1000
# bytes of a number by the format's code for its type: unsigned integer, half, float
_DEPTHS = {0: 4, 1: 2, 2: 4}
# no header is longer; a file may claim anything
_MOST_ATTRIBUTE_BYTES = 16 << 20
_MOST_PARTS = 4096


@dataclass(frozen=True)
class ExrPart:
    """One part. width, height: of the data window. depths: bytes per number of each channel."""

    width: int
    height: int
    depths: dict[str, int]
    deep: bool = False
    """Whether it holds any number of samples for each pixel."""

    @property
    def decoded_bytes(self) -> int:
        """Bytes of all pixels in memory; of a deep part with one sample for each."""
        return self.width * self.height * sum(self.depths.values())


def read_exr_header(path: Path) -> list[ExrPart]:
    """All parts of a file. Raises ValueError when it is no OpenEXR file or its header is broken."""
    with path.open("rb") as stream:
        magic, version = struct.unpack("<ii", _exactly(stream, 8))
        if magic != MAGIC:
            raise ValueError("it is no OpenEXR file")
        parts = [_part(stream)]
        while version & _MULTI_PART and len(parts) < _MOST_PARTS:
            if stream.read(1) == b"\0":
                break
            stream.seek(-1, 1)
            parts.append(_part(stream))
        return parts


def _part(stream: BinaryIO) -> ExrPart:
    attributes: dict[str, bytes] = {}
    while name := _text(stream):
        _text(stream)
        (size,) = struct.unpack("<i", _exactly(stream, 4))
        if not 0 <= size <= _MOST_ATTRIBUTE_BYTES:
            raise ValueError("its header is broken")
        attributes[name] = _exactly(stream, size)
    if "dataWindow" not in attributes or "channels" not in attributes:
        raise ValueError("its header lacks a data window or channels")
    left, top, right, bottom = struct.unpack("<4i", attributes["dataWindow"])
    if right < left or bottom < top:
        raise ValueError("its data window is empty")
    deep = attributes.get("type", b"").startswith(b"deep")
    return ExrPart(right - left + 1, bottom - top + 1, _channels(attributes["channels"]), deep)


def _channels(data: bytes) -> dict[str, int]:
    found: dict[str, int] = {}
    at = 0
    while at < len(data) and data[at]:
        end = data.index(b"\0", at)
        (kind,) = struct.unpack_from("<i", data, end + 1)
        if kind not in _DEPTHS:
            raise ValueError("a channel is of no known type")
        found[data[at:end].decode("utf-8", "replace")] = _DEPTHS[kind]
        at = end + 1 + 16
    return found


def _text(stream: BinaryIO) -> str:
    found = bytearray()
    while (byte := _exactly(stream, 1)) != b"\0":
        found += byte
        if len(found) > 255:
            raise ValueError("its header is broken")
    return found.decode("utf-8", "replace")


def _exactly(stream: BinaryIO, count: int) -> bytes:
    data = stream.read(count)
    if len(data) != count:
        raise ValueError("its header is cut short")
    return data
