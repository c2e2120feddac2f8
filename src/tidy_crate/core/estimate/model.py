"""What an estimate says: quotes, and which of them to take."""

from __future__ import annotations

from dataclasses import dataclass

from tidy_crate.core.model import Model
from tidy_crate.core.money import Cost, Range

# this machine's score where nobody measured it: that of the machine a score of 100 is defined by
SCORE_HERE = 100.0
# the basis of timings that say nothing about a real renderer
PRACTICE = "practice"


class Parts(Model):
    """Likely seconds of each part of the way; retrieval runs while it renders, and only its tail counts."""

    upload: float
    processing: float
    startup: float
    rendering: float
    retrieval: float


class Quote(Model):
    """One way to do it. Not binding. basis: what the timings rest on."""

    farm: str
    machine: str
    nodes: int
    batch: int
    cost: Cost
    seconds: Range
    parts: Parts
    basis: str
    eligible: bool
    reasons: tuple[str, ...] = ()


class Estimate(Model):
    """All quotes, and the place of the one to take: the cheapest eligible, of equally cheap ones the fastest."""

    quotes: tuple[Quote, ...]
    pick: int | None
    basis: str
    frames: int


@dataclass(frozen=True)
class Wishes:
    """What the wrangler fixed; None leaves it to the estimate."""

    machine: str | None = None
    nodes: int | None = None
    batch: int | None = None
    score_here: float = SCORE_HERE
    accept_practice: bool = False
