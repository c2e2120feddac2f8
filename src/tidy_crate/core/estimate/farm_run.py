"""A farm run simulated, many times at once: batches onto machines as they come free, and frames coming home.

This is our model of a farm. The practice farm has a scheduler of its own that shares no code with it. Arrays have a row
for each run of the Monte Carlo; all times are seconds.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
# above so many numbers looked through for each batch, a heap for each run is faster than all runs together
_HEAP_ABOVE = 60_000


@dataclass(frozen=True)
class Fleet:
    """The machines that the runs get."""

    ready: Array
    """Seconds until each machine could take its first batch, start-up included.

    Shape (runs, machines), infinite for one that a run does not get.
    """
    pace: Array
    """Factor on the time of all work, shape (runs, machines)."""


@dataclass(frozen=True)
class FarmRuns:
    """Result of simulated runs."""

    batch_ends: Array
    """Shape (runs, batches), in the order of the batches."""
    machine_ends: Array
    """Seconds until each machine had done its last batch, shape (runs, machines). Its `ready` where it had none."""
    used: NDArray[np.bool_]
    """True for machines that had a batch."""

    @property
    def seconds(self) -> Array:
        """Return when the last batch was done, shape (runs,)."""
        return np.asarray(self.batch_ends.max(axis=1))


def batched(frames: Array, load: Array, batch: int) -> Array:
    """Return the time of each batch on a machine of pace 1, shape (runs, batches): its frames, and loading the scene.

    frames: shape (runs, frames). load: shape (runs,).
    """
    starts = np.arange(0, frames.shape[1], batch)
    return np.asarray(np.add.reduceat(frames, starts, axis=1) + load[:, None])


def schedule(work: Array, fleet: Fleet) -> FarmRuns:
    """Give each batch, in order, to the machine that is free first.

    work: as `batched` returns it. O(batches x machines) array steps for all runs together, or O(b log m) for each
    run by itself, whichever is less.
    """
    runs, batches = work.shape
    machines = fleet.ready.shape[1]
    if runs * machines > _HEAP_ABOVE or runs * 8 < machines:
        each = [_one_run(work[run], fleet.ready[run], fleet.pace[run]) for run in range(runs)]
        ends = np.array([one[0] for one in each])
        free = np.array([one[1] for one in each])
    else:
        free = fleet.ready.copy()
        ends = np.empty((runs, batches))
        flat, pace = free.reshape(-1), fleet.pace.reshape(-1)
        rows = np.arange(runs) * machines
        even = bool((fleet.pace == 1).all())
        for batch in range(batches):
            at = free.argmin(axis=1) + rows
            done = flat[at] + (work[:, batch] if even else work[:, batch] * pace[at])
            flat[at] = done
            ends[:, batch] = done
    return FarmRuns(ends, free, free > fleet.ready)


def _one_run(work: Array, ready: Array, pace: Array) -> tuple[list[float], Array]:
    heap = [(at, machine) for machine, at in enumerate(ready.tolist())]
    heapq.heapify(heap)
    paces = pace.tolist()
    free = ready.copy()
    ends = []
    for seconds in work.tolist():
        at, machine = heap[0]
        done = at + seconds * paces[machine]
        heapq.heapreplace(heap, (done, machine))
        ends.append(done)
    for at, machine in heap:
        free[machine] = at
    return ends, free


def with_failures(seconds: Array, share: float, chance: np.random.Generator) -> Array:
    """Return the times of frames of which a share fails each time and is rendered again."""
    if share <= 0:
        return seconds
    # tries until the first that succeeds
    return np.asarray(seconds * chance.geometric(1 - share, seconds.shape))


def with_reclaims(seconds: Array, per_second: float, lost: Array | float, chance: np.random.Generator) -> Array:
    """Return the times of frames on machines that are taken back at random, and what they were rendering starts over.

    Machines go at `per_second` (Poisson). `lost` seconds pass each time until another one has loaded the scene, shape
    (runs, 1) or one number. Without them the mean for a frame of T seconds is (e^(rT) - 1) / r: Ross, "Introduction to
    Probability Models", chapter 7.
    """
    if per_second <= 0:
        return seconds
    # each try that is cut short has lasted an exponential time, given that this was less than T
    kept = np.exp(-per_second * seconds)
    tries = chance.geometric(np.maximum(kept, 1e-6)) - 1
    total = seconds + tries * lost
    open_ = np.flatnonzero(tries.ravel() > 0)
    left, flat, cut = tries.ravel()[open_], total.reshape(-1), (1 - kept).ravel()
    while len(open_):
        flat[open_] += -np.log1p(-chance.random(len(open_)) * cut[open_]) / per_second
        left = left - 1
        open_, left = open_[left > 0], left[left > 0]
    return np.asarray(total)


def home(batch_ends: Array, batch_bytes: Array | float, bytes_per_second: float) -> Array:
    """Return when the last frame is at home, shape (runs,), where each batch comes down as it is done.

    One connection that serves batches in the order in which they end.
    """
    rest = np.broadcast_to(np.asarray(batch_bytes, dtype=np.float64), batch_ends.shape)
    order = np.argsort(batch_ends, axis=1)
    ends = np.take_along_axis(batch_ends, order, axis=1)
    seconds = np.take_along_axis(rest, order, axis=1) / bytes_per_second
    # from each batch on: all that is still to come
    to_come = np.cumsum(seconds[:, ::-1], axis=1)[:, ::-1]
    return np.asarray((ends + to_come).max(axis=1))
