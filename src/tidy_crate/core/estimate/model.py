"""Result of an estimate: quotes and the recommended one. Not binding. Nothing in it is binding."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TypeVar

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Cost, Range

# this machine's score where it is not known: that of the machine a score of 100 is defined by
SCORE_HERE = 100.0
# a promise is one that holds in so many of a hundred cases
PROMISE = 0.9


class MoneyParts(Model):
    """The likely cost in its parts, in the farm's currency."""

    rendering: Amount
    discount: Amount
    """Taken off."""
    storage: Amount
    egress: Amount
    minimum: Amount
    """Added up to the least amount of a bill."""
    tax: Amount
    again: Amount
    """Part of the rendering: frames that are rejected and rendered again, on average."""


class Parts(Model):
    """Seconds of each part of the way, in the likely run: they add up to its time, apart from `loading`."""

    upload: float
    processing: float
    queue: float
    startup: float
    loading: float
    """Share of the rendering that goes into loading the scene, on each machine."""
    rendering: float
    """From the first machine that is ready to the last frame, with loading."""
    retrieval: float
    """After the last frame is rendered: frames come down while others still render."""
    again: float
    """Frames that are rejected and rendered again."""
    stitching: float
    """Tiles put together on this machine."""
    money: MoneyParts


class Share(Model):
    """One farm's share of a job that is split."""

    farm: str
    machine: str
    nodes: int
    batch: int
    frames: int
    cost: Cost
    seconds: Range


class Quote(Model):
    """One way to do it. Low, likely and high are the 10th, 50th and 90th percentile."""

    farm: str
    machine: str
    nodes: int
    batch: int
    priority: str = ""
    """Empty for the usual one."""
    reclaimable: bool = False
    cost: Cost
    """In the farm's currency."""
    cost_own: Cost | None = None
    """In the currency of the comparison; None where no rate of exchange is known."""
    seconds: Range
    parts: Parts | None
    """None for a split job: see the shares."""
    basis: str
    eligible: bool
    reasons: tuple[str, ...] = ()
    """Why it cannot be taken."""
    correction: float = 1.0
    """Factor on the time of a frame, from earlier jobs at this farm."""
    task_seconds: float | None = None
    """Likely seconds of one task on such a machine, with its share of loading; None for a split job."""
    corrected_by: int = 0
    """Jobs that the factor rests on."""
    shares: tuple[Share, ...] = ()
    """Parts of a job that is split between farms."""

    @property
    def comparable(self) -> bool:
        """Return whether it can be taken, and its cost is known in the currency of the comparison."""
        return self.eligible and self.cost_own is not None

    @property
    def product(self) -> float:
        """Cost in the farm's currency times seconds: the less, the better both are together."""
        return float(self.cost.likely) * self.seconds.likely


K = TypeVar("K")


def least_by(quotes: Sequence[Quote], among: Iterable[int], key: Callable[[Quote], K]) -> dict[K, int]:
    """Return by key the place of the quote with the least product of cost and time, in the order of first sight."""
    best: dict[K, int] = {}
    for at in among:
        other = best.setdefault(key(quotes[at]), at)
        if quotes[at].product < quotes[other].product:
            best[key(quotes[at])] = at
    return best


class Here(Model):
    """The same work on this machine alone."""

    seconds: Range
    cost: Cost | None = None
    """None where the user's configuration has no price of an hour here."""


class Pick(Model):
    """The quote to take."""

    index: int
    why: str


class Nearest(Model):
    """A change with which a wish could be kept that cannot be kept as it is."""

    change: str
    cost: Cost
    seconds: Range
    farm: str
    machine: str
    fits: bool
    """True if the wish is then kept."""


class OwnQuote(Model):
    """A farm's own quote."""

    farm: str
    machine: str
    nodes: int
    batch: int
    cost: Amount
    currency: str
    seconds: float
    binding: bool


class Estimate(Model):
    """All quotes, and which of them to take."""

    quotes: tuple[Quote, ...]
    front: tuple[int, ...]
    """Those for which no other is both cheaper and sooner, by cost."""
    pick: Pick | None
    here: Here
    nearest: tuple[Nearest, ...] = ()
    own_quotes: tuple[OwnQuote, ...] = ()
    """Quotes of the farms themselves, where they were asked."""
    basis: str
    source: str
    """Source of the timings, in words."""
    currency: str
    """Currency of the comparison."""
    frames: int
    """Pictures to render, all requests and views together."""
    timed: int
    """Frames that were timed."""
    width: float
    """Width of the 80 % range of the render time, as a share of it."""
    what_if: str = ""
    """Changes for this estimate."""
    notes: tuple[str, ...] = ()
    """Assumptions of the estimate that were not measured."""


@dataclass(frozen=True)
class Wishes:
    """Choices fixed by the user; None leaves a choice to the estimate."""

    machine: str | None = None
    nodes: int | None = None
    batch: int | None = None
    score_here: float = SCORE_HERE
    accept_practice: bool = False
    priority: str | None = None
    reclaimable: bool | None = None
    upload_mbit: float | None = None
    """Measured speed of this side's line, where it is slower than the farm's."""
    most_seconds: float | None = None
    """It has to be done after so many seconds."""
    most_money: Decimal | None = None
    """It may cost so much, in the currency of the comparison."""
    currency: str | None = None
    """Currency of the comparison; None for the first card's."""
