"""TOML files that people write: read into models, with errors that name the line and the nearest right key."""

from __future__ import annotations

import difflib
import re
import tomllib
import types
import typing
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import os_reason, read_input
from tidy_crate.core.schema import Schema

M = TypeVar("M", bound=BaseModel)
# what people write by hand is never larger
MOST_BYTES = 16 << 20
KeyPath = tuple[str | int, ...]

_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"^\s*((?:[A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*'))*)\s*=")
_PART = re.compile(r"[A-Za-z0-9_-]+|\"[^\"]*\"|'[^']*'")
# the endings of keys that state a unit, and the unit in words
UNITS = {
    "_gb": "gigabytes", "_mbit": "megabits a second", "_seconds": "seconds", "_minutes": "minutes",
    "minutes_per_frame": "minutes", "_hour": "an amount of money per hour", "_days": "days",
}  # fmt: skip


def read_toml(kind: type[M], path: Path, what: str, schema: Schema | None = None) -> M:
    """Read a file. what: its name in errors ("farm card"). schema: the versions of it. Raises UnreadableInput."""
    try:
        text = read_input(path, MOST_BYTES).decode("utf-8")
    except OSError as error:
        raise UnreadableInput(f"cannot read the {what} ({os_reason(error)})", path) from error
    except ValueError as error:
        raise UnreadableInput(f"the {what} is not UTF-8 text", path) from error
    return parse_toml(kind, text, what, path, schema)


def parse_toml(kind: type[M], text: str, what: str, where: Path | str, schema: Schema | None = None) -> M:
    """The model that a text holds. Raises UnreadableInput that names the line of the first thing wrong."""
    try:
        content = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise UnreadableInput(f"the {what} is not valid TOML ({_lower(str(error))})", where) from error
    if schema is not None:
        content = schema.without_version(content, where)
    try:
        return kind.model_validate(content)
    except ValidationError as error:
        # a key that is not known explains why another is missing, so it comes first
        found = sorted(error.errors(include_url=False), key=lambda one: one["type"] != "extra_forbidden")[0]
        key_path = _as_written(found["loc"], content)
        line = line_of(text, key_path)
        at = f"{where}, line {line}" if line else where
        raise _plain(kind, found["type"], found["msg"], key_path, what, at) from error


def _plain(
    kind: type[BaseModel], sort: str, message: str, key_path: KeyPath, what: str, at: Path | str
) -> UnreadableInput:
    key = ".".join(str(part) for part in key_path)
    last = str(key_path[-1]) if key_path else ""
    if sort == "extra_forbidden":
        known = known_keys(kind, key_path[:-1])
        near = difflib.get_close_matches(last, known, 1, 0.55)
        remedy = f"did you mean '{near[0]}'?" if near else f"known here: {', '.join(sorted(known))}" if known else None
        if near and (unit := _unit(near[0])):
            remedy = f"did you mean '{near[0]}'? it is in {unit}"
        return UnreadableInput(f"the {what} has an unknown key '{last}'", at, remedy)
    if sort == "missing":
        return UnreadableInput(f"the {what} lacks the key '{key}'", at, f"add {last} = ...")
    unit = _unit(last)
    remedy = f"{last} is in {unit}, written as a plain number" if unit else None
    text = _lower(message.removeprefix("Value error, "))
    if not key_path:
        return UnreadableInput(f"the {what} is inconsistent: {text}", at)
    return UnreadableInput(f"the {what} is wrong at '{key}': {text}", at, remedy)


def _unit(key: str) -> str | None:
    return next((unit for ending, unit in UNITS.items() if key.endswith(ending)), None)


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def _as_written(key_path: Sequence[str | int], content: Any) -> KeyPath:
    """A validator's place without the names of the alternatives that it tried: only what is really in the file."""
    found: list[str | int] = []
    for number, part in enumerate(key_path):
        try:
            content = content[part]
        except (KeyError, IndexError, TypeError):
            if number < len(key_path) - 1:
                continue
        found.append(part)
    return tuple(found)


def known_keys(kind: type[BaseModel], key_path: Sequence[str | int]) -> list[str]:
    """The keys that a model takes at a place in it."""
    models: list[type[BaseModel]] = [kind]
    for part in key_path:
        if isinstance(part, int):
            continue
        inner: list[type[BaseModel]] = []
        for model in models:
            if part in model.model_fields:
                inner += _models_in(model.model_fields[part].annotation)
        models = inner or models
    return [name for model in models for name in model.model_fields]


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and not isinstance(annotation, types.GenericAlias):
        return [annotation] if issubclass(annotation, BaseModel) else []
    return [model for argument in typing.get_args(annotation) for model in _models_in(argument)]


def line_of(text: str, key_path: Sequence[str | int]) -> int | None:
    """The line, counted from 1, on which a value is written; that of the table around it where no line names it."""
    wanted = list(key_path)
    best: tuple[int, int] | None = None
    table: list[str | int] = []
    counts: dict[tuple[str | int, ...], int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        here: list[str | int]
        if header := _HEADER.match(line):
            table = _table(header[1] == "[[", _parts(header[2]), counts)
            here = table
        elif key := _KEY.match(line):
            here = [*table, *_parts(key[1])]
        else:
            continue
        common = next((i for i, (a, b) in enumerate(zip(here, wanted, strict=False)) if a != b), len(here))
        if common == len(here) <= len(wanted) and (best is None or common > best[0]):
            best = common, number
    return best[1] if best else None


def _table(is_array: bool, parts: list[str], counts: dict[tuple[str | int, ...], int]) -> list[str | int]:
    found: list[str | int] = []
    for number, part in enumerate(parts):
        found.append(part)
        last = number == len(parts) - 1
        key_path = tuple(found)
        if is_array and last:
            counts[key_path] = counts.get(key_path, -1) + 1
        if key_path in counts:
            found.append(counts[key_path])
    return found


def _parts(text: str) -> list[str]:
    return [part.strip("\"'") for part in _PART.findall(text)]
