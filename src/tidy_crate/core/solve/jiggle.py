"""Points on springs: each pulled to where the animation has it, with the lengths between neighbours kept in bounds.

Every point obeys the equation of `spring`, solved exactly over a step in which its goal moves straight. Then the
edges that have been stretched or squeezed too far are corrected, a set of edges without a common point at a time, and
the velocities take up what that moved. Source for the constraints: Müller et al., "Position Based Dynamics", 2007.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.solve.spring import SpringState, advance

Points = NDArray[np.float64]
Indices = NDArray[np.int64]

# the lengths are corrected repeatedly until none is out by more than this share, but not for ever
SLACK = 0.01
MOST_PASSES = 24
_LOOK_EVERY = 4
_TINY = 1e-12


@dataclass(frozen=True)
class JiggleBody:
    """Constants of a jiggling body."""

    frequency: float
    """Hertz."""
    damping_ratio: float
    stretch: float
    """The share of its length by which an edge may differ."""
    free: NDArray[np.float64]
    """Shape (n,), 0 for a point that sticks to its goal, 1 for one that swings freely."""
    edges: Indices
    """Shape (m, 2)."""
    sets: tuple[Indices, ...]

    @cached_property
    def ends(self) -> tuple[Indices, Indices]:
        """The first and the second points of the edges, each in one piece of memory."""
        first, second = (np.ascontiguousarray(self.edges[:, end]) for end in (0, 1))
        return first, second

    @classmethod
    def of(
        cls, frequency: float, damping_ratio: float, stretch: float, free: NDArray[np.float64], edges: Indices
    ) -> JiggleBody:
        """Make one. Edges between two points that stick are left out. Raises ValueError on values without sense."""
        if (
            not (frequency > 0 and damping_ratio >= 0 and stretch >= 0)
            or not np.isfinite([frequency, damping_ratio, stretch]).all()
        ):
            raise ValueError("a jiggle needs a positive frequency, and no negative damping ratio or stretch")
        if not ((free >= 0) & (free <= 1)).all():
            raise ValueError("the weights of a jiggle are between 0 and 1")
        kept = edges[(free[edges] > 0).any(axis=1)] if len(edges) else edges
        return cls(frequency, damping_ratio, stretch, free, kept, independent_sets(kept, len(free)))


def edges_of(counts: NDArray[np.int64], indices: NDArray[np.int64]) -> Indices:
    """The edges of faces, each once: shape (m, 2). counts, indices: corners per face, and the points they are."""
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    after = np.arange(len(indices)) + 1
    after[starts + counts - 1] = starts
    pairs = np.sort(np.stack([indices, indices[after]], axis=1), axis=1)
    return np.asarray(np.unique(pairs[pairs[:, 0] != pairs[:, 1]], axis=0), dtype=np.int64)


def independent_sets(edges: Indices, points: int) -> tuple[Indices, ...]:
    """Split edges into sets in which no point occurs twice, so that a set can be corrected at once.

    Greedy, in the order given, hence the same on every machine.
    """
    # a node that is given frames in any order starts the same shape again and again
    return _independent_sets(edges.tobytes(), points)


@lru_cache(64)
def _independent_sets(data: bytes, points: int) -> tuple[Indices, ...]:
    edges = np.frombuffer(data, dtype=np.int64).reshape(-1, 2)
    used: list[int] = [0] * points  # per point a bit for each set that it is in
    chosen = np.empty(len(edges), dtype=np.int64)
    for at, (a, b) in enumerate(edges.tolist()):
        taken = used[a] | used[b]
        number = (~taken & (taken + 1)).bit_length() - 1
        chosen[at] = number
        used[a] |= 1 << number
        used[b] |= 1 << number
    return tuple(np.flatnonzero(chosen == number) for number in range(int(chosen.max()) + 1)) if len(edges) else ()


def step(body: JiggleBody, state: SpringState, goal_from: Points, goal_to: Points, seconds: float) -> SpringState:
    """Carry all points over a step. goal_from, goal_to: where the animation has them before and after, shape (n, 3)."""
    moved = advance(state, goal_from, goal_to, seconds, body.frequency, body.damping_ratio)
    position, velocity = moved.position, moved.velocity
    stuck = np.flatnonzero(body.free == 0)
    position[stuck] = goal_to[stuck]
    kept = _with_lengths_kept(body, position, goal_to)
    if kept is not position:
        velocity += (kept - position) / seconds
    velocity[stuck] = (goal_to[stuck] - goal_from[stuck]) / seconds
    return SpringState(kept, velocity)


def shown(body: JiggleBody, state: SpringState, goal: Points) -> Points:
    """Return where the points are seen: a point that is half free goes half the way."""
    return np.asarray(goal + body.free[:, None] * (state.position - goal))


def _with_lengths_kept(body: JiggleBody, points: Points, goal: Points) -> Points:
    """Return the points with every edge within its bounds: the same array where none is out."""
    if not body.sets:
        return points
    a, b = body.ends
    rest = _lengths(_columns(goal), a, b)
    # a column for each axis: looking up single numbers is several times faster than looking up rows
    columns = _columns(points)
    least, most = rest * max(0.0, 1 - body.stretch), rest * (1 + body.stretch)
    bound_low, bound_high = least - SLACK * rest - _TINY, most + SLACK * rest + _TINY
    sets: list[_EdgeSet] = []
    changed = False
    for number in range(MOST_PASSES):
        if number % _LOOK_EVERY == 0:
            length = _lengths(columns, a, b)
            out = (length < bound_low) | (length > bound_high)
            if not out.any():
                break
            # only what is out, and what touches it, is worked on; each set with all it needs, looked up once
            near = np.zeros(len(points), dtype=bool)
            near[a[out]] = near[b[out]] = True
            active = near[a] | near[b]
            chosen = [one[active[one]] for one in body.sets]
            sets = [_EdgeSet.of(body, one, least, most) for one in chosen if len(one)]
        for one in sets:
            one.fix(columns)
        changed = True
    return np.stack(columns, axis=1) if changed else points


@dataclass(frozen=True)
class _EdgeSet:
    """Edges without a common point, and the share of a correction that each of their two points takes."""

    first: Indices
    second: Indices
    least: NDArray[np.float64]
    most: NDArray[np.float64]
    by_first: NDArray[np.float64]
    by_second: NDArray[np.float64]

    @classmethod
    def of(cls, body: JiggleBody, edges: Indices, least: NDArray[np.float64], most: NDArray[np.float64]) -> _EdgeSet:
        first, second = (end[edges] for end in body.ends)
        free_first, free_second = (body.free[one] > 0 for one in (first, second))
        share = free_first.astype(np.float64) + free_second
        return cls(first, second, least[edges], most[edges], free_first / share, free_second / share)

    def fix(self, columns: list[NDArray[np.float64]]) -> None:
        """Bring the edges within their bounds, in place."""
        ends = [(column[self.first], column[self.second]) for column in columns]
        apart = [far - near for near, far in ends]
        length = _norm(apart)
        off = length - np.minimum(np.maximum(length, self.least), self.most)
        off /= np.maximum(length, _TINY)
        left, right = off * self.by_first, off * self.by_second
        for column, (near, far), way in zip(columns, ends, apart, strict=True):
            near += left * way
            far -= right * way
            column[self.first] = near
            column[self.second] = far


def _columns(points: Points) -> list[NDArray[np.float64]]:
    return [np.ascontiguousarray(points[:, axis]) for axis in range(3)]


def _lengths(columns: list[NDArray[np.float64]], a: Indices, b: Indices) -> NDArray[np.float64]:
    return _norm([column[a] - column[b] for column in columns])


def _norm(apart: list[NDArray[np.float64]]) -> NDArray[np.float64]:
    x, y, z = apart
    total = x * x
    total += y * y
    total += z * z
    return np.asarray(np.sqrt(total, out=total))
