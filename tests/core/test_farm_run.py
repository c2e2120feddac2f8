"""E6: the simulated farm, against closed forms that share nothing with it."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tidy_crate.core.estimate.farm_run import Fleet, batched, home, schedule, with_failures, with_reclaims


def fleet(nodes: int, ready: float = 0.0, runs: int = 1, pace: float = 1.0) -> Fleet:
    return Fleet(np.full((runs, nodes), ready), np.full((runs, nodes), pace))


def row(*values: float) -> np.ndarray:
    return np.array([values])


@given(st.integers(1, 200), st.integers(1, 30), st.floats(0.1, 1000))
def test_e6_identical_frames_on_identical_nodes(frames: int, nodes: int, seconds: float) -> None:
    runs = schedule(np.full((1, frames), seconds), fleet(nodes, ready=7.0))
    assert runs.seconds[0] == pytest.approx(7.0 + math.ceil(frames / nodes) * seconds)
    assert runs.used.sum() == min(frames, nodes)


@given(st.lists(st.floats(0.01, 100), min_size=1, max_size=80), st.integers(1, 12), st.booleans())
def test_e6_grahams_bound(frames: list[float], nodes: int, heap: bool) -> None:
    work = np.tile(frames, (1 if heap else 40, 1))
    runs = schedule(work, fleet(nodes, runs=len(work)))
    # Graham, "Bounds for certain multiprocessing anomalies", 1966: no list takes longer than (2 - 1/m) times the best
    least = max(max(frames), sum(frames) / nodes)
    assert (runs.seconds >= least - 1e-6).all() and (runs.seconds <= (2 - 1 / nodes) * least + 1e-6).all()
    ends = runs.machine_ends[0]
    assert ends.sum() == pytest.approx(sum(frames))


@given(st.lists(st.floats(0.01, 50), min_size=1, max_size=60), st.integers(1, 9), st.integers(0, 99))
def test_e6_all_runs_together_and_each_by_itself_agree(frames: list[float], nodes: int, seed: int) -> None:
    chance = np.random.default_rng(seed)
    unequal = Fleet(chance.random((6, nodes)) * 20, 0.5 + chance.random((6, nodes)))
    together = schedule(np.tile(frames, (6, 1)), unequal)
    for run in range(6):
        # one run on many machines, of which all but these never come, goes by the heap
        more = np.full((1, nodes + 9), np.inf)
        more[0, :nodes] = unequal.ready[run]
        pace = np.ones((1, nodes + 9))
        pace[0, :nodes] = unequal.pace[run]
        alone = schedule(np.array([frames]), Fleet(more, pace))
        assert alone.seconds[0] == pytest.approx(together.seconds[run])


def test_e6_loading_is_paid_once_per_batch() -> None:
    assert batched(row(1, 2, 3, 4, 5), np.array([10.0]), 2).tolist() == [[13, 17, 15]]


@pytest.mark.parametrize("seconds", [60.0, 1800.0, 7200.0])
def test_e6_reclaimed_machines_take_what_renewal_theory_says(seconds: float) -> None:
    rate, chance = 0.4 / 3600, np.random.default_rng(1)
    took = with_reclaims(np.full((100, 4000), seconds), rate, 0.0, chance)
    assert took.mean() == pytest.approx((math.exp(rate * seconds) - 1) / rate, rel=0.01)
    assert took.min() >= seconds


def test_e6_frames_that_fail_are_paid_again() -> None:
    took = with_failures(np.full((100, 2000), 10.0), 0.2, np.random.default_rng(1))
    assert took.mean() == pytest.approx(10 / 0.8, rel=0.01)


@given(st.lists(st.floats(0, 100), min_size=1, max_size=30), st.floats(0.1, 1000))
def test_e6_frames_come_home_while_others_render(ends: list[float], size: float) -> None:
    at = 0.0
    for end in sorted(ends):
        at = max(at, end) + size / 10
    assert home(np.array([ends]), size, 10.0)[0] == pytest.approx(at)
