"""Content-defined chunks: a file is cut where its own bytes say so, so that an insertion moves no other cut.

A cut is put after every position whose last 8 bytes hash above a limit. The hash is a sum of two 32-bit words,
each multiplied by an odd constant (Dietzfelbinger et al. 1997, "A reliable randomized algorithm for the closest-pair
problem", multiplicative hashing). It is computed for all positions at once, by NumPy. Muthitacharoen et al. 2001 ("A
low-bandwidth network file system") describe chunks with a least and a greatest size.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

# bytes of a chunk: least, usual distance to the next cut beyond the least, greatest. No position below the least is
# looked at, which saves more than half of the work
LEAST, USUAL, GREATEST = 384 << 10, 256 << 10, 2 << 20
# bytes of the window that decides
WINDOW = 8
# odd, with bits all over
_FIRST, _SECOND = np.uint32(0x9E3779B1), np.uint32(0x85EBCA77)
# a run of zeros has the hash 0 and is not cut everywhere, since only great values are
_LIMIT = np.uint32((1 << 32) - (1 << 32) // USUAL)
# positions that are hashed at a time: their intermediate values stay in the processor's cache
_BLOCK = 128 << 10


class Readable(Protocol):
    """Bytes that can be sliced without a copy: a memoryview, or a memory map wrapped in one."""

    def __len__(self) -> int: ...

    def __getitem__(self, at: slice) -> memoryview: ...


@dataclass(frozen=True, slots=True)
class Chunk:
    """A piece of a file."""

    offset: int
    bytes: int
    blake3: str


Scratch = NDArray[np.uint32]


def scratch() -> Scratch:
    """Return room for intermediate values, for one thread."""
    return np.zeros((3, _BLOCK // 4 + 2), np.uint32)


def first_cut(data: memoryview, begin: int, end: int, room: Scratch) -> int | None:
    """Return the first position of `begin` to `end` (both counted) after which the bytes allow a cut, None for none.

    data: contiguous, of single bytes. begin: at least WINDOW. room: see `scratch`.
    """
    first, second, aligned = room
    beginning = aligned.view(np.uint8)
    for at in range(begin, end + 1, _BLOCK):
        # the windows of the positions from `at` on
        block = np.frombuffer(data[at - WINDOW : min(at + _BLOCK - 1, end)], np.uint8)
        hits = []
        for shift in range(4):
            count = (len(block) - shift) // 4 - 1
            if count < 1:
                continue
            # copied, since arithmetic on words that do not begin at a multiple of four is several times slower
            beginning[: 4 * count + 4] = block[shift : shift + 4 * count + 4]
            words = aligned[: count + 1]
            hashes = np.multiply(words[:-1], _FIRST, out=first[:count])
            hashes += np.multiply(words[1:], _SECOND, out=second[:count])
            # few blocks have a hit, and the greatest value is found faster than all places above a limit
            if hashes.max() > _LIMIT:
                hits.append(at + shift + 4 * int(np.argmax(hashes > _LIMIT)))
        if hits:
            return min(hits)
    return None


def cuts(data: memoryview, *, last: bool) -> Iterator[tuple[int, int]]:
    """Yield begin and end of each chunk of a stretch of a file that begins at a cut.

    last: whether the stretch reaches to the end of the file; the rest after the last certain cut is left out otherwise.
    """
    begin, size, room = 0, len(data), scratch()
    while begin < size:
        greatest = begin + GREATEST
        end = first_cut(data, begin + LEAST, min(greatest, size), room) if begin + LEAST <= size else None
        if end is None:
            end = greatest if greatest <= size else size
            if end < greatest and not last:
                return
        yield begin, end
        begin = end


def chunks(data: memoryview, offset: int = 0, *, last: bool = True) -> list[Chunk]:
    """Cut a stretch of a file into chunks. offset: of the stretch in the file. last: see `cuts`."""
    return [
        Chunk(offset + begin, end - begin, blake3(data[begin:end]).hexdigest()) for begin, end in cuts(data, last=last)
    ]
