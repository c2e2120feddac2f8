"""Exact motion of a damped spring whose anchor moves along straight pieces.

The equation is x'' + 2 z w x' + w^2 (x - g(t)) = 0 with w = 2 pi f, f the undamped natural frequency in hertz and
z the damping ratio. Between two samples g is linear, g = g0 + v t, so x = g - (2 z / w) v + e, where the error e
obeys the homogeneous equation and is propagated by its closed form. Nothing is integrated by steps, so the result
does not drift with the frame rate. Source: any text on linear vibration, e.g. Den Hartog, "Mechanical
Vibrations", chapter 2.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Vector = NDArray[np.float64]


@dataclass(frozen=True)
class SpringState:
    """Position (scene units) and velocity (scene units per second), arrays of one shape."""

    position: Vector
    velocity: Vector


def at_rest(goal: Vector) -> SpringState:
    """A spring that has come to rest on its anchor."""
    return SpringState(np.array(goal, dtype=np.float64), np.zeros_like(goal, dtype=np.float64))


def advance(
    state: SpringState,
    goal_from: Vector,
    goal_to: Vector,
    seconds: float,
    frequency: float,
    damping_ratio: float,
) -> SpringState:
    """The state after `seconds` in which the anchor goes straight from `goal_from` to `goal_to`.

    Raises ValueError for a frequency or a time that is not positive, or a negative damping ratio.
    """
    if not (frequency > 0 and seconds > 0 and damping_ratio >= 0):
        raise ValueError("a spring needs a positive frequency and time step and no negative damping")
    omega = 2 * math.pi * frequency
    (xx, xv), (vx, vv) = _propagator(omega, damping_ratio, seconds)
    speed = (goal_to - goal_from) / seconds
    lag = (2 * damping_ratio / omega) * speed
    # in place: for many points, making arrays takes longer than the sums
    error = state.position - goal_from
    error += lag
    rate = state.velocity - speed
    position = goal_to - lag
    position += xx * error
    position += xv * rate
    error *= vx
    rate *= vv
    speed += error
    speed += rate
    return SpringState(position, speed)


def _propagator(omega: float, zeta: float, t: float) -> tuple[tuple[float, float], tuple[float, float]]:
    """Return how position and velocity of the free spring at time t follow from those at time 0."""
    decay = math.exp(-zeta * omega * t)
    # c and s/d become cosine and sine, 1 and t, or hyperbolic ones, as the damping grows through 1
    discriminant = 1 - zeta * zeta
    if abs(discriminant) < 1e-12:
        c, s_over_d = 1.0, t
    elif discriminant > 0:
        d = omega * math.sqrt(discriminant)
        c, s_over_d = math.cos(d * t), math.sin(d * t) / d
    else:
        d = omega * math.sqrt(-discriminant)
        # written with decaying exponentials only: cosh alone overflows for a stiff spring
        slow, fast = math.exp((d - zeta * omega) * t), math.exp((-d - zeta * omega) * t)
        decay, c, s_over_d = 1.0, (slow + fast) / 2, (slow - fast) / (2 * d)
    a = zeta * omega * s_over_d
    return (
        (decay * (c + a), decay * s_over_d),
        (-decay * omega * omega * s_over_d, decay * (c - a)),
    )
