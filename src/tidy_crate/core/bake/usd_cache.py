"""Solving a simulation of a USD scene once and writing the result as time samples into a cache layer."""

from __future__ import annotations

import math
from pathlib import Path

from pxr import Gf, Sdf, Usd

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.bake.live import Evaluator, local_pose
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.formats.usd.apply import export
from tidy_crate.core.scene.formats.usd.compose import compose_source
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.formats.usd.simulations import SpringFollow, find_springs
from tidy_crate.core.scene.staging import Relink, StagingPlan

OPS = ("xformOp:translate:baked", "xformOp:orient:baked", "xformOp:scale:baked")
# a pose that translate, orient and scale cannot say to this share of its size is sheared
SHEAR_TOLERANCE = 1e-6


def bake_spring(context: SceneContext, name: str, first: int, last: int, target: Path, progress: Progress) -> None:
    """Bake one spring follow from its start to `last` and write frames `first` to `last` into a cache layer.

    The prim is then posed by translate, orient and scale: a matrix would shear where it is interpolated.
    """
    # with relinked layers in place, but without caches: a simulation is solved from the scene, never from itself
    relinks = StagingPlan(edits=context.plan.of(Relink))
    walk = walk_layers(context.scene, relinks, Disk())
    stage = compose_source(walk).stage
    with usd_messages():
        spring = next((one for one in find_springs(stage) if one.path == name), None)
        if spring is None:
            raise UnreadableInput("the simulation is no longer in the scene", name)
        layer = _cache_layer(stage, spring, first, last, progress)
        export(layer, target, "usda")


def _cache_layer(stage: Usd.Stage, spring: SpringFollow, first: int, last: int, progress: Progress) -> Sdf.Layer:
    _check(spring)
    layer = Sdf.Layer.CreateAnonymous("cache.usda")
    # a layer that says nothing of its rate counts 24 time codes a second, whatever the scene does
    layer.timeCodesPerSecond = stage.GetTimeCodesPerSecond()
    layer.framesPerSecond = stage.GetFramesPerSecond()
    layer.startTimeCode, layer.endTimeCode = first, last
    paths = _author_ops(layer, spring.path)
    evaluator = Evaluator(stage)
    begin = math.floor(spring.start)
    before: Gf.Quatd | None = None
    position = None
    for frame in range(min(begin, first), last + 1):
        # before its start the simulation rests where it will start
        position = evaluator.position(spring, max(float(frame), spring.start)) if frame >= begin else None
        if frame < first:
            continue
        if position is None:
            position = Evaluator(stage).position(spring, spring.start)
        pose = _decomposed(local_pose(stage, spring.path, frame, position), spring.path)
        turn = pose[1]
        if before is not None and _dot(turn, before) < 0:
            # the same turn either way round, but between samples the short way is wanted
            turn = -turn
        before = turn
        for path, value in zip(paths, (pose[0], turn, pose[2]), strict=True):
            layer.SetTimeSample(path, float(frame), value)
        progress(Step("bake", frame - first + 1, last - first + 1, "frames", spring.path))
    return layer


def _check(spring: SpringFollow) -> None:
    if not (math.isfinite(spring.frequency) and spring.frequency > 0):
        raise UnreadableInput("a spring needs a frequency above zero", spring.path)
    if not (math.isfinite(spring.damping_ratio) and spring.damping_ratio >= 0):
        raise UnreadableInput("a spring needs a damping ratio of zero or more", spring.path)


def _author_ops(layer: Sdf.Layer, prim: str) -> list[Sdf.Path]:
    spec = Sdf.CreatePrimInLayer(layer, prim)
    kinds = (Sdf.ValueTypeNames.Double3, Sdf.ValueTypeNames.Quatd, Sdf.ValueTypeNames.Double3)
    for name, kind in zip(OPS, kinds, strict=True):
        Sdf.AttributeSpec(spec, name, kind)
    order = Sdf.AttributeSpec(spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform)
    order.default = list(OPS)
    return [Sdf.Path(prim).AppendProperty(name) for name in OPS]


def _decomposed(matrix: Gf.Matrix4d, where: str) -> tuple[Gf.Vec3d, Gf.Quatd, Gf.Vec3d]:
    transform = Gf.Transform(matrix)
    back = Gf.Transform()
    back.SetTranslation(transform.GetTranslation())
    back.SetRotation(transform.GetRotation())
    back.SetScale(transform.GetScale())
    size = max(abs(value) for row in matrix for value in row)
    rebuilt = back.GetMatrix()
    if any(
        abs(a - b) > SHEAR_TOLERANCE * size
        for r, s in zip(matrix, rebuilt, strict=True)
        for a, b in zip(r, s, strict=True)
    ):
        raise TidyCrateError(
            "the pose is sheared, which keyframes cannot hold",
            where,
            "remove the uneven scale on a turned parent",
        )
    return transform.GetTranslation(), transform.GetRotation().GetQuat(), transform.GetScale()


def _dot(a: Gf.Quatd, b: Gf.Quatd) -> float:
    return float(a.GetReal() * b.GetReal() + Gf.Dot(a.GetImaginary(), b.GetImaginary()))
