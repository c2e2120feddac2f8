"""One card and machine class for one job, with all that is drawn for it, and the ways in which it can be taken."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from tidy_crate.core.estimate.farm_run import Array, Fleet, with_failures, with_reclaims
from tidy_crate.core.estimate.model import Wishes
from tidy_crate.core.estimate.timing import SAME_MACHINE
from tidy_crate.core.estimate.timings import Timings
from tidy_crate.core.estimate.work import JobWork
from tidy_crate.core.farm.card import FarmCard, Machine
from tidy_crate.core.farm.prices import Priority

# standard deviations, as shares: another machine by its score; speed of the line
OTHER_MACHINE = 0.08
LINE = 0.15
# frames that are rejected and rendered again, before anything is known of a farm: a share, and the frames it counts for
AGAIN_SHARE, AGAIN_WEIGHT = 0.02, 50.0
# runs whose mean stands for all in a formula
_FEW = 24


@dataclass(frozen=True)
class Experience:
    """Figures of earlier jobs on a machine class."""

    factor: float = 1.0
    """Factor on the time of a frame."""
    spread: float | None = None
    """Standard deviation of the factor's logarithm. None where no job is known."""
    jobs: int = 0
    again: float = AGAIN_SHARE
    """Share of frames that are rendered again."""
    tasks: int = 0
    """Tasks that tell that share; it is as sure as that many and `AGAIN_WEIGHT` make it."""


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
    """True if the farm has the crate already."""
    refused: tuple[str, ...] = ()
    """Why the farm cannot take the scene, by its card."""
    seed: int = 1

    def _chance(self, what: str) -> np.random.Generator:
        """Return a generator for one thing: what was drawn before for another does not matter."""
        return np.random.default_rng([self.seed, *f"{self.card.name}/{self.machine.name}/{what}".encode()])

    @cached_property
    def faster(self) -> float:
        """Return how much longer a second of the measured machine takes there."""
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
    def again(self) -> Array:
        """Tasks that are rendered again after the review, shape (runs,)."""
        tasks, chance = self.work.tasks.shape[1], self._chance("again")
        weight = AGAIN_WEIGHT + self.experience.tasks
        known = min(max(self.experience.again, 1e-6), 1 - 1e-6)
        # the share itself is not known: conjugate to the binomial is the beta distribution
        share = chance.beta(known * weight, (1 - known) * weight, self.work.runs)
        return chance.binomial(tasks, share).astype(np.float64)

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
    """One way to use an offer: nodes, batch size, priority."""

    nodes: int
    batch: int
    priority: Priority
    reclaimable: bool = False

    def factor(self, machine: Machine) -> float:
        """Return the factor on the prices of the card."""
        rule = machine.reclaimable
        return self.priority.price * (rule.price if self.reclaimable and rule is not None else 1.0)
