"""Timing model: from a few measured frames to the seconds of every frame, as a range."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.estimate.probe import ProbeResult
from tidy_crate.core.work.request import RenderRequest

# two-sided: nine jobs in ten end inside the range
CONFIDENCE = 0.9
# however alike the test frames are, another machine on another day differs by this share
LEAST_SPREAD = 0.08


@dataclass(frozen=True)
class FrameTimes:
    """Seconds of every frame of a request on the machine that was measured, shape (frames,), and their spread.

    spread: share by which the whole may be off, either way. load_seconds: once per batch.
    """

    likely: NDArray[np.float64]
    spread: float
    load_seconds: float


def frame_times(request: RenderRequest, probe: ProbeResult) -> FrameTimes:
    """Interpolate between the test frames, scaled by pixels and samples to what the request asks.

    The spread is the confidence interval of the mean by Student's t, widened for few test frames.
    Raises UnreadableInput when no test frame belongs to the request.
    """
    points = {}
    for one in probe.frames:
        if one.request == request.name:
            factor = request.width * request.height / (one.width * one.height)
            if request.samples and one.samples:
                factor *= request.samples / one.samples
            points[one.frame] = one.seconds * factor
    if not points:
        raise UnreadableInput("the timings hold no frame of this request", request.name, "run probe again")
    frames = np.array(sorted(points), dtype=float)
    seconds = np.array([points[int(frame)] for frame in frames])
    likely = np.interp(np.array(request.numbers(), dtype=float), frames, seconds)
    return FrameTimes(likely, _spread(seconds), probe.load_seconds)


def _spread(seconds: NDArray[np.float64]) -> float:
    count, mean = len(seconds), float(seconds.mean())
    if count < 2 or mean <= 0:
        return 0.5
    # a heavy import, only needed here
    from scipy.special import stdtrit

    half = float(stdtrit(count - 1, 0.5 + CONFIDENCE / 2)) * float(seconds.std(ddof=1)) / count**0.5
    return float(min(0.9, max(LEAST_SPREAD, half / mean)))
