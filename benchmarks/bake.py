"""Solvers beside a plain NumPy step, and cache files beside the same bytes raw: `python benchmarks/bake.py`.

Frames per second, a frame being four quarters on both sides. The plain steps are semi-implicit Euler, without bounces,
without lengths that are kept, and wrong by their step.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from pxr import Sdf

from tidy_crate.core.scene.formats.usd.apply import export
from tidy_crate.core.scene.formats.usd.simulation.interface import Array
from tidy_crate.core.scene.formats.usd.simulation.live import as_array
from tidy_crate.core.solve import jiggle, particles
from tidy_crate.core.solve.jiggle import JiggleBody, edges_of
from tidy_crate.core.solve.particles import Law
from tidy_crate.core.solve.spring import at_rest

FRAME = 1 / 25


def rate(step: Callable[[], object], seconds: float = 2.0) -> float:
    """How often a frame can be done in a second."""
    step()
    began, count = time.perf_counter(), 0
    while time.perf_counter() - began < seconds:
        step()
        count += 1
    return count / (time.perf_counter() - began)


def particle_rates(count: int) -> tuple[float, float]:
    """Ours and plain, frames per second."""
    law = Law(
        seed=1, rate=count / 2.0, life=2.0, size=np.array([5.0, 5.0, 0.0]), velocity=np.zeros(3), spread=0.5,
        gravity=np.array([0.0, 0.0, -9.81]), wind=np.zeros(3), drag=0.4, floor=-4.0, bounce=0.4, up=2,
    )  # fmt: skip
    swarm, now = particles.nobody(), 0.0
    while now < 2.0:
        swarm, now = particles.advance(law, swarm, now, now + 0.1, np.eye(4)), now + 0.1
    assert abs(len(swarm.number) - count) <= count / 50

    def ours() -> None:
        nonlocal swarm, now
        for _ in range(4):
            swarm = particles.advance(law, swarm, now, now + FRAME / 4, np.eye(4))
            now += FRAME / 4

    place, speed = swarm.position.copy(), swarm.velocity.copy()

    def plain() -> None:
        nonlocal place, speed
        for _ in range(4):
            speed = speed + (law.gravity - law.drag * (speed - law.wind)) * (FRAME / 4)
            place = place + speed * (FRAME / 4)

    return rate(ours), rate(plain)


def jiggle_rates(side: int) -> tuple[float, float]:
    """Ours and plain, frames per second, for a sheet of side x side points that is held at one edge."""
    goal = np.array([[x, y, 0.0] for y in range(side) for x in range(side)])
    faces = np.array(
        [[a, a + 1, a + side + 1, a + side] for y in range(side - 1) for a in range(y * side, y * side + side - 1)]
    )
    edges = edges_of(np.full(len(faces), 4), faces.ravel())
    free = np.ones(side * side)
    free[:side] = 0
    body = JiggleBody.of(1.5, 0.2, 0.1, free, edges)
    state, frame = at_rest(goal), 0

    def sway(quarter: int) -> np.ndarray:
        return np.asarray(goal + np.array([0.0, 0.0, 0.5 * np.sin(0.1 * quarter)]))

    def ours() -> None:
        nonlocal state, frame
        for _ in range(4):
            state = jiggle.step(body, state, sway(frame), sway(frame + 1), FRAME / 4)
            frame += 1

    place, speed, stiffness = goal.copy(), np.zeros_like(goal), (2 * np.pi * 1.5) ** 2

    def plain() -> None:
        nonlocal place, speed
        for quarter in range(4):
            pull = stiffness * (sway(quarter) - place) - 2 * 0.2 * np.sqrt(stiffness) * speed
            speed = speed + pull * (FRAME / 4)
            place = place + speed * (FRAME / 4)

    return rate(ours), rate(plain)


def writing_rates(count: int) -> tuple[float, float]:
    """Megabytes per second of point caches, and of the same bytes raw."""
    points = np.random.default_rng(1).random((count, 3)).astype(np.float32)
    with tempfile.TemporaryDirectory() as folder:
        value = Array("/P", "points", Sdf.ValueTypeNames.Point3fArray, points)

        def ours() -> None:
            layer = Sdf.Layer.CreateAnonymous("clip.usdc")
            attribute = Sdf.AttributeSpec(Sdf.CreatePrimInLayer(layer, value.prim), value.attribute, value.type)
            layer.SetTimeSample(attribute.path, 1.0, as_array(value))
            export(layer, Path(folder, "clip.usdc"), "usdc")

        megabytes = points.nbytes / 1e6
        return rate(ours) * megabytes, rate(lambda: Path(folder, "raw.bin").write_bytes(points.tobytes())) * megabytes


def main() -> None:
    """Print a line per solver and size."""
    print(f"{'what':>28} {'ours':>12} {'plain':>12} {'ratio':>6}")
    for name, unit, measure, sizes in (
        ("particles", "frames/s", particle_rates, (10_000, 100_000)),
        ("jiggle, side of the sheet", "frames/s", jiggle_rates, (70, 224)),
        ("cache file, points", "MB/s", writing_rates, (100_000, 1_000_000)),
    ):
        for size in sizes if len(sys.argv) < 2 else sizes[:1]:
            ours, plain = measure(size)
            print(f"{name + f' {size:,}':>28} {ours:>7.1f} {unit:<8} {plain:>7.1f} {unit:<8} {plain / ours:>6.1f}")


if __name__ == "__main__":
    main()
