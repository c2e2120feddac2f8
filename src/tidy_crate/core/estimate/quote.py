"""Quotes: what one card and machine class take and cost for a job, as ranges."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property

import numpy as np

from tidy_crate.core.estimate.farm_run import (
    Array,
    FarmRuns,
    Fleet,
    batched,
    home,
    schedule,
    with_failures,
    with_reclaims,
)
from tidy_crate.core.estimate.model import PRACTICE, MoneyParts, Parts, Quote, Wishes
from tidy_crate.core.estimate.timing import SAME_MACHINE
from tidy_crate.core.estimate.timings import Timings
from tidy_crate.core.estimate.work import JobWork
from tidy_crate.core.farm.card import FarmCard, Machine
from tidy_crate.core.farm.fit import Need, fit
from tidy_crate.core.farm.prices import Bill, Counted, Priority, Usage, bill, counted
from tidy_crate.core.money import Cost, Range, rounded

LOW_TO_HIGH = (0.1, 0.5, 0.9)
BATCHES = (1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128)
# standard deviations, as shares: another machine by its score; speed of the line
OTHER_MACHINE = 0.08
LINE = 0.15
# frames that are rejected and rendered again, before anything is known of a farm: a share, and the frames it counts for
AGAIN_SHARE, AGAIN_WEIGHT = 0.01, 50.0


@dataclass(frozen=True)
class Experience:
    """What earlier jobs say of a farm's machine class.

    factor: on the time of a frame. spread: standard deviation of its logarithm; None where no job is known. again:
    share of frames that are rendered again.
    """

    factor: float = 1.0
    spread: float | None = None
    jobs: int = 0
    again: float = AGAIN_SHARE


@dataclass(frozen=True)
class Offer:
    """One card and machine class for one job, with all that does not depend on the number of machines."""

    card: FarmCard
    machine: Machine
    work: JobWork
    timings: Timings
    wishes: Wishes
    experience: Experience = field(default_factory=Experience)
    delivered: bool = False
    """Whether the farm has the crate already."""
    refused: tuple[str, ...] = ()
    """Why the farm cannot take the scene, by its card."""
    seed: int = 1

    def _chance(self, what: str) -> np.random.Generator:
        """Return a generator for one thing: what was drawn before for another does not matter."""
        return np.random.default_rng([self.seed, *f"{self.card.name}/{self.machine.name}/{what}".encode()])

    @cached_property
    def faster(self) -> float:
        """How much longer a second of the measured machine takes there."""
        here = self.timings.score or self.wishes.score_here
        return here / self.machine.speed * self.experience.factor

    @cached_property
    def _spread(self) -> Array:
        """Factor of the whole job, shape (runs, 1): the farm's machines against ours, on another day."""
        usual = SAME_MACHINE if self.card.practice else OTHER_MACHINE
        sigma = usual if self.experience.spread is None else max(SAME_MACHINE, self.experience.spread)
        return np.exp(sigma * self._chance("spread").standard_normal((self.work.runs, 1)))

    @cached_property
    def load(self) -> Array:
        """Seconds to load the scene, shape (runs,)."""
        return np.asarray(self.work.load * self.faster * self._spread[:, 0])

    @cached_property
    def tasks(self) -> Array:
        """Seconds of each task, tries that fail included, shape (runs, tasks)."""
        seconds = self.work.tasks * (self.faster * self._spread)
        return with_failures(seconds, self.machine.failures, self._chance("failures"))

    @cached_property
    def reclaimed_tasks(self) -> Array:
        """The same on machines that are taken back."""
        rule = self.machine.reclaimable
        if rule is None:
            return self.tasks
        lost = self.load[:, None] + self.machine.startup_seconds
        return with_reclaims(self.tasks, rule.per_hour / 3600, lost, self._chance("reclaims"))

    @cached_property
    def upload(self) -> Array:
        """Seconds until the crate is there, shape (runs,)."""
        if self.delivered:
            return np.zeros(self.work.runs)
        mbit = min(self.card.transfer.upload_mbit, self.wishes.upload_mbit or np.inf)
        seconds = self.work.upload_bytes * 8 / (mbit * 1e6)
        return np.asarray(seconds * np.exp(LINE * self._chance("line").standard_normal(self.work.runs)))

    @cached_property
    def mean_work(self) -> tuple[float, float]:
        """Seconds of all tasks together, on machines that stay and on such as may be taken back, roughly."""
        stay, go = (float(tasks[:_FEW].sum(axis=1).mean()) for tasks in (self.tasks, self.reclaimed_tasks))
        return stay, go

    @cached_property
    def mean_load(self) -> float:
        """Seconds to load the scene, roughly."""
        return float(self.load[:_FEW].mean())

    @cached_property
    def usual_upload(self) -> float:
        """Seconds until the crate is there, likely."""
        return float(np.median(self.upload))

    @cached_property
    def _luck(self) -> Array:
        """By run, how well it goes with the queue and with free machines, between 0 and 1; shape (runs, 2)."""
        # one of each stretch, so that percentiles hardly depend on chance
        runs = self.work.runs
        even = (np.arange(runs) + 0.5) / runs
        return np.stack([self._chance(what).permutation(even) for what in ("queue", "free")], axis=1)

    def queue(self, priority: Priority) -> Array:
        """Seconds in the queue, shape (runs,)."""
        short, usual, long = self.card.queue_seconds
        points = [short * 0.5, short, usual, long, long + (long - usual)]
        return np.asarray(np.interp(self._luck[:, 0], [0, 0.1, 0.5, 0.9, 1], points) * priority.wait)

    @cached_property
    def _again(self) -> Array:
        return (
            self._chance("again")
            .binomial(self.work.tasks.shape[1], self.experience.again, self.work.runs)
            .astype(float)
        )

    @property
    def again(self) -> Array:
        """Tasks that are rendered again after the review, shape (runs,)."""
        return self._again

    @property
    def most_nodes(self) -> int:
        """Machines that one job can have."""
        return min(self.machine.nodes, self.card.limits.nodes or self.machine.nodes)

    def fleet(self, nodes: int, priority: Priority) -> Fleet:
        """Return the machines that the runs get, as they come."""
        runs, machine = self.work.runs, self.machine
        got = np.full(runs, nodes)
        if machine.usually_free is not None:
            few, usual, most = machine.usually_free
            points = [max(1.0, few - (usual - few) / 4), few, usual, most, most]
            # who is lucky with the queue is not always lucky with machines
            free = np.interp(self._luck[:, 1], [0, 0.1, 0.5, 0.9, 1], points) * priority.nodes
            got = np.minimum(nodes, np.maximum(1, np.round(free))).astype(int)
        chance = np.random.default_rng([self.seed, nodes])
        arrive = np.zeros((runs, nodes))
        if machine.arrive_seconds and nodes > 1:
            arrive[:, 1:] = np.sort(chance.random((runs, nodes - 1)), axis=1) * machine.arrive_seconds
        ready = arrive + machine.startup_seconds
        ready[np.arange(nodes) >= got[:, None]] = np.inf
        pace = np.ones((runs, nodes))
        if machine.speeds:
            # the mean of the speeds is the class's
            pace = np.exp(machine.speeds * chance.standard_normal((runs, nodes)) + machine.speeds**2 / 2)
        return Fleet(ready, pace)


@dataclass(frozen=True)
class Way:
    """How an offer is taken."""

    nodes: int
    batch: int
    priority: Priority
    reclaimable: bool = False


@dataclass(frozen=True)
class Outcome:
    """What a way comes to, before money. All shapes (runs,) but for usage."""

    seconds: Array
    usage: Usage
    rendering: Array
    retrieval: Array
    queue: Array
    again_seconds: Array
    loading: float


def outcome(offer: Offer, way: Way) -> Outcome:
    """Simulate one way of taking an offer."""
    work, machine = offer.work, offer.machine
    tasks = offer.reclaimed_tasks if way.reclaimable else offer.tasks
    starts = np.arange(0, tasks.shape[1], way.batch)
    # more machines than there are batches never begin
    fleet = offer.fleet(min(way.nodes, len(starts)), way.priority)
    runs = schedule(batched(tasks, offer.load, way.batch), fleet)
    per_second = offer.card.transfer.download_mbit * 1e6 / 8
    at_home = home(runs.batch_ends, np.add.reduceat(work.home_bytes, starts), per_second)
    again, again_node = _again(offer, way, tasks)
    queue = offer.queue(way.priority)
    around = offer.upload + offer.card.transfer.processing_seconds + queue
    seconds = around + at_home + again + work.stitch_seconds
    usage = _usage(offer, runs, fleet, again_node, at_home)
    return Outcome(
        seconds=seconds,
        usage=usage,
        rendering=runs.seconds - machine.startup_seconds,
        retrieval=at_home - runs.seconds,
        queue=queue,
        again_seconds=again,
        loading=float(np.median(offer.load)) * len(starts) / max(1, min(way.nodes, len(starts))),
    )


def _again(offer: Offer, way: Way, tasks: Array) -> tuple[Array, Array]:
    """Return seconds until rejected frames are rendered again, and the seconds that one machine works for it."""
    count = offer.again
    node = np.where(count > 0, offer.load + count * tasks.mean(axis=1), 0.0)
    beside = np.minimum(np.maximum(count, 1), way.nodes)
    seconds = np.where(count > 0, offer.machine.startup_seconds + offer.load + count * tasks.mean(axis=1) / beside, 0.0)
    return seconds, node


def _usage(offer: Offer, runs: FarmRuns, fleet: Fleet, again_node: Array, at_home: Array) -> Usage:
    working = np.where(
        runs.used, np.where(runs.used, runs.machine_ends, 0.0) - np.where(runs.used, fleet.ready, 0.0), 0.0
    )
    working = np.concatenate([working, again_node[:, None]], axis=1)
    starting = np.where(working > 0, offer.machine.startup_seconds, 0.0)
    steps = {
        "upload": offer.upload,
        "processing": np.full(offer.work.runs, offer.card.transfer.processing_seconds),
        "download": at_home - runs.seconds,
    }
    return Usage(working, starting, offer.work.tasks.shape[1] + offer.again, steps)  # type: ignore[arg-type]


def money(offer: Offer, way: Way, done: Outcome) -> tuple[tuple[Bill, Bill, Bill], Decimal]:
    """Return low, likely and high bill, and the average cost of frames rendered again.

    A bill goes up with whatever it counts, so that its percentiles are bills for the percentiles of what it counts.
    """
    card = offer.card
    factor = _factor(offer, way)
    prices = card.prices_of(offer.machine)
    each = counted(prices, offer.machine.hardware, done.usage)
    home_bytes = float(offer.work.home_bytes.sum())
    found = []
    for at in LOW_TO_HIGH:
        amounts = sum((_sum_of(one, at) for one in each), Decimal(0))
        stored = offer.work.upload_bytes + home_bytes
        found.append(bill(card, amounts, factor=factor, stored_bytes=stored, home_bytes=home_bytes))
    once = Usage(done.usage.working[:, :-1], done.usage.starting[:, :-1],
                 np.full(offer.work.runs, float(offer.work.tasks.shape[1])), done.usage.steps)  # fmt: skip
    without = counted(prices, offer.machine.hardware, once)
    again = sum(
        (Decimal(float(all_.quantity.mean() - first.quantity.mean())) * all_.one
         for all_, first in zip(each, without, strict=True)), Decimal(0),
    )  # fmt: skip
    low, likely, high = found
    return (low, likely, high), again * Decimal(str(factor))


def _factor(offer: Offer, way: Way) -> float:
    """Factor of a way on the prices of its card."""
    rule = offer.machine.reclaimable
    return way.priority.price * (rule.price if way.reclaimable and rule is not None else 1.0)


def _sum_of(one: Counted, at: float) -> Decimal:
    return Decimal(float(np.quantile(one.quantity, at, method="median_unbiased"))) * one.one


def quoted(offer: Offer, way: Way, done: Outcome | None = None) -> Quote:
    """Return the quote of one way of taking an offer."""
    done = done or outcome(offer, way)
    bills, again = money(offer, way, done)
    likely = bills[1]
    low, middle, high = np.quantile(done.seconds, LOW_TO_HIGH)
    reasons = tuple(refusals(offer, way))
    return Quote(
        farm=offer.card.name,
        machine=offer.machine.name,
        nodes=way.nodes,
        batch=way.batch,
        priority="" if way.priority == offer.card.priority_named(None) else way.priority.name,
        reclaimable=way.reclaimable,
        cost=Cost(currency=offer.card.currency, **{
            name: rounded(one.total) for name, one in zip(("low", "likely", "high"), bills, strict=True)
        }),
        seconds=Range(low=float(low), likely=float(middle), high=float(high)),
        parts=Parts(
            upload=float(np.median(offer.upload)),
            processing=offer.card.transfer.processing_seconds,
            queue=float(np.median(done.queue)),
            startup=offer.machine.startup_seconds,
            loading=done.loading,
            rendering=float(np.median(done.rendering)),
            retrieval=float(np.median(done.retrieval)),
            again=float(done.again_seconds.mean()),
            stitching=offer.work.stitch_seconds,
            money=MoneyParts(
                rendering=rounded(likely.rendering), discount=rounded(likely.discount),
                storage=rounded(likely.storage), egress=rounded(likely.egress), minimum=rounded(likely.minimum),
                tax=rounded(likely.tax), again=rounded(again),
            ),
        ),
        basis=offer.timings.basis,
        eligible=not reasons,
        reasons=reasons,
        task_seconds=float(np.median(offer.tasks.mean(axis=1)) + np.median(offer.load) / way.batch),
        correction=offer.experience.factor,
        corrected_by=offer.experience.jobs,
    )  # fmt: skip


def refusals(offer: Offer, way: Way) -> Iterator[str]:
    """Say why a way cannot be taken."""
    card, machine, timings = offer.card, offer.machine, offer.timings
    yield from offer.refused
    if timings.basis == PRACTICE and not card.practice and not offer.wishes.accept_practice:
        yield "the timings were made with the practice renderer and say nothing about this farm's"
    if way.nodes > machine.nodes:
        yield f"the farm has {machine.nodes} of these machines"
    elif way.nodes > offer.most_nodes:
        yield f"a job there may have {offer.most_nodes} machines at a time"
    here = timings.score or offer.wishes.score_here
    need = Need(
        memory=timings.memory_bytes,
        disk=offer.work.upload_bytes,
        frame_seconds=offer.work.slowest * here * offer.experience.factor * machine.score / machine.speed,
        load_seconds=(timings.load_seconds or 0.0) * here * offer.experience.factor * machine.score / machine.speed,
    )
    found = fit(machine, need, card)
    yield from found.reasons
    if found.tiles > 1:
        yield f"a frame takes longer than the {card.limits.minutes_per_frame:g} minutes it may, whole"


@dataclass(frozen=True)
class Rough:
    """What a way comes to by a formula, for choosing those that are worth a simulation."""

    cost: Decimal
    seconds: float


def rough(offer: Offer, way: Way) -> Rough:
    """Return what a way comes to, without simulating it: all machines work evenly until the last batch."""
    count = offer.work.tasks.shape[1]
    nodes = _usual_nodes(offer, way.nodes, way.priority)
    seconds, paid = _evenly(offer.mean_work[way.reclaimable], count, offer, nodes, way.batch)
    working = np.full((1, nodes), paid / nodes)
    zero = np.zeros(1)
    steps = {"upload": offer.upload[:1], "processing": zero, "download": zero}
    used = Usage(working, np.full((1, nodes), offer.machine.startup_seconds), np.array([float(count)]), steps)  # type: ignore[arg-type]
    each = counted(offer.card.prices_of(offer.machine), offer.machine.hardware, used)
    amounts = sum((Decimal(float(one.quantity[0])) * one.one for one in each), Decimal(0))
    home_bytes = float(offer.work.home_bytes.sum())
    total = bill(offer.card, amounts, factor=_factor(offer, way), home_bytes=home_bytes).total
    around = offer.usual_upload + offer.card.transfer.processing_seconds
    around += offer.card.queue_seconds[1] * way.priority.wait + offer.machine.startup_seconds
    return Rough(total, around + seconds)


def best_batch(offer: Offer, nodes: int, priority: Priority) -> int:
    """Return the batch size for a number of machines.

    Large batches load the scene less often; small ones leave less idle at the end and less to lose with a machine. The
    size with the least product of time and paid time counts, of those within a hundredth of it the smallest.
    """
    if offer.wishes.batch is not None:
        return offer.wishes.batch
    count = offer.work.tasks.shape[1]
    work = offer.mean_work[0]
    usual = _usual_nodes(offer, nodes, priority)
    sizes = [size for size in (*BATCHES, -(-count // usual)) if size <= max(1, -(-count // usual))]
    scores = {}
    for size in sizes:
        seconds, paid = _evenly(work, count, offer, usual, size)
        scores[size] = seconds * (paid + usual * offer.machine.startup_seconds)
    best = min(scores.values())
    return min(size for size in sizes if scores[size] <= best * 1.01)


def _usual_nodes(offer: Offer, nodes: int, priority: Priority) -> int:
    free = offer.machine.usually_free
    return max(1, min(nodes, round(free[1] * priority.nodes))) if free is not None else nodes


def _evenly(work: float, count: int, offer: Offer, nodes: int, batch: int) -> tuple[float, float]:
    """Return seconds until even work is done, and the seconds that all machines work together. work: of all tasks."""
    load = offer.mean_load
    batches = -(-count // batch)
    paid = work + batches * load
    one = paid / batches
    # the last round is as long as the others, however few batches are in it; and no two batches are quite alike
    return -(-batches // nodes) * one + one * _UNEVEN * (1 - 1 / nodes), paid


# of a batch, what the last machine is behind the others because batches are not alike
_UNEVEN = 0.1
# runs whose mean stands for all in a formula
_FEW = 24
