"""The plan of a night: which shot goes to which farm, on what, under one budget and one time.

An integer program: one way is chosen for each shot, or none. A farm's machines of a class are shared by its shots frame
by frame, so that a shot is home at the latest when the work of all the others of its class is done by all machines, and
its own after that: `(sum of work of the others) / machines + own time` (Graham 1966, for lists in any order). Costs and
times are the 90th percentiles of the quotes; their sum is at least the 90th percentile of the sum.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from tidy_crate.core.errors import TidyCrateError

# seconds that the solver may take; the best plan so far is taken then
MOST_SECONDS = 20.0
# share by which a night may take longer than the fastest plan, where that is cheaper
SLOWER = 0.1
# what leaving a shot out weighs, by priority: one of a higher one more than all of the lower ones together
PRIORITIES = ("last", "normal", "first")


@dataclass(frozen=True)
class Way:
    """One way to render a shot."""

    shot: str
    farm: str
    machine: str
    nodes: int
    cost: float
    """90th percentile, in the currency of the plan."""
    likely: float
    """Median cost, in the same."""
    seconds: float
    """90th percentile, with nothing else at the farm."""
    quote: int = 0
    """Which of the shot's quotes it is."""

    @property
    def pool(self) -> tuple[str, str]:
        """Return the machines that it shares with others."""
        return self.farm, self.machine

    @property
    def work(self) -> float:
        """Return its machine seconds."""
        return self.seconds * self.nodes


@dataclass(frozen=True)
class Limits:
    """What a plan has to keep."""

    machines: Mapping[tuple[str, str], int]
    """By farm and machine class, how many there are."""
    budget: float | None = None
    """In the currency of the plan, what is spent already taken off."""
    seconds: float | None = None
    """Until the last frame should be home."""
    busy: Mapping[tuple[str, str], float] | None = None
    """By farm and machine class, machine seconds of jobs that are there already."""


@dataclass(frozen=True)
class Plan:
    """A way for each shot that has one."""

    ways: tuple[Way, ...]
    left_out: tuple[str, ...]
    """Shots for which budget or time leave no way, the lowest priority first."""
    seconds: float
    """When the last one is home, at the latest."""
    cost: float
    likely: float


def plan_night(ways: Sequence[Way], priority: Mapping[str, str], limits: Limits) -> Plan:
    """Choose a way for each shot.

    As few shots as possible are left out, those of low priority first. Then, with a time to be done, the cheapest
    plan that keeps it; with a budget only, the cheapest of those that take hardly longer than the fastest; with
    neither, the least product of cost and time
    of each shot for itself. Raises TidyCrateError where the solver fails.
    """
    shots = list(dict.fromkeys(one.shot for one in ways))
    usable = [one for one in ways if limits.machines.get(one.pool, 0) > 0]
    if limits.budget is None and limits.seconds is None:
        chosen = [min((w for w in usable if w.shot == shot), key=lambda w: (w.likely * w.seconds, w.cost), default=None)
                  for shot in shots]  # fmt: skip
        return _plan([one for one in chosen if one is not None], shots, priority, limits)
    return _plan(_solved(usable, shots, priority, limits), shots, priority, limits)


def finish(ways: Sequence[Way], limits: Limits) -> float:
    """Return when the last shot is home at the latest, in seconds."""
    last = 0.0
    for pool in {one.pool for one in ways}:
        own = [one for one in ways if one.pool == pool]
        machines = limits.machines[pool]
        load = sum(one.work for one in own) + (limits.busy or {}).get(pool, 0.0)
        last = max(last, *((load - one.work) / machines + one.seconds for one in own))
    return last


def _plan(chosen: list[Way], shots: Sequence[str], priority: Mapping[str, str], limits: Limits) -> Plan:
    taken = {one.shot for one in chosen}
    left = sorted((one for one in shots if one not in taken), key=lambda one: _rank(priority, one))
    return Plan(
        ways=tuple(chosen),
        left_out=tuple(left),
        seconds=finish(chosen, limits),
        cost=sum(one.cost for one in chosen),
        likely=sum(one.likely for one in chosen),
    )


def _rank(priority: Mapping[str, str], shot: str) -> int:
    return PRIORITIES.index(priority.get(shot, "normal"))


def _solved(ways: Sequence[Way], shots: Sequence[str], priority: Mapping[str, str], limits: Limits) -> list[Way]:
    """Solve twice: first for who is left out, then for cost or time among the others."""
    if not ways:
        return []
    size = len(ways)
    counts = [sum(priority.get(one, "normal") == name for one in shots) for name in PRIORITIES]
    weights, weight = {}, 1.0
    for name, count in zip(PRIORITIES, counts, strict=True):
        weights[name] = weight
        weight *= count + 1
    # variables: a yes or no for each way, and the time at which the last shot is home
    gain = np.array([-weights[priority.get(one.shot, "normal")] for one in ways] + [0.0])
    rows, low, high = _constraints(ways, shots, limits)
    first = _milp(gain, rows, low, high, size, limits)
    taken = {ways[int(at)].shot for at in np.flatnonzero(first[:size] > 0.5)}
    # the same shots, and no other
    for at, shot in enumerate(shots):
        low[at] = high[at] = float(shot in taken)
    scale = max((one.cost for one in ways), default=1.0) or 1.0
    if limits.seconds is None:
        # the time of the fastest plan, and a little more, for which the money is then spent as well as it can be
        fastest = _milp(np.array([0.0] * size + [1.0]), rows, low, high, size, limits)
        within = finish([ways[int(at)] for at in np.flatnonzero(fastest[:size] > 0.5)], limits)
        limits = replace(limits, seconds=max(within, float(fastest[size])) * (1 + SLOWER))
    goal = np.array([one.likely / scale for one in ways] + [0.0])
    best = _milp(goal, rows, low, high, size, limits)
    return [ways[int(at)] for at in np.flatnonzero(best[:size] > 0.5)]


def _constraints(
    ways: Sequence[Way], shots: Sequence[str], limits: Limits
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the rows of the program, and what each may come to: one row for each shot, each way, and the budget."""
    size = len(ways)
    place = {shot: at for at, shot in enumerate(shots)}
    rows = np.zeros((len(shots) + size + (limits.budget is not None), size + 1))
    low, high = np.full(len(rows), -np.inf), np.zeros(len(rows))
    for at, one in enumerate(ways):
        rows[place[one.shot], at] = 1.0
    low[: len(shots)], high[: len(shots)] = 0.0, 1.0
    machines = np.array([limits.machines[one.pool] for one in ways], float)
    shares = np.array([one.work for one in ways]) / machines
    pools = np.unique([f"{one.farm}\n{one.machine}" for one in ways], return_inverse=True)[1]
    owners = np.array([place[one.shot] for one in ways])
    # the work of the others of its machines, then its own time, is over at the end
    together = (pools[:, None] == pools[None, :]) & (owners[:, None] != owners[None, :])
    block = rows[len(shots) : len(shots) + size]
    block[:, :size] = together * shares
    block[np.arange(size), np.arange(size)] = [one.seconds for one in ways]
    block[:, size] = -1.0
    busy = limits.busy or {}
    high[len(shots) : len(shots) + size] = [-busy.get(one.pool, 0.0) for one in ways] / machines
    if limits.budget is not None:
        rows[-1, :size] = [one.cost for one in ways]
        high[-1] = limits.budget
    return rows, low, high


def _milp(
    goal: np.ndarray, rows: np.ndarray, low: np.ndarray, high: np.ndarray, size: int, limits: Limits
) -> np.ndarray:
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_array

    found = milp(
        goal,
        constraints=LinearConstraint(csr_array(rows), low, high),
        integrality=np.array([1] * size + [0]),
        bounds=Bounds(np.zeros(size + 1), np.array([1.0] * size + [limits.seconds or np.inf])),
        options={"time_limit": MOST_SECONDS},
    )
    if found.x is None:
        raise TidyCrateError(f"no plan can be made for this night ({found.message})")
    return np.asarray(found.x)
