"""TIFF files that are complete, and of a kind that is not read here: they are unchecked, and not bad."""

from __future__ import annotations

import struct
from pathlib import Path

from tidy_crate.core.files import open_input

_KINDS = {1: "whole numbers", 2: "signed numbers", 3: "floating point"}
_FIELDS = {258: "bits", 339: "kind", 273: "offsets", 324: "offsets", 279: "lengths", 325: "lengths"}
# bytes of a value, by its type: short and long
_SIZES = {3: 2, 4: 4}
MOST_VALUES = 1 << 20


def unread_tiff(path: Path) -> str | None:
    """Say what kind of TIFF a file is whose directory and pixels are all there; None for any other file.

    After "TIFF Revision 6.0", Adobe 1992, sections 2, 7, 15 and 19.
    """
    try:
        found, end = _directory(path)
    except (OSError, struct.error, KeyError):
        return None
    offsets, lengths = found.get("offsets", ()), found.get("lengths", ())
    if not offsets or len(offsets) != len(lengths):
        return None
    if any(offset + length > end for offset, length in zip(offsets, lengths, strict=True)):
        return None
    bits, kind = found.get("bits", (1,)), found.get("kind", (1,))[0]
    if kind == 1 and bits[0] <= 16:
        # that kind is read here: where it could not be, it is broken
        return None
    return f"TIFF with {len(bits)} channels of {bits[0]} bits, {_KINDS.get(kind, 'of an unknown kind')},"


def _directory(path: Path) -> tuple[dict[str, tuple[int, ...]], int]:
    """Return the fields of the first directory that matter here, and the size of the file."""
    found: dict[str, tuple[int, ...]] = {}
    with open_input(path) as file:
        head = file.read(8)
        order = {b"II*\0": "<", b"MM\0*": ">"}[head[:4]]
        file.seek(struct.unpack(order + "I", head[4:])[0])
        (count,) = struct.unpack(order + "H", file.read(2))
        for tag, kind, number, value in struct.iter_unpack(order + "HHI4s", file.read(12 * count)):
            name, size = _FIELDS.get(tag), _SIZES.get(kind, 0)
            if name is None or not size or not 0 < number <= MOST_VALUES:
                continue
            raw = value[: number * size]
            if number * size > len(value):
                file.seek(struct.unpack(order + "I", value)[0])
                raw = file.read(number * size)
            found[name] = struct.unpack(f"{order}{number}{'H' if size == 2 else 'I'}", raw)
        return found, file.seek(0, 2)
