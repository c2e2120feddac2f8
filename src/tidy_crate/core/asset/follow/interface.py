"""Interface of a follower: a kind of file that names other files.

A new kind is a sibling of `wavefront`, registered by an entry point.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

# names in one file; what has more was not written to be rendered
MOST_LINKS = 100_000


@dataclass(frozen=True)
class FileLink:
    """One place in a file that names another."""

    text: str
    """The path as it is to be resolved."""
    where: str
    """A line or element, for people."""
    kind: str
    search: tuple[str, ...] = ()
    """Folders to look in, as the file writes them, where its own folder is not the only one."""


NewText = Callable[[FileLink], str]


class Follower(Protocol):
    """Reads and rewrites the links of one kind of file. Files may be large: they are streamed where the kind allows."""

    suffixes: tuple[str, ...]

    def links(self, path: Path) -> list[FileLink]:
        """All links, in the order of the file. Raises ValueError with a plain reason when it is not of its kind."""

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """Write a copy in which every link says what `new_text` says, from the file's own folder."""
