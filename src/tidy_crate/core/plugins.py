"""Parts that other packages bring, found by entry points. One that cannot be loaded is named, never passed over."""

from __future__ import annotations

from functools import cache
from importlib.metadata import EntryPoint, EntryPoints, entry_points
from typing import Any

from tidy_crate.core.errors import UnreadableInput


@cache
def _every() -> Any:
    """Return the entry points of all installed packages: looking through them takes a while, and is done once.

    Their type differs between versions of Python; all have `select`, which gives `EntryPoints`.
    """
    return entry_points()


def _of(group: str, **more: str) -> EntryPoints:
    found: EntryPoints = _every().select(group=group, **more)
    return found


@cache
def names(group: str) -> tuple[str, ...]:
    """The names of a group's entry points, in order."""
    return tuple(sorted({entry.name for entry in _of(group)}))


@cache
def plugin(group: str, name: str) -> Any:
    """Load one entry point, None where nothing has that name. Raises UnreadableInput when it cannot be loaded."""
    found = _of(group, name=name)
    if not found:
        return None
    packages = sorted({_package(entry) for entry in found})
    if len(packages) > 1:
        what = f"two packages bring {name!r}: {' and '.join(packages)}"
        raise UnreadableInput(what, group, "remove one of them")
    entry = next(iter(found))
    try:
        return entry.load()
    except Exception as error:
        reason = " ".join(f"{type(error).__name__}: {error}".split())[:200]
        what = f"{name!r} of the package {_package(entry)} cannot be loaded ({reason})"
        raise UnreadableInput(what, entry.value, f"repair or remove it: pip uninstall {_package(entry)}") from error


def plugins(group: str) -> dict[str, Any]:
    """Load all entry points of a group, by name. Raises UnreadableInput when one cannot be loaded."""
    return {name: plugin(group, name) for name in names(group)}


@cache
def installed(*groups: str) -> str:
    """Return the parts of some groups with their packages and versions: another text for other parts."""
    found = {
        (group, entry.name, entry.value, entry.dist.version if entry.dist is not None else "")
        for group in groups
        for entry in _of(group)
    }
    return repr(sorted(found))


def _package(entry: EntryPoint) -> str:
    return entry.dist.name if entry.dist is not None else entry.value.partition(".")[0]
