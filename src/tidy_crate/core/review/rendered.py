"""Who rendered a frame."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Rendered:
    """The attempt that rendered a frame."""

    node: str = ""
    attempt: int = 1
    seconds: float | None = None
    begins: bool = False
    """True when a batch begins with it, as it was ordered."""
    place: str = ""
    """Farm and machine class; empty where a job has one only."""
