"""The reference of the rows on baking: `python plain_bake.py particles|jiggle COUNT FRAMES OUT`.

COUNT: particles, or points along an edge of the sheet. The plainest step that NumPy does, four to a frame, and the
points of each frame written raw: semi-implicit Euler, without bounces, without lengths that are kept, and wrong by its
step.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

QUARTER = 1 / 100
# the frames before the first one, in which the air fills
WARM_UP = 50
GRAVITY, DRAG = np.array([0.0, 0.0, -9.81]), 0.4
STIFFNESS = (2 * np.pi * 1.5) ** 2


def main() -> None:
    """Step and write."""
    kind, count, frames, out = sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), Path(sys.argv[4])
    jiggles = kind == "jiggle"
    goal = np.zeros((count, 3))
    if jiggles:
        goal = np.array([[x, y, 0.0] for y in range(count) for x in range(count)])
    place, speed = goal.copy(), np.zeros_like(goal)
    out.mkdir(exist_ok=True)
    for frame in range(frames if jiggles else frames + WARM_UP):
        for quarter in range(4):
            if jiggles:
                sway = goal + np.array([0.0, 0.0, 0.5 * np.sin(0.1 * (4 * frame + quarter))])
                pull = STIFFNESS * (sway - place) - 0.4 * np.sqrt(STIFFNESS) * speed
            else:
                pull = GRAVITY - DRAG * speed
            speed = speed + pull * QUARTER
            place = place + speed * QUARTER
        if jiggles or frame >= WARM_UP:
            (out / f"{frame:04d}.raw").write_bytes(place.astype(np.float32).tobytes())


if __name__ == "__main__":
    main()
