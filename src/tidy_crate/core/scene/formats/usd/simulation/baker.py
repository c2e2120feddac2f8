"""Bakes the simulations of USD scenes. See Baker."""

from __future__ import annotations

import math
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.progress import Progress
from tidy_crate.core.scene.formats.baking import BakeOrder, CacheRange, Curve, Digests, Trial, WrittenCache
from tidy_crate.core.scene.formats.usd.compose import compose_source
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages
from tidy_crate.core.scene.formats.usd.simulation.cache import CLIPS_ABOVE, bake_simulation, write_cache
from tidy_crate.core.scene.formats.usd.simulation.digests import frame_digests
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all
from tidy_crate.core.scene.formats.usd.simulation.running import Running
from tidy_crate.core.scene.formats.usd.simulation.states import per_frame
from tidy_crate.core.scene.formats.usd.simulation.unfinished import Unfinished
from tidy_crate.core.scene.model import Simulation, Survey
from tidy_crate.core.scene.staging import Relink, StagingPlan

# seconds after which it is known well enough how long a frame takes
_TRIAL_SECONDS = 2.0
_LAYERS = (".usda", ".usdc", ".usd")


class UsdBaker:
    """Solves simulations by our own solvers."""

    def __init__(
        self, clips_above: int = CLIPS_ABOVE, unfinished: Callable[[Path, str], Unfinished] = Unfinished
    ) -> None:
        self._clips_above = clips_above
        self._unfinished = unfinished

    def per_frame(self, survey: Survey) -> int:
        """See Baker.per_frame."""
        return per_frame(survey.canonical.get("motion_blur") is True)

    def bake(self, order: BakeOrder, progress: Progress) -> WrittenCache:
        """See Baker.bake."""
        return bake_simulation(order, progress, self._clips_above, self._unfinished)

    def trials(
        self,
        scene: Path,
        plan: StagingPlan,
        wanted: Mapping[str, CacheRange],
        survey_cache: Path | None,
        tokens: FrameTokens,
    ) -> dict[str, Trial]:
        """See Baker.trials. The scene is composed once for all of them."""
        if not wanted:
            return {}
        began = time.perf_counter()
        walk = walk_layers(scene, StagingPlan(edits=plan.of(Relink)), Disk(tokens), survey_cache)
        stage = compose_source(walk).stage
        opening = time.perf_counter() - began
        return {name: self._tried(stage, name, cached, opening) for name, cached in wanted.items()}

    def _tried(self, stage: Usd.Stage, name: str, cached: CacheRange, opening: float) -> Trial:
        """Predict seconds and bytes of a bake from its first frames, solved and written as a bake would.

        opening: seconds that it takes to compose the scene, which each bake does.
        """
        try:
            with usd_messages(name), tempfile.TemporaryDirectory(prefix="tidy-crate-trial-") as folder:
                simulation = next(found for found in find_all(stage) if found.path == name)
                if simulation.refused:
                    return Trial(None, None, simulation.refused)
                work = self._unfinished(Path(folder) / "work", "trial")
                began = time.perf_counter()
                running = Running(stage, simulation, simulation.start)
                ready = time.perf_counter() - began
                frames = max(1, math.ceil(cached.last - simulation.start))
                solve, keep, done = _frames_timed(running, simulation.start, frames, work)
                began = time.perf_counter()
                first = math.ceil(simulation.start)
                tried = CacheRange(first, first + done - 1, 1)
                heavy = running.sample_bytes() * len(cached.times) > self._clips_above
                above = 0 if heavy else self._clips_above
                written = write_cache(stage, simulation, tried, work, Path(folder), "trial", above)
                write = (time.perf_counter() - began) / done
                size = sum(path.stat().st_size for path in (written.layer, *written.files)) / done
                # what grows in number is small at first and at most so large in the end
                grows = (1 + max(1.0, running.sample_bytes() / max(1, work.last_raw_bytes()))) / 2
                count = len(cached.times)
                seconds = opening + ready + solve * frames + (keep + write) * grows * count
                return Trial(seconds, round(size * grows * count), running.trouble())
        except TidyCrateError as error:
            return Trial(None, None, (f"cannot be baked: {error.what}",))

    def bad_values(self, file: Path) -> Iterator[str]:
        """See Baker.bad_values."""
        if file.suffix not in _LAYERS:
            return
        try:
            layer = open_layer(file)
        except UnreadableInput as error:
            yield f"{file.name}: {error.what}"
            return
        paths: list[Sdf.Path] = []
        layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
        for path in paths:
            for at in layer.ListTimeSamplesForPath(path) if path.IsPrimPropertyPath() else ():
                value = layer.QueryTimeSample(path, at)
                numbers = (
                    [value.GetReal(), *value.GetImaginary()] if hasattr(value, "GetImaginary") else np.asarray(value)
                )
                if not np.isfinite(numbers).all():
                    yield f"{path} is not a number at frame {at:g}"
                    break

    def digests(self, scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
        """See Baker.digests."""
        return frame_digests(scene, plan, frames, tokens)

    def curves(self, simulation: Simulation) -> list[Curve]:
        """See Baker.curves."""
        return _curves_of(simulation)


def _frames_timed(running: Running, begin: float, frames: int, work: Unfinished) -> tuple[float, float, int]:
    """Solve and keep some frames. Return seconds per frame to solve, seconds per sample to keep, and how many.

    The first frame loads what all others use, and in the first ones little touches: the later half tells the rate.
    """
    solving: list[float] = []
    keeping: list[float] = []
    ready = time.perf_counter()
    while len(solving) < frames and (len(solving) < 2 or time.perf_counter() - ready < _TRIAL_SECONDS):
        start = time.perf_counter()
        running.go_to(begin + len(solving) + 1)
        solved = time.perf_counter()
        work.keep(len(solving), running.values(), running.state)
        solving.append(solved - start)
        keeping.append(time.perf_counter() - solved)
    later = solving[len(solving) // 2 :]
    return sum(later) / len(later), sum(keeping) / len(keeping), len(solving)


def _curves_of(one: Simulation) -> list[Curve]:
    """Return what the prims in a cache do: how far they are from where they began, or how many particles there are."""
    assert one.cache is not None
    if one.covers is None:
        return []
    with usd_messages(one.cache):
        stage = open_stage(open_layer(one.cache), one.cache)
        found = []
        times = np.arange(one.covers[0], one.covers[1] + 1, dtype=np.float64)
        for prim in stage.TraverseAll():
            position = prim.GetAttribute("xformOp:translate:baked")
            points = prim.GetAttribute("points")
            if position and position.GetNumTimeSamples():
                values = np.array([position.Get(time) for time in times])
                found.append(Curve(str(prim.GetPath()), "moved by", times, np.linalg.norm(values - values[0], axis=1)))
            elif points and (points.GetNumTimeSamples() or prim.HasMetadata("clips")):
                found_points = (points.Get(time) for time in times)
                clouds = [np.asarray([] if cloud is None else cloud) for cloud in found_points]
                found.append(_of_points(str(prim.GetPath()), times, clouds, counted=one.kind == "particles"))
        return found


def _of_points(prim: str, times: NDArray[np.float64], clouds: list[NDArray[np.float64]], *, counted: bool) -> Curve:
    if counted or len({len(cloud) for cloud in clouds}) > 1:
        return Curve(prim, "particles", times, np.array([len(cloud) for cloud in clouds], dtype=np.float64))
    far = [float(np.linalg.norm(cloud - clouds[0], axis=1).max()) if len(cloud) else 0.0 for cloud in clouds]
    return Curve(prim, "bent by", times, np.array(far))
