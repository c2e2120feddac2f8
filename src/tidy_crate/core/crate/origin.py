"""Record of the scene that a crate was made from, kept on the machine that made it."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import MOST_LIST, file_mark, hash_file, path_of, read_json, text_of, write_json


def note_origin(note: Path, scene: Path, sources: Iterable[Path], said: Iterable[Path] = ()) -> None:
    """Write down the sources of a crate with their marks (size, time, inode). Those that are gone are left out.

    said: files that decide how it is packed, such as decisions, noted by their contents; they may not be there.
    """
    marks = {}
    for path in sources:
        try:
            marks[text_of(path)] = file_mark(path)
        except OSError:
            continue
    digests = {text_of(path): _digest(path) for path in said}
    write_json(note, {"scene": text_of(scene), "sources": marks, "said": digests})


def changed_since(note: Path) -> tuple[Path, ...]:
    """The sources that are no longer what they were, the scene itself first; none where nothing was noted here."""
    try:
        content = read_json(note, "note of what a crate was made from", MOST_LIST)
        scene = path_of(str(content["scene"]))
        sources = {path_of(str(path)): mark for path, mark in dict(content["sources"]).items()}
    except (UnreadableInput, KeyError, TypeError, ValueError):
        return ()
    changed = [Path(path) for path, mark in sources.items() if _mark(Path(path)) != mark]
    return tuple(sorted(changed, key=lambda path: (str(path) != scene, path)))


def said_otherwise(note: Path) -> tuple[Path, ...]:
    """The files that say something else now than when the crate was made; none where nothing was noted here."""
    try:
        said = dict(read_json(note, "note of what a crate was made from", MOST_LIST).get("said", {}))
        return tuple(path for text, digest in said.items() if _digest(path := Path(path_of(str(text)))) != digest)
    except (UnreadableInput, TypeError, ValueError):
        return ()


def scene_of(note: Path) -> Path | None:
    """Return the scene that a crate was made from, None where nothing was noted here."""
    try:
        return Path(path_of(str(read_json(note, "note of what a crate was made from", MOST_LIST)["scene"])))
    except (UnreadableInput, KeyError, TypeError, ValueError):
        return None


def _mark(path: Path) -> str | None:
    try:
        return file_mark(path)
    except OSError:
        return None


def _digest(path: Path) -> str:
    """Return the digest of a file's contents, nothing where there is none."""
    try:
        return hash_file(path)
    except (OSError, UnreadableInput):
        return ""
