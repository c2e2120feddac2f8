"""Price models of farm cards: from what a job uses to what it costs.

Each model is a pure function. Amounts are `Decimal`, in the card's currency or in its credits. Nothing is rounded on
the way: the bill is rounded once, to whole cents, half up (`money.rounded`). Times are rounded up to the increment of
their price before anything is multiplied.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, ConfigDict, Field

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount

Per = Literal["machine-hour", "gpu-hour", "core-hour", "score-hour", "frame", "rental"]
Step = Literal["upload", "processing", "startup", "render", "download"]
HOUR = Decimal(3600)
GIB = Decimal(2**30)
Percent = Annotated[Amount, Field(ge=0, le=1000)]


class Words(dict[str, str]):
    """Words by name. It can be hashed, as the parts of a card are: it is not changed once it was read."""

    def __hash__(self) -> int:  # type: ignore[override]
        return hash(tuple(sorted(self.items())))


# words for the scheduler of one's own machines, by its own names for them: `partition = "night"`
Submit = Annotated[
    dict[
        Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]{0,39}$")],
        Annotated[str, Field(pattern=r"^[^\x00-\x1f]{0,200}$")],
    ],
    AfterValidator(Words),
]

# ten years: no time on a card is longer
MOST_SECONDS = 320_000_000


class CardPart(Model):
    """A part of a farm card: its numbers are finite."""

    model_config = ConfigDict(allow_inf_nan=False)


class Price(CardPart):
    """One price. A card may have several; all that apply to a machine class are added up."""

    per: Per
    """Unit that is counted. `score-hour`: an hour at a score of 100. `rental`: a whole machine, by blocks of time."""
    amount: Amount = Field(ge=0)
    """For one of them."""
    machines: tuple[str, ...] = ()
    """Machine classes that it applies to; empty for all."""
    increment_seconds: int = Field(default=1, ge=1, le=MOST_SECONDS)
    """Times are rounded up to whole increments, for each machine by itself."""
    minimum_seconds: int = Field(default=0, ge=0, le=MOST_SECONDS)
    """Least time that is billed for each machine."""
    startup_billed: bool = True
    """True if the time in which a machine starts up counts."""
    on_the_clock: tuple[Step, ...] = ("startup", "render")
    """For `rental`: steps during which the machine is paid for. It is paid from the first to the end of the last."""
    block_hours: float = Field(default=1, ge=0.001, le=100_000)
    """For `rental`: hours of one block, which is paid as a whole; `amount` is for a block. 24 is a day, 168 a week."""


class Priority(CardPart):
    """One way to be served sooner or later."""

    name: str = Field(min_length=1)
    price: float = Field(default=1.0, ge=0.001, le=100)
    """Factor on the price of machines and frames."""
    wait: float = Field(default=1.0, ge=0, le=100)
    """Factor on the time in the queue."""
    nodes: float = Field(default=1.0, ge=0.001, le=100)
    """Factor on the number of machines that one usually gets."""
    submit: Submit = Field(default_factory=Words)
    """For one's own machines: what the scheduler is told for this priority, as in `qos = "high"`."""


class Discount(CardPart):
    """A step of a volume discount."""

    over: Amount = Field(ge=0)
    """Sum from which on it applies."""
    percent: Annotated[Amount, Field(ge=0, le=100)]
    whole: bool = False
    """True if it applies to the whole sum once that is over the step, and not just to the part above."""


class Storage(CardPart):
    """Price of storing the crate and the frames at the farm."""

    per_gb_day: Amount = Field(ge=0)
    """For a GB of 2^30 bytes and a day; so in all fields of this name."""
    days: float = Field(default=7, ge=0, le=3650)
    """Days that files are kept."""
    free_gb: float = Field(default=0, ge=0, le=1e12)


class Egress(CardPart):
    """Price of downloading frames."""

    per_gb: Amount = Field(ge=0)
    """For a GB of 2^30 bytes."""
    free_gb: float = Field(default=0, ge=0, le=1e12)


class Credits(CardPart):
    """Amounts of the card are in credits, which are bought for money."""

    price: Amount = Field(gt=0)
    """Price of one credit, in the card's currency."""
    pack: int = Field(default=1, ge=1, le=10**9)
    """Credits are sold in packs of so many."""


class Prices(CardPart):
    """All that a card says of money apart from each machine's own price."""

    price: tuple[Price, ...] = ()
    discount: tuple[Discount, ...] = ()
    storage: Storage | None = None
    egress: Egress | None = None
    credits: Credits | None = None
    tax_percent: Percent = Decimal(0)
    minimum_charge: Amount = Field(default=Decimal(0), ge=0)
    """Least amount of a bill, before tax; in credits where amounts are in credits."""


@dataclass(frozen=True)
class Hardware:
    """Hardware of a machine class that prices depend on."""

    name: str
    score: float
    cores: int | None
    gpus: int


@dataclass(frozen=True)
class Usage:
    """Resources used by some runs of one job, runs in the first axis."""

    working: NDArray[np.float64]
    """Seconds of each machine from its start-up's end to its release, shape (runs, machines).

    0 for one that was never taken.
    """
    starting: NDArray[np.float64]
    """Seconds of each machine's start-up, shape (runs, machines)."""
    frames: NDArray[np.float64]
    """Rendered frames, shape (runs,)."""
    steps: dict[Step, NDArray[np.float64]]
    """Seconds of each step of the way, shape (runs,)."""
    again: NDArray[np.float64] | None = None
    """Seconds of each machine that renders bad frames again, after its start-up: shape (runs, machines), 0 for none.

    On machines that are rented these are the same ones, which are still there.
    """
    again_starting: NDArray[np.float64] | None = None
    """Seconds of their start-up, shape (runs, machines)."""

    @property
    def machines(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return seconds of work and of start-up of every machine that was taken, one after the other."""
        if self.again is None or self.again_starting is None:
            return self.working, self.starting
        return (
            np.concatenate([self.working, self.again], axis=1),
            np.concatenate([self.starting, self.again_starting], axis=1),
        )

    def without_again(self, frames: NDArray[np.float64]) -> Usage:
        """Return the same where no frame is rendered again. frames: see the field."""
        return Usage(self.working, self.starting, frames, self.steps)


def machine_seconds(price: Price, usage: Usage) -> NDArray[np.float64]:
    """Return the billed seconds of all machines together, shape (runs,): whole increments, and the least of each."""
    working, starting = usage.machines
    seconds = working + starting * price.startup_billed
    steps = np.ceil(np.round(seconds / price.increment_seconds, 9)) * price.increment_seconds
    # a machine that was never taken is never billed
    billed = np.where(working > 0, np.maximum(steps, price.minimum_seconds), 0.0)
    return np.asarray(billed.sum(axis=1))


def rented_blocks(price: Price, usage: Usage) -> NDArray[np.float64]:
    """Return the blocks of all rented machines together, shape (runs,).

    Every machine is kept until the job is over, and through the steps after it that are on the clock.
    """
    around = sum((usage.steps[step] for step in price.on_the_clock if step in ("upload", "processing", "download")),
                 np.zeros(len(usage.frames)))  # fmt: skip
    render = usage.working.max(axis=1) if "render" in price.on_the_clock else 0.0
    if usage.again is not None and usage.again.size and "render" in price.on_the_clock:
        render = render + usage.again.max(axis=1)
    start = usage.starting.max(axis=1) if "startup" in price.on_the_clock else 0.0
    seconds = np.maximum(around + render + start, price.minimum_seconds)
    blocks = np.ceil(np.round(seconds / (price.block_hours * 3600), 9))
    return np.asarray(blocks * (usage.working > 0).sum(axis=1))


_Quantity = Callable[[Price, Usage], NDArray[np.float64]]


@dataclass(frozen=True)
class _Model:
    quantity: _Quantity
    """Counted units, a number for each run."""
    one: Callable[[Price, Hardware], Decimal]
    """The price of one of it."""


def _cores(price: Price, machine: Hardware) -> Decimal:
    # a card without cores was refused when it was read
    return price.amount * (machine.cores or 0) / HOUR


MODELS: dict[Per, _Model] = {
    "machine-hour": _Model(machine_seconds, lambda price, _: price.amount / HOUR),
    "gpu-hour": _Model(machine_seconds, lambda price, machine: price.amount * machine.gpus / HOUR),
    "core-hour": _Model(machine_seconds, _cores),
    "score-hour": _Model(
        machine_seconds, lambda price, machine: price.amount * Decimal(str(machine.score)) / 100 / HOUR
    ),
    "frame": _Model(lambda _, usage: usage.frames, lambda price, _: price.amount),
    "rental": _Model(rented_blocks, lambda price, _: price.amount),
}


@dataclass(frozen=True)
class Counted:
    """Quantity that one price counts in one machine class for each run, and the amount for one unit."""

    price: Price
    quantity: NDArray[np.float64]
    one: Decimal


def counted(prices: tuple[Price, ...], machine: Hardware, usage: Usage) -> tuple[Counted, ...]:
    """Return what each price that applies to a machine class counts."""
    return tuple(
        Counted(price, MODELS[price.per].quantity(price, usage), MODELS[price.per].one(price, machine))
        for price in prices
        if not price.machines or machine.name in price.machines
    )


@dataclass(frozen=True)
class Bill:
    """One bill, in money, not rounded. total: with everything."""

    rendering: Decimal
    discount: Decimal
    storage: Decimal
    egress: Decimal
    minimum: Decimal
    """Surcharge up to the least amount of a bill."""
    tax: Decimal

    @property
    def total(self) -> Decimal:
        """The sum of all parts."""
        return self.rendering - self.discount + self.storage + self.egress + self.minimum + self.tax


def discounted(amount: Decimal, steps: tuple[Discount, ...]) -> Decimal:
    """Return what is taken off an amount.

    Steps for the part above them are marginal, like brackets of a tax. Of the steps for the whole the highest reached
    counts.

    >>> discounted(Decimal(150), (Discount(over=100, percent=10),))
    Decimal('5')
    """
    off = Decimal(0)
    marginal = sorted((one for one in steps if not one.whole), key=lambda one: one.over)
    for at, step in enumerate(marginal):
        end = marginal[at + 1].over if at + 1 < len(marginal) else amount
        off += max(Decimal(0), min(amount, end) - step.over) * step.percent / 100
    reached = [one for one in steps if one.whole and amount > one.over]
    if reached:
        off += amount * max(reached, key=lambda one: one.over).percent / 100
    return min(off, amount)


def bill(
    rules: Prices,
    amounts: Decimal,
    *,
    factor: float = 1.0,
    stored_bytes: float = 0.0,
    home_bytes: float = 0.0,
    earlier: Decimal = Decimal(0),
) -> Bill:
    """Return the bill for a sum of prices. factor: of the priority and of reclaimable machines.

    stored_bytes: at the farm. home_bytes: brought home. earlier: what the volume discount counts already.
    """
    rendering = amounts * Decimal(str(factor))
    off = discounted(earlier + rendering, rules.discount) - discounted(earlier, rules.discount)
    storage = egress = Decimal(0)
    if rules.storage is not None:
        kept = max(Decimal(0), Decimal(stored_bytes) / GIB - Decimal(str(rules.storage.free_gb)))
        storage = kept * rules.storage.per_gb_day * Decimal(str(rules.storage.days))
    if rules.egress is not None:
        egress = max(Decimal(0), Decimal(home_bytes) / GIB - Decimal(str(rules.egress.free_gb))) * rules.egress.per_gb
    if rules.credits is not None:
        net = rendering - off + storage + egress
        minimum = max(Decimal(0), rules.minimum_charge - net)
        packs = math.ceil((net + minimum) / rules.credits.pack)
        rendering += Decimal(packs * rules.credits.pack) - net - minimum
        price = rules.credits.price
        rendering, off, storage, egress, minimum = (one * price for one in (rendering, off, storage, egress, minimum))
        net = rendering - off + storage + egress
    else:
        net = rendering - off + storage + egress
        minimum = max(Decimal(0), rules.minimum_charge - net)
    return Bill(rendering, off, storage, egress, minimum, (net + minimum) * rules.tax_percent / 100)
