"""Measure whether the ranges of estimates hold: `python benchmarks/calibrate.py [JOBS] [--seed N] [--ways]`.

Synthetic jobs run on the practice farm's own scheduler, which shares no code with the estimate, under laws that the
estimate does not assume. Each is probed with the tool's own choice of frames, with `--ways` in three other ways,
estimated, and then rendered. The bills of other price models are worked out here by fractions, from the shifts of the
scheduler's machines. The ranges promise eight of ten.
"""

from __future__ import annotations

import argparse
import math
import statistics
import tempfile
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from functools import partial
from pathlib import Path

import numpy as np

from tidy_crate.core.estimate.choose import beside_much_memory, most_telling, spread_frames
from tidy_crate.core.estimate.model import Wishes
from tidy_crate.core.estimate.offer import Experience, Offer, Way
from tidy_crate.core.estimate.probe import DRAWS, FIRST_FRAMES, TOGETHER, ProbeWishes, most_frames
from tidy_crate.core.estimate.probe_result import NEARLY_ALL
from tidy_crate.core.estimate.quote import quoted
from tidy_crate.core.estimate.timing import shot_times
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.estimate.work import work_of_job
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.protocol import JobOrder, JobState
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import tasks_of, whole
from tidy_crate.practice.farm.laws import LAWS, Law, law_memory, law_times
from tidy_crate.practice.farm.scheduler import Scheduler
from tidy_crate.practice.farm.settings import FarmSettings
from tidy_crate.practice.farm.store import FarmJobRow, Store, add_job, job_cost, shifts_of

CORES = 16
# by name: what a card says of it, and the seconds or blocks that a machine of so many seconds is billed, in hours
Billed = Callable[[Fraction], Fraction]
MODELS: dict[str, tuple[dict[str, object], Billed]] = {
    "by the minute": ({"per": "machine-hour", "amount": "3.60", "increment_seconds": 60},
                      lambda lasted: Fraction(math.ceil(lasted / 60) * 60, 3600)),
    "by the hour": ({"per": "machine-hour", "amount": "3.60", "increment_seconds": 3600},
                    lambda lasted: Fraction(math.ceil(lasted / 3600))),
    "half an hour at least": ({"per": "machine-hour", "amount": "3.60", "minimum_seconds": 1800},
                              lambda lasted: max(Fraction(math.ceil(lasted)), Fraction(1800)) / 3600),
    "by the core": ({"per": "core-hour", "amount": "0.225"}, lambda lasted: Fraction(math.ceil(lasted), 3600)),
    "rented by two hours": ({"per": "rental", "amount": "7.20", "block_hours": 2},
                            lambda lasted: 2 * Fraction(math.ceil(lasted / 7200))),
}  # fmt: skip
# ways to choose test frames
WAYS = ("the tool's", "even", "random", "first")


@dataclass(frozen=True)
class Trial:
    """One job: what was estimated, and what came of it. Ranges are low, likely and high."""

    law: Law
    way: str
    """How its test frames were chosen."""
    models: dict[str, tuple[float, float, float, float]]
    """By price model, low, likely and high, and the bill."""
    cost: tuple[float, float, float]
    paid: float
    seconds: tuple[float, float, float]
    took: float
    frames: int
    probed: int


def trial(number: int, ways: bool = False) -> Trial:
    """Probe, estimate and render one job. ways: test frames are not the tool's own choice."""
    chance = np.random.default_rng(number)
    law = LAWS[number % len(LAWS)]
    way = WAYS[1 + number // len(LAWS) % (len(WAYS) - 1)] if ways else WAYS[0]
    frames, nodes = int(chance.integers(40, 400)), int(chance.choice([1, 2, 4, 8, 16]))
    batch = int(chance.choice([1, 2, 4, 8]))
    settings = FarmSettings(
        nodes=nodes, speed=float(chance.lognormal(0, 0.03)), startup_seconds=float(chance.choice([0, 40, 120])),
        billing_increment_seconds=int(chance.choice([1, 60])), price_per_hour=Decimal("3.60"), synthetic_seconds=60,
        synthetic_law=law, synthetic_load=float(chance.choice([0, 5, 30])), node_spread=float(chance.choice([0, 0.1])),
        seed=number,
    )  # fmt: skip
    request = RenderRequest(name="main", frames=f"1-{frames}", width=1920, height=1080, outputs=("Beauty",))
    timings = probed(request, settings, chance, way)
    machine = {
        "name": "m", "nodes": nodes, "score": 100, "memory_gb": 8, "price_per_hour": settings.price_per_hour,
        "startup_seconds": settings.startup_seconds, "billing_increment_seconds": settings.billing_increment_seconds,
        "speeds": settings.node_spread,
    }  # fmt: skip
    base = {
        "name": "practice", "currency": "EUR", "rates_from": "2026-11-01", "practice": True, "machine": [machine],
        "transfer": {"upload_mbit": 1e9, "download_mbit": 1e9},
    }  # fmt: skip
    card = FarmCard.model_validate(base)
    work = work_of_job((request,), {}, timings, 0, number)
    # nothing is reviewed here, so nothing is rendered again
    offer = Offer(card, card.machine[0], work, timings, Wishes(), Experience(again=0.0), seed=number)
    quote = quoted(offer, Way(nodes, batch, card.priority_named(None)))
    paid, took, shifts = rendered(request, settings, batch)
    models = {}
    for name, (price, billed) in MODELS.items():
        own = {
            key: value for key, value in machine.items() if key not in ("price_per_hour", "billing_increment_seconds")
        }
        other = FarmCard.model_validate(base | {"machine": [own | {"cores": CORES}], "price": [price]})
        asked = quoted(
            replace(offer, card=other, machine=other.machine[0]), Way(nodes, batch, card.priority_named(None))
        )
        # a machine-hour, or the same for all cores of a machine
        bill = sum((billed(one) for one in shifts), Fraction(0)) * Fraction("3.60")
        models[name] = (*(float(getattr(asked.cost, one)) for one in ("low", "likely", "high")), round(float(bill), 2))
    cost, seconds = quote.cost, quote.seconds
    return Trial(
        law, way, models, (float(cost.low), float(cost.likely), float(cost.high)), paid,
        (seconds.low, seconds.likely, seconds.high), took, frames, len(timings.frames),
    )  # fmt: skip


def probed(request: RenderRequest, settings: FarmSettings, chance: np.random.Generator, way: str) -> Timings:
    """Measure frames of a synthetic shot as `probe` would, each off by a little.

    way: see `WAYS`. As many are measured in other ways as the tool would choose.
    """
    assert settings.synthetic_law is not None
    numbers = request.numbers()
    times = law_times(settings.synthetic_law, settings.seed, settings.synthetic_seconds, len(numbers))
    wishes = ProbeWishes()
    most = most_frames(len(numbers))
    if way != WAYS[0]:
        count = max(FIRST_FRAMES, most // 2)
        at = {
            "even": np.linspace(0, len(numbers) - 1, count).round().astype(int),
            "random": chance.choice(len(numbers), count, replace=False), "first": np.arange(count),
        }[way]  # fmt: skip
        pairs = [(numbers[one], float(times[one] * chance.lognormal(0, 0.01))) for one in sorted(map(int, at))]
        return Timings(tuple(FrameTiming("main", *pair) for pair in pairs), settings.synthetic_load, "measured")
    known: dict[int, float] = {}
    chosen = spread_frames(numbers, FIRST_FRAMES)
    taken = law_memory(settings.synthetic_law, settings.seed, len(numbers))
    while True:
        known |= {frame: float(times[frame - 1] * chance.lognormal(0, 0.01)) for frame in chosen}
        found = tuple(FrameTiming("main", frame, seconds) for frame, seconds in known.items())
        timings = Timings(found, settings.synthetic_load, "measured")
        shot = shot_times(request, timings, np.random.default_rng(7), DRAWS)
        if len(known) >= most:
            return timings
        if shot.width <= wishes.width:
            # in thousandths of a machine's memory
            memory = {frame: int(1000 * taken[frame - 1]) for frame in known}
            chosen = beside_much_memory(sorted(numbers), memory, 1000 * NEARLY_ALL)[: min(TOGETHER, most - len(known))]
            if not chosen:
                return timings
            continue
        chosen = most_telling(shot, min(TOGETHER, most - len(known)))


def rendered(request: RenderRequest, settings: FarmSettings, batch: int) -> tuple[float, float, tuple[Fraction, ...]]:
    """Let the practice farm's scheduler render a job. Return what it costs and takes, and how long machines last."""
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder, "farm.sqlite"))
        scheduler = Scheduler(Path(folder), store, settings, lambda: None)
        order = JobOrder(
            key="k" * 16, crate="c", requests=(request,), tasks=whole([request]), batch=batch, nodes=settings.nodes,
            machine="m",
        )  # fmt: skip
        with store.writing() as session:
            name = add_job(session, order, tasks_of(order.tasks, order.requests)).id
        scheduler.run_down()
        with store.reading() as session:
            job = session.get_one(FarmJobRow, name)
            assert job.state == JobState.DONE.value
            cost = job_cost(session, job, settings.price_per_hour, settings.billing_increment_seconds)
            shifts = [(shift.began, shift.free_at) for shift in shifts_of(session, job)]
        store.close()
        took = max(end for _, end in shifts)
        return float(cost), float(took), tuple(Fraction(round(end - began, 6)) for began, end in shifts)


def main() -> None:
    """Print how often ranges held, by law and together."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("jobs", nargs="?", type=int, default=1000)
    words.add_argument("--seed", type=int, default=0)
    words.add_argument("--ways", action="store_true", help="test frames evenly, at random and from the beginning")
    asked = words.parse_args()
    with ProcessPoolExecutor() as pool:
        jobs = range(asked.seed, asked.seed + asked.jobs)
        trials = list(pool.map(partial(trial, ways=asked.ways), jobs, chunksize=10))
    print(f"{'law':>10} {'jobs':>5} {'cost held':>10} {'time held':>10} {'error':>7} {'width':>7} {'probed':>7}")
    for law in (*LAWS, None):
        some = [one for one in trials if law in (None, one.law)]
        if not some:
            continue
        held = [sum(low <= real <= high for (low, _, high), real in pairs) / len(some) for pairs in (
            [(one.cost, one.paid) for one in some], [(one.seconds, one.took) for one in some],
        )]  # fmt: skip
        error = statistics.median(abs(one.cost[1] / one.paid - 1) for one in some)
        width = statistics.median((one.cost[2] - one.cost[0]) / one.cost[1] for one in some)
        share = statistics.fmean(one.probed / one.frames for one in some)
        figures = f"{held[0]:>10.1%} {held[1]:>10.1%} {error:>7.1%} {width:>7.1%} {share:>7.1%}"
        print(f"{law or 'all':>10} {len(some):>5} {figures}")
    print(f"\n{'test frames':>22} {'jobs':>5} {'cost held':>10} {'time held':>10}")
    for way in WAYS:
        some = [one for one in trials if one.way == way]
        if some:
            cost = sum(one.cost[0] <= one.paid <= one.cost[2] for one in some) / len(some)
            time = sum(one.seconds[0] <= one.took <= one.seconds[2] for one in some) / len(some)
            print(f"{way:>22} {len(some):>5} {cost:>10.1%} {time:>10.1%}")
    print(f"\n{'price':>22} {'jobs':>5} {'cost held':>10} {'above':>6} {'below':>6}")
    for name in MODELS:
        own = [one.models[name] for one in trials]
        held = sum(low <= bill <= high for low, _, high, bill in own) / len(own)
        above, below = (
            sum(test) / len(own) for test in ([b > high for _, _, high, b in own], [b < low for low, _, _, b in own])
        )
        print(f"{name:>22} {len(own):>5} {held:>10.1%} {above:>6.1%} {below:>6.1%}")


if __name__ == "__main__":
    main()
