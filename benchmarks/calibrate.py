"""Measure whether the ranges of estimates hold: `python benchmarks/calibrate.py [JOBS] [--seed N]`.

Synthetic jobs run on the practice farm's own scheduler, which shares no code with the estimate, under laws that the
estimate does not assume. Each is probed with the tool's own choice of frames, estimated, and then rendered. The ranges
promise eight of ten.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from decimal import Decimal
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


@dataclass(frozen=True)
class Trial:
    """One job: what was estimated, and what came of it. Ranges are low, likely and high."""

    law: Law
    cost: tuple[float, float, float]
    paid: float
    seconds: tuple[float, float, float]
    took: float
    frames: int
    probed: int


def trial(number: int) -> Trial:
    """Probe, estimate and render one job."""
    chance = np.random.default_rng(number)
    law = LAWS[number % len(LAWS)]
    frames, nodes = int(chance.integers(40, 400)), int(chance.choice([1, 2, 4, 8, 16]))
    batch = int(chance.choice([1, 2, 4, 8]))
    settings = FarmSettings(
        nodes=nodes, speed=float(chance.lognormal(0, 0.03)), startup_seconds=float(chance.choice([0, 40, 120])),
        billing_increment_seconds=int(chance.choice([1, 60])), price_per_hour=Decimal("3.60"), synthetic_seconds=60,
        synthetic_law=law, synthetic_load=float(chance.choice([0, 5, 30])), node_spread=float(chance.choice([0, 0.1])),
        seed=number,
    )  # fmt: skip
    request = RenderRequest(name="main", frames=f"1-{frames}", width=1920, height=1080, outputs=("Beauty",))
    timings = probed(request, settings, chance)
    machine = {
        "name": "m", "nodes": nodes, "score": 100, "memory_gb": 8, "price_per_hour": settings.price_per_hour,
        "startup_seconds": settings.startup_seconds, "billing_increment_seconds": settings.billing_increment_seconds,
        "speeds": settings.node_spread,
    }  # fmt: skip
    card = FarmCard.model_validate({
        "name": "practice", "currency": "EUR", "rates_from": "2026-11-01", "practice": True, "machine": [machine],
        "transfer": {"upload_mbit": 1e9, "download_mbit": 1e9},
    })  # fmt: skip
    work = work_of_job((request,), {}, timings, 0, number)
    # nothing is reviewed here, so nothing is rendered again
    offer = Offer(card, card.machine[0], work, timings, Wishes(), Experience(again=0.0), seed=number)
    quote = quoted(offer, Way(nodes, batch, card.priority_named(None)))
    paid, took = rendered(request, settings, batch)
    cost, seconds = quote.cost, quote.seconds
    return Trial(
        law, (float(cost.low), float(cost.likely), float(cost.high)), paid,
        (seconds.low, seconds.likely, seconds.high), took, frames, len(timings.frames),
    )  # fmt: skip


def probed(request: RenderRequest, settings: FarmSettings, chance: np.random.Generator) -> Timings:
    """Measure frames of a synthetic shot as `probe` would, each off by a little."""
    assert settings.synthetic_law is not None
    numbers = request.numbers()
    times = law_times(settings.synthetic_law, settings.seed, settings.synthetic_seconds, len(numbers))
    wishes = ProbeWishes()
    most = most_frames(len(numbers))
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


def rendered(request: RenderRequest, settings: FarmSettings, batch: int) -> tuple[float, float]:
    """Let the practice farm's scheduler render a job. Return what it costs and takes."""
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
            took = max(shift.free_at for shift in shifts_of(session, job))
        store.close()
        return float(cost), float(took)


def main() -> None:
    """Print how often ranges held, by law and together."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("jobs", nargs="?", type=int, default=1000)
    words.add_argument("--seed", type=int, default=0)
    asked = words.parse_args()
    with ProcessPoolExecutor() as pool:
        trials = list(pool.map(trial, range(asked.seed, asked.seed + asked.jobs), chunksize=10))
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


if __name__ == "__main__":
    main()
