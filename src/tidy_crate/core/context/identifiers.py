"""Identifiers of asset systems in a scene: asked for anew by every command, as edits of the staging plan.

Their answers are kept by no survey. What version each had is noted on this machine, so that a change is told.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.resolvers import Answer, Resolver, resolve_all
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.staging import Resolved

# a file that an identifier leads to may write others: so many levels
MOST_ROUNDS = 50
NOTE = "note of the versions of identifiers"


def resolved_edits(
    scene: Path, resolvers: Mapping[str, Resolver], survey: Callable[[tuple[Resolved, ...]], Survey], note: Path | None
) -> tuple[Resolved, ...]:
    """Return an edit for each occurrence of an identifier that some resolver knows.

    survey: returns that of the scene with some of these edits. note: the file of the versions that were last collected,
    or first seen.
    """
    before = _noted(note)
    answers: dict[str, Answer] = {}
    edits: dict[str, Resolved] = {}
    asked: set[str] = set()
    for _ in range(MOST_ROUNDS):
        found = {
            asset.id: asset.value
            for asset in survey(tuple(edits.values())).assets
            if asset.id not in edits and paths.dialect(asset.value) is Dialect.IDENTIFIER
        }
        fresh = dict.fromkeys(value for value in found.values() if value not in asked)
        asked |= fresh.keys()
        answers |= resolve_all(resolvers, fresh, scene)
        new = {
            name: _edit(name, value, answers[value], before.get(value))
            for name, value in found.items()
            if value in answers
        }
        if not new:
            break
        edits |= new
    if note is not None and any(edit.identifier not in before for edit in edits.values()):
        write_versions(note, {edit.identifier: edit.version for edit in edits.values()} | before)
    return tuple(edits.values())


def changed_since(edits: tuple[Resolved, ...], resolvers: Mapping[str, Resolver], scene: Path) -> list[str]:
    """Ask again, and return what now stands for another file or version than these edits have it, in words."""
    answers = resolve_all(resolvers, (edit.identifier for edit in edits), scene)
    told = {}
    for edit in edits:
        now = answers.get(edit.identifier)
        path, version = (now.found.path, now.found.version) if now is not None and now.found is not None else (None, "")
        if (path, version) != (edit.to, edit.version):
            was, is_now = (f"version {one}" if one else str(place) for one, place in
                           ((edit.version, edit.to), (version, path)))  # fmt: skip
            told[edit.identifier] = f"{edit.identifier} was {was} and is {is_now}"
    return list(told.values())


def write_versions(note: Path, versions: Mapping[str, str]) -> None:
    """Note the versions of identifiers. Without a place to write there is no note, and no change is told."""
    with contextlib.suppress(OSError):
        note.parent.mkdir(parents=True, exist_ok=True)
        write_json(note, {"versions": dict(versions)})


def _noted(note: Path | None) -> dict[str, str]:
    if note is None or not note.is_file():
        return {}
    try:
        return {str(name): str(version) for name, version in read_json(note, NOTE)["versions"].items()}
    except (UnreadableInput, KeyError, TypeError, AttributeError):
        return {}


def _edit(name: str, identifier: str, answer: Answer, was: str | None) -> Resolved:
    found = answer.found
    return Resolved(
        asset=name, identifier=identifier, resolver=answer.resolver, trouble=answer.trouble,
        to=found.path if found is not None else None, version=found.version if found is not None else "",
        was=was if found is not None and was is not None and was != found.version else None,
        because=f"{answer.resolver} says so",
    )  # fmt: skip
