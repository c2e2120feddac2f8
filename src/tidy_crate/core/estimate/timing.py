"""Timing model: from a few measured frames to the seconds of every frame, many times, each as likely as the next.

A frame takes pixels x samples x c(frame), and loading the scene besides. The logarithm of c is a Gaussian process along
the shot: a smooth part whose correlation fades with distance (Ornstein and Uhlenbeck 1930), and a part by which
neighbours differ. How far correlation reaches, and how much of the whole is smooth, is not known from a handful of
frames: each draw takes one of several answers, as likely as the measured frames make it (Rasmussen and Williams,
"Gaussian Processes for Machine Learning", 2006, chapters 2 and 5). The level is free, and the variance has an inverse
gamma prior, so that few frames give wide ranges.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.work.request import RenderRequest

Array = NDArray[np.float64]

# shares of the shot over which correlation falls to 1/e
REACHES = (0.03, 0.1, 0.3, 1.0, 4.0)
# of the variance, what neighbours do not share
ROUGH = (0.02, 0.1, 0.3, 0.6, 0.95)
# how likely each of them is before anything is measured
ROUGH_WEIGHTS = (0.1, 0.1, 0.2, 0.3, 0.3)
# degrees of freedom of the rough part, each as likely as the next: neighbours differ now and then by far more than
# usual
TAILS = (3.0, 6.0, 1000.0)
# now and then a frame takes several times longer, which a handful of test frames does not show: shape of the share of
# such frames (beta distribution) when none is known of, and of how many times longer (Pareto)
OUTLIER_SHARE = (0.3, 60.0)
OUTLIER_TAIL = 1.6
# in this share of shots some frames in a row take several times as long, and no test frame stands among them: how many,
# and how many times
UNSEEN_SHARE, UNSEEN, UNSEEN_TIMES = 0.15, (4, 15), (1.5, 5.0)
# of the variance before anything is measured: frames of a shot differ by a few per cent at least
PRIOR_SHAPE, PRIOR_SCALE = 0.5, 0.002
# frames between two of these are interpolated, in the smooth part
MOST_KNOTS = 384
# percentiles of low, likely and high
LOW_TO_HIGH = (0.1, 0.5, 0.9)
# by which share one machine is faster or slower than it was while it was measured: a standard deviation
SAME_MACHINE = 0.03
_TINY = 1e-9
# no frame is taken for so many times longer than the longest that was measured
LONGEST = 30.0


@dataclass(frozen=True)
class ShotTimes:
    """Seconds of every frame of a request on the machine that was measured."""

    request: str
    numbers: tuple[int, ...]
    draws: Array
    """Shape (draws, frames): each row is one way that the shot may be."""
    measured: dict[int, float]
    """Frames that were measured, in seconds at the size that is asked for."""

    @property
    def likely(self) -> Array:
        """The median of each frame, shape (frames,)."""
        return np.asarray(np.median(self.draws, axis=0))

    def totals(self, chance: np.random.Generator) -> Array:
        """Return the seconds of all frames together on the same machine at another time, shape (draws,)."""
        return np.asarray(self.draws.sum(axis=1) * another_day(len(self.draws), chance))

    @property
    def width(self) -> float:
        """Return how wide the 80 % range of the total is, as a share of its median."""
        return range_width(self.draws.sum(axis=1))


def with_unseen(shot: ShotTimes, chance: np.random.Generator) -> ShotTimes:
    """Return a shot in some draws of which frames in a row take several times as long, where no test frame stands.

    So it is where memory runs out, or something crosses the picture close to the camera. No smooth model tells it.
    """
    numbers = np.sort(np.array(shot.numbers))
    known = np.isin(numbers, list(shot.measured))
    edges = np.flatnonzero(np.diff(np.concatenate([[True], known, [True]]).astype(int)))
    gaps = [(first, after) for first, after in zip(edges[::2], edges[1::2], strict=True) if after - first >= UNSEEN[0]]
    if not gaps:
        return shot
    order = np.argsort(np.argsort(np.array(shot.numbers)))
    draws = shot.draws.copy()
    lengths = np.array([after - first for first, after in gaps], float)
    for row in np.flatnonzero(chance.random(len(draws)) < UNSEEN_SHARE):
        first, after = gaps[int(chance.choice(len(gaps), p=lengths / lengths.sum()))]
        count = min(int(chance.integers(UNSEEN[0], UNSEEN[1] + 1)), after - first)
        begin = first + int(chance.integers(0, after - first - count + 1))
        slow = np.zeros(len(numbers), bool)
        slow[begin : begin + count] = True
        draws[row, slow[order]] *= chance.uniform(*UNSEEN_TIMES)
    return replace(shot, draws=draws)


def another_day(runs: int, chance: np.random.Generator) -> Array:
    """Return factors on the time of everything, for the same machine at another time, shape (runs,)."""
    return np.asarray(np.exp(SAME_MACHINE * chance.standard_normal(runs)))


def range_width(totals: Array) -> float:
    """Return the width of the 80 % range of some totals, as a share of their median."""
    low, middle, high = np.quantile(totals, LOW_TO_HIGH)
    return float((high - low) / middle) if middle > 0 else 0.0


def work_of(request: RenderRequest, timing: FrameTiming, *, noise_target: bool) -> float:
    """Return the work of a timed frame as a share of what the request asks for: pixels x samples.

    Where a noise target ends the frame, samples do not count.
    """
    share = 1.0
    if timing.width and timing.height:
        share = timing.width * timing.height / (request.width * request.height)
    if timing.samples and request.samples and not noise_target:
        share *= timing.samples / request.samples
    return share


def fixed_share(points: list[tuple[int, float, float]]) -> float:
    """Return the share of a whole frame's time that does not shrink with its pixels and samples.

    points: frame, work as a share of the whole, seconds. Frames that were measured at two settings tell it, by least
    squares over t = c(frame) (a + (1 - a) work); without such frames it is 0.
    """
    by_frame: dict[int, list[tuple[float, float]]] = {}
    for frame, work, seconds in points:
        by_frame.setdefault(frame, []).append((work, seconds))
    above = below = 0.0
    for pairs in by_frame.values():
        pairs.sort()
        (small, quick), (large, slow) = pairs[0], pairs[-1]
        if large - small < 0.05 * large or slow <= 0:
            continue
        # quick / slow = (a + (1 - a) small) / (a + (1 - a) large), solved for a, weighted by the time
        ratio = quick / slow
        above += slow * (ratio * large - small)
        below += slow * ((1 - small) - ratio * (1 - large))
    return float(np.clip(above / below, 0.0, 0.95)) if below > 0 else 0.0


def shot_times(
    request: RenderRequest,
    timings: Timings,
    chance: np.random.Generator,
    draws: int,
    positions: Array | None = None,
) -> ShotTimes:
    """Draw the seconds of every frame of a request.

    positions: where each frame stands along the shot, shape (frames,), going up from 0 to 1; equally far apart where it
    is not known how much changes between frames. Raises UnreadableInput when no timed frame belongs to the request.
    """
    numbers = tuple(sorted(request.numbers()))
    points = [
        (one.frame, work_of(request, one, noise_target=timings.noise_target), one.seconds)
        for one in timings.of(request.name)
    ]
    if not points:
        raise UnreadableInput("no timed frame belongs to this request", request.name, "run probe on the crate again")
    fixed = fixed_share(points)
    measured: dict[int, list[tuple[float, float]]] = {}
    for frame, work, seconds in points:
        measured.setdefault(frame, []).append((work, seconds / (fixed + (1 - fixed) * work)))
    # of a frame that was measured twice, the larger picture says more
    known = {frame: max(pairs)[1] for frame, pairs in measured.items()}
    order = np.argsort(np.argsort(np.array(request.numbers())))
    found = _drawn(np.array(numbers, dtype=float), known, chance, draws, positions)
    return ShotTimes(request.name, request.numbers(), found[:, order], known)


def _drawn(
    numbers: Array, known: dict[int, float], chance: np.random.Generator, draws: int, positions: Array | None
) -> Array:
    at = np.array(sorted(known), dtype=float)
    # a frame that took no time at all has no logarithm
    logs = np.log(np.maximum([known[int(frame)] for frame in at], 1e-6))
    span = max(1.0, float(numbers[-1] - numbers[0]))
    every = positions if positions is not None else (numbers - numbers[0]) / span
    own = (
        np.interp(at, numbers, every)
        + np.clip(at - numbers[-1], 0, None) / span
        - np.clip(numbers[0] - at, 0, None) / span
    )
    knots = (
        every
        if len(every) <= MOST_KNOTS
        else np.interp(np.linspace(0, len(every) - 1, MOST_KNOTS), np.arange(len(every)), every)
    )
    cells = [(reach, rough) for reach in REACHES for rough in ROUGH]
    fits = [_Fit.of(own, logs, reach, rough) for reach, rough in cells]
    weights = np.array([fit.evidence for fit in fits]) + np.log(np.tile(ROUGH_WEIGHTS, len(REACHES)))
    weights = np.exp(weights - weights.max())
    counts = chance.multinomial(draws, weights / weights.sum())
    found = np.empty((draws, len(every)))
    row = 0
    for fit, count in zip(fits, counts, strict=True):
        if count:
            found[row : row + count] = fit.draw(knots, every, chance, int(count))
            row += count
    np.minimum(found, logs.max() + np.log(LONGEST), out=found)
    chance.shuffle(found, axis=0)
    seconds = np.exp(found)
    # what was measured is known
    place = {int(number): index for index, number in enumerate(numbers.tolist())}
    for frame, value in known.items():
        if frame in place:
            seconds[:, place[frame]] = value
    return seconds


@dataclass(frozen=True)
class _Fit:
    """One answer to how far correlation reaches and how rough the rest is, fitted to the measured frames."""

    reach: float
    rough: float
    own: Array
    logs: Array
    inverse: Array
    level: float
    spare: float
    """1' A^-1 1: how well the level is known."""
    shape: float
    scale: float
    evidence: float
    """Logarithm of the likelihood, with level and variance integrated out."""

    @classmethod
    def of(cls, own: Array, logs: Array, reach: float, rough: float) -> _Fit:
        count = len(own)
        covariance = (1 - rough) * np.exp(-np.abs(own[:, None] - own) / reach) + (rough + _TINY) * np.eye(count)
        inverse = np.asarray(np.linalg.inv(covariance), dtype=np.float64)
        spare = float(inverse.sum())
        level = float(inverse.sum(axis=0) @ logs) / spare
        off = logs - level
        shape = PRIOR_SHAPE + (count - 1) / 2
        scale = PRIOR_SCALE + float(off @ inverse @ off) / 2
        _, size = np.linalg.slogdet(covariance)
        evidence = -0.5 * float(size) - 0.5 * np.log(spare) - shape * np.log(scale)
        return cls(reach, rough, own, logs, inverse, level, spare, shape, scale, float(evidence))

    def draw(self, knots: Array, every: Array, chance: np.random.Generator, count: int) -> Array:
        """Draw logarithms for every frame, shape (count, frames), given the measured ones (Matheron's rule)."""
        sigma = np.sqrt(self.scale / chance.gamma(self.shape, size=count))
        level = self.level + sigma * chance.standard_normal(count) / np.sqrt(self.spare)
        places = np.concatenate([self.own, knots])
        smooth = _smooth(places, self.reach, chance, count)
        share, rough = np.sqrt(1 - self.rough), np.sqrt(self.rough)
        measured, along = share * smooth[:, : len(self.own)], share * smooth[:, len(self.own) :]
        off = (self.logs - level[:, None]) / sigma[:, None] - measured - rough * chance.standard_normal(measured.shape)
        cross = (1 - self.rough) * np.exp(-np.abs(self.own[:, None] - knots) / self.reach)
        along = along + off @ self.inverse @ cross
        if len(knots) != len(every):
            along = np.array([np.interp(every, knots, one) for one in along])
        along = along + rough * _neighbours(along.shape, chance)
        return np.asarray(level[:, None] + sigma[:, None] * along + _outliers(along.shape, len(self.own), chance))


def _neighbours(shape: tuple[int, ...], chance: np.random.Generator) -> Array:
    """Draw by how much neighbours differ, in standard deviations of a normal frame."""
    tails = chance.choice(TAILS, size=(shape[0], 1))
    return np.asarray(chance.standard_normal(shape) / np.sqrt(chance.chisquare(tails, size=shape) / tails))


def _outliers(shape: tuple[int, ...], known: int, chance: np.random.Generator) -> Array:
    """Draw what is added to the logarithm of those few frames that take several times longer."""
    share = chance.beta(OUTLIER_SHARE[0], OUTLIER_SHARE[1] + known, size=(shape[0], 1))
    hit = chance.random(shape) < share
    found = np.zeros(shape)
    found[hit] = np.log1p(chance.pareto(OUTLIER_TAIL, size=int(hit.sum())))
    return found


def _smooth(places: Array, reach: float, chance: np.random.Generator, count: int) -> Array:
    """Draw the smooth part at some places, shape (count, places): a Markov chain from one to the next."""
    order = np.argsort(places, kind="stable")
    fade = np.exp(-np.diff(places[order]) / reach)
    kick = np.sqrt(1 - fade**2)
    noise = chance.standard_normal((len(places), count))
    found = np.empty_like(noise)
    found[0] = noise[0]
    for at in range(1, len(places)):
        found[at] = fade[at - 1] * found[at - 1] + kick[at - 1] * noise[at]
    back = np.empty_like(found)
    back[order] = found
    return back.T
