"""Frames held against their neighbours: where a picture jumps, two machines have not computed the same motion."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise

import numpy as np

# a step between two frames is a jump when it is so many times as large as the steps before and after it
TIMES = 2.0
# and so many stops on average over the picture, below which nobody sees it
LEAST = 0.01


def jumps(looks: Mapping[int, tuple[float, ...]]) -> dict[int, float]:
    """The frames at which the picture jumps from the one before, with how many times the usual step that is.

    looks: by frame number, as `frame.look_of` gives them. Frames without one, and gaps, end a run: nothing is said of a
    step whose neighbours are not known.
    """
    numbers = sorted(looks)
    spacing = min((after - before for before, after in pairwise(numbers)), default=1)
    steps = {
        after: float(np.abs(np.array(looks[after]) - np.array(looks[before])).mean())
        for before, after in pairwise(numbers)
        if after - before == spacing and looks[before] and len(looks[before]) == len(looks[after])
    }
    found = {}
    for frame, step in steps.items():
        near = [steps[other] for other in (frame - spacing, frame + spacing) if other in steps]
        if step >= LEAST and len(near) == 2 and step > TIMES * max(near):
            found[frame] = step / max(*near, 1e-9)
    return found
