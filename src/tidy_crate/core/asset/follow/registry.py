"""Finds the follower for a file."""

from __future__ import annotations

from functools import cache
from importlib.metadata import entry_points
from pathlib import Path

from tidy_crate.core.asset.follow.interface import Follower

GROUP = "tidy_crate.followers"


@cache
def _by_suffix() -> dict[str, Follower]:
    found = {}
    for entry in sorted(entry_points(group=GROUP), key=lambda entry: entry.name):
        follower: Follower = entry.load()()
        found.update(dict.fromkeys(follower.suffixes, follower))
    return found


def follower_of(path: Path) -> Follower | None:
    """The follower for a file, by its ending; None for files that name no others."""
    return _by_suffix().get(path.suffix.lower())
