"""Finds the follower for a file."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from tidy_crate.core.asset.follow.interface import Follower
from tidy_crate.core.plugins import plugins

GROUP = "tidy_crate.followers"


@cache
def _by_suffix() -> dict[str, Follower]:
    found = {}
    for made in plugins(GROUP).values():
        follower: Follower = made()
        found.update(dict.fromkeys(follower.suffixes, follower))
    return found


def follower_of(path: Path) -> Follower | None:
    """The follower for a file, by its ending; None for files that name no others."""
    return _by_suffix().get(path.suffix.lower())
