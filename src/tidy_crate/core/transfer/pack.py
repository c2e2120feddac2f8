"""Packs: many pieces of files in one body, so that the time of a round trip is paid once for all of them.

A pack is a row of pieces. Each is a header of 76 bytes, then its own bytes. The header holds, little-endian: the BLAKE3
of the file (32 bytes), the offset in it (8), the number of bytes (4), and the BLAKE3 of the piece (32). A small file is
one piece whose two digests are the same.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

HEADER = struct.Struct("<32sQI32s")
# of one pack: bytes of contents, and pieces
MOST_BYTES, MOST_PIECES = 8 << 20, 1000
# bytes of the largest body that a farm has to take: a full pack and one more piece
MOST_BODY = (16 << 20) + HEADER.size * MOST_PIECES


class BadPack(ValueError):
    """A body that is no pack."""


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of a file on its way."""

    file: str
    """BLAKE3 of the whole file."""
    offset: int
    blake3: str
    """Of the piece."""
    data: memoryview | bytes


def packed(pieces: Iterable[Piece]) -> Iterator[bytes | memoryview]:
    """Yield the body of a pack, without copying the contents."""
    for piece in pieces:
        yield HEADER.pack(bytes.fromhex(piece.file), piece.offset, len(piece.data), bytes.fromhex(piece.blake3))
        if len(piece.data):
            yield piece.data


def size_of(pieces: Iterable[Piece]) -> int:
    """Return the bytes of the body."""
    return sum(HEADER.size + len(piece.data) for piece in pieces)


def unpacked(body: memoryview) -> Iterator[Piece]:
    """Yield the pieces of a body. Raises BadPack where it ends in the middle of one, or holds too many."""
    at = count = 0
    while at < len(body):
        count += 1
        if count > MOST_PIECES:
            raise BadPack(f"a pack holds {MOST_PIECES} pieces at most")
        if at + HEADER.size > len(body):
            raise BadPack("the pack ends in the middle of a header")
        file, offset, size, digest = HEADER.unpack_from(body, at)
        at += HEADER.size
        if at + size > len(body):
            raise BadPack("the pack ends in the middle of a piece")
        yield Piece(file.hex(), offset, digest.hex(), body[at : at + size])
        at += size
