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
from tidy_crate.core.farm.prices import Bill, Step, Usage, bill, counted
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
    loading: Array


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
    again, again_machines = _again(offer, way, tasks)
    queue = offer.queue(way.priority)
    around = offer.upload + offer.card.transfer.processing_seconds + queue
    seconds = around + at_home + again + work.stitch_seconds
    usage = _usage(offer, runs, fleet, again_machines, at_home)
    return Outcome(
        seconds=seconds,
        usage=usage,
        rendering=runs.seconds - machine.startup_seconds,
        retrieval=at_home - runs.seconds,
        queue=queue,
        again_seconds=again,
        loading=offer.load * len(starts) / max(1, min(way.nodes, len(starts))),
    )


def _again(offer: Offer, way: Way, tasks: Array) -> tuple[Array, Array]:
    """Return seconds until rejected frames are rendered again, and the seconds of each machine that does it.

    Shapes (runs,) and (runs, machines), without start-ups: the frames are shared out evenly between as many machines
    as there are frames, or as the job may have.
    """
    count = offer.again
    beside = np.minimum(np.maximum(count, 1), way.nodes)
    each = np.where(count > 0, offer.load + count * tasks.mean(axis=1) / beside, 0.0)
    machines = int(beside[count > 0].max()) if (count > 0).any() else 0
    busy = np.arange(machines) < beside[:, None]
    seconds = np.where(count > 0, offer.machine.startup_seconds + each, 0.0)
    return seconds, np.where(busy, each[:, None], 0.0)


def _usage(offer: Offer, runs: FarmRuns, fleet: Fleet, again: Array, at_home: Array) -> Usage:
    # a machine that a run does not get is never ready, and has no time to take from another
    working = np.zeros(fleet.ready.shape)
    np.subtract(runs.machine_ends, fleet.ready, out=working, where=runs.used)
    starting, again_starting = (np.where(one > 0, offer.machine.startup_seconds, 0.0) for one in (working, again))
    steps: dict[Step, Array] = {
        "upload": offer.upload,
        "processing": np.full(offer.work.runs, offer.card.transfer.processing_seconds),
        "download": at_home - runs.seconds,
    }
    return Usage(working, starting, offer.work.tasks.shape[1] + offer.again, steps, again, again_starting)


def money(offer: Offer, way: Way, done: Outcome) -> tuple[tuple[Bill, Bill, Bill], Decimal]:
    """Return low, likely and high bill, and the average cost of frames rendered again.

    Each is the bill of one run, so that it is an amount that the farm can charge, and its parts add up to it.
    """
    card = offer.card
    factor = way.factor(offer.machine)
    prices = card.prices_of(offer.machine)
    each = counted(prices, offer.machine.hardware, done.usage)
    home_bytes = float(offer.work.home_bytes.sum())
    stored = offer.work.upload_bytes + home_bytes
    # a bill goes up with what it counts: the runs stand in the order of their bills
    chosen = [_run_at(sum((one.quantity * float(one.one) for one in each), np.zeros(offer.work.runs)), at)
              for at in LOW_TO_HIGH]  # fmt: skip

    def bill_of(run: int) -> Bill:
        total = sum((Decimal(float(one.quantity[run])) * one.one for one in each), Decimal(0))
        return bill(card, total, factor=factor, stored_bytes=stored, home_bytes=home_bytes)

    low, likely, high = (bill_of(run) for run in chosen)
    once = done.usage.without_again(np.full(offer.work.runs, float(offer.work.tasks.shape[1])))
    without = counted(prices, offer.machine.hardware, once)
    again = sum(
        (Decimal(float(all_.quantity.mean() - first.quantity.mean())) * all_.one
         for all_, first in zip(each, without, strict=True)), Decimal(0),
    )  # fmt: skip
    return (low, likely, high), again * Decimal(str(factor))


def _run_at(values: Array, share: float) -> int:
    """Return the run whose value has this share of the values below it."""
    order = np.argsort(values, kind="stable")
    return int(order[min(len(order) - 1, int(share * len(order)))])


def quoted(offer: Offer, way: Way) -> Quote:
    """Return the quote of one way of taking an offer."""
    done = outcome(offer, way)
    bills, again = money(offer, way, done)
    likely = bills[1]
    low, middle, high = (float(done.seconds[_run_at(done.seconds, at)]) for at in LOW_TO_HIGH)
    # the parts are those of the likely run, so that they add up to it
    run = _run_at(done.seconds, 0.5)
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
        seconds=Range(low=low, likely=middle, high=high),
        parts=Parts(
            upload=float(offer.upload[run]),
            processing=offer.card.transfer.processing_seconds,
            queue=float(done.queue[run]),
            startup=offer.machine.startup_seconds,
            loading=float(done.loading[run]),
            rendering=float(done.rendering[run]),
            retrieval=float(done.retrieval[run]),
            again=float(done.again_seconds[run]),
            stitching=offer.work.stitch_seconds,
            money=_money_parts(likely, again),
        ),
        basis=offer.timings.basis,
        eligible=not reasons,
        reasons=reasons,
        task_seconds=float(np.median(offer.tasks.mean(axis=1)) + np.median(offer.load) / way.batch),
        correction=offer.experience.factor,
        corrected_by=offer.experience.jobs,
    )  # fmt: skip


def _money_parts(one: Bill, again: Decimal) -> MoneyParts:
    """Return the parts of a bill to the cent. Rounding goes to the rendering, so that they add up to the total."""
    discount, storage, egress = rounded(one.discount), rounded(one.storage), rounded(one.egress)
    minimum, tax = rounded(one.minimum), rounded(one.tax)
    return MoneyParts(
        rendering=rounded(one.total) + discount - storage - egress - minimum - tax, discount=discount, storage=storage,
        egress=egress, minimum=minimum, tax=tax, again=rounded(again),
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
