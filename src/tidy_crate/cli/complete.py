"""Completion of words on a command line: jobs, farms, codes of checks, machine classes.

Whatever goes wrong here completes nothing: a shell that asks while a person types must not show an error.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable
from typing import Any

import typer

from tidy_crate.core.errors import TidyCrateError

Completion = Callable[[str], list[str]]


def _of(words: Callable[[], Iterable[str]]) -> Completion:
    def complete(incomplete: str) -> list[str]:
        with contextlib.suppress(TidyCrateError, OSError):
            return sorted({word for word in words() if word.startswith(incomplete)})
        return []

    return complete


def _jobs() -> Iterable[str]:
    from tidy_crate import api

    return [one.job for one in api.jobs()]


def _farms() -> Iterable[str]:
    from tidy_crate import api
    from tidy_crate.core.farm.card import known_farms

    return known_farms(api.User.here().card_folders)


def _codes() -> Iterable[str]:
    from tidy_crate.core.check.catalogue import catalogue

    return catalogue()


jobs, farms, codes = _of(_jobs), _of(_farms), _of(_codes)


def machines(ctx: typer.Context, incomplete: str) -> list[str]:
    """Complete a machine class: those of the farms that the line names, of all known ones where it names none."""
    from tidy_crate import api

    said: Any = ctx.params.get("farms") or ctx.params.get("farm")
    named = [said] if isinstance(said, str) else list(said or _farms())
    found: set[str] = set()
    for farm in named:
        with contextlib.suppress(TidyCrateError, OSError):
            found |= {one.name for one in api.load_card(farm)[0].machine}
    return sorted(name for name in found if name.startswith(incomplete))
