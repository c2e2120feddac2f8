"""A change of what is rendered, priced without new test frames: samples, size, frames."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from tidy_crate.core.asset.frames import format_frames, parse_frames
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.work.request import RenderRequest

_PART = re.compile(r"\s*([a-z]+)\s*=\s*(.*?)\s*(?=,\s*[a-z]+\s*=|$)(?:,|$)")
_KNOWN = "samples=64, size=50%, frames=1-100x2 or speed=2, joined by commas"


@dataclass(frozen=True)
class Change:
    """A change of what is rendered. None leaves it as it is."""

    samples: int | None = None
    scale: float | None = None
    """Scale of width and height, on top of the requests' own."""
    frames: tuple[int, ...] | None = None
    speed: float | None = None
    """Factor by which every frame is faster."""

    def __str__(self) -> str:
        parts = [
            f"samples={self.samples}" if self.samples else "",
            f"size={self.scale * 100:.3g}%" if self.scale else "",
            f"frames={format_frames(self.frames)}" if self.frames else "",
            f"speed={self.speed:g}" if self.speed else "",
        ]
        return ",".join(part for part in parts if part)


def parse_change(text: str) -> Change:
    """Read a change such as `samples=64,size=50%,frames=1-100x2`. Raises WrongUsage.

    >>> parse_change("size=50%").scale
    0.5
    """
    found: dict[str, str] = {}
    at = 0
    while at < len(text):
        match = _PART.match(text, at)
        if match is None or match[1] in found:
            raise WrongUsage("not a change", repr(text[:80]), f"write {_KNOWN}")
        found[match[1]] = match[2]
        at = match.end()
    if "size" in found and "scale" not in found:
        # before, it was called scale
        found["scale"] = found.pop("size")
    unknown = set(found) - {"samples", "scale", "frames", "speed"}
    if unknown or not found:
        raise WrongUsage("not a change", repr(text[:80]), f"write {_KNOWN}")
    samples = _number(found.get("samples"), "samples", text)
    if samples is not None and (samples < 1 or samples != int(samples)):
        raise WrongUsage("samples are a whole number of 1 or more", repr(text[:80]))
    scale = found.get("scale")
    share = _number(scale.removesuffix("%"), "scale", text) if scale else None
    if share is not None and scale is not None:
        share = share / 100 if scale.endswith("%") else share
        if not 0 < share <= 16:
            raise WrongUsage("a size is more than 0 % and at most 1600 %", repr(text[:80]))
    speed = _number(found.get("speed"), "speed", text)
    if speed is not None and not 0 < speed < 1e6:
        raise WrongUsage("a speed is a factor above 0", repr(text[:80]))
    frames = parse_frames(found["frames"]) if "frames" in found else None
    return Change(None if samples is None else int(samples), share, frames, speed)


def _number(text: str | None, what: str, whole: str) -> float | None:
    if text is None:
        return None
    try:
        found = float(text)
    except ValueError as error:
        raise WrongUsage(f"{what} is not a number", repr(whole[:80]), f"write {_KNOWN}") from error
    if not abs(found) < float("inf"):
        raise WrongUsage(f"{what} is not a number", repr(whole[:80]), f"write {_KNOWN}")
    return found


def changed(requests: Iterable[RenderRequest], change: Change) -> tuple[RenderRequest, ...]:
    """Return the requests with a change. Raises WrongUsage where it cannot be made.

    Samples can be changed only where the requests state them, since nothing else says what the timings are of.
    """
    found = []
    for request in requests:
        update: dict[str, object] = {}
        if change.samples is not None:
            if request.samples is None:
                raise WrongUsage(
                    "nothing states how many samples the scene takes, so that other samples cannot be compared",
                    f"request {request.name}", "set samples in the scene's settings, or ask for another scale",
                )  # fmt: skip
            update["samples"] = change.samples
        if change.scale is not None:
            width, height = (max(1, round(side * change.scale)) for side in (request.width, request.height))
            update |= {"width": width, "height": height}
        if change.frames is not None:
            update["frames"] = format_frames(change.frames)
        found.append(RenderRequest.model_validate(request.model_dump() | update))
    return tuple(found)


def every_second(requests: Iterable[RenderRequest]) -> tuple[RenderRequest, ...]:
    """Return the requests with every second frame, a range that is rendered twice as coarsely."""
    return tuple(request.model_copy(update={"frames": format_frames(request.numbers()[::2])}) for request in requests)
