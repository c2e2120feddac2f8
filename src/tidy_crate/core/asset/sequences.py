"""File name patterns that stand for many files: image sequences and tiled textures.

Tokens understood: `####` (as many digits as hashes), `%04d` and `%d`, `<frame>`, and for tiles `<UDIM>`; and those
that the project at hand declares.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass

_TOKEN = re.compile(r"(?P<hashes>#+)|%(?P<width>0\d{1,2})?d|(?P<frame><frame>)|(?P<udim><UDIM>)", re.IGNORECASE)
# tokens that the project at hand declares, longest first, with the digits they pad to
_declared: ContextVar[tuple[tuple[str, int], ...]] = ContextVar("declared frame tokens", default=())
# a tile number is 1001 + u + 10 v, u from 0 to 9: the numbering that the trade calls UDIM
_UDIM_DIGITS = r"1\d{3}"


@dataclass(frozen=True)
class Token:
    """A token in a file name: where it stands, what it counts, and to how many digits it pads."""

    start: int
    end: int
    counts: str  # "frame" or "tile"
    padding: int


def use_tokens(declared: Mapping[str, int]) -> None:
    """From here on understand these frame tokens too: each with the least number of digits it stands for."""
    _declared.set(tuple(sorted(declared.items(), key=lambda item: (-len(item[0]), item[0]))))


def tokens(text: str) -> list[Token]:
    """The tokens of a path, from left to right."""
    own = _own_tokens(text)
    return _standard_tokens(text) if not own else sorted([*own, *_standard_tokens(text)], key=lambda t: t.start)


def _own_tokens(text: str) -> list[Token]:
    found: list[Token] = []
    for token, padding in _declared.get():
        at = text.find(token)
        while at >= 0:
            if not any(other.start < at + len(token) and at < other.end for other in found):
                found.append(Token(at, at + len(token), "frame", padding))
            at = text.find(token, at + 1)
    return found


def _standard_tokens(text: str) -> list[Token]:
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


def may_have_tokens(text: str) -> bool:
    """Whether it is worth looking for tokens: a quick answer that errs on the side of yes."""
    return "#" in text or "%" in text or "<" in text or any(token in text for token, _ in _declared.get())


def has_frame_token(text: str) -> bool:
    """Whether a path changes with the frame."""
    return any(token.counts == "frame" for token in tokens(text))


def has_tile_token(text: str) -> bool:
    """Whether a path stands for a set of texture tiles."""
    return any(token.counts == "tile" for token in tokens(text))


def at_frame(text: str, frame: int) -> str:
    """The path of one frame. A negative number keeps its sign in front of the padded digits."""
    for token in reversed(tokens(text)):
        if token.counts == "frame":
            digits = f"{abs(frame):0{token.padding}d}"
            text = text[: token.start] + ("-" if frame < 0 else "") + digits + text[token.end :]
    return text


def member_pattern(name: str) -> re.Pattern[str]:
    """A pattern that the names of all members of a set match; the first group is the number."""
    out, at = [], 0
    for token in tokens(name):
        out.append(re.escape(name[at : token.start]))
        if token.counts == "tile":
            out.append(f"({_UDIM_DIGITS})")
        else:
            # a sign is written before the padding or takes the place of one digit of it
            signed = rf"|-\d{{{token.padding - 1},}}" if token.padding > 1 else ""
            out.append(rf"(-?\d{{{token.padding},}}{signed})")
        at = token.end
    out.append(re.escape(name[at:]))
    return re.compile("".join(out))


def members(name: str, names: Iterable[str]) -> dict[str, int]:
    """Which of `names` (file names of one folder) belong to the set `name`, with their number, in its order."""
    pattern = member_pattern(name)
    if pattern.groups == 0:
        return {}
    found = {candidate: int(match[1]) for candidate in names if (match := pattern.fullmatch(candidate))}
    return dict(sorted(found.items(), key=lambda item: (item[1], item[0])))
