"""Versions of programs, as their makers write them: dotted, by the year, with letters.

No standard covers them all. What is understood: numbers with dots, a leading `v` or `r`, words of a version before its
release (alpha, beta, rc, and `a` or `b` with a number), and of one after it (a single letter, sp, update, patch).
"""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import zip_longest

# a part of a version: what sort it is, and its number; the sorts in their order
_BEFORE, _END, _AFTER, _NUMBER = range(4)
_Part = tuple[int, int, int]

_LEAD = re.compile(r"^(?:version|release|ver\.?|v|r)?[\s._-]*(?=\d)")
_NOISE = re.compile(r"\(.*?\)|\+[a-z0-9.]+$|\b(?:lts|final|release|ga|build|x64|64[- ]?bit)\b")
_BEFORE_WORDS = {"dev": 0, "alpha": 1, "a": 1, "beta": 2, "b": 2, "pre": 3, "preview": 3, "rc": 4}
_AFTER_WORDS = {"p": 30, "patch": 30, "hotfix": 31, "f": 32, "fix": 32, "update": 33, "sp": 34}
_YEARS = range(1990, 2101)


class NotComparable(ValueError):
    """A version that has no place in an order, or two whose ways of counting differ."""


@functools.total_ordering
@dataclass(frozen=True, eq=False)
class Version:
    """A version with its text. Equal ones may be written differently: 3.2 is 3.2.0."""

    text: str
    parts: tuple[_Part, ...]

    @property
    def by_year(self) -> bool:
        """Return whether its first number is a year."""
        return self.parts[0][1] in _YEARS

    def __str__(self) -> str:
        return self.text

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self.parts == other.parts

    def __hash__(self) -> int:
        return hash(self.parts)

    def __lt__(self, other: Version) -> bool:
        """Raises NotComparable when one counts by the year and the other does not."""
        if self.by_year != other.by_year:
            raise NotComparable(f"{self.text} and {other.text} are counted in different ways")
        end = (_END, 0, 0)
        for ours, theirs in zip_longest(self.parts, other.parts, fillvalue=end):
            if ours != theirs:
                return ours < theirs
        return False


def parse_version(text: str) -> Version:
    """Read a version. Raises NotComparable when it is not one that has a place in an order."""
    plain = _LEAD.sub("", _NOISE.sub("", text.strip().lower())).strip()
    words = re.findall(r"\d+|[a-z]+", plain)
    if not words or not words[0].isdigit() or re.search(r"[^\d\sa-z._-]|\d\s+\d", plain):
        raise NotComparable(f"{text!r} is no version that can be compared")
    parts: list[_Part] = []
    at = 0
    while at < len(words):
        word, at = words[at], at + 1
        if word.isdigit():
            parts.append((_NUMBER, int(word[:18]), 0))
            continue
        number = int(words[at][:18]) if at < len(words) and words[at].isdigit() else None
        _drop_zeros(parts)
        if word in _BEFORE_WORDS and (number is not None or len(word) > 1):
            parts.append((_BEFORE, _BEFORE_WORDS[word], number or 0))
        elif word in _AFTER_WORDS and (number is not None or len(word) > 1):
            parts.append((_AFTER, _AFTER_WORDS[word], number or 0))
        elif len(word) == 1:
            parts.append((_AFTER, ord(word) - ord("a"), number or 0))
        else:
            raise NotComparable(f"{text!r} is no version that can be compared")
        at += number is not None
    _drop_zeros(parts)
    return Version(text.strip(), tuple(parts))


def _drop_zeros(parts: list[_Part]) -> None:
    while len(parts) > 1 and parts[-1] == (_NUMBER, 0, 0):
        parts.pop()


@dataclass(frozen=True)
class VersionRange:
    """Versions from `low` to `high`, None for no end; whether each end itself belongs to it."""

    text: str
    low: Version | None = None
    high: Version | None = None
    low_included: bool = True
    high_included: bool = True

    def __contains__(self, version: Version) -> bool:
        return not self.is_below(version) and not self.is_above(version)

    def is_below(self, version: Version) -> bool:
        """Return whether all of the range is older."""
        return self.high is not None and (self.high < version or (self.high == version and not self.high_included))

    def is_above(self, version: Version) -> bool:
        """Return whether all of the range is newer."""
        return self.low is not None and (version < self.low or (self.low == version and not self.low_included))


_LIMIT = re.compile(r"(>=|<=|>|<|==|=)?\s*([^<>=,]+)")


def parse_range(text: str) -> VersionRange:
    """Read `3.2`, `3.2.*`, `3.0 - 3.2`, or limits such as `>=3.0, <3.3`. Raises NotComparable."""
    plain = text.strip()
    if plain.endswith(".*"):
        lead, number = re.fullmatch(r"(.*?)(\d*)", plain[:-2]).groups()  # type: ignore[union-attr]
        if not number:
            raise NotComparable(f"{text!r} is no range of versions")
        low, high = parse_version(lead + number), parse_version(f"{lead}{int(number[:18]) + 1}")
        return VersionRange(plain, low, high, high_included=False)
    if ends := re.fullmatch(r"(\S+)\s+(?:-|to|–)\s+(\S+)", plain):
        found = VersionRange(plain, parse_version(ends[1]), parse_version(ends[2]))
        if found.high is not None and found.low is not None and found.high < found.low:
            raise NotComparable(f"{text!r} ends before it begins")
        return found
    low_included = high_included = True
    lowest = highest = None
    for one in plain.split(","):
        limit = _LIMIT.fullmatch(one.strip())
        if limit is None:
            raise NotComparable(f"{text!r} is no range of versions")
        version = parse_version(limit[2])
        if limit[1] in (">", ">="):
            lowest, low_included = version, limit[1] == ">="
        elif limit[1] in ("<", "<="):
            highest, high_included = version, limit[1] == "<="
        else:
            lowest = highest = version
    return VersionRange(plain, lowest, highest, low_included, high_included)


@dataclass(frozen=True)
class Offered:
    """The versions of one program that a farm has."""

    ranges: tuple[VersionRange, ...]

    @classmethod
    def of(cls, texts: Iterable[str]) -> Offered:
        """Read several ranges. Raises NotComparable."""
        return cls(tuple(parse_range(text) for text in texts))

    def __contains__(self, version: Version) -> bool:
        return any(version in one for one in self.ranges)

    def all_older(self, version: Version) -> bool:
        """Return whether every version offered is older than this one."""
        return all(one.is_below(version) for one in self.ranges)

    def all_newer(self, version: Version) -> bool:
        """Return whether every version offered is newer than this one."""
        return all(one.is_above(version) for one in self.ranges)

    def __str__(self) -> str:
        return ", ".join(one.text for one in self.ranges)
