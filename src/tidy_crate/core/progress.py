"""Progress of long-running work: a callback that an interface may draw."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Step:
    """One report of progress.

    stage: what is going on, a verb ("copy", "upload").
    done, total: in `unit`; total is None while it is unknown.
    subject: what is being worked on now.
    """

    stage: str
    done: float
    total: float | None
    unit: str
    subject: str = ""


Progress = Callable[[Step], None]


def silent(step: Step) -> None:
    """Report nothing."""
