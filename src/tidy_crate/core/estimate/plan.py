"""The search for a plan: card, class, machines, batch, priority, reclaimable or not, and splits between farms."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal

import numpy as np

from tidy_crate.core.errors import Blocked, WrongUsage
from tidy_crate.core.estimate.model import PROMISE, Here, Nearest, Pick, Quote, Share, Wishes
from tidy_crate.core.estimate.offer import Offer, Way
from tidy_crate.core.estimate.quote import quoted, refusals
from tidy_crate.core.estimate.refine import FEW_TASKS, ROUNDS, Search, has_goal
from tidy_crate.core.estimate.rough import best_batch, rough
from tidy_crate.core.estimate.timing import LOW_TO_HIGH, another_day
from tidy_crate.core.estimate.work import JobWork
from tidy_crate.core.exchange import Exchange
from tidy_crate.core.money import Cost, Range, rounded

# ways that are all simulated; of more, those are that promise most
_SIMULATED = 80
_NEARLY = 1.02
# farms that are looked at together when a job is split
_MOST_TO_SPLIT = 4
_SPLIT_STEPS = 2
# a split that saves less than this share of the time is not worth two farms
_WORTH = 0.95


@dataclass(frozen=True)
class Found:
    """Quotes and the offers and ways that they are of."""

    quotes: tuple[Quote, ...]
    offers: tuple[Offer, ...]
    ways: tuple[Way, ...]


def search(offers: Sequence[Offer], wishes: Wishes, exchange: Exchange, currency: str) -> Found:
    """Quote every offer in every way that makes sense.

    Of very many ways, those are simulated that a formula finds best for their machine class, or near the best of all.
    """
    pairs = [(offer, way) for offer in offers for way in _ways(offer, wishes)]
    if len(pairs) > _SIMULATED:
        pairs = _promising(pairs, exchange, currency)
    quotes = [_compared(quoted(offer, way), exchange, currency) for offer, way in pairs]
    if has_goal(wishes):
        _refine(pairs, quotes, wishes, exchange, currency)
    return Found(tuple(quotes), tuple(offer for offer, _ in pairs), tuple(way for _, way in pairs))


def _refine(
    pairs: list[tuple[Offer, Way]], quotes: list[Quote], wishes: Wishes, exchange: Exchange, currency: str
) -> None:
    """Add the ways that keep a budget or a time best, with any number of machines and size of batch."""
    offers = list({id(offer): offer for offer, _ in pairs}.values())
    place = {id(offer): at for at, offer in enumerate(offers)}
    ways = [(place[id(offer)], way) for offer, way in pairs]
    looking = Search(offers, ways, wishes, exchange, currency)
    for (at, way), quote in zip(ways, quotes, strict=True):
        looking.learn(at, way, quote)

    def simulate(chosen: Iterable[tuple[int, Way]]) -> None:
        for at, way in chosen:
            quote = _compared(quoted(offers[at], way), exchange, currency)
            looking.learn(at, way, quote)
            pairs.append((offers[at], way))
            quotes.append(quote)

    everything = looking.all()
    if len(everything) * max(offer.work.tasks.shape[1] for offer in offers) <= FEW_TASKS:
        simulate(everything)
        return
    for _ in range(ROUNDS):
        promising = looking.next()
        if not promising:
            return
        simulate(promising)


def _promising(pairs: list[tuple[Offer, Way]], exchange: Exchange, currency: str) -> list[tuple[Offer, Way]]:
    chosen: set[int] = set()
    by_offer: dict[tuple[str, str], list[tuple[int, float, float]]] = {}
    able: list[tuple[float, float, int]] = []
    for at, (offer, way) in enumerate(pairs):
        found = rough(offer, way)
        rate = exchange.rate(offer.card.currency, currency)
        cost = float(found.cost * (rate[0] if rate is not None else 1))
        by_offer.setdefault((offer.card.name, offer.machine.name), []).append((at, cost, found.seconds))
        if rate is not None and next(refusals(offer, way), None) is None:
            able.append((cost, found.seconds, at))
    for each in by_offer.values():
        for measure in (lambda one: one[1], lambda one: one[2], lambda one: one[1] * one[2]):
            chosen.add(min(each, key=measure)[0])
    soonest = float("inf")
    for _, seconds, at in sorted(able):
        # what is nearly as soon as something cheaper may be sooner in a simulation
        if seconds < soonest * _NEARLY:
            chosen.add(at)
        soonest = min(soonest, seconds)
    return [pairs[at] for at in sorted(chosen)]


def _ways(offer: Offer, wishes: Wishes) -> Iterator[Way]:
    card, machine = offer.card, offer.machine
    if wishes.reclaimable and machine.reclaimable is None:
        return
    priorities = card.priority or (card.priority_named(None),)
    if wishes.priority is not None:
        priorities = (card.priority_named(wishes.priority),)
    kinds = (False, True) if machine.reclaimable is not None else (False,)
    if wishes.reclaimable is not None:
        kinds = (wishes.reclaimable,)
    for nodes, reclaimable in itertools.product(node_counts(offer, wishes.nodes), kinds):
        for priority in priorities:
            yield Way(nodes, best_batch(offer, nodes, priority), priority, reclaimable)


def node_counts(offer: Offer, wanted: int | None) -> list[int]:
    """Return the number asked for, or powers of two up to what one can have and the job can use."""
    if wanted is not None:
        if wanted < 1:
            raise WrongUsage("a job needs at least one node", wanted)
        return [wanted]
    most = min(offer.most_nodes, offer.work.tasks.shape[1])
    usual = offer.machine.usually_free[1] if offer.machine.usually_free else most
    return sorted({*(2**power for power in range(21) if 2**power < most), most, min(usual, most)})


def _compared(quote: Quote, exchange: Exchange, currency: str) -> Quote:
    return quote.model_copy(update={"cost_own": exchange.converted(quote.cost, currency)})


def front_of(quotes: Sequence[Quote]) -> tuple[int, ...]:
    """Return the places of the eligible quotes for which no other is both cheaper and sooner, by cost."""
    able = [at for at, quote in enumerate(quotes) if quote.comparable]
    able.sort(key=lambda at: (_money(quotes[at]), quotes[at].seconds.likely))
    found: list[int] = []
    for at in able:
        if not found or quotes[at].seconds.likely < quotes[found[-1]].seconds.likely:
            found.append(at)
    return tuple(found)


def _money(quote: Quote) -> Decimal:
    assert quote.cost_own is not None
    return quote.cost_own.likely


def pick_of(quotes: Sequence[Quote], front: Sequence[int], wishes: Wishes) -> Pick | None:
    """Return the quote to take, and why; None where nothing is eligible, or nothing keeps the wishes."""
    able = [at for at, quote in enumerate(quotes) if quote.comparable]
    if wishes.most_seconds is not None:
        able = [at for at in able if quotes[at].seconds.high <= wishes.most_seconds]
    if wishes.most_money is not None:
        able = [at for at in able if (cost := quotes[at].cost_own) and cost.high <= wishes.most_money]
    if not able:
        return None
    sure = f"with a probability of {PROMISE:.0%} or more"
    if wishes.most_seconds is not None:
        why = f"the cheapest that is done in time {sure}" + (
            ", within the budget" if wishes.most_money is not None else ""
        )
        return Pick(index=min(able, key=lambda at: (_money(quotes[at]), quotes[at].seconds.likely)), why=why)
    if wishes.most_money is not None:
        why = f"the fastest that stays within the budget {sure}"
        return Pick(index=min(able, key=lambda at: (quotes[at].seconds.likely, _money(quotes[at]))), why=why)
    return _knee(quotes, [at for at in front if at in able])


def _knee(quotes: Sequence[Quote], front: Sequence[int]) -> Pick:
    """The least product of cost and time: beyond it a per cent more money saves less than a per cent of time."""
    cheapest, fastest = quotes[front[0]], quotes[front[-1]]
    if len(front) == 1:
        return Pick(index=front[0], why="the cheapest and the fastest at once")
    cost = np.log([max(float(_money(quotes[at])), 0.005) for at in front])
    time = np.log([max(quotes[at].seconds.likely, 1.0) for at in front])
    place = int(np.argmin(cost + time))
    chosen = quotes[front[place]]
    if place == 0:
        return Pick(index=front[0], why=f"the cheapest; the fastest way {_against(fastest, cheapest)}")
    if place == len(front) - 1:
        return Pick(index=front[-1], why=f"the fastest, and worth it: it {_against(chosen, cheapest)}")
    why = f"a good middle: it {_against(chosen, cheapest)}; the fastest way {_against(fastest, cheapest)}"
    return Pick(index=front[place], why=why)


def _against(quote: Quote, cheapest: Quote) -> str:
    base = float(_money(cheapest))
    more = (float(_money(quote)) / base - 1) * 100 if base > 0 else 0.0
    times = cheapest.seconds.likely / max(quote.seconds.likely, 1.0)
    return f"costs {more:.0f} % more than the cheapest and is done {times:.1f} times as fast"


def splits(found: Found, front: Sequence[int], exchange: Exchange, currency: str) -> tuple[Quote, ...]:
    """Return quotes for the job split between two farms, where that is sooner than either alone.

    The shares are such that both are done at the same time. What both cost is added percentile by percentile, as if
    both did well or badly together.
    """
    best: dict[str, int] = {}
    for at in sorted(
        (at for at, quote in enumerate(found.quotes) if quote.comparable),
        key=lambda at: found.quotes[at].seconds.likely * max(float(_money(found.quotes[at])), 0.01),
    ):
        best.setdefault(found.quotes[at].farm, at)
    fast: dict[str, int] = {}
    for at, quote in enumerate(found.quotes):
        if quote.comparable:
            other = fast.get(quote.farm)
            if other is None or quote.seconds.likely < found.quotes[other].seconds.likely:
                fast[quote.farm] = at
    farms = list(best)[:_MOST_TO_SPLIT]
    results = []
    for first, second in itertools.combinations(farms, 2):
        for pair in dict.fromkeys([(best[first], best[second]), (fast[first], fast[second])]):
            both = _split(found, pair, exchange, currency)
            if both is not None:
                results.append(both)
    return tuple(results)


def _split(found: Found, pair: tuple[int, int], exchange: Exchange, currency: str) -> Quote | None:
    alone = [found.quotes[at] for at in pair]
    tasks = found.offers[pair[0]].work.tasks.shape[1]
    if tasks < 2:
        return None
    share = alone[1].seconds.likely / (alone[0].seconds.likely + alone[1].seconds.likely)
    parts: list[Quote] = []
    counts: list[int] = []
    for _ in range(_SPLIT_STEPS):
        # every k-th frame, so that both farms get of everything in the shot
        mine = np.floor(np.arange(1, tasks + 1) * share) > np.floor(np.arange(tasks) * share)
        if mine.all() or not mine.any():
            return None
        parts, counts = [], []
        for at, chosen in zip(pair, (mine, ~mine), strict=True):
            offer, way = found.offers[at], found.ways[at]
            places = np.flatnonzero(chosen)
            part = replace(offer, work=offer.work.part(places))
            nodes = min(way.nodes, len(places))
            batch = min(way.batch, max(1, -(-len(places) // nodes)))
            parts.append(_compared(quoted(part, replace(way, nodes=nodes, batch=batch)), exchange, currency))
            counts.append(len(places))
        first, second = (one.seconds.likely for one in parts)
        share = float(np.clip(share * (second / first) ** 0.5, 0.02, 0.98))
    seconds = Range(**{name: max(getattr(one.seconds, name) for one in parts) for name in ("low", "likely", "high")})
    if seconds.likely > _WORTH * min(one.seconds.likely for one in alone):
        return None
    own = [one.cost_own for one in parts if one.cost_own is not None]
    total = Cost(currency=currency, **{
        name: rounded(sum((getattr(one, name) for one in own), Decimal(0))) for name in ("low", "likely", "high")
    })  # fmt: skip
    return Quote(
        farm=" + ".join(one.farm for one in parts),
        machine=" + ".join(one.machine for one in parts),
        nodes=sum(one.nodes for one in parts),
        batch=max(one.batch for one in parts),
        cost=total,
        cost_own=total,
        seconds=seconds,
        parts=None,
        basis=parts[0].basis,
        eligible=all(one.eligible for one in parts),
        reasons=tuple(reason for one in parts for reason in one.reasons),
        shares=tuple(
            Share(farm=one.farm, machine=one.machine, nodes=one.nodes, batch=one.batch, frames=count,
                  cost=one.cost, seconds=one.seconds)
            for one, count in zip(parts, counts, strict=True)
        ),
    )  # fmt: skip


def here_of(work: JobWork, slower: float, price_per_hour: Decimal | None, currency: str | None) -> Here:
    """Return what the work takes on this machine alone, and what that costs where its hour has a price.

    slower: factor on the time of the machine that was measured, where that is another one.
    """
    seconds = work.tasks.sum(axis=1) + work.load + work.stitch_seconds
    seconds = seconds * slower * another_day(work.runs, np.random.default_rng(work.runs))
    low, likely, high = (float(one) for one in np.quantile(seconds, LOW_TO_HIGH))
    cost = None
    if price_per_hour is not None and currency is not None:
        at = [rounded(Decimal(one) / 3600 * price_per_hour) for one in (low, likely, high)]
        cost = Cost(currency=currency, low=at[0], likely=at[1], high=at[2])
    return Here(seconds=Range(low=low, likely=likely, high=high), cost=cost)


def nearest_of(
    wishes: Wishes, quotes: Sequence[Quote], changes: Iterable[tuple[str, Callable[[], Sequence[Quote]]]]
) -> tuple[Nearest, ...]:
    """Say what would keep wishes that nothing keeps: later or dearer, then changes of what is rendered.

    changes: in words, and what quotes the job with that change. The first that keeps the wishes ends it.
    """
    found = [*_relaxed(wishes, quotes)]
    for words, again in changes:
        after = again()
        pick = pick_of(after, front_of(after), wishes)
        if pick is not None:
            found.append(_near(words, after[pick.index], fits=True))
            break
    return tuple(found)


def _relaxed(wishes: Wishes, quotes: Sequence[Quote]) -> Iterator[Nearest]:
    able = [quote for quote in quotes if quote.comparable]
    if wishes.most_seconds is not None:
        within = [
            one
            for one in able
            if wishes.most_money is None or (one.cost_own and one.cost_own.high <= wishes.most_money)
        ]
        if within:
            soonest = min(within, key=lambda one: one.seconds.high)
            late = soonest.seconds.high - wishes.most_seconds
            if late > 0:
                yield _near(f"{_hours(late)} later", soonest, fits=False)
    if wishes.most_money is not None:
        within = [one for one in able if wishes.most_seconds is None or one.seconds.high <= wishes.most_seconds]
        if within:
            cheapest = min(within, key=lambda one: one.cost_own.high if one.cost_own else Decimal(0))
            assert cheapest.cost_own is not None
            more = cheapest.cost_own.high - wishes.most_money
            if more > 0:
                yield _near(f"{more} {cheapest.cost_own.currency} more", cheapest, fits=False)


def _near(change: str, quote: Quote, *, fits: bool) -> Nearest:
    assert quote.cost_own is not None
    return Nearest(
        change=change, cost=quote.cost_own, seconds=quote.seconds, farm=quote.farm, machine=quote.machine, fits=fits
    )


def _hours(seconds: float) -> str:
    return f"{seconds / 3600:.1f} hours" if seconds >= 3600 else f"{seconds / 60:.0f} minutes"


def need_rates(quotes: Sequence[Quote], currency: str) -> None:
    """Raise Blocked where quotes are eligible and none of them can be compared."""
    able = [quote for quote in quotes if quote.eligible]
    if able and all(quote.cost_own is None for quote in able):
        names = ", ".join(sorted({quote.cost.currency for quote in able}))
        raise Blocked(
            f"no rate of exchange from {names} to {currency} is known", "config.toml",
            f'add [[exchange]] with of = "{able[0].cost.currency}", to = "{currency}", rate = "..." and on = DATE',
        )  # fmt: skip
