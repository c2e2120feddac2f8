"""Packs: many pieces of files in one body, so that the time of a round trip is paid once for all of them.

A pack is a row of pieces. Each is a header of 76 bytes, then its own bytes. The header holds, little-endian: the BLAKE3
of the file (32 bytes), the offset in it (8), the number of bytes (4), and the BLAKE3 of the piece (32). A small file is
one piece whose two digests are the same.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import TypeVar

HEADER = struct.Struct("<32sQI32s")
# bytes of the largest file that is one piece
SMALL = 512 << 10
# of one pack: bytes of contents, and pieces
MOST_BYTES, MOST_PIECES = 8 << 20, 1000
# bytes of the largest body that a farm has to take: a full pack and one more piece
MOST_BODY = (16 << 20) + HEADER.size * MOST_PIECES


T = TypeVar("T")


class BadPack(ValueError):
    """A body that is no pack."""


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of a file on its way."""

    file: str
    """BLAKE3 of the whole file."""
    offset: int
    blake3: str
    """Digest of the piece."""
    data: memoryview | bytes
    whole: int = 0
    """Bytes of the whole file; 0 where that is not known."""


def in_packs(items: Iterable[T], bytes_of: Callable[[T], int], most: int = MOST_PIECES) -> Iterator[list[T]]:
    """Yield items in groups that fit into one pack each. most: items in a group."""
    group: list[T] = []
    size = 0
    for item in items:
        if group and (size + bytes_of(item) > MOST_BYTES or len(group) == most):
            yield group
            group, size = [], 0
        group.append(item)
        size += bytes_of(item)
    if group:
        yield group


def packed(pieces: Iterable[Piece]) -> Iterator[bytes | memoryview]:
    """Yield the body of a pack, without copying the contents."""
    for piece in pieces:
        yield HEADER.pack(bytes.fromhex(piece.file), piece.offset, len(piece.data), bytes.fromhex(piece.blake3))
        if len(piece.data):
            yield piece.data


def size_of(pieces: Iterable[Piece]) -> int:
    """Return the bytes of the body."""
    return sum(HEADER.size + len(piece.data) for piece in pieces)


@dataclass(frozen=True, slots=True)
class Head:
    """The header of a piece."""

    file: str
    offset: int
    bytes: int
    blake3: str


class Unpacking:
    """Takes a body apart as it arrives: what is read a moment ago is still in the processor's cache."""

    def __init__(self) -> None:
        self._header = bytearray()
        self._left = 0
        self._count = 0
        self._head: Head | None = None
        self._data = bytearray()

    def feed(self, part: bytes | memoryview) -> Iterator[Head | memoryview]:
        """Yield each header as it is complete, then its bytes as they come. Raises BadPack for too many pieces."""
        view = memoryview(part)
        while view:
            if self._left:
                taken, view = view[: self._left], view[self._left :]
                self._left -= len(taken)
                yield taken
                continue
            wanted = HEADER.size - len(self._header)
            self._header += view[:wanted]
            view = view[wanted:]
            if len(self._header) == HEADER.size:
                yield self._begin()

    def whole(self, part: bytes | memoryview, check: Callable[[Head], None]) -> Iterator[Piece]:
        """Yield each piece as it is complete. check: is shown each header before its bytes, and may raise."""
        for one in self.feed(part):
            if isinstance(one, Head):
                check(one)
                self._head, self._data = one, bytearray()
            else:
                self._data += one
            if self._head is not None and len(self._data) == self._head.bytes:
                head, self._head = self._head, None
                yield Piece(head.file, head.offset, head.blake3, bytes(self._data))

    def _begin(self) -> Head:
        self._count += 1
        if self._count > MOST_PIECES:
            raise BadPack(f"a pack holds {MOST_PIECES} pieces at most")
        file, offset, size, digest = HEADER.unpack(self._header)
        self._header.clear()
        self._left = size
        return Head(file.hex(), offset, size, digest.hex())

    def end(self) -> None:
        """Raise BadPack where the body ended in the middle of a piece."""
        if self._header:
            raise BadPack("the pack ends in the middle of a header")
        if self._left:
            raise BadPack("the pack ends in the middle of a piece")
