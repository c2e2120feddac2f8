"""Frame lists as wranglers write them: `1-10x2,15,-5--1`.

A list is a tuple of whole frames in the order they are to be rendered. A run `a-b` counts both ends;
`a-bxN` takes every N-th frame of it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from tidy_crate.core.errors import WrongUsage

MOST_FRAMES = 1_000_000
_RUN = re.compile(r"\s*(-?\d{1,9})(?:\s*-\s*(-?\d{1,9})(?:\s*x\s*(\d{1,9}))?)?\s*")


def is_frame_list(text: str) -> str:
    """Return a frame list as it is. Raises ValueError for what is none, as validators of models do."""
    try:
        parse_frames(text)
    except WrongUsage as error:
        raise ValueError(str(error)) from error
    return text


def parse_frames(text: str) -> tuple[int, ...]:
    """Read a frame list. Each frame may be named once.

    Raises WrongUsage on anything that is not a frame list, a frame named twice, or over a million frames.
    """
    frames: list[int] = []
    for piece in text.split(","):
        match = _RUN.fullmatch(piece)
        if not match:
            raise WrongUsage(
                "not a frame list",
                repr(text[:80]),
                "write frames like 1-10, 1-10x2 or 1,5,9, joined by commas",
            )
        first = int(match[1])
        last = int(match[2]) if match[2] is not None else first
        step = int(match[3]) if match[3] is not None else 1
        if step == 0 or last < first:
            raise WrongUsage(
                "a run of frames that is empty",
                repr(piece.strip()),
                "write the lower frame first, and a step of 1 or more",
            )
        if len(frames) + (last - first) // step + 1 > MOST_FRAMES:
            raise WrongUsage("more than a million frames", repr(text[:80]), "split the job into shots")
        frames.extend(range(first, last + 1, step))
    if len(set(frames)) != len(frames):
        raise WrongUsage("a frame is named twice", repr(text[:80]), "name each frame once")
    return tuple(frames)


def format_frames(frames: Sequence[int], *, steps: bool = True) -> str:
    """Write a frame list so that `parse_frames` gives back the very same frames in the same order.

    steps: whether every n-th frame of a range may be written as such, `2-11x3`; else only numbers and whole ranges are.
    """
    pieces: list[str] = []
    at = 0
    while at < len(frames):
        end, step = _run_from(frames, at)
        if (end - at < 2 or not steps) and not (step == 1 and end > at):
            pieces.append(str(frames[at]))
            at += 1
            continue
        run = f"{frames[at]}-{frames[end]}"
        pieces.append(run if step == 1 else f"{run}x{step}")
        at = end + 1
    return ",".join(pieces)


def _run_from(frames: Sequence[int], start: int) -> tuple[int, int]:
    """Last index and step of the longest even, rising run that starts at index `start`."""
    if start + 1 >= len(frames):
        return start, 1
    step = frames[start + 1] - frames[start]
    if step <= 0:
        return start, 1
    end = start + 1
    while end + 1 < len(frames) and frames[end + 1] - frames[end] == step:
        end += 1
    return end, step


def frame_count(start: int, end: int, step: int) -> int:
    """Return how many frames a range has, both ends counted; 0 for a reversed one."""
    return 0 if end < start or step < 1 else (end - start) // step + 1
