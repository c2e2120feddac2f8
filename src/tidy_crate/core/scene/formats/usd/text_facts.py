"""Facts of a text layer, read from its lines without the library.

Programs write text layers line by line in one form. A layer in this form, without arcs and variants, is read here five
times as fast as by asking the library spec by spec. Every line must have a form that is known here to the last
character. For any other layer the answer is None, and the library is asked.

What is read here counts only once the library has parsed the same file without an error: see `Library.confirm`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from tidy_crate.core.scene.formats.usd.facts import LONGEST_PATH, NAME_SETS, NO_USE, LayerFacts
from tidy_crate.core.scene.formats.usd.hints import MOST_BYTES, Hints, hints_in
from tidy_crate.core.scene.formats.usd.slots import Slot, is_file_name

_NUMBERS = (
    "bool|uchar|int64|int[234]?|uint64|uint|half[234]?|float[234]?|double[234]?|timecode|point3[hfd]|vector3[hfd]"
    "|normal3[hfd]|color[34][hfd]|quat[hfd]|matrix[234]d|frame4d|texCoord[23][hfd]|opaque|group"
)
_PROPERTY = re.compile(
    rf"(?:custom )?(?:uniform |varying )?(?:({_NUMBERS})|(string|token)|(asset)|(rel))(\[\])? ([A-Za-z_][\w:]*)"
    r"(?:\.(connect|timeSamples))?(?: = (.+))?"
)
_PRIM = re.compile(r'(?:def|over|class)(?: [A-Za-z_]\w*)? "([^"\\/]+)"( \()?')
_PLAIN_VALUE = re.compile(r"[^\"'@<>#;{}]+")
_TEXT = re.compile(r'"([^"\\]*)"|None')
_TEXTS = re.compile(r'\[(?:"[^"\\]*"(?:, )?)*\]|None')
_ASSET = re.compile(r"@([^@]+)@|@@|None")
_ASSETS = re.compile(r"\[(?:@[^@]*@(?:, )?)*\]|None")
_IN_AT_SIGNS = re.compile(r"@([^@]*)@")
_TARGET = re.compile(r"<([^<>\[\]{}]*)>")
_TARGETS = re.compile(r"\[(?:<[^<>\[\]{}]*>(?:, )?)*\]")
_SAMPLE = re.compile(r"-?[\d.]+(?:e[-+]?\d+)?: [^\"'@<>#;{}]+,?")
_METADATA = re.compile(
    r'(?:(?:prepend|append|add) )?([A-Za-z_][\w:]*) = (?:[^"\'@<>#;{}]+|\[?(?:"[^"\\]*"(?:, )?)*\]?|<[^<>]*>)'
)
_DOCS = re.compile(r'(?:doc = |comment = )?"""(?:[^"\\]|"(?!""))*"""\n?')


class _Unknown(Exception):
    """A line has no form that is known here."""


class _Property(NamedTuple):
    """One line that states a property. The same lines come again and again: each is parsed once."""

    name: str
    noted: bool
    """True where it says more than its name."""
    opens: str
    """`links`, `samples` or `metadata`, whichever the next lines hold, which are read each time; else empty."""
    targets: tuple[tuple[int, str], ...]
    """Each target: the number of prims up, -1 for an absolute path, and the path from there."""
    field: str
    """Of the slots for its files; empty where it can hold none."""
    files: tuple[str, ...]
    special: bool
    """True for visibility, purpose and relationships that count: the prim is noted."""


def text_facts(raw: bytes) -> LayerFacts | None:
    """Return the facts of a layer by its text, None where the library must be asked."""
    if not raw.startswith(b"#usda 1.0\n") or len(raw) > MOST_BYTES:
        return None
    hints = hints_in(raw)
    if hints is None or hints.schemas is None:
        return None
    try:
        return _Reader(raw.decode("utf-8"), hints).facts()
    except (_Unknown, ValueError):
        return None


class _Reader:
    """Reads the lines of one layer."""

    def __init__(self, text: str, hints: Hints) -> None:
        self.sets: dict[str, set[str]] = {name: set() for name in NAME_SETS}
        self.sets["schemas"].update(hints.schemas or ())
        self.slots: list[Slot] = []
        self.there: dict[str, list[str]] = {}
        """The properties of each prim, by its path."""
        self.links: list[tuple[str, str]] = []
        """Name of the prim, and the target's path."""
        self.header: dict[str, str] = {}
        self.known: dict[str, _Property] = {}
        _, _, text = text.partition("\n")
        head, gap, body = text.partition("\n)\n")
        if head.lstrip().startswith("(") and gap:
            for line in map(str.strip, _DOCS.sub("", head.lstrip()[1:]).split("\n")):
                if line:
                    self._metadata(line)
        else:
            body = text
        self.lines = iter(map(str.strip, body.split("\n")))
        self._prims()

    def facts(self) -> LayerFacts:
        """Return the sum of it."""
        there, sets = self.there, self.sets
        for name, target in self.links:
            prim, dot, prop = target.partition(".")
            names = there.get(prim)
            if names is None or (dot and prop not in names):
                sets["loose"].add(name)
        unit = self.header.get("metersPerUnit")
        axis = self.header.get("upAxis")
        return LayerFacts(
            slots=tuple(self.slots),
            relocates=False,
            deep=False,
            variables={},
            up_axis=axis.strip('"') if axis is not None else None,
            meters_per_unit=float(unit) if unit is not None else None,
            **{name: frozenset(found) for name, found in sets.items()},
        )

    def _metadata(self, line: str) -> None:
        match = _METADATA.fullmatch(line)
        if match is None:
            if _TEXT.fullmatch(line) is None:
                raise _Unknown(line)
            return
        if match[1] in ("subLayers", "relocates", "expressionVariables", "colorConfiguration"):
            raise _Unknown(line)
        self.header[match[1]] = line.partition(" = ")[2]

    def _skip_metadata(self) -> None:
        for line in self.lines:
            if line == ")":
                return
            if line and _METADATA.fullmatch(line) is None and _TEXT.fullmatch(line) is None:
                raise _Unknown(line)
        raise _Unknown("(")

    def _prims(self) -> None:
        """Read all prims. A prim's own files come after those of its children, as the library tells them."""
        paths, own = [""], [list[Slot]()]
        names: list[str] = []
        owner, path = "", ""
        known, there, lines, is_prim = self.known, self.there, self.lines, _PRIM.fullmatch
        for line in lines:
            found = known.get(line)
            if found is not None:
                names.append(found.name)
                if found.noted:
                    self._note(found, paths, owner, own[-1])
            elif line == "}" and path:
                self.slots += own.pop()
                paths.pop()
                path = paths[-1]
                owner, names = path.rpartition("/")[2], there.get(path, [])
            elif (match := is_prim(line)) is not None:
                owner, opens = match.groups()
                path = f"{path}/{owner}"
                if len(path) > LONGEST_PATH:
                    raise _Unknown(line)
                paths.append(path)
                own.append([])
                names = there[path] = []
                if opens:
                    self._skip_metadata()
                line = next(lines, "")
                while not line:
                    line = next(lines, "}")
                if line != "{":
                    raise _Unknown(line)
            elif line and line[0] != "#":
                if not path:
                    raise _Unknown(line)
                found = known[line] = self._parsed(line)
                self.sets["properties"].add(found.name)
                names.append(found.name)
                self._note(found, paths, owner, own[-1])
        if len(paths) > 1:
            raise _Unknown(paths[-1])

    def _note(self, found: _Property, paths: list[str], owner: str, own: list[Slot]) -> None:
        """Take in one property of a prim."""
        sets, name = self.sets, found.name
        if found.special:
            sets[name if name in sets else "outward"].add(owner)
        if found.field:
            where = f"{paths[-1]}.{name}"
            sets["assets"].add(where)
            for text in found.files:
                own.append(Slot(where, found.field, text))
        if found.targets:
            self._link(found.targets, paths, owner, name)
        if found.opens == "links":
            self._link(tuple(self._more_targets()), paths, owner, name)
        elif found.opens == "samples":
            self._samples(owner)
        elif found.opens == "metadata":
            self._skip_metadata()

    def _link(self, targets: tuple[tuple[int, str], ...], paths: list[str], owner: str, name: str) -> None:
        """Note the targets of a relationship or a connection. paths: of the prim, and all above it."""
        sets = self.sets
        sets["linked"].add(owner)
        holder = paths[-2]
        for up, rest in targets:
            if up < 0:
                target = rest
            elif up >= len(paths):
                raise _Unknown(rest)
            else:
                target = f"{paths[-1 - up]}/{rest}"
            self.links.append((owner, target))
            # most stay in what holds the prim
            if 0 <= up <= 1 and holder:
                continue
            if not name.startswith(NO_USE) and not (holder and (target + "/").startswith((holder + "/", holder + "."))):
                sets["outward"].add(owner)
            if paths[1][1:] != target[1:].partition(".")[0].partition("/")[0]:
                sets["crossing"].add(owner)

    def _more_targets(self) -> Iterator[tuple[int, str]]:
        for line in self.lines:
            if line == "]":
                return
            yield _target(line.removesuffix(","))
        raise _Unknown("[")

    def _samples(self, owner: str) -> None:
        for line in self.lines:
            if line == "}":
                return
            if _SAMPLE.fullmatch(line) is None:
                raise _Unknown(line)
            self.sets["timed"].add(owner)
        raise _Unknown("{")

    def _parsed(self, line: str) -> _Property:
        """Parse a line. Raises _Unknown where it is no property in a form that is known here."""
        match = _PROPERTY.fullmatch(line)
        if match is None:
            raise _Unknown(line)
        numbers, text, asset, rel, array, name, part, value = match.groups()
        opens, targets, field, files = "", list[tuple[int, str]](), "", list[str]()
        if value is not None and value.endswith(" ("):
            value, opens = value[:-2], "metadata"
            if value in ("[", "{"):
                raise _Unknown(line)
        if rel or part == "connect":
            if rel and part:
                raise _Unknown(line)
            if value == "[":
                opens = "links"
            elif value is not None and value != "None":
                targets = _targets(value)
        elif part == "timeSamples":
            if value != "{" or not numbers:
                raise _Unknown(line)
            opens = "samples"
        elif value is None:
            pass
        elif numbers:
            if not _is_plain(value):
                raise _Unknown(line)
        elif text:
            found = (_TEXTS if array else _TEXT).fullmatch(value)
            if found is None:
                raise _Unknown(line)
            if not array and found[1] and is_file_name(found[1]):
                field, files = "text", [found[1]]
        elif array:
            if _ASSETS.fullmatch(value) is None:
                raise _Unknown(line)
            files = [path for path in _IN_AT_SIGNS.findall(value) if path]
        else:
            found = _ASSET.fullmatch(value)
            if found is None:
                raise _Unknown(line)
            files = [found[1]] if found[1] else []
        special = name in ("visibility", "purpose") or (rel is not None and not name.startswith(NO_USE))
        if rel is not None and name in NAME_SETS:
            raise _Unknown(line)
        field = "default" if asset else field
        noted = bool(opens or targets or field or special)
        return _Property(name, noted, opens, tuple(targets), field, tuple(files), special)


def _is_plain(value: str) -> bool:
    """Return whether a value of numbers is complete on its line."""
    return (
        _PLAIN_VALUE.fullmatch(value) is not None
        and value.count("[") == value.count("]")
        and value.count("(") == value.count(")")
    )


def _targets(value: str) -> list[tuple[int, str]]:
    if _TARGET.fullmatch(value) is None and _TARGETS.fullmatch(value) is None:
        raise _Unknown(value)
    return [_target(f"<{text}>") for text in _TARGET.findall(value)]


def _target(text: str) -> tuple[int, str]:
    """Return how many prims up a target is, -1 for an absolute path, and its path from there."""
    match = _TARGET.fullmatch(text)
    if match is None:
        raise _Unknown(text)
    path = match[1]
    if path.startswith("/"):
        if ".." in path:
            raise _Unknown(text)
        return -1, path
    up = 0
    while path.startswith("../"):
        path, up = path[3:], up + 1
    if not path or path.startswith(".") or ".." in path:
        raise _Unknown(text)
    return up, path
