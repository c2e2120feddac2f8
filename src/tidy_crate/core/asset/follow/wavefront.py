"""Wavefront OBJ names its material libraries, and MTL its textures.

Source: the published "Object Files (.obj)" and "MTL material format" appendices.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from tidy_crate.core.asset.follow.interface import MOST_LINKS, FileLink, NewText
from tidy_crate.core.files import open_input

# how many values an option of a texture statement takes; of -o, -s and -t the last two may be left out
_OPTIONS = {
    "-blendu": 1, "-blendv": 1, "-boost": 1, "-mm": 2, "-o": 3, "-s": 3, "-t": 3, "-texres": 1, "-clamp": 1,
    "-bm": 1, "-imfchan": 1, "-type": 1, "-cc": 1,
}  # fmt: skip
# bytes
LONGEST_LINE = 1 << 20
_TEXTURES = ("map_", "bump", "disp", "decal", "refl", "norm")


class WavefrontObject:
    """`mtllib` statements of OBJ files, read line by line: such files can be huge."""

    suffixes = (".obj",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        found = []
        with open_input(path) as stream:
            for number, line in _lines(stream):
                if line.startswith(b"mtllib"):
                    found += [FileLink(name, f"line {number}", "material") for name in self._names(line, path)]
                    if len(found) > MOST_LINKS:
                        break
        return found

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        with open_input(source) as stream:
            for number, line in _lines(stream):
                if line.startswith(b"mtllib"):
                    names = self._names(line, source)
                    texts = [new_text(FileLink(name, f"line {number}", "material")) for name in names]
                    line = b"mtllib " + " ".join(texts).encode() + _ending(line)
                target.write(line)

    @staticmethod
    def _names(line: bytes, path: Path) -> list[str]:
        """Several libraries stand apart by spaces, but one name with spaces in it is more common than the standard."""
        rest = line[len(b"mtllib") :].decode("utf-8", "surrogateescape").strip()
        if " " not in rest or (path.parent / rest).exists() or rest.lower().count(".mtl") == 1:
            return [rest] if rest else []
        return rest.split()


class WavefrontMaterial:
    """Texture statements of MTL files."""

    suffixes = (".mtl",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        with open_input(path) as stream:
            return [link for _, link, _ in self._lines(stream) if link is not None]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        with open_input(source) as stream:
            for line, link, start in self._lines(stream):
                if link is not None:
                    text = new_text(link).encode("utf-8", "surrogateescape")
                    line = line[:start] + text + _ending(line)
                target.write(line)

    @staticmethod
    def _lines(stream: BinaryIO) -> Iterator[tuple[bytes, FileLink | None, int]]:
        """Every line, its link, and where in the line the file's name starts."""
        for number, line in _lines(stream):
            start = _texture_start(line)
            name = line[start:].decode("utf-8", "surrogateescape").strip() if start else ""
            yield line, FileLink(name, f"line {number}", "texture") if name else None, start


def _lines(stream: BinaryIO) -> Iterator[tuple[int, bytes]]:
    """Number and bytes of each line. Raises ValueError for one that no program wrote."""
    number = 0
    while line := stream.readline(LONGEST_LINE + 1):
        number += 1
        if len(line) > LONGEST_LINE:
            raise ValueError(f"line {number} is longer than {LONGEST_LINE >> 20} MiB")
        yield number, line


def _texture_start(line: bytes) -> int:
    """Return where the file's name starts in a texture statement, behind its options; 0 when it is none."""
    words = list(_words(line))
    if not words or not words[0][0].lower().startswith(_TEXTURES) or words[0][0].lower() == "map_aat":
        return 0
    at = 1
    while at < len(words) and words[at][0] in _OPTIONS:
        most = _OPTIONS[words[at][0]]
        taken = 1
        # a texture may be named like a number only where the option has had at least one value
        while taken <= most and at + taken < len(words) and (taken == 1 or _is_number(words[at + taken][0])):
            taken += 1
        at += taken
    return words[at][1] if at < len(words) else 0


def _words(line: bytes) -> Iterator[tuple[str, int]]:
    at = 0
    for word in line.split():
        at = line.index(word, at)
        yield word.decode("utf-8", "surrogateescape"), at
        at += len(word)


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


def _ending(line: bytes) -> bytes:
    return line[len(line.rstrip(b"\r\n")) :]
