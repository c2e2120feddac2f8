"""A farm run simulated: batches onto nodes as they come free, what is on the clock, and what it costs.

This is our model of a farm. The practice farm has a scheduler of its own that shares no code with it.
"""

from __future__ import annotations

import heapq
import math
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.farm.card import Machine


@dataclass(frozen=True)
class FarmRun:
    """seconds: until the last frame is rendered; node_seconds: on the clock, before rounding up; cost: money."""

    seconds: float
    node_seconds: float
    cost: Decimal


def simulate(frames: NDArray[np.float64], load_seconds: float, batch: int, nodes: int, machine: Machine) -> FarmRun:
    """Render frames (seconds each, on this machine class) in batches on `nodes` equal machines.

    Every machine pays its start-up; every batch pays the loading of the scene. A machine is let go after its last
    batch. O(n log m) for n batches on m machines.
    """
    starts = np.arange(0, len(frames), batch)
    work = np.add.reduceat(frames, starts) + load_seconds
    # more machines than batches would only start up and be billed
    free = [machine.startup_seconds] * min(nodes, len(work))
    heapq.heapify(free)
    for seconds in work:
        heapq.heappush(free, heapq.heappop(free) + float(seconds))
    billed = [_billed(seconds, machine) for seconds in free]
    cost = sum((Decimal(seconds) for seconds in billed), Decimal(0)) * machine.price_per_hour / 3600
    return FarmRun(max(free), sum(free), cost)


def _billed(seconds: float, machine: Machine) -> int:
    step = machine.billing_increment_seconds
    return max(machine.minimum_seconds, math.ceil(seconds / step) * step)
