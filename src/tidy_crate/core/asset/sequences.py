"""File name patterns that stand for many files: image sequences and tiled textures.

Tokens understood: `####` (as many digits as hashes), `%04d` and `%d`, `<frame>`, and for tiles `<UDIM>`. A project can
declare more; they are an argument of everything that reads a pattern, see `FrameTokens`.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from tidy_crate.core.patterns import compiled, literal, raw

_TOKEN = re.compile(r"(?P<hashes>#+)|%(?P<width>0\d{1,2})?d|(?P<frame><frame>)|(?P<udim><UDIM>)", re.IGNORECASE)
# a tile number is 1001 + u + 10 v, u from 0 to 9: the numbering that the trade calls UDIM
_UDIM_DIGITS = rb"(1\d{3})"
_LONGEST_NAME = 255
_DIGITS = re.compile(r"\d+")


@dataclass(frozen=True)
class Token:
    """A token in a file name: where it stands, what it counts, and to how many digits it pads."""

    start: int
    end: int
    counts: str  # "frame" or "tile"
    padding: int


@dataclass(frozen=True)
class FrameTokens:
    """The tokens that count in file names: the usual ones, and those that a project declares."""

    declared: tuple[tuple[str, int], ...] = ()
    """The project's own tokens, longest first, each with the least number of digits that it stands for."""

    @classmethod
    def of(cls, declared: Mapping[str, int]) -> FrameTokens:
        """Return the usual tokens and these: text to least number of digits."""
        return cls(tuple(sorted(declared.items(), key=lambda item: (-len(item[0]), item[0]))))

    def find(self, text: str) -> list[Token]:
        """Return the tokens of a path, from left to right."""
        own = self._own(text)
        return _standard(text) if not own else sorted([*own, *_standard(text)], key=lambda t: t.start)

    def _own(self, text: str) -> list[Token]:
        found: list[Token] = []
        for token, padding in self.declared:
            at = text.find(token)
            while at >= 0:
                if not any(other.start < at + len(token) and at < other.end for other in found):
                    found.append(Token(at, at + len(token), "frame", padding))
                at = text.find(token, at + 1)
        return found

    def may_have(self, text: str) -> bool:
        """Return whether it is worth looking for tokens: a quick answer that errs on the side of yes."""
        return "#" in text or "%" in text or "<" in text or any(token in text for token, _ in self.declared)

    def has_frame(self, text: str) -> bool:
        """Return whether a path changes with the frame."""
        return any(token.counts == "frame" for token in self.find(text))

    def has_tile(self, text: str) -> bool:
        """Return whether a path stands for a set of texture tiles."""
        return any(token.counts == "tile" for token in self.find(text))

    def at_frame(self, text: str, frame: int) -> str:
        """Return the path of one frame. A negative number keeps its sign in front of the padded digits."""
        for token in reversed(self.find(text)):
            if token.counts == "frame":
                digits = f"{abs(frame):0{token.padding}d}"
                text = text[: token.start] + ("-" if frame < 0 else "") + digits + text[token.end :]
        return text

    def members(self, name: str, names: Iterable[str]) -> dict[str, int]:
        """Return which of `names` (file names of one folder) belong to the set `name`, with their number, in order."""
        found = dict(self._numbers(name, names, loose=False))
        return dict(sorted(found.items(), key=lambda item: (item[1], item[0])))

    def loose_members(self, name: str, names: Iterable[str]) -> list[str]:
        """Return which of `names` would belong to the set `name` if padding did not count."""
        return [candidate for candidate, _ in self._numbers(name, names, loose=True)]

    def _numbers(self, name: str, names: Iterable[str], *, loose: bool) -> Iterator[tuple[str, int]]:
        tokens = self.find(name)
        if not tokens:
            return
        # folders hold names by the hundred thousand, and most patterns have one token
        head, tail = name[: tokens[0].start], name[tokens[-1].end :]
        there = (one for one in names if one.startswith(head) and one.endswith(tail))
        if len(tokens) == 1:
            first, last = len(head), len(tail)
            for candidate in there:
                number = _number(candidate[first : len(candidate) - last], tokens[0], loose)
                if number is not None and len(candidate) > first + last:
                    yield candidate, number
            return
        pattern = self._pattern(name, tokens, loose)
        for candidate in there:
            if match := pattern.fullmatch(raw(candidate)):
                yield candidate, int(match[1])

    def _pattern(self, name: str, tokens: list[Token], loose: bool) -> Any:
        """Return a pattern that the names of all members of a set match, as bytes; the first group is the number.

        A number is padded to the token's digits exactly, and only one that needs more has more: `0012` is no member
        of `%d`, nor `00012` one of `%04d`. loose: any padding counts.
        """
        out, at = [], 0
        for token in tokens:
            out.append(literal(name[at : token.start]))
            # no file has a longer name
            digits = min(token.padding, _LONGEST_NAME)
            if token.counts == "tile":
                out.append(_UDIM_DIGITS)
            elif loose:
                out.append(rb"(-?\d+)")
            else:
                # a sign is written before the padding or takes the place of one digit of it
                padded = rb"\d{%d}|[1-9]\d{%d,}" % (digits, digits)
                signed = rb"|-\d{%d}" % (digits - 1) if digits > 1 else b""
                out.append(rb"(-?(?:%b)%b)" % (padded, signed))
            at = token.end
        out.append(literal(name[at:]))
        return compiled(b"".join(out))


STANDARD = FrameTokens()


def _standard(text: str) -> list[Token]:
    found = []
    for match in _TOKEN.finditer(text):
        if match["udim"]:
            found.append(Token(match.start(), match.end(), "tile", 4))
        elif match["hashes"]:
            found.append(Token(match.start(), match.end(), "frame", len(match["hashes"])))
        elif match["frame"]:
            found.append(Token(match.start(), match.end(), "frame", 4))
        else:
            found.append(Token(match.start(), match.end(), "frame", int(match["width"] or 1)))
    return found


def _number(text: str, token: Token, loose: bool) -> int | None:
    """Return the number that a text is in the place of a token, None where it is none; see `FrameTokens._pattern`."""
    digits = text.removeprefix("-")
    if not (digits.isascii() and digits.isdigit()):
        return None
    length, least, signed = len(digits), token.padding, len(digits) < len(text)
    if token.counts == "tile":
        return int(digits) if length == 4 and digits[0] == "1" and not signed else None
    padded = length == least or (length > least and digits[0] != "0") or (signed and 1 <= length == least - 1)
    return int(text) if loose or padded else None


def frame_numbers(names: Sequence[str]) -> dict[str, int | None]:
    """Return the frame number of each file name of a folder without a stated pattern.

    Names that differ in one group of digits only are a sequence, and that group counts the frames: `a_v2.1001.exr`
    beside `a_v2.1002.exr`. In a name that stands alone it is the last group that no letter comes before
    (`beauty.1001_v2.exr` is frame 1001); None where there is none. A minus sign right after a separator, or at the
    start, belongs to the number: `a.-005.exr` is frame -5.
    """
    shapes: dict[tuple[str, ...], list[str]] = defaultdict(list)
    for name in names:
        shapes[tuple(_DIGITS.split(_stem(name)))].append(name)
    found: dict[str, int | None] = {}
    for group in shapes.values():
        runs = [list(_DIGITS.finditer(_stem(name))) for name in group]
        varying = [at for at in range(len(runs[0])) if len({one[at].group() for one in runs}) > 1]
        for name, own in zip(group, runs, strict=True):
            stem = _stem(name)
            free = [at for at in range(len(own)) if not stem[: own[at].start()][-1:].isalpha()]
            choice = [at for at in varying if at in free] or varying or free
            found[name] = _signed(stem, own[choice[-1]]) if choice else None
    return found


def _stem(name: str) -> str:
    return name.rpartition(".")[0] or name


def _signed(stem: str, match: re.Match[str]) -> int:
    before = stem[: match.start()]
    negative = before.endswith("-") and (len(before) == 1 or before[-2] in "._")
    return -int(match.group()) if negative else int(match.group())
