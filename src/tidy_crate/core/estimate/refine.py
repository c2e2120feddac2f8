"""The search for the best number of machines and size of batches for a budget, or for a time to be done by.

Every pair is rated by a formula. The ways that are simulated already tell by how much the formula is off near them; so
corrected, it tells which pairs are worth simulating, and these tell more. The search ends when nothing promises more.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.estimate.offer import Offer, Way
from tidy_crate.core.estimate.rough import BATCHES, rough
from tidy_crate.core.exchange import Exchange

# rounds, and ways that are simulated in each
ROUNDS, EACH = 6, 8
# tasks of a job, up to which every size of batch is tried
EVERY_SIZE = 64
# tasks of all ways together, up to which all are simulated: bills go up in steps, which no formula follows
FEW_TASKS = 30_000
# numbers of machines: each one up to this, then steps of this share
SINGLY, STEP = 16, 1.12
# a way that promises less than this share is not worth a simulation
GAIN = 0.002
# while nothing keeps the limits, what breaks them by so much more than the best is worth one
CLOSE = 1.05
# how much larger machines and batch of a way may be that is near another, as a logarithm
NEAR = 0.7
# of a limit, how far beyond it a corrected formula may say that a way is, and be simulated
SLACK = 1.03


@dataclass(frozen=True)
class _Figures:
    """High and likely time and cost: of a quote, or as a formula says."""

    seconds: float
    seconds_high: float
    cost: float
    cost_high: float

    def times(self, other: _Figures) -> _Figures:
        return _Figures(
            self.seconds * other.seconds, self.seconds_high * other.seconds_high,
            self.cost * other.cost, self.cost_high * other.cost_high,
        )  # fmt: skip


def has_goal(wishes: Wishes) -> bool:
    """Return True when there is a budget or a time, and something to choose for it."""
    return (wishes.most_seconds is not None or wishes.most_money is not None) and None in (wishes.nodes, wishes.batch)


def grid(offers: Sequence[Offer], ways: Sequence[tuple[int, Way]], wishes: Wishes) -> Iterator[tuple[int, Way]]:
    """Yield every pair of machines and batch of the offers.

    ways: by the place of their offer, ways whose priority and kind are tried with other machines and batches.
    """
    for at, priority, reclaimable in dict.fromkeys((at, way.priority, way.reclaimable) for at, way in ways):
        offer = offers[at]
        count = offer.work.tasks.shape[1]
        for nodes in _counts(min(offer.most_nodes, count)) if wishes.nodes is None else [wishes.nodes]:
            even = -(-count // nodes)
            few = range(1, (even if count <= EVERY_SIZE else 8) + 1)
            sizes = {size for size in (*BATCHES, *few, even, -(-even // 2), -(-even // 3)) if size <= even}
            for batch in sorted(sizes) if wishes.batch is None else [wishes.batch]:
                yield at, Way(nodes, batch, priority, reclaimable)


def _counts(most: int) -> list[int]:
    found = list(range(1, min(most, SINGLY) + 1))
    while found[-1] < most:
        found.append(min(most, math.ceil(found[-1] * STEP)))
    return found


class Search:
    """The ways that are known so far, and which to simulate next."""

    def __init__(
        self,
        offers: Sequence[Offer],
        ways: Sequence[tuple[int, Way]],
        wishes: Wishes,
        exchange: Exchange,
        currency: str,
    ) -> None:
        self._wishes = wishes
        self._formula: dict[tuple[int, Way], _Figures] = {}
        rates = [exchange.rate(offer.card.currency, currency) for offer in offers]
        for at, way in [*ways, *grid(offers, ways, wishes)]:
            rate = rates[at]
            if rate is None or (at, way) in self._formula:
                continue
            found = rough(offers[at], way)
            seconds, cost = max(found.seconds, 1e-6), max(float(found.cost * rate[0]), 1e-6)
            self._formula[at, way] = _Figures(seconds, seconds, cost, cost)
        self._known: dict[tuple[int, Way], _Figures] = {}
        self._barred: set[tuple[int, Way]] = set()
        self._looked_around: set[tuple[int, Way]] = set()

    def learn(self, at: int, way: Way, quote: Quote) -> None:
        """Take the quote of a way."""
        if not quote.comparable or quote.cost_own is None:
            self._barred.add((at, way))
            return
        money = quote.cost_own
        self._known[at, way] = _Figures(
            quote.seconds.likely, quote.seconds.high, max(float(money.likely), 1e-6), max(float(money.high), 1e-6)
        )

    def next(self) -> list[tuple[int, Way]]:
        """Return the ways that promise most and are not known, else those beside the best one; none after that."""
        if not self._known:
            return []
        scores = {key: self._score(one, 1.0) for key, one in self._known.items()}
        first = min(scores, key=lambda key: scores[key])
        best = scores[first]
        by_group: dict[tuple[int, str, bool], list[tuple[Way, _Figures]]] = {}
        for (at, way), figures in self._known.items():
            off = _ratio(figures, self._formula[at, way]) if (at, way) in self._formula else None
            if off is not None:
                by_group.setdefault((at, way.priority.name, way.reclaimable), []).append((way, off))
        able = []
        for (at, way), formula in self._formula.items():
            near = by_group.get((at, way.priority.name, way.reclaimable))
            if not near or (at, way) in self._known or (at, way) in self._barred:
                continue
            off = min(near, key=lambda one: _distance(one[0], way))[1]
            score = self._score(formula.times(off), SLACK)
            worth = best[1] * (CLOSE if best[0] else 1 - GAIN)
            if score[0] < best[0] or (score[0] == best[0] and score[1] < worth):
                able.append((score, at, way))
        able.sort(key=lambda one: one[0])
        return [(at, way) for _, at, way in able[:EACH]] or self._beside(first)

    def all(self) -> list[tuple[int, Way]]:
        """Return all ways that are not known."""
        return [key for key in self._formula if key not in self._known and key not in self._barred]

    def _beside(self, best: tuple[int, Way]) -> list[tuple[int, Way]]:
        """Return ways near the best one, which a formula may be wrong about."""
        if best in self._looked_around:
            return []
        self._looked_around.add(best)
        near = [
            (_distance(best[1], way), at, way)
            for at, way in self._formula.keys() - self._known.keys() - self._barred
            if (at, way.priority, way.reclaimable) == (best[0], best[1].priority, best[1].reclaimable)
        ]
        near.sort(key=lambda one: (one[0], one[2].nodes, one[2].batch))
        return [(at, way) for distance, at, way in near[:EACH] if distance <= NEAR]

    def _score(self, figures: _Figures, slack: float) -> tuple[bool, float]:
        """Return whether a way breaks a limit, and what is to be as low as possible; the size of the breach if so."""
        seconds, money = self._wishes.most_seconds, self._wishes.most_money
        breach = max(
            figures.seconds_high / seconds if seconds else 0.0, figures.cost_high / float(money) if money else 0.0
        )
        if breach > slack:
            return True, breach
        return False, figures.cost if seconds is not None else figures.seconds


def _ratio(one: _Figures, other: _Figures) -> _Figures:
    return _Figures(
        one.seconds / other.seconds, one.seconds_high / other.seconds_high,
        one.cost / other.cost, one.cost_high / other.cost_high,
    )  # fmt: skip


def _distance(one: Way, other: Way) -> float:
    return float(np.hypot(np.log(one.nodes / other.nodes), 0.7 * np.log(one.batch / other.batch)))
