"""Formulas that rate ways roughly, to choose those worth simulating and the size of their batches."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from tidy_crate.core.estimate.offer import Offer, Way
from tidy_crate.core.farm.prices import Priority, Usage, bill, counted

BATCHES = (1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128)
# of a batch, what the last machine is behind the others because batches are not alike
_UNEVEN = 0.1


@dataclass(frozen=True)
class Rough:
    """Rough result of a way by a formula."""

    cost: Decimal
    seconds: float


def rough(offer: Offer, way: Way) -> Rough:
    """Return the rough result of a way, without simulating it: all machines work evenly until the last batch."""
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
    total = bill(offer.card, amounts, factor=way.factor(offer.machine), home_bytes=home_bytes).total
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
