"""A kind of file that names other files: a list of swatches, with a path on each line that begins with `swatch`."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from tidy_crate.core.asset.follow.interface import FileLink, NewText
from tidy_crate.core.files import read_input

WORD = "swatch "
MOST_BYTES = 1 << 20


class Swatches:
    """Reads and rewrites lists of swatches."""

    suffixes = (".swatches",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        return [link for _, link in _lines(path) if link is not None]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        for line, link in _lines(source):
            target.write((line if link is None else WORD + new_text(link)).encode() + b"\n")


def _lines(path: Path) -> list[tuple[str, FileLink | None]]:
    """Each line with the link in it. Raises ValueError for a file that is not text."""
    try:
        text = read_input(path, MOST_BYTES).decode()
    except UnicodeDecodeError as error:
        raise ValueError("it is not UTF-8 text") from error
    return [
        (line, FileLink(line.removeprefix(WORD), f"line {number}", "texture") if line.startswith(WORD) else None)
        for number, line in enumerate(text.splitlines(), 1)
    ]
