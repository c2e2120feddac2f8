"""Quotes: what one card and machine class take and cost for a job, as ranges."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from tidy_crate.core.estimate.farm_run import Array, FarmRuns, Fleet, batched, home, schedule
from tidy_crate.core.estimate.model import MoneyParts, Parts, Quote
from tidy_crate.core.estimate.offer import Offer, Way
from tidy_crate.core.estimate.timing import LOW_TO_HIGH
from tidy_crate.core.estimate.timings import PRACTICE
from tidy_crate.core.farm.fit import Need, fit
from tidy_crate.core.farm.prices import Bill, Counted, Usage, bill, counted
from tidy_crate.core.money import Cost, Range, rounded


@dataclass(frozen=True)
class Outcome:
    """Simulated result of a way, before money. All shapes (runs,) but for usage."""

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
    # a machine that a run does not get is never ready, and has no time to take from another
    working = np.zeros(fleet.ready.shape)
    np.subtract(runs.machine_ends, fleet.ready, out=working, where=runs.used)
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
    factor = way.factor(offer.machine)
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


def _sum_of(one: Counted, at: float) -> Decimal:
    return Decimal(float(np.quantile(one.quantity, at, method="median_unbiased"))) * one.one


def quoted(offer: Offer, way: Way) -> Quote:
    """Return the quote of one way of taking an offer."""
    done = outcome(offer, way)
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
    need = Need(
        memory=timings.memory_bytes,
        disk=offer.work.upload_bytes,
        frame_seconds=offer.work.slowest * offer.faster * machine.score,
        load_seconds=(timings.load_seconds or 0.0) * offer.faster * machine.score,
    )
    found = fit(machine, need, card)
    yield from found.reasons
    if found.tiles > 1:
        yield f"a frame takes longer than the {card.limits.minutes_per_frame:g} minutes it may, whole"
