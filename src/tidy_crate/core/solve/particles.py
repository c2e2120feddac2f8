"""Particles: born at a steady rate, falling through air, bouncing off a floor, dying of age.

Between two moments each obeys v' = g - d (v - w), with gravity g, drag d per second and wind w, which is solved in
closed form: nothing depends on the step, and where a particle meets the floor, that moment is found to the last bit.
What is random about a particle depends on the seed and its number alone, so it is the same on whatever machine,
and however the time is cut into steps.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

# random numbers per particle: place (3), velocity (3), and two to spare, which are two blocks of the generator
_DRAWS = 8
_BLOCKS = 2
_NEWTON = 40
# a step of Newton's method below this share of the time is rounding
_ROUNDING = 1e-15
# a hop counts as rest when it takes less than this share of the time that is left
_REST = 0.01
# seconds by which sums of times may be off
_INSTANT = 1e-9
_BOUNCES = 8


@dataclass(frozen=True)
class Law:
    """Constants of the particles. Lengths in scene units, times in seconds."""

    seed: int
    rate: float
    """Particles born per second."""
    life: float
    """Seconds that each lives."""
    size: Array
    """Edges of the box that they are born in, in the emitter's own axes."""
    velocity: Array
    """Velocity at birth, in the emitter's axes."""
    spread: float
    """Standard deviation of the velocity along each axis."""
    gravity: Array
    """Shape (3,)."""
    wind: Array
    """Shape (3,)."""
    drag: float
    """Per second."""
    floor: float | None
    """Height along `up`, None for no floor."""
    bounce: float
    """Share of the speed that is kept."""
    up: int
    """An axis, 0 to 2."""

    def __post_init__(self) -> None:
        numbers = [self.rate, self.life, self.spread, self.drag, self.bounce, *self.size, *self.velocity]
        if not np.isfinite([*numbers, *self.gravity, *self.wind]).all():
            raise ValueError("a particle emitter has a value that is not a number")
        if self.rate < 0 or self.life <= 0 or self.spread < 0 or self.drag < 0 or not 0 <= self.bounce <= 1:
            raise ValueError("particles need a life, no negative rate, spread or drag, and a bounce between 0 and 1")


@dataclass(frozen=True)
class Swarm:
    """All living particles, oldest first."""

    position: Array
    velocity: Array
    number: NDArray[np.int64]
    """Number of each particle, shape (n,)."""
    born: Array
    """Time of birth, seconds since the start."""


def no_particles() -> Swarm:
    """Before the first is born."""
    return Swarm(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0, dtype=np.int64), np.zeros(0))


def advance(law: Law, swarm: Swarm, begin: float, end: float, emitter: Array) -> Swarm:
    """The swarm at `end`, from the one at `begin`, in seconds since the start.

    emitter: the emitter's matrix at `end`, shape (4, 4), rows as vectors, translation in the last row.
    """
    # oldest first: those that die of age are the first ones
    alive = slice(int(np.searchsorted(swarm.born + law.life, end + _INSTANT, side="right")), None)
    position, velocity = fly(law, swarm.position[alive], swarm.velocity[alive], end - begin)
    fresh = _born(law, begin, end)
    births = (fresh + 1) / law.rate if law.rate else np.zeros(0)
    lives = births + law.life > end + _INSTANT
    fresh, births = fresh[lives], births[lives]
    at, speed = _birth(law, fresh, emitter)
    at, speed = fly(law, at, speed, end - births)
    return Swarm(
        np.concatenate([position, at]),
        np.concatenate([velocity, speed]),
        np.concatenate([swarm.number[alive], fresh]),
        np.concatenate([swarm.born[alive], births]),
    )


def fly(law: Law, position: Array, velocity: Array, seconds: float | Array) -> tuple[Array, Array]:
    """Return positions and velocities, shape (n, 3), after a time for all or one for each, shape (n,), with bounces."""
    there, speed = _free(law, position, velocity, seconds)
    below = _below(law, there)
    # what rests on the floor stays there, and slides
    rests = below & (position[:, law.up] == law.floor) & (velocity[:, law.up] == 0.0)
    there[rests, law.up], speed[rests, law.up] = law.floor, 0.0
    hit = np.flatnonzero(below & ~rests)
    if not len(hit):
        return there, speed
    at, into, left = position[hit], velocity[hit], np.broadcast_to(seconds, below.shape)[hit]
    for _ in range(_BOUNCES):
        when = _time_of_hit(law, at, into, left)
        at, into = _free(law, at, into, when)
        at[:, law.up] = law.floor
        into[:, law.up] = np.abs(into[:, law.up]) * law.bounce
        left = left - when
        # a hop too short to see is none: what hops so has come to rest, and slides along the floor
        into[into[:, law.up] < _REST * np.abs(law.gravity[law.up]) * left, law.up] = 0.0
        there[hit], speed[hit] = _free(law, at, into, left)
        again = _below(law, there[hit])
        rests = again & (into[:, law.up] == 0.0)
        there[hit[rests], law.up], speed[hit[rests], law.up] = law.floor, 0.0
        again &= ~rests
        hit, at, into, left = hit[again], at[again], into[again], left[again]
        if not len(hit):
            return there, speed
    there[hit, law.up], speed[hit, law.up] = law.floor, 0.0
    return there, speed


def _free(law: Law, position: Array, velocity: Array, seconds: float | Array) -> tuple[Array, Array]:
    t = np.asarray(seconds, dtype=np.float64)[..., None]
    if law.drag * float(t.max(initial=0.0)) < 1e-9:
        return position + velocity * t + 0.5 * law.gravity * t * t, velocity + law.gravity * t
    final = law.wind + law.gravity / law.drag
    over = velocity - final
    there = over * (np.expm1(-law.drag * t) / -law.drag)
    there += final * t
    there += position
    over *= np.exp(-law.drag * t)
    over += final
    return there, over


def _below(law: Law, position: Array) -> NDArray[np.bool_]:
    if law.floor is None:
        return np.zeros(len(position), dtype=bool)
    return np.asarray(position[:, law.up] < law.floor)


def _time_of_hit(law: Law, position: Array, velocity: Array, seconds: Array) -> Array:
    """Return when each first reaches the floor. It is above at 0 (or on it, going up) and below at `seconds`.

    Its height is a concave curve, on which Newton's method steps past the root once at most, and never back past it.
    """
    assert law.floor is not None
    when = seconds.copy()
    height, speed = position[:, law.up] - law.floor, velocity[:, law.up]
    falls_from_floor = (height <= 0) & (speed <= 0)
    # only the height matters, and only of those that are not there yet
    open_ = np.flatnonzero(~falls_from_floor)
    when[open_] = np.minimum(_without_air(law, height[open_], speed[open_], seconds[open_]), seconds[open_])
    last = np.full(len(open_), np.inf)
    for _ in range(_NEWTON):
        if not len(open_):
            break
        t = when[open_]
        above, slope = _height(law, height[open_], speed[open_], t)
        step = above / np.minimum(slope, -_INSTANT)
        when[open_] = np.clip(t - step, 0.0, seconds[open_])
        # near the root each step is far smaller than the last, until rounding is all that is left of it
        size = np.abs(step)
        goes_on = (size > _ROUNDING * t) & (size < last)
        open_, last = open_[goes_on], size[goes_on]
    return np.where(falls_from_floor, 0.0, when)


def _without_air(law: Law, height: Array, speed: Array, otherwise: Array) -> Array:
    """Return when each would reach the floor without drag, which is near the moment that is looked for."""
    gravity = float(law.gravity[law.up])
    if gravity >= 0:
        return otherwise
    return np.asarray((speed + np.sqrt(np.maximum(speed * speed - 2 * gravity * height, 0.0))) / -gravity)


def _height(law: Law, height: Array, speed: Array, t: Array) -> tuple[Array, Array]:
    """Return height and speed along the up axis after a time each: `_free`, for one axis."""
    gravity = float(law.gravity[law.up])
    if law.drag * float(t.max(initial=0.0)) < 1e-9:
        return height + speed * t + 0.5 * gravity * t * t, speed + gravity * t
    final = float(law.wind[law.up]) + gravity / law.drag
    shrinks = np.expm1(-law.drag * t)
    return height + final * t - (speed - final) * shrinks / law.drag, speed + (speed - final) * shrinks


def _born(law: Law, begin: float, end: float) -> NDArray[np.int64]:
    """The numbers of those born after `begin` and until `end`: number k at (k + 1) / rate."""
    if law.rate == 0:
        return np.zeros(0, dtype=np.int64)
    return np.arange(
        int(np.floor((begin + _INSTANT) * law.rate)), int(np.floor((end + _INSTANT) * law.rate)), dtype=np.int64
    )


def _birth(law: Law, numbers: NDArray[np.int64], emitter: Array) -> tuple[Array, Array]:
    if not len(numbers):
        return np.zeros((0, 3)), np.zeros((0, 3))
    generator = np.random.Philox(key=law.seed)
    generator.advance(int(numbers[0]) * _BLOCKS)
    draws = np.random.Generator(generator).random((len(numbers), _DRAWS))
    position = (draws[:, :3] - 0.5) * law.size
    # two uniform numbers make two normal ones: Box and Muller, 1958
    away = np.sqrt(-2 * np.log1p(-draws[:, [3, 3, 5]]))
    angles = 2 * np.pi * draws[:, [4, 4, 6]]
    normal = away * np.stack([np.cos(angles[:, 0]), np.sin(angles[:, 1]), np.cos(angles[:, 2])], axis=1)
    speed = law.velocity + law.spread * normal
    linear = emitter[:3, :3]
    return position @ linear + emitter[3, :3], speed @ linear
