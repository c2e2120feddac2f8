"""The bill so far at a farm without an interface, by its card: rented machines are paid for while they run."""

from __future__ import annotations

import math
from decimal import Decimal

from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.prices import HOUR
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.money import rounded


def running_bill(card: FarmCard, order: JobOrder, seconds: float, frames: int) -> Decimal:
    """Return what machines that run for so many seconds, and rendered frames, cost; with tax, before discounts.

    seconds: since the machines were ordered; 0 where their time is not known. frames: tasks that are done.
    """
    machine = card.machine_named(order.machine)
    whole = Decimal(0)
    for price in card.prices_of(machine):
        if price.per == "frame":
            whole += price.amount * frames
            continue
        if seconds <= 0:
            continue
        if price.per == "rental":
            blocks = math.ceil(seconds / (price.block_hours * 3600))
            whole += price.amount * blocks * order.nodes
            continue
        counted = max(seconds, price.minimum_seconds)
        counted = math.ceil(counted / price.increment_seconds) * price.increment_seconds
        units = {
            "machine-hour": Decimal(1),
            "gpu-hour": Decimal(machine.gpus),
            "core-hour": Decimal(machine.cores or 1),
            "score-hour": Decimal(str(machine.speed)) / 100,
        }[price.per]
        whole += price.amount * units * counted * order.nodes / HOUR
    if card.credits is not None:
        whole *= card.credits.price
    return rounded(whole * (1 + card.tax_percent / 100))
