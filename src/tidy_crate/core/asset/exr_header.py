"""The header of an OpenEXR file, read without its pixels: the library states no channel types unless it decodes them.

Source: "OpenEXR File Layout", the project's documentation.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

from tidy_crate.core.files import open_input

MAGIC = 20000630
TILED = 0x200
MULTI_PART = 0x1000
# bytes of a number by the format's code for its type: unsigned integer, half, float
_DEPTHS = {0: 4, 1: 2, 2: 4}
# no header is longer; a file may claim anything
_MOST_ATTRIBUTE_BYTES = 16 << 20
_MOST_PARTS = 4096


# lines of pixels that are compressed together, by the format's code for the compression; of a newer one as many as any
_LINES = {0: 1, 1: 1, 2: 1, 3: 16, 4: 32, 5: 16, 6: 32, 7: 32, 8: 32, 9: 256, 10: 256, 11: 32}
_MOST_LINES = 256
# words for the format's codes of compressions and of channel types
_COMPRESSIONS = ("none", "rle", "zips", "zip", "piz", "pxr24", "b44", "b44a", "dwaa", "dwab", "htj2k256", "htj2k32")
_TYPES = {0: "uint", 1: "half", 2: "float"}
_COLOUR = ("chromaticities", "colorInteropID", "colorspace", "oiio:ColorSpace", "acesImageContainerFlag")


@dataclass(frozen=True)
class ExrPart:
    """One part."""

    width: int
    """Pixels across the data window."""
    height: int
    depths: dict[str, int]
    """Bytes per number, by channel."""
    top: int = 0
    """Number of the data window's first line."""
    deep: bool = False
    """True if it holds any number of samples for each pixel."""
    tiled: bool = False
    lines: int = 1
    """Lines of pixels that are stored together, and are decoded together."""
    subsampled: bool = False
    """True if a channel has fewer numbers than the picture has pixels."""
    chunks: int | None = None
    """Stored pieces, where the header says so: it must in a file of several parts."""
    left: int = 0
    """Number of the data window's first column."""
    display: tuple[int, int, int, int] | None = None
    """Display window: left, top, right, bottom, the last two included."""
    compression: str = ""
    """The format's word for it, in small letters; empty for an unknown one."""
    types: dict[str, str] = field(default_factory=dict)
    """By channel: `half`, `float` or `uint`."""
    colour: str = ""
    """Colour space by the header, as text to compare; empty where it says nothing."""
    raw: bytes = field(default=b"", repr=False)
    """The header itself, with its end."""

    @property
    def decoded_bytes(self) -> int:
        """Bytes of all pixels in memory; of a deep part with one sample for each."""
        return self.width * self.height * sum(self.depths.values())


def read_exr_header(path: Path) -> list[ExrPart]:
    """All parts of a file. Raises ValueError when it is not an OpenEXR file or its header is broken."""
    with open_input(path) as stream:
        return read_exr_parts(stream)


def read_exr_parts(stream: BinaryIO) -> list[ExrPart]:
    """All parts, from the start of an open file, which is left where its tables of offsets begin. Raises ValueError."""
    magic, version = struct.unpack("<ii", exactly(stream, 8))
    if magic != MAGIC:
        raise ValueError("it is not an OpenEXR file")
    parts = [_part(stream, version)]
    while version & MULTI_PART and len(parts) < _MOST_PARTS:
        if stream.read(1) == b"\0":
            break
        stream.seek(-1, 1)
        parts.append(_part(stream, version))
    return parts


def _part(stream: BinaryIO, version: int) -> ExrPart:
    begins = stream.tell()
    attributes: dict[str, bytes] = {}
    while name := _text(stream):
        _text(stream)
        (size,) = struct.unpack("<i", exactly(stream, 4))
        if not 0 <= size <= _MOST_ATTRIBUTE_BYTES:
            raise ValueError("its header is broken")
        attributes[name] = exactly(stream, size)
    if "dataWindow" not in attributes or "channels" not in attributes:
        raise ValueError("its header lacks a data window or channels")
    left, top, right, bottom = struct.unpack("<4i", attributes["dataWindow"])
    if right < left or bottom < top:
        raise ValueError("its data window is empty")
    kind = attributes.get("type", b"")
    tiled = kind.endswith(b"tile") or kind == b"tiledimage" or (not kind and bool(version & TILED))
    types, subsampled = _channels(attributes["channels"])
    display = attributes.get("displayWindow", b"")
    code = next(iter(attributes.get("compression", b"")), len(_COMPRESSIONS))
    length = stream.tell() - begins
    stream.seek(begins)
    return ExrPart(
        right - left + 1,
        bottom - top + 1,
        {name: _DEPTHS[code] for name, code in types.items()},
        top=top,
        left=left,
        display=struct.unpack("<4i", display) if len(display) == 16 else None,
        compression=_COMPRESSIONS[code] if code < len(_COMPRESSIONS) else "",
        types={name: _TYPES[code] for name, code in types.items()},
        colour=" ".join(f"{name} {_readable(attributes[name])}" for name in _COLOUR if name in attributes),
        deep=kind.startswith(b"deep"),
        tiled=tiled,
        lines=_lines(attributes, tiled),
        subsampled=subsampled,
        chunks=_whole_number(attributes.get("chunkCount")),
        raw=exactly(stream, length),
    )


def _readable(value: bytes) -> str:
    """A short text for the value of an attribute."""
    if len(value) == 32:
        return " ".join(f"{number:.4g}" for number in struct.unpack("<8f", value))
    return value[:80].decode("utf-8", "replace").strip("\0") if len(value) != 4 else value.hex()


def _whole_number(value: bytes | None) -> int | None:
    return struct.unpack("<i", value)[0] if value is not None and len(value) == 4 else None


def _lines(attributes: dict[str, bytes], tiled: bool) -> int:
    if tiled:
        tiles = attributes.get("tiles", b"")
        if len(tiles) != 9 or not (rows := struct.unpack_from("<I", tiles, 4)[0]):
            raise ValueError("its header does not say how large its tiles are")
        return int(rows)
    return _LINES.get(next(iter(attributes.get("compression", b"")), -1), _MOST_LINES)


def _channels(data: bytes) -> tuple[dict[str, int], bool]:
    found: dict[str, int] = {}
    subsampled = False
    at = 0
    while at < len(data) and data[at]:
        end = data.index(b"\0", at)
        kind, across, down = struct.unpack_from("<i4xii", data, end + 1)
        if kind not in _DEPTHS:
            raise ValueError("a channel is of an unknown type")
        found[data[at:end].decode("utf-8", "replace")] = kind
        subsampled |= (across, down) != (1, 1)
        at = end + 1 + 16
    return found, subsampled


def _text(stream: BinaryIO) -> str:
    found = bytearray()
    while (byte := exactly(stream, 1)) != b"\0":
        found += byte
        if len(found) > 255:
            raise ValueError("its header is broken")
    return found.decode("utf-8", "replace")


def exactly(stream: BinaryIO, count: int) -> bytes:
    """Read so many bytes. Raises ValueError where there are fewer."""
    data = stream.read(count)
    if len(data) != count:
        raise ValueError("its header is cut short")
    return data
