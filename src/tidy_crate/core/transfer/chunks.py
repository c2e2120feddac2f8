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

# bytes of a chunk: least, usual distance of cuts beyond the least, greatest
LEAST, USUAL, GREATEST = 64 << 10, 256 << 10, 1 << 20
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


def candidates(data: memoryview) -> NDArray[np.int64]:
    """Return the sorted positions after which the bytes allow a cut. data: contiguous, of single bytes."""
    found: list[NDArray[np.int64]] = []
    first, second = np.empty((2, _BLOCK // 4 + 2), np.uint32)
    for begin in range(0, max(0, len(data) - WINDOW + 1), _BLOCK):
        block = data[begin : begin + _BLOCK + WINDOW - 1]
        for shift in range(4):
            count = (len(block) - shift) // 4 - 1
            if count < 1:
                continue
            words = np.frombuffer(block, "<u4", count + 1, shift)
            hashes = np.multiply(words[:-1], _FIRST, out=first[:count])
            hashes += np.multiply(words[1:], _SECOND, out=second[:count])
            # few blocks have a hit, and the greatest value is found faster than all places above a limit
            if hashes.max() > _LIMIT:
                found.append(begin + shift + 4 * np.flatnonzero(hashes > _LIMIT).astype(np.int64) + WINDOW)
    return np.unique(np.concatenate(found)) if found else np.empty(0, np.int64)


def cuts(data: memoryview, *, last: bool) -> Iterator[tuple[int, int]]:
    """Yield begin and end of each chunk of a stretch of a file that begins at a cut.

    last: whether the stretch reaches to the end of the file; the rest after the last certain cut is left out otherwise.
    """
    begin, size = 0, len(data)
    possible = candidates(data)
    while begin < size:
        left = size - begin
        if left <= LEAST:
            if last:
                yield begin, size
            return
        at = int(np.searchsorted(possible, begin + LEAST))
        end = int(possible[at]) if at < len(possible) else size + GREATEST
        end = min(end, begin + GREATEST)
        if end >= size:
            if not last and end > size:
                return
            end = size
        yield begin, end
        begin = end


def chunks(data: memoryview, offset: int = 0, *, last: bool = True) -> list[Chunk]:
    """Cut a stretch of a file into chunks. offset: of the stretch in the file. last: see `cuts`."""
    return [
        Chunk(offset + begin, end - begin, blake3(data[begin:end]).hexdigest()) for begin, end in cuts(data, last=last)
    ]
