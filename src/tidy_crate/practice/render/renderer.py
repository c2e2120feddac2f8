"""Rendering frames of a scene in the order given, as one node does with one batch."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom

from tidy_crate.core.bake.live import Evaluator
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.scene.formats.usd.outputs import find_outputs
from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages
from tidy_crate.core.scene.model import Output
from tidy_crate.core.scene.request import product_name
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.practice.render.geometry import SceneReader, camera_rays
from tidy_crate.practice.render.image import write_exr
from tidy_crate.practice.render.shade import Caster, Picture, shade

DEFAULT_SAMPLES = 4
SEED = 7


@dataclass(frozen=True)
class Rendered:
    """One finished frame. seconds: wall clock; cpu_seconds: of this process; files: by output name."""

    frame: int
    seconds: float
    cpu_seconds: float
    files: dict[str, Path]


@dataclass(frozen=True)
class Order:
    """What to render. width, height, samples None and camera empty mean as the scene has them."""

    scene: Path
    frames: tuple[int, ...]
    into: Path
    width: int | None = None
    height: int | None = None
    samples: int | None = None
    camera: str = ""
    outputs: tuple[str, ...] = ()


def render(order: Order, on_frame: Callable[[Rendered], None]) -> None:
    """Render the frames in order; `on_frame` is called when all outputs of a frame are on disk."""
    stage = open_stage(open_layer(order.scene), order.scene)
    with usd_messages():
        found = find_outputs(stage, load_maps())
        outputs = [o for o in found.outputs if not order.outputs or o.name in order.outputs]
        if not outputs:
            raise WrongUsage("the scene has no output to render", order.scene)
        samples = order.samples or _samples(found.settings)
        evaluator, reader = Evaluator(stage), SceneReader(stage)
        for frame in order.frames:
            began, cpu = time.perf_counter(), time.process_time()
            evaluator.go_to(frame)
            files = _render_frame(stage, reader, frame, outputs, order, samples)
            on_frame(Rendered(frame, time.perf_counter() - began, time.process_time() - cpu, files))


def _render_frame(
    stage: Usd.Stage, reader: SceneReader, frame: int, outputs: Iterable[Output], order: Order, samples: int
) -> dict[str, Path]:
    caster = Caster(reader.at(frame))
    pictures: dict[tuple[str, int, int], Picture] = {}
    files = {}
    for output in outputs:
        camera = order.camera or output.camera or ""
        if not stage.GetPrimAtPath(camera or "/").IsA(UsdGeom.Camera):
            raise UnreadableInput("the scene has no camera to render from", camera or order.scene)
        width, height = output.resolution.rendered if output.resolution else (1920, 1080)
        width, height = order.width or width, order.height or height
        key = (camera, width, height)
        if key not in pictures:
            pictures[key] = _picture(stage, caster, frame, camera, width, height, samples)
        path = order.into / output.name.strip("/").replace("/", ".") / product_name(output, frame)
        write_exr(path, output, pictures[key], width, height)
        files[output.name] = path
    return files


def _picture(
    stage: Usd.Stage, caster: Caster, frame: int, camera: str, width: int, height: int, samples: int
) -> Picture:
    # the noise depends on the frame alone, so that batches of any size give the same picture
    rng = np.random.default_rng([SEED, abs(frame), frame < 0])
    up = 1 if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y else 2
    shots = []
    for _ in range(samples):
        origins, directions = camera_rays(
            stage, camera, frame, width, height, rng.random((width * height, 2), np.float32)
        )
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
