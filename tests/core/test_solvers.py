"""The solvers against closed forms and laws: springs are in test_bake."""

from __future__ import annotations

import math

import numpy as np
import pytest

from tidy_crate.core.scene.formats.usd.simulation.interface import quarters
from tidy_crate.core.solve import jiggle, particles
from tidy_crate.core.solve.jiggle import JiggleBody, edges_of
from tidy_crate.core.solve.particles import Law
from tidy_crate.core.solve.spring import SpringState, at_rest

NONE = np.zeros((0, 2), dtype=np.int64)


def law(**changes: object) -> Law:
    given = {
        "seed": 7, "rate": 0.0, "life": 100.0, "size": np.zeros(3), "velocity": np.zeros(3), "spread": 0.0,
        "gravity": np.array([0.0, 0.0, -9.81]), "wind": np.zeros(3), "drag": 0.0, "floor": None, "bounce": 0.0, "up": 2,
    }  # fmt: skip
    return Law(**(given | changes))  # type: ignore[arg-type]


@pytest.mark.parametrize("steps", [1, 7, 100])
def test_a_thrown_particle_flies_its_parabola_however_the_time_is_cut(steps: int) -> None:
    position, speed = np.array([[1.0, 2.0, 3.0]]), np.array([[4.0, 0.0, 10.0]])
    for _ in range(steps):
        position, speed = particles.fly(law(), position, speed, np.array([2.0 / steps]))
    assert position[0] == pytest.approx([9.0, 2.0, 3 + 20 - 9.81 * 2], abs=1e-9)
    assert speed[0] == pytest.approx([4.0, 0.0, 10 - 9.81 * 2], abs=1e-9)


def test_a_projectile_with_drag_follows_its_closed_form_and_comes_to_the_final_speed() -> None:
    drag, t = 0.8, 3.0
    air = law(drag=drag, wind=np.array([2.0, 0.0, 0.0]))
    position, speed = particles.fly(air, np.zeros((1, 3)), np.array([[0.0, 0.0, 5.0]]), np.array([t]))
    final = -9.81 / drag
    height = final * t + (5 - final) * (1 - math.exp(-drag * t)) / drag
    along = 2 * t - 2 * (1 - math.exp(-drag * t)) / drag
    assert position[0] == pytest.approx([along, 0, height], abs=1e-9)
    _, late = particles.fly(air, position, speed, np.array([60.0]))
    assert late[0] == pytest.approx([2.0, 0.0, final], abs=1e-9)


def test_a_ball_that_keeps_half_its_speed_rises_to_a_quarter_and_stays_above_the_floor() -> None:
    ground = law(floor=0.0, bounce=0.5)
    fall = math.sqrt(2 * 4 / 9.81)
    up = fall / 2
    position, speed = particles.fly(ground, np.array([[0.0, 0.0, 4.0]]), np.zeros((1, 3)), np.array([fall + up]))
    assert position[0, 2] == pytest.approx(1.0, abs=1e-9) and speed[0, 2] == pytest.approx(0, abs=1e-9)
    position, speed = np.array([[0.0, 0.0, 4.0]]), np.zeros((1, 3))
    heights = []
    for _ in range(400):
        position, speed = particles.fly(ground, position, speed, np.array([0.02]))
        heights.append(position[0, 2])
    assert min(heights) >= 0 and heights[-1] == 0


def swarm(given: Law, steps: int, seconds: float) -> particles.Swarm:
    found = particles.no_particles()
    for at in range(steps):
        begin, end = seconds * at / steps, seconds * (at + 1) / steps
        found = particles.advance(given, found, begin, end, np.eye(4))
    return found


def test_the_same_seed_gives_the_same_swarm_however_the_time_is_cut() -> None:
    given = law(rate=120.0, life=0.9, spread=0.4, size=np.array([2.0, 1.0, 0.0]), velocity=np.array([0.0, 0.0, 3.0]))
    whole, cut = swarm(given, 8, 2.0), swarm(given, 40, 2.0)
    assert np.array_equal(whole.number, cut.number) and len(whole.number) == 108
    assert np.allclose(whole.position, cut.position, atol=1e-9)
    assert swarm(given, 8, 2.0).position.tobytes() == whole.position.tobytes()
    other = law(rate=120.0, life=0.9, spread=0.4, seed=8)
    assert not np.allclose(swarm(other, 8, 2.0).position, whole.position)


def test_what_is_random_is_spread_as_it_says() -> None:
    given = law(rate=20_000.0, life=10.0, spread=0.5, size=np.array([2.0, 0.0, 0.0]), gravity=np.zeros(3))
    speeds = swarm(given, 1, 1.0).velocity
    assert speeds.std(axis=0) == pytest.approx([0.5] * 3, rel=0.03) and abs(speeds.mean()) < 0.01
    assert abs(np.corrcoef(speeds.T)[0, 1]) < 0.03 and abs(np.corrcoef(speeds.T)[0, 2]) < 0.03


@pytest.mark.parametrize("wrong", [{"life": 0.0}, {"rate": -1.0}, {"bounce": 1.5}, {"drag": float("nan")}])
def test_a_law_without_sense_is_refused(wrong: dict[str, float]) -> None:
    with pytest.raises(ValueError, match="particle"):
        law(**wrong)


def strip(count: int) -> np.ndarray:
    """Two rows of points, a ribbon of squares."""
    return np.array([[x, y, 0.0] for x in range(count) for y in range(2)])


def ribbon(count: int) -> np.ndarray:
    faces = [[2 * n, 2 * n + 1, 2 * n + 3, 2 * n + 2] for n in range(count - 1)]
    return edges_of(np.full(count - 1, 4), np.array(faces).ravel())


def test_edges_are_found_once_and_sets_have_no_point_twice() -> None:
    edges = ribbon(30)
    assert len(edges) == 30 + 2 * 29 and len(np.unique(edges, axis=0)) == len(edges)
    sets = jiggle.independent_sets(edges, 60)
    assert sum(map(len, sets)) == len(edges)
    for which in sets:
        points = edges[which].ravel()
        assert len(np.unique(points)) == len(points)


@pytest.mark.parametrize("rate", [12, 25, 60])
def test_a_free_point_swings_as_its_closed_form_says(rate: int) -> None:
    body = JiggleBody.of(1.2, 0.25, 0.1, np.ones(1), NONE)
    state, goal = SpringState(np.array([[1.0, 0, 0]]), np.zeros((1, 3))), np.zeros((1, 3))
    w, z = 2 * math.pi * 1.2, 0.25
    d = w * math.sqrt(1 - z * z)
    for frame in range(1, 2 * rate):
        state = jiggle.step(body, state, goal, goal, 1 / rate)
        t = frame / rate
        expected = math.exp(-z * w * t) * (math.cos(d * t) + z * w / d * math.sin(d * t))
        assert state.position[0, 0] == pytest.approx(expected, abs=1e-9)


def test_lengths_are_kept_points_that_stick_stick_and_all_comes_to_rest() -> None:
    goal, edges = strip(20), ribbon(20)
    free = np.ones(40)
    free[:2] = 0
    body = JiggleBody.of(1.0, 0.3, 0.05, free, edges)
    state, way = at_rest(goal), np.array([0.0, 0.0, 6.0])
    away = goal + way
    rest = np.linalg.norm(goal[edges[:, 0]] - goal[edges[:, 1]], axis=1)
    before, worst, bent = goal, 0.0, 0.0
    for at in range(200):
        now = goal + way * min(1.0, at / 40)
        state = jiggle.step(body, state, before, now, 1 / 100)
        before = now
        lengths = np.linalg.norm(state.position[edges[:, 0]] - state.position[edges[:, 1]], axis=1)
        worst = max(worst, float((lengths / rest).max()))
        bent = max(bent, float(np.abs(state.position - now).max()))
        assert np.allclose(state.position[:2], now[:2])
    # it lags, and yet no edge is drawn out much further than it may
    assert bent > 2 and worst < 1.05 + 3 * jiggle.SLACK
    for _ in range(2000):
        state = jiggle.step(body, state, away, away, 1 / 100)
    assert np.allclose(state.position, away, atol=1e-4)
    assert np.allclose(jiggle.shown(body, state, away), away, atol=1e-4)


def test_a_jiggle_without_sense_is_refused() -> None:
    for values in ((0.0, 0.1, 0.1, 1.0), (1.0, -0.1, 0.1, 1.0), (1.0, 0.1, -0.1, 1.0), (1.0, 0.1, 0.1, 1.5)):
        with pytest.raises(ValueError, match="jiggle"):
            JiggleBody.of(values[0], values[1], values[2], np.full(2, values[3]), NONE)


def test_quarters_end_where_they_are_asked_to_and_lie_on_the_grid_between() -> None:
    assert quarters(1, 2).tolist() == [1, 1.25, 1.5, 1.75, 2]
    assert quarters(0.9, 1.6).tolist() == [0.9, 1, 1.25, 1.5, 1.6]
    assert quarters(-0.5, -0.25).tolist() == [-0.5, -0.25] and quarters(3, 3).tolist() == [3]
