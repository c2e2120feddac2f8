"""Bakes the simulations of USD scenes. See Baker."""

from __future__ import annotations

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
from tidy_crate.core.scene.formats.usd.simulation.cache import CLIPS_ABOVE, bake_simulation
from tidy_crate.core.scene.formats.usd.simulation.digests import frame_digests
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all
from tidy_crate.core.scene.formats.usd.simulation.running import Running
from tidy_crate.core.scene.formats.usd.simulation.states import per_frame
from tidy_crate.core.scene.formats.usd.simulation.unfinished import Unfinished
from tidy_crate.core.scene.model import Simulation, Survey
from tidy_crate.core.scene.staging import Relink, StagingPlan

# frames that are solved to see how long one takes, and seconds after which that is known well enough
_TRIAL_FRAMES = 4
_TRIAL_SECONDS = 1.0
# bytes a second at which samples go to the disk and come back once
_WRITING = 60e6
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
        self, scene: Path, plan: StagingPlan, wanted: Mapping[str, CacheRange], memory: Path | None, tokens: FrameTokens
    ) -> dict[str, Trial]:
        """See Baker.trials. The scene is composed once for all of them."""
        if not wanted:
            return {}
        walk = walk_layers(scene, StagingPlan(edits=plan.of(Relink)), Disk(tokens), memory)
        stage = compose_source(walk).stage
        return {name: _tried(stage, name, cached) for name, cached in wanted.items()}

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
                    yield f"{path} is no number at frame {at:g}"
                    break

    def digests(self, scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
        """See Baker.digests."""
        return frame_digests(scene, plan, frames, tokens)

    def curves(self, simulation: Simulation) -> list[Curve]:
        """See Baker.curves."""
        return _curves_of(simulation)


def _tried(stage: Usd.Stage, name: str, cached: CacheRange) -> Trial:
    """Predict seconds and bytes of a bake from its first frames."""
    try:
        with usd_messages(name):
            simulation = next(found for found in find_all(stage) if found.path == name)
            began = time.perf_counter()
            running = Running(stage, simulation, simulation.start)
            ready = time.perf_counter()
            done = 0
            while done < _TRIAL_FRAMES and time.perf_counter() - ready < _TRIAL_SECONDS:
                done += 1
                running.go_to(simulation.start + done)
            each = (time.perf_counter() - ready) / done
            size = running.sample_bytes() * len(cached.times)
            frames = max(0.0, cached.last - simulation.start)
            return Trial((ready - began) + each * frames + size / _WRITING, size, running.trouble())
    except TidyCrateError as error:
        return Trial(None, None, (f"cannot be baked: {error.what}",))


def _curves_of(one: Simulation) -> list[Curve]:
    """What the prims in a cache do: how far they are from where they began, or how many particles there are."""
    assert one.cache is not None
    if one.covers is None:
        return []
    with usd_messages(one.cache):
        stage = open_stage(open_layer(one.cache), one.cache)
        found = []
        times = np.arange(one.covers[0], one.covers[1] + 1, dtype=np.float64)
        for prim in stage.TraverseAll():
            place = prim.GetAttribute("xformOp:translate:baked")
            points = prim.GetAttribute("points")
            if place and place.GetNumTimeSamples():
                values = np.array([place.Get(time) for time in times])
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
