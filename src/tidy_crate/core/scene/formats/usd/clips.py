"""Value clips given by a template: `clip.###.usd`, with a number per frame, or `clip.##.##.usd` with sub-frames.

Source: the OpenUSD documentation, "Sequencable, Re-timeable Animated Value Clips", template clips.
"""

from __future__ import annotations

import re
from typing import Any

TEMPLATE = "templateAssetPath"
MOST_CLIPS = 1_000_000
_HASHES = re.compile(r"(?P<whole>#+)(?:\.(?P<part>#+))?")


def template_numbers(clip_set: dict[str, Any]) -> tuple[str, ...]:
    """The numbers that a clip set's template is filled with, in order; none when it states no valid times.

    Both ends count. Sub-frames are cut off, not rounded, after as many digits as the template has.
    """
    return tuple(number for number, _ in _numbers_and_times(clip_set))


def template_times(clip_set: dict[str, Any]) -> tuple[float, ...]:
    """The times of the clip set's layer from which each file of its template plays, as many as there are numbers.

    Shifted by the template's active offset, where that is smaller than its stride; otherwise USD plays nothing of it.
    """
    stride, shift = clip_set.get("templateStride"), clip_set.get("templateActiveOffset", 0.0)
    shift = float(shift) if isinstance(shift, int | float) and abs(shift) <= abs(stride or 0) else 0.0
    return tuple(time + shift for _, time in _numbers_and_times(clip_set))


def _numbers_and_times(clip_set: dict[str, Any]) -> tuple[tuple[str, float], ...]:
    text = clip_set.get(TEMPLATE)
    start, end = clip_set.get("templateStartTime"), clip_set.get("templateEndTime")
    stride = clip_set.get("templateStride")
    if not isinstance(text, str) or not all(isinstance(value, int | float) for value in (start, end, stride)):
        return ()
    match = _HASHES.search(text)
    if not match or stride <= 0 or end < start or (end - start) / stride > MOST_CLIPS:  # type: ignore[operator]
        return ()
    # counted in whole steps of a ten-thousandth: adding up a stride of 0.1 would drift past the end
    first, last, step = (round(value * 10_000) for value in (start, end, stride))  # type: ignore[operator]
    return tuple((_number(at / 10_000, match), at / 10_000) for at in range(first, last + 1, max(1, step)))


def filled(text: str, number: str) -> str:
    """The path of one clip."""
    return _HASHES.sub(lambda _: number, text, count=1)


def _number(time: float, match: re.Match[str]) -> str:
    sign, size = ("-" if time < 0 else ""), abs(time)
    whole = f"{sign}{int(size + 1e-9):0{len(match['whole'])}d}"
    if match["part"] is None:
        return whole
    digits = len(match["part"])
    return f"{whole}.{int(round((size - int(size + 1e-9)) * 10**9) // 10 ** (9 - digits)):0{digits}d}"
