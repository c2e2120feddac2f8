"""Progress of long-running work: a callback that an interface may draw."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Step:
    """One report of progress."""

    stage: str
    """The current work, a verb ("copy", "upload")."""
    done: float
    """In `unit`."""
    total: float | None
    """In `unit`, None while it is unknown."""
    unit: str
    subject: str = ""
    """The file, frame or farm that is being worked on."""


Progress = Callable[[Step], None]


def silent(step: Step) -> None:
    """Report nothing."""
