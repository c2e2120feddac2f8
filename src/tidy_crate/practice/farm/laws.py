"""Laws by which synthetic nodes take their time: how long each frame of a shot is, without rendering it.

The same seed gives the same times whenever they are asked for. Every law has a mean near the one that is asked for.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

Law = Literal[
    "even", "gamma", "heavy", "drift", "step", "visit", "wave", "walk", "bursts", "two-kinds", "settling", "memory"
]
LAWS: tuple[Law, ...] = get_args(Law)


@lru_cache(64)
def law_times(law: Law, seed: int, mean: float, count: int) -> NDArray[np.float64]:
    """Return seconds of each frame in the order of the shot, shape (count,). See the module."""
    chance = np.random.default_rng([seed, LAWS.index(law)])
    along = (np.arange(count) + 0.5) / count
    match law:
        case "even":
            shape = chance.lognormal(0, 0.1, count)
        case "gamma":
            shape = chance.gamma(chance.uniform(4, 12), 1.0, count)
        case "heavy":
            # one frame in thirty takes several times as long
            shape = chance.lognormal(0, 0.12, count) * np.where(
                chance.random(count) < 1 / 30, 1 + 2 * chance.pareto(2.5, count), 1
            )
        case "drift":
            shape = (1 + chance.uniform(-0.7, 2.0) * along) * chance.lognormal(0, 0.06, count)
        case "step":
            # something enters the picture, and stays
            shape = np.where(along > chance.uniform(0.1, 0.9), chance.uniform(1.4, 3.5), 1.0) * chance.lognormal(
                0, 0.06, count
            )
        case "visit":
            # something crosses the picture
            begin, length = chance.uniform(0, 0.8), chance.uniform(0.08, 0.5)
            inside = (along > begin) & (along < begin + length)
            shape = np.where(inside, chance.uniform(1.4, 3.5), 1.0) * chance.lognormal(0, 0.08, count)
        case "wave":
            waves = sum(
                chance.uniform(0, 0.4) * np.sin(2 * np.pi * (n * along + chance.random())) for n in (1, 2, 3, 5)
            )
            shape = np.exp(waves) * chance.lognormal(0, 0.04, count)
        case "walk":
            # neighbours are alike, and the shot wanders
            steps = chance.normal(0, 1.2 / np.sqrt(count), count).cumsum()
            shape = np.exp(steps) * chance.lognormal(0, 0.05, count)
        case "bursts":
            # correlated over some frames, with heavy tails
            noise = chance.standard_t(4, count)
            smooth = np.convolve(noise, np.exp(-np.arange(24) / 6), mode="full")[:count]
            shape = np.exp(0.12 * smooth)
        case "two-kinds":
            # cuts between a light and a heavy view
            kinds = np.repeat(chance.random(count) < 0.4, chance.integers(3, 20, count))[:count]
            shape = np.where(kinds, chance.uniform(1.3, 2.5), 1.0) * chance.lognormal(0, 0.07, count)
        case "settling":
            # a simulation that comes to rest
            shape = (1 + chance.uniform(0.5, 3) * np.exp(-along * chance.uniform(2, 8))) * chance.lognormal(
                0, 0.06, count
            )
        case "memory":
            # memory runs out in some frames in a row
            out = law_memory(law, seed, count) > 1
            shape = np.where(out, chance.uniform(2.5, 6), 1.0) * chance.lognormal(0, 0.08, count)
    return np.asarray(mean * shape / shape.mean() * chance.lognormal(0, 0.3))


def law_memory(law: Law, seed: int, count: int) -> NDArray[np.float64]:
    """Return the share of a machine's memory that each frame takes, shape (count,). Above 1 it runs out."""
    if law != "memory":
        return np.full(count, 0.3)
    chance = np.random.default_rng([seed, LAWS.index(law), 1])
    frames, length = np.arange(count), chance.integers(4, 16)
    # a crowd comes near the camera and goes away again
    middle, most = chance.uniform(0.1, 0.9) * count, chance.uniform(1.05, 1.4)
    width = length / 2 / np.sqrt(np.log(most))
    return np.asarray(most * np.exp(-(((frames - middle) / width) ** 2)))


def node_pace(seed: int, node: str, spread: float) -> float:
    """Return the factor on the times of one node. spread: standard deviation of its logarithm."""
    return float(np.exp(np.random.default_rng([seed, *node.encode()]).normal(0, spread))) if spread else 1.0
