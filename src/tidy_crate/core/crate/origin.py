"""Record of the scene that a crate was made from, kept on the machine that made it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import MOST_LIST, file_mark, path_of, read_json, text_of, write_json


def note_origin(note: Path, scene: Path, sources: Iterable[Path], said: Mapping[str, str] | None = None) -> None:
    """Write down the sources of a crate with their marks (size, time, inode). Those that are gone are left out.

    said: what decides how it is packed, by name, as digests: see `SceneContext.said`.
    """
    marks = {}
    for path in sources:
        try:
            marks[text_of(path)] = file_mark(path)
        except OSError:
            continue
    write_json(note, {"scene": text_of(scene), "sources": marks, "said": dict(said or {})})


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


def said_otherwise(note: Path, now: Mapping[str, str]) -> tuple[str, ...]:
    """What says something else now than when the crate was made, by name; nothing where none of it was noted here."""
    try:
        said = read_json(note, "note of what a crate was made from", MOST_LIST)["said"]
    except (UnreadableInput, KeyError, TypeError):
        return ()
    if not isinstance(said, dict):
        return ()
    return tuple(name for name in {**said, **now} if said.get(name) != now.get(name))


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
