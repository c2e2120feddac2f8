"""Hints from the text of a layer about what it cannot contain, so that most of its specs are not asked.

A layer has specs by the hundred thousand, and each question to the library costs as much as ten lines of Python. In a
text layer a word that does not occur cannot be meant. Whatever is found here is only a reason to ask.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import re2
from pxr import Sdf

from tidy_crate.core.files import open_input, read_input

# no word boundaries before a word: the search for plain letters is ten times as fast, and finds no less
_GAP = rb"(?:\s|#[^\n]*\n)+"
_NAMED = rb"\s*(?:\[\s*\])?" + _GAP + rb"([^\s=(.]+)"
_HOLDS_FILE = re.compile(rb"asset" + _NAMED)
_HOLDS_TEXT = (re.compile(rb"string" + _NAMED), re.compile(rb"token" + _NAMED))
_RELATIONSHIP = re.compile(rb"rel" + _GAP + rb"([^\s=(.]+)")
# the end of a text that looks like the name of a file; with a backslash anything may be written out
_FILE_NAME = re2.compile(rb"\.[A-Za-z0-9]{1,8}[\"']|\\")
_SCHEMAS = re.compile(rb"apiSchemas\s*=\s*\[([^\]]*)\]")
_BEFORE_A_WORD = b" \t\r\n(;"
_QUOTED = re.compile(rb"\"([^\"\\\n]*)\"|'([^'\\\n]*)'")
# of a prim: what brings in others, names files, or changes by variant
_PRIM_WORDS = (
    b"references", b"payload", b"inherits", b"specializes", b"clips", b"variant", b"customData", b"assetInfo",
    b"sdrMetadata", b"customLayerData",
)  # fmt: skip
# of a layer: what brings in others, renames prims, or gives paths another meaning
_LAYER_WORDS = (b"subLayers", b"relocates", b"expressionVariables", b"/*")
_NOTES = (b"customData", b"assetInfo")
MOST_BYTES = 64 << 20


@dataclass(frozen=True)
class Hints:
    """Contents that a layer may have."""

    opened: frozenset[str]
    """Names of all properties that may be relationships, or hold files or text that looks like one."""
    schemas: frozenset[str] | None
    """All schemas that prims apply, where they have nothing else that a survey asks for; else None."""


def hints_of(layer: Sdf.Layer) -> Hints | None:
    """Return what the text of a layer leaves open; None where it must be asked about everything."""
    path = layer.realPath
    if not path or layer.anonymous or layer.dirty or not path.endswith((".usda", ".usd")):
        return None
    try:
        raw = _text_of(Path(path))
        return None if raw is None else hints_in(raw)
    except (OSError, ValueError):
        return None


def _text_of(path: Path) -> bytes | None:
    """Return the contents of a text layer, None for a binary one, which most layers named `.usd` are."""
    with open_input(path) as stream:
        if stream.read(5) != b"#usda":
            return None
    return read_input(path, MOST_BYTES)


def hints_in(raw: bytes) -> Hints | None:
    """Return the same for the text itself."""
    # a comment of this form may stand between any two words
    if b"/*" in raw or any(word in raw for word in _NOTES):
        return None
    named = set(_HOLDS_FILE.findall(raw)) | set(_RELATIONSHIP.findall(raw))
    if _FILE_NAME.search(raw):
        named |= {name for pattern in _HOLDS_TEXT for name in pattern.findall(raw)}
    schemas = None if any(word in raw for word in _PRIM_WORDS) else _schemas(raw)
    try:
        return Hints(frozenset(name.decode() for name in named), schemas)
    except UnicodeDecodeError:
        return None


def is_leaf(path: Path) -> bool:
    """Return whether a text layer certainly brings in no other one, and states nothing that changes what paths mean.

    Raises OSError.
    """
    raw = _text_of(path)
    return raw is not None and not any(word in raw for word in (*_PRIM_WORDS, *_LAYER_WORDS))


def _schemas(raw: bytes) -> frozenset[str] | None:
    """Return all applied schemas, None where lists do more than add to one another."""
    matches = list(_SCHEMAS.finditer(raw))
    if raw.count(b"apiSchemas") != len(matches) or b"delete" in raw or b"reorder" in raw:
        return None
    if any(raw[match.start() - 1] not in _BEFORE_A_WORD for match in matches):
        return None
    bodies = {match[1] for match in matches}
    found = set()
    for body in bodies:
        if b"#" in body or b"\\" in body:
            return None
        found |= {(double or single).decode() for double, single in _QUOTED.findall(body)}
    return frozenset(found)
