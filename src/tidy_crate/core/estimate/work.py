"""The work of a job: every task's seconds on the measured machine, many times, each as likely as the next."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.estimate.timing import Array, ShotTimes, range_width, shot_times, with_unseen
from tidy_crate.core.estimate.timings import PRACTICE, Timings
from tidy_crate.core.farm.fit import TILE_OVERHEAD
from tidy_crate.core.scene.model import Output
from tidy_crate.core.work.request import RenderRequest

# runs of the Monte Carlo; fewer for very large jobs, whose totals hardly differ
RUNS = 200
LEAST_RUNS = 40
_MOST_NUMBERS = 240_000
# of a million frames, as many runs as the memory holds
_FEWEST, _MEMORY = 16, 4_000_000
# bytes per pixel and channel of a frame file, compressed, and channels of a pass where nothing is known
BYTES_PER_CHANNEL = 1.5
CHANNELS = 2.5
# pixels and channels a second that this machine puts together, from tiles
STITCH_RATE = 4e7
# by which share the time to load the scene differs from run to run: a standard deviation
# of a view that was timed by one frame, a standard deviation of the logarithm
_VIEW_SPREAD = 0.08
_LOAD_SPREAD = 0.1


@dataclass(frozen=True)
class JobWork:
    """All tasks of a job, in order."""

    tasks: Array
    """Seconds on the measured machine, shape (runs, tasks)."""
    load: Array
    """Seconds to load the scene once, shape (runs,)."""
    home_bytes: Array
    """Bytes of each task's files, shape (tasks,)."""
    upload_bytes: int
    stitch_seconds: float
    pictures: int
    slowest: float
    """Seconds of the slowest whole frame, likely."""
    shots: tuple[ShotTimes, ...]

    @property
    def runs(self) -> int:
        """Runs of the Monte Carlo."""
        return len(self.load)

    @property
    def width(self) -> float:
        """Return how wide the 80 % range of all work is, as a share of its median."""
        return range_width(self.tasks.sum(axis=1))

    def part(self, chosen: NDArray[np.int64]) -> JobWork:
        """Return the same for some of the tasks only, by their places."""
        return replace(
            self, tasks=self.tasks[:, chosen], home_bytes=self.home_bytes[chosen],
            stitch_seconds=self.stitch_seconds * len(chosen) / max(1, self.tasks.shape[1]),
        )  # fmt: skip


def work_of_job(
    requests: Iterable[RenderRequest],
    outputs: Mapping[str, Output],
    timings: Timings,
    upload_bytes: int,
    seed: int,
    positions: Mapping[str, Array] | None = None,
) -> JobWork:
    """Draw the work of some requests.

    positions: by request, where its frames stand along the shot, see `shot_times`. Raises UnreadableInput when a
    request has no timed frame.
    """
    requests = tuple(requests)
    chance = np.random.default_rng(seed)
    most = max(1, sum(request.task_count for request in requests))
    runs = int(np.clip(_MOST_NUMBERS // most, max(_FEWEST, min(LEAST_RUNS, _MEMORY // most)), RUNS))
    tasks, sizes, shots = [], [], []
    stitching = 0.0
    for request in requests:
        shot = shot_times(request, timings, chance, runs, (positions or {}).get(request.name))
        if timings.basis in ("measured", PRACTICE):
            shot = with_unseen(shot, chance)
        shots.append(shot)
        each = shot.draws
        split = request.tile_count * request.shares
        if split > 1:
            # a margin around each tile for the filters; shares of the samples have none
            each = each * (TILE_OVERHEAD if request.tile_count > 1 else 1.0) / split
        factors = view_factors(request, timings, chance, runs)
        views = np.concatenate([each * factors[:, [at]] for at in range(len(request.view_names))], axis=1)
        tasks.append(np.repeat(views, split, axis=1))
        picture = frame_bytes(request, outputs, timings)
        count = len(request.numbers()) * len(request.view_names)
        sizes.append(np.full(count * split, picture / split))
        if split > 1:
            stitching += count * picture / BYTES_PER_CHANNEL * split / STITCH_RATE
    load = timings.load_seconds or 0.0
    return JobWork(
        tasks=np.concatenate(tasks, axis=1),
        load=load * np.exp(_LOAD_SPREAD * chance.standard_normal(runs)),
        home_bytes=np.concatenate(sizes),
        upload_bytes=upload_bytes,
        stitch_seconds=stitching,
        pictures=sum(len(request.numbers()) * len(request.view_names) for request in requests),
        slowest=max(float(shot.likely.max()) for shot in shots),
        shots=tuple(shots),
    )


def view_factors(request: RenderRequest, timings: Timings, chance: np.random.Generator, runs: int) -> Array:
    """Draw how many times as long a frame of each view takes as of the first one, shape (runs, views).

    Views that were not timed are taken to differ as those that were. Where none was, all are taken to be alike.
    """
    names = request.view_names
    ratios = {view: timings.views.get((request.name, view)) for view in names}
    known = {view: math.log(ratio) for view, ratio in ratios.items() if ratio is not None}
    found = np.ones((runs, len(names)))
    if not known:
        return found
    logs = np.array([0.0, *known.values()])
    spread = max(_VIEW_SPREAD, float(logs.std(ddof=1)) * math.sqrt(1 + 1 / len(logs)))
    for at, view in enumerate(names[1:], 1):
        middle, sigma = (known[view], _VIEW_SPREAD) if view in known else (float(logs.mean()), spread)
        found[:, at] = np.exp(middle + sigma * chance.standard_normal(runs))
    return found


def frame_bytes(request: RenderRequest, outputs: Mapping[str, Output], timings: Timings) -> float:
    """Return the bytes of one frame's files: as the test frames had it, else by pixels and passes."""
    measured = timings.home_bytes.get(request.name)
    if measured:
        return measured
    channels = sum(max(1, len(outputs[name].variables)) * CHANNELS for name in request.outputs if name in outputs)
    return request.width * request.height * max(1.0, channels) * BYTES_PER_CHANNEL
