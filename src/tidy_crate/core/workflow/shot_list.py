"""Shot lists: the shots of a night with what is asked of each, as TOML or CSV, looked over before anything runs."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field

from tidy_crate.core.asset.paths import scene_stem, without_version
from tidy_crate.core.context.carry_rules import CapText
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.estimate.when import parse_when
from tidy_crate.core.files import os_reason, read_input
from tidy_crate.core.model import Model, Name
from tidy_crate.core.money import parse_money
from tidy_crate.core.scene.staging import RenderParts
from tidy_crate.core.toml import line_of, parse_toml

WHAT = "shot list"
MOST_BYTES = 16 << 20
MOST_SHOTS = 20_000
# in a path of the list: the shot's name
SHOT = "{shot}"
PRIORITIES = ("first", "normal", "last")
# columns of a CSV list whose cells hold several words
_MANY = ("farms",)


class Asked(Model):
    """What may be said for all shots, and for each."""

    farms: tuple[str, ...] = ()
    """Cards, by name or path from the list's folder. Without any, those of the scene's project."""
    priority: Literal["first", "normal", "last"] | None = None
    """Who gets the budget and the machines where not all can have them."""
    cap: CapText = ""
    """Most that one shot may cost."""
    machine: str | None = None
    """Machine class, by the card's name."""
    nodes: Annotated[int, Field(ge=1, le=10_000)] | None = None
    """Machines for one shot."""
    into: str = ""
    """Folder for the frames, from the list's folder; `{shot}` stands for the shot's name."""
    deliver: str = ""
    """Where accepted frames are delivered."""
    report: str = ""
    """The HTML file of the record."""


class ShotEntry(Asked):
    """One shot."""

    name: Name = ""
    """The scene's name without its version where nothing is said."""
    scene: Path
    """From the list's folder."""
    crate: Path | None = None
    """Beside the scene where nothing is said."""
    render: RenderParts = RenderParts()
    """What is to be rendered, written down among the scene's decisions."""


class ShotList(Asked):
    """A night of shots."""

    title: str = ""
    budget: CapText = ""
    """Most that all shots may cost together."""
    finish_by: str = ""
    """When the last frame should be home, such as `Fri 08:00`."""
    shot: Annotated[tuple[ShotEntry, ...], Field(min_length=1, max_length=MOST_SHOTS)]

    def of(self, entry: ShotEntry) -> Asked:
        """Return what is asked of a shot: its own words first, then those for all."""
        own = {name: getattr(entry, name) or getattr(self, name) for name in Asked.model_fields}
        return Asked.model_construct(**own)


def is_shot_list(path: Path) -> bool:
    """Return whether a file is named like a shot list."""
    return path.suffix.lower() in (".toml", ".csv") and path.is_file()


def read_shot_list(path: Path, now: datetime) -> ShotList:
    """Read a list, with absolute paths. now: with its zone.

    Raises UnreadableInput and WrongUsage that name the line of the first thing that cannot be.
    """
    try:
        text = read_input(path, MOST_BYTES).decode("utf-8-sig")
    except OSError as error:
        raise UnreadableInput(f"cannot read the {WHAT} ({os_reason(error)})", path) from error
    except ValueError as error:
        raise UnreadableInput(f"the {WHAT} is not UTF-8 text", path) from error
    if path.suffix.lower() == ".csv":
        found, lines = _from_csv(text, path)
    else:
        found = parse_toml(ShotList, text, WHAT, path)
        lines = [line_of(text, ("shot", at)) or 0 for at in range(len(found.shot))]
    found = _named(found, path.absolute().parent)
    _look_over(found, path, lines, now)
    return found


def _from_csv(text: str, path: Path) -> tuple[ShotList, list[int]]:
    """Read the rows of a table: a header with the names of the keys, `frames`, `camera` and `size` among them."""
    reader = csv.DictReader(io.StringIO(text))
    columns = [name.strip().lower() for name in reader.fieldnames or ()]
    known = {*ShotEntry.model_fields, "frames", "camera", "size"} - {"render"}
    strange = next((name for name in columns if name not in known), None)
    if strange is not None or "scene" not in columns:
        what = f"the {WHAT} has an unknown column '{strange}'" if strange else f"the {WHAT} has no column 'scene'"
        raise UnreadableInput(what, f"{path}, line 1", f"known here: {', '.join(sorted(known))}")
    reader.fieldnames = columns
    shots, lines = [], []
    for row in reader:
        if any(isinstance(value, str) and value.strip() for value in row.values()):
            shots.append(_entry(row, f"{path}, line {reader.line_num}"))
            lines.append(reader.line_num)
        if len(shots) > MOST_SHOTS:
            raise UnreadableInput(f"the {WHAT} has over {MOST_SHOTS} shots", path, "split it")
    if not shots:
        raise UnreadableInput(f"the {WHAT} has no shot", path, "write a row for each shot below the header")
    return ShotList(shot=tuple(shots)), lines


def _entry(row: Mapping[Any, Any], where: str) -> ShotEntry:
    from pydantic import ValidationError

    if None in row:
        raise UnreadableInput("this row has more cells than the header", where, "put texts with commas into quotes")
    said = {name: value.strip() for name, value in row.items() if value is not None and value.strip()}
    render: dict[str, Any] = {name: said.pop(name) for name in ("frames", "camera") if name in said}
    if "size" in said:
        width, _, height = said.pop("size").lower().partition("x")
        if not (width.isdecimal() and height.isdecimal()):
            raise UnreadableInput("a size is written as 1920x1080", where)
        render["resolution"] = (int(width), int(height))
    table: dict[str, Any] = {name: value.split() if name in _MANY else value for name, value in said.items()}
    try:
        return ShotEntry.model_validate({**table, "render": render})
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        key = ".".join(str(part) for part in first["loc"] if part != "render")
        raise UnreadableInput(f"the {WHAT} is wrong at '{key}': {first['msg'].lower()}", where) from error


def _named(found: ShotList, folder: Path) -> ShotList:
    """Return a list in which every shot has a name, and every path is absolute."""

    def absolute(path: Path) -> Path:
        return Path(os.path.normpath(folder / path))

    def farms(names: Sequence[str]) -> tuple[str, ...]:
        # a card's path is from the list's folder; a name is looked up
        return tuple(str(absolute(Path(one))) if "/" in one or one.endswith(".toml") else one for one in names)

    shots = []
    for one in found.shot:
        name = one.name or without_version(scene_stem(one.scene.name))
        crate = absolute(one.crate) if one.crate is not None else None
        update = {"name": name, "scene": absolute(one.scene), "crate": crate, "farms": farms(one.farms)}
        shots.append(one.model_copy(update=update))
    return found.model_copy(update={"shot": tuple(shots), "farms": farms(found.farms)})


def _look_over(found: ShotList, path: Path, lines: Sequence[int], now: datetime) -> None:
    """Raise WrongUsage for the first thing that cannot be as it is written."""
    if found.finish_by:
        parse_when(found.finish_by, now)
    seen: dict[str, dict[Any, int]] = {"name": {}, "scene": {}, "into": {}, "deliver": {}, "report": {}}
    for at, (one, asked) in enumerate(zip(found.shot, map(found.of, found.shot), strict=True)):
        where = f"{path}, line {lines[at]}"
        if not one.scene.is_file():
            raise WrongUsage(f"there is no such scene: {one.scene}", where, "check the path; it is from the list")
        keys = {"name": one.name, "scene": one.scene} | {
            name: filled(getattr(asked, name), one.name, where) for name in ("into", "deliver", "report")
        }
        for kind, key in keys.items():
            if key and (before := seen[kind].setdefault(key, at)) != at:
                what = {"name": "two shots have one name", "scene": "a scene is named twice"}.get(
                    kind, f"two shots have one place for '{kind}'"
                )
                remedy = f"the other one is on line {lines[before]}"
                raise WrongUsage(
                    f"{what}: {key}", where, remedy + ("" if kind in ("name", "scene") else f"; use {SHOT}")
                )
        _currencies(found, asked, where)


def _currencies(found: ShotList, asked: Asked, where: str) -> None:
    if found.budget and asked.cap:
        own, whole = parse_money(asked.cap, "")[1], parse_money(found.budget, "")[1]
        if own != whole:
            raise WrongUsage(f"the cap is in {own}, the budget in {whole}", where, f"say both in {whole}")


def filled(pattern: str, shot: str, where: object) -> str:
    """Return a path of the list for a shot. Raises WrongUsage for other names in braces."""
    found = pattern.replace(SHOT, shot)
    if "{" in found or "}" in found:
        raise WrongUsage(f"a path of the list may hold {SHOT} and nothing else in braces", where, pattern)
    return found


def in_order(shots: Sequence[ShotEntry], found: ShotList) -> Iterator[ShotEntry]:
    """Yield the shots of a list by priority, and as they are written."""
    yield from sorted(shots, key=lambda one: PRIORITIES.index(found.of(one).priority or "normal"))
