"""Timings that were not measured here: typed in, or from a table."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.durations import parse_seconds
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.files import read_input
from tidy_crate.core.work.request import MOST_PIXELS, RenderRequest

MOST_BYTES = 64 << 20
COLUMNS = ("frame", "seconds", "request", "load_seconds", "memory_bytes", "width", "height", "samples")
_TYPED = re.compile(r"\s*(?:([a-z0-9][a-z0-9_-]*)/)?(-?\d{1,9})\s*=\s*([^,=]+?)\s*")
_NO_FRAMES = "name frames of the crate; `survey` shows its range"


def typed_timings(
    per_frame: str | None, single: Sequence[str], requests: Sequence[RenderRequest], load: str | None = None
) -> Timings:
    """Return timings that were typed in: seconds for every frame alike, or `1=80s,120=350s`. Raises WrongUsage.

    They are for the size and the samples that the requests ask for.
    """
    found: list[FrameTiming] = []
    if per_frame is not None:
        seconds = parse_seconds(per_frame, "the time of a frame")
        for request in requests:
            numbers = sorted(request.numbers())
            # the same at both ends and in the middle: it is said of all of them
            found += [
                FrameTiming(request.name, frame, seconds)
                for frame in {numbers[0], numbers[len(numbers) // 2], numbers[-1]}
            ]
    for text in single:
        for part in text.split(","):
            match = _TYPED.fullmatch(part)
            if match is None:
                comma = " (a decimal comma?)" if re.fullmatch(r"\s*\d+\s*[smh]?\s*", part) else ""
                raise WrongUsage(f"not a timing{comma}", repr(part[:60]), "write FRAME=TIME, such as 1=80s,120=350s")
            seconds = parse_seconds(match[3], f"the time of frame {match[2]}")
            found += _placed(match[1] or "", int(match[2]), requests, repr(part), seconds=seconds)
    _no_doubles(found, "--timing")
    load_seconds = parse_seconds(load, "the time to load the scene") if load else None
    return Timings(tuple(found), load_seconds, "typed", "typed in")


def table_timings(path: Path, requests: Sequence[RenderRequest]) -> Timings:
    """Return the timings of a table: CSV with a header, columns in any order, `frame` and `seconds` at least.

    Fields are parted by commas, semicolons or tabs. Raises UnreadableInput that names the line.
    """
    try:
        text = read_input(path, MOST_BYTES).decode("utf-8-sig")
    except OSError as error:
        raise UnreadableInput(f"cannot read the timings ({error.strerror})", path) from error
    except ValueError as error:
        raise UnreadableInput("the timings are not UTF-8 text", path, "save the table as CSV in UTF-8") from error
    head = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=head.count)
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    found: list[FrameTiming] = []
    loads: list[float] = []
    try:
        names = _header([name.strip().lower() for name in next(rows, [])], path)
        for line, row in enumerate(rows, 2):
            if not any(field.strip() for field in row):
                continue
            where = f"{path}, line {line}"
            if len(row) != len(names):
                raise UnreadableInput(f"the line has {len(row)} fields, the header {len(names)}", where)
            values = {name: field.strip() for name, field in zip(names, row, strict=True) if field.strip()}
            found += _row(values, requests, where)
            if "load_seconds" in values:
                loads.append(_seconds(values["load_seconds"], "load_seconds", where))
    except csv.Error as error:
        raise UnreadableInput(f"the timings are not a table ({error})", path) from error
    if not found:
        raise UnreadableInput("the table holds no timing", path, "add lines with a frame and its seconds")
    _no_doubles(found, path)
    load = sorted(loads)[len(loads) // 2] if loads else None
    return Timings(tuple(found), load, "table", f"the table {path.name}")


def _header(names: list[str], path: Path) -> list[str]:
    if "frame" not in names or "seconds" not in names:
        remedy = f"begin it with a line such as frame,seconds; known columns: {', '.join(COLUMNS)}"
        raise UnreadableInput("the table has no header with the columns frame and seconds", path, remedy)
    for name in names:
        if name not in COLUMNS or names.count(name) > 1:
            problem = "is there twice" if names.count(name) > 1 else "is not known"
            raise UnreadableInput(f"the column {name[:40]!r} {problem}", path, f"known columns: {', '.join(COLUMNS)}")
    return names


def _row(values: dict[str, str], requests: Sequence[RenderRequest], where: str) -> Iterable[FrameTiming]:
    for name in ("frame", "seconds"):
        if name not in values:
            raise UnreadableInput(f"the line has no {name}", where)
    numbers = {name: _whole(values, name, where) for name in ("memory_bytes", "width", "height", "samples")}
    if (numbers["width"] is None) != (numbers["height"] is None):
        raise UnreadableInput("width and height belong together", where)
    for name in ("width", "height"):
        if (numbers[name] or 1) > MOST_PIXELS:
            raise UnreadableInput(f"{name} is over {MOST_PIXELS} pixels", where)
    frame = _whole(values, "frame", where, least=-(2**31))
    assert frame is not None
    try:
        return _placed(
            values.get("request", ""),
            frame,
            requests,
            where,
            seconds=_seconds(values["seconds"], "seconds", where),
            **numbers,
        )
    except WrongUsage as error:
        raise UnreadableInput(error.what, where, error.remedy) from error


def _seconds(text: str, what: str, where: str) -> float:
    try:
        return parse_seconds(text, what)
    except TidyCrateError as error:
        raise UnreadableInput(f"{error.what} ({text[:40]!r})", where, error.remedy) from error


def _whole(values: dict[str, str], name: str, where: str, least: int = 1) -> int | None:
    text = values.get(name)
    if text is None:
        return None
    if not re.fullmatch(r"-?\d{1,15}", text) or not least <= int(text) < 2**53:
        raise UnreadableInput(f"{name} is not a whole number, or below {least}", f"{where}: {text[:40]!r}")
    return int(text)


def _placed(
    request: str, frame: int, requests: Sequence[RenderRequest], where: str, *, seconds: float, **rest: int | None
) -> list[FrameTiming]:
    """Return the timing for the requests that it counts for. Raises WrongUsage where there is none."""
    names = {one.name for one in requests}
    if request and request not in names:
        raise WrongUsage(f"the crate has no request {request[:40]!r}", where, f"it has {', '.join(sorted(names))}")
    meant = [one for one in requests if request in ("", one.name)]
    hit = [one for one in meant if frame in one.numbers()]
    if not hit:
        first = min(min(one.numbers()) for one in meant)
        last = max(max(one.numbers()) for one in meant)
        raise WrongUsage(f"frame {frame} is not rendered: the crate has {first} to {last}", where, _NO_FRAMES)
    return [FrameTiming(one.name, frame, seconds, **rest) for one in hit]


def _no_doubles(found: Sequence[FrameTiming], where: Path | str) -> None:
    seen: set[tuple[object, ...]] = set()
    for one in found:
        key = (one.request, one.frame, one.width, one.height, one.samples)
        if key in seen:
            raise WrongUsage(f"frame {one.frame} has two timings", where, "keep one of them")
        seen.add(key)
