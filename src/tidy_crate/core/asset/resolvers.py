"""Resolvers of asset systems: from an identifier that a scene writes in place of a path to a file.

A new one is registered by an entry point; see docs/extending.md. It is asked for all identifiers of a scene at once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from tidy_crate.core.plugins import names, plugin

GROUP = "tidy_crate.resolvers"
# characters of a resolver's own words that are shown
MOST = 300


@dataclass(frozen=True)
class Found:
    """The file that an identifier stands for."""

    path: Path
    """Absolute, or the pattern of a sequence."""
    version: str = ""
    """As the asset system calls it; empty where it has none."""


class Resolver(Protocol):
    """Finds the files of one asset system."""

    def is_active(self) -> bool:
        """Return whether it is set up on this machine: another one is not asked at all."""

    def knows(self, identifier: str) -> bool:
        """Return whether an identifier is one of its asset system, without asking that."""

    def resolve(self, identifiers: Sequence[str], scene: Path) -> Mapping[str, Found | str]:
        """Return by identifier what it stands for, or why it stands for nothing, in plain words.

        scene: the scene that writes them. May raise anything: its first line is told for all of them.
        """


@dataclass(frozen=True)
class Answer:
    """The answer of a resolver about an identifier."""

    resolver: str
    found: Found | None
    trouble: str = ""
    """Why it stands for nothing; empty where it was found."""


def active() -> dict[str, Resolver]:
    """Return the resolvers that are set up here, by name. Raises UnreadableInput for one that cannot be loaded."""
    found: dict[str, Resolver] = {}
    for name in names(GROUP):
        make: Callable[[], Resolver] = plugin(GROUP, name)
        if (one := make()).is_active():
            found[name] = one
    return found


def resolve_all(resolvers: Mapping[str, Resolver], identifiers: Iterable[str], scene: Path) -> dict[str, Answer]:
    """Ask for identifiers, each the first resolver that knows it. Left out are those that none knows."""
    asked: dict[str, list[str]] = {}
    for identifier in dict.fromkeys(identifiers):
        name = next((name for name, one in resolvers.items() if one.knows(identifier)), None)
        if name is not None:
            asked.setdefault(name, []).append(identifier)
    answers: dict[str, Answer] = {}
    for name, own in asked.items():
        try:
            said: Mapping[str, Found | str] = resolvers[name].resolve(own, scene)
        except Exception as error:  # noqa: BLE001 - a studio's own code, which may do anything
            reason = " ".join(f"{error}".split())[:MOST] or type(error).__name__
            said = dict.fromkeys(own, f"{name} cannot be asked ({reason})")
        for identifier in own:
            answers[identifier] = _answer(name, said.get(identifier, f"{name} says nothing of it"))
    return answers


def _answer(name: str, said: Found | str) -> Answer:
    if isinstance(said, str):
        return Answer(name, None, " ".join(said.split())[:MOST] or f"{name} does not find it")
    if not said.path.is_absolute():
        return Answer(name, None, f"{name} names {said.path}, which is no whole path")
    return Answer(name, said)
