"""Rendering frames of a scene in the order given, as one node does with one batch."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.scene.formats.usd.outputs import find_outputs
from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages
from tidy_crate.core.scene.formats.usd.simulation.live import Evaluator
from tidy_crate.core.scene.request import naming
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.work.parts import Window, samples_of, window
from tidy_crate.core.work.product import below, product_path
from tidy_crate.core.work.request import View
from tidy_crate.core.work.task import Task
from tidy_crate.practice.render.geometry import SceneReader, camera_rays
from tidy_crate.practice.render.image import write_exr
from tidy_crate.practice.render.shade import Caster, Picture, shade

DEFAULT_SAMPLES = 4
SEED = 7


@dataclass(frozen=True)
class Rendered:
    """One finished task."""

    task: Task
    seconds: float
    """Wall clock time."""
    cpu_seconds: float
    """Processor time of this process."""
    files: dict[str, Path]
    """By output name."""


@dataclass(frozen=True)
class Order:
    """A render order. width, height and samples None mean as the scene has them."""

    scene: Path
    tasks: tuple[Task, ...]
    """In the order in which they are rendered, as one node does with one batch."""
    into: Path
    width: int | None = None
    height: int | None = None
    samples: int | None = None
    outputs: tuple[str, ...] = ()
    """Names of the outputs to write; empty for all."""
    views: Mapping[str, View] = field(default_factory=dict)
    """By name, the cameras and variants that the tasks name."""
    tiles: tuple[int, int] = (1, 1)
    """Columns and rows that each picture is split into."""
    shares: int = 1
    """Into how many parts the samples of each picture are split."""
    tokens: FrameTokens = STANDARD
    """The frame tokens that count in output paths."""
    compression: Mapping[str, str] = field(default_factory=dict)
    """By output, another compression of its files than the usual one."""
    by_request: bool = False
    """True if the job has several requests, so that each gets a folder of its own."""


def render(order: Order, on_task: Callable[[Rendered], None]) -> None:
    """Render the tasks in order; `on_task` is called when all outputs of a task are on disk."""
    stage = open_stage(open_layer(order.scene), order.scene)
    with usd_messages():
        by_view: dict[str, _Scene] = {}
        for task in order.tasks:
            if task.view not in by_view:
                by_view = {task.view: _Scene(stage, order, task.view)}
            began, cpu = time.perf_counter(), time.process_time()
            files = by_view[task.view].render(task)
            on_task(Rendered(task, time.perf_counter() - began, time.process_time() - cpu, files))


class _Scene:
    """The scene as one view has it, with its live simulations as far as the node has come."""

    def __init__(self, stage: Usd.Stage, order: Order, view: str) -> None:
        self._order = order
        self._view = order.views.get(view)
        stage.GetSessionLayer().Clear()
        _choose_variants(stage, self._view, order.scene)
        found = find_outputs(stage, load_maps())
        self._outputs = [o for o in found.outputs if not order.outputs or o.name in order.outputs]
        if not self._outputs:
            raise WrongUsage("the scene has no output to render", order.scene)
        self._samples = order.samples or _samples(found.settings)
        self._stage = stage
        self._evaluator, self._reader = Evaluator(stage), SceneReader(stage)
        self._frame: int | None = None
        self._caster: Caster

    def render(self, task: Task) -> dict[str, Path]:
        """Render one task. Parts of one frame share its scene, so that live simulations go on and do not restart."""
        if task.frame != self._frame:
            self._evaluator.go_to(task.frame)
            self._caster, self._frame = Caster(self._reader.at(task.frame)), task.frame
        order = self._order
        pictures: dict[tuple[str, int, int], Picture] = {}
        files = {}
        for output in self._outputs:
            camera = (self._view.camera if self._view else "") or output.camera or ""
            if not self._stage.GetPrimAtPath(camera or "/").IsA(UsdGeom.Camera):
                raise UnreadableInput("the scene has no camera to render from", camera or order.scene)
            width, height = output.resolution.rendered if output.resolution else (1920, 1080)
            width, height = order.width or width, order.height or height
            pixels = window(width, height, order.tiles, task.tile)
            key = (camera, width, height)
            if key not in pictures:
                share = samples_of(self._samples, order.shares, task.share)
                pictures[key] = _picture(self._stage, self._caster, task.frame, camera, (width, height), pixels, share)
            path = below(
                order.into, product_path(naming(output), task, by_request=order.by_request, tokens=order.tokens)
            )
            write_exr(path, output, pictures[key], pixels, (width, height), order.compression.get(output.name))
            files[output.name] = path
        return files


def _choose_variants(stage: Usd.Stage, view: View | None, scene: Path) -> None:
    """Select the view's variants in the session layer, which is never saved."""
    for choice in view.variants if view else ():
        prim = stage.GetPrimAtPath(choice.prim) if Sdf.Path.IsValidPathString(choice.prim) else None
        names = prim.GetVariantSets().GetVariantSet(choice.set).GetVariantNames() if prim else []
        if choice.choice not in names:
            raise WrongUsage(f"the scene has no variant {choice.set}={choice.choice} at {choice.prim}", scene)
        Sdf.CreatePrimInLayer(stage.GetSessionLayer(), choice.prim).variantSelections[choice.set] = choice.choice


def _picture(
    stage: Usd.Stage, caster: Caster, frame: int, camera: str, size: tuple[int, int], pixels: Window, samples: range
) -> Picture:
    """Render the pixels of a window. size: width and height of the whole picture; samples: which of each pixel's."""
    width, height = size
    rows, columns = np.mgrid[pixels.top : pixels.bottom, pixels.left : pixels.right]
    inside = (rows * width + columns).ravel()
    up = 1 if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y else 2
    shots = []
    for sample in samples:
        # the noise depends on frame, sample and window alone, so that batches of any size give the same picture
        rng = np.random.default_rng([SEED, abs(frame), frame < 0, sample])
        jitter = rng.random((width * height, 2), np.float32)[inside]
        origins, directions = camera_rays(stage, camera, frame, width, height, inside, jitter)
        shots.append(shade(caster, origins, directions, rng, up))
    first = shots[0]
    normal = np.mean([shot.normal for shot in shots], axis=0)
    return Picture(
        beauty=np.mean([shot.beauty for shot in shots], axis=0),
        alpha=np.mean([shot.alpha for shot in shots], axis=0),
        # depth and ids of different things have no mean
        depth=np.min([shot.depth for shot in shots], axis=0),
        normal=normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12),
        object_id=first.object_id,
    )


def _samples(settings: Usd.Prim | None) -> int:
    attribute = settings.GetAttribute("practice:samples") if settings else None
    value = attribute.Get() if attribute else None
    return int(value) if isinstance(value, int) and value > 0 else DEFAULT_SAMPLES
