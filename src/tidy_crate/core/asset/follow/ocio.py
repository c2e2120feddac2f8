"""OCIO colour configurations: the look-up tables of their file transforms, along their search path.

Source: the OpenColorIO documentation, "Configuration syntax".
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import BinaryIO

from tidy_crate.core.asset.follow.interface import FileLink, NewText
from tidy_crate.core.files import read_input

_TRANSFORM = re.compile(r"!<FileTransform>\s*(?:\{(?P<flow>[^{}]*)\}|(?P<block>(?:\n[ \t]+[^\n]*)+))")
_SOURCE = re.compile(r"(?P<lead>(?:^|[\s,{])src:\s*)(?P<value>\"[^\"\n]*\"|'[^'\n]*'|[^,}\n]+)")
_SEARCH = re.compile(r"^search_path:[ \t]*(?P<same>[^\n]*)(?P<list>(?:\n[ \t]*-[^\n]*)*)", re.MULTILINE)


class ColourConfiguration:
    """Reads and rewrites the text; everything else in it stays as it is."""

    suffixes = (".ocio",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        text = _text(path)
        search = _search_path(text)
        return [_link(text, match, offset, search) for match, offset in _sources(text)]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        text = _text(source)
        search = _search_path(text)
        pieces, at = [], 0
        for match, offset in _sources(text):
            start, end = offset + match.start("value"), offset + match.end("value")
            pieces += [text[at:start], f'"{new_text(_link(text, match, offset, search))}"']
            at = end
        # every name now starts at the configuration itself
        whole = _SEARCH.sub("search_path: .", "".join([*pieces, text[at:]]))
        target.write(whole.encode("utf-8", "surrogateescape"))


def _text(path: Path) -> str:
    text = read_input(path).decode("utf-8", "surrogateescape")
    if "ocio_profile_version" not in text:
        raise ValueError("it is not a colour configuration, for it states no ocio_profile_version")
    return text


def _search_path(text: str) -> tuple[str, ...]:
    match = _SEARCH.search(text)
    if not match:
        return (".",)
    listed = [line.strip()[1:] for line in match["list"].splitlines() if line.strip()] or match["same"].split(":")
    return tuple(found for one in listed if (found := one.strip().strip("\"'"))) or (".",)


def _sources(text: str) -> list[tuple[re.Match[str], int]]:
    """The `src` of every file transform, with the offset of the piece of text it was found in."""
    found = []
    for transform in _TRANSFORM.finditer(text):
        group = "flow" if transform["flow"] is not None else "block"
        match = _SOURCE.search(transform[group])
        if match:
            found.append((match, transform.start(group)))
    return found


def _link(text: str, match: re.Match[str], offset: int, search: tuple[str, ...]) -> FileLink:
    line = text.count("\n", 0, offset + match.start("value")) + 1
    return FileLink(match["value"].strip().strip("\"'"), f"line {line}", "look-up table", search)


_NAME = re.compile(r"(?:^|[\s,{])(?:name|aliases):\s*(\[[^\]]*\]|\"[^\"\n]*\"|'[^'\n]*'|[^,}\n]+)", re.MULTILINE)
_ROLES = re.compile(r"^roles:[ \t]*((?:\n[ \t]+[^\n]*)+)", re.MULTILINE)


def names_in(path: Path) -> set[str]:
    """Every name that a configuration gives to something, roles and aliases included. Raises OSError, ValueError."""
    text = _text(path)
    roles = _ROLES.search(text)
    found = {line.partition(":")[0].strip() for line in roles[1].splitlines() if ":" in line} if roles else set()
    for match in _NAME.finditer(text):
        found |= {part.strip().strip("\"'") for part in match[1].strip("[]").split(",")}
    return found - {""}
