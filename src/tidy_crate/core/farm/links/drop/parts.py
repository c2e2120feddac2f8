"""The parts of an upload to a bucket: what an earlier object there already has is copied by the service itself.

Both objects are cut where their contents say so (transfer.chunks), so that a change costs the chunks around it. A list
of the chunks of an object is kept beside it.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

from tidy_crate.core.transfer.chunks import Chunk

# bytes: the protocol's least part, for all but the last, and its largest one that is copied
LEAST, LARGEST = 5 << 20, 5 << 30


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a new object."""

    offset: int
    bytes: int
    source: int | None
    """Offset of the same bytes in the earlier object; None for bytes that are sent."""


def as_list(chunks: Sequence[Chunk]) -> bytes:
    """Write chunks down, in order."""
    return json.dumps([[one.bytes, one.blake3] for one in chunks], separators=(",", ":")).encode()


def from_list(text: bytes, size: int) -> list[Chunk]:
    """Read chunks of an object of so many bytes. Empty for a list that is none, or of another object."""
    try:
        found, at = [], 0
        for length, digest in json.loads(text):
            found.append(Chunk(at, int(length), str(digest)))
            at += int(length)
    except (ValueError, TypeError, RecursionError):
        return []
    return found if at == size and all(one.bytes > 0 for one in found) else []


def parts_of(chunks: Sequence[Chunk], earlier: Sequence[Chunk], usual: int) -> list[Part]:
    """Return the parts of an object with these chunks, where an earlier one is there.

    usual: bytes of a part that is sent, at least twice LEAST less one byte.

    >>> mib = 1 << 20
    >>> old = [Chunk(0, 6 * mib, "a"), Chunk(6 * mib, 6 * mib, "b")]
    >>> new = [Chunk(0, 6 * mib, "a"), Chunk(6 * mib, 7 * mib, "c"), Chunk(13 * mib, 6 * mib, "b")]
    >>> [(one.offset // mib, one.bytes // mib, one.source) for one in parts_of(new, old, 10 * mib)]
    [(0, 6, 0), (6, 7, None), (13, 6, 6291456)]
    """
    found: list[Part] = []
    stretches = _joined(_stretches(chunks, earlier))
    while stretches:
        one = stretches.pop(0)
        if one.source is not None:
            found += _split(one, LARGEST)
            continue
        if one.bytes < LEAST and stretches:
            # a part that is sent takes what it lacks from the copy after it, or all of that
            after = stretches.pop(0)
            taken = LEAST - one.bytes
            if after.bytes - taken < LEAST:
                rest = Part(one.offset, one.bytes + after.bytes, None)
                stretches = _joined([rest, *stretches])
                continue
            assert after.source is not None
            one = Part(one.offset, LEAST, None)
            stretches.insert(0, Part(after.offset + taken, after.bytes - taken, after.source + taken))
        found += _split(one, usual)
    return found


def _stretches(chunks: Sequence[Chunk], earlier: Sequence[Chunk]) -> Iterator[Part]:
    known = {one.blake3: one for one in reversed(earlier)}
    following = {one.offset: one for one in earlier}
    at: int | None = None
    for one in chunks:
        # the chunk that comes next there goes on with the same copy; the same one may be there more than once
        here = following.get(at) if at is not None else None
        here = here if here is not None and here.blake3 == one.blake3 else known.get(one.blake3)
        same = here is not None and here.bytes == one.bytes
        at = here.offset + here.bytes if here is not None and same else None
        yield Part(one.offset, one.bytes, here.offset if here is not None and same else None)


def _joined(stretches: Iterator[Part] | Sequence[Part]) -> list[Part]:
    """Join neighbours, and send what is too small to be copied."""
    runs: list[Part] = []
    for one in stretches:
        last = runs[-1] if runs else None
        if last is not None and _goes_on(last, one):
            runs[-1] = Part(last.offset, last.bytes + one.bytes, last.source)
        else:
            runs.append(one)
    found: list[Part] = []
    for one in runs:
        sent = one if one.source is None or one.bytes >= LEAST else Part(one.offset, one.bytes, None)
        last = found[-1] if found else None
        if last is not None and last.source is None and sent.source is None:
            found[-1] = Part(last.offset, last.bytes + sent.bytes, None)
        else:
            found.append(sent)
    return found


def _goes_on(last: Part, one: Part) -> bool:
    if last.source is None or one.source is None:
        return last.source is one.source
    return last.source + last.bytes == one.source


def _split(one: Part, most: int) -> Iterator[Part]:
    """Cut a part into pieces of about equal size, none smaller than half of `most`."""
    count = max(1, -(-one.bytes // most))
    edges = [one.bytes * number // count for number in range(count + 1)]
    for begin, end in pairwise(edges):
        yield Part(one.offset + begin, end - begin, None if one.source is None else one.source + begin)
