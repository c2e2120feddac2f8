"""Solving a simulation of a USD scene once, from its own start, and writing the result into a cache.

Small results are time samples in one layer. Heavy ones are value clips, a file per frame, beside a layer that says so:
then a node reads the frames that it renders and no others.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd

from tidy_crate import __version__
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.scene.caches import slug
from tidy_crate.core.scene.formats.baking import BakeOrder, CacheRange, WrittenCache
from tidy_crate.core.scene.formats.usd.apply import export
from tidy_crate.core.scene.formats.usd.clips import TEMPLATE
from tidy_crate.core.scene.formats.usd.compose import compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.formats.usd.simulation.interface import Array, Pose, Simulation, Value
from tidy_crate.core.scene.formats.usd.simulation.live import as_array
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all, kinds
from tidy_crate.core.scene.formats.usd.simulation.running import Running
from tidy_crate.core.scene.formats.usd.simulation.unfinished import Unfinished
from tidy_crate.core.scene.staging import Relink, StagingPlan, UseCache

WHOLE = "xformOp:transform:baked"
OPS = ("xformOp:translate:baked", "xformOp:orient:baked", "xformOp:scale:baked")
# a pose that translate, orient and scale cannot say to this share of its size is sheared
SHEAR_TOLERANCE = 1e-6
# bytes of array data above which a cache is written as a file per frame
CLIPS_ABOVE = 32 << 20
_HASHES = "#" * 7


def bake_simulation(
    order: BakeOrder,
    progress: Progress,
    clips_above: int = CLIPS_ABOVE,
    unfinished: Callable[[Path, str], Unfinished] = Unfinished,
) -> WrittenCache:
    """Bake one simulation into the order's folder. See Baker.bake.

    clips_above: bytes of array data above which the cache is written as value clips, a file per frame.
    unfinished: opens the folder of a bake under way, under a key.
    """
    # with relinked layers and the caches of others in place: a simulation is solved from the scene, never from itself
    name = order.simulation.name
    others = [edit for edit in order.plan.of(UseCache) if edit.simulation != name]
    plan = StagingPlan(edits=(*order.plan.of(Relink), *others))
    walk = walk_layers(order.scene, plan, Disk(order.tokens), order.survey_cache)
    source = compose_source(walk)
    stage = compose_staged(walk, plan, source).stage if others else source.stage
    with usd_messages(name):
        simulation = next((one for one in find_all(stage) if one.path == name), None)
        if simulation is None:
            raise UnreadableInput("the simulation is no longer in the scene", name)
        if simulation.refused:
            more = f" and {len(simulation.refused) - 1} more" if len(simulation.refused) > 1 else ""
            raise UnreadableInput(
                f"it cannot be baked here: {simulation.refused[0]}{more}", name, "bake it in the program it was made in"
            )
        fingerprint, folder = order.simulation.fingerprint, order.folder
        work = unfinished(folder / f"{slug(name)}.work", f"{fingerprint} {order.wanted} {__version__}")
        trouble = _solve(stage, simulation, order.wanted, work, progress)
        unbaked = tuple(dict.fromkeys((*simulation.trouble, *trouble)))
        written = write_cache(stage, simulation, order.wanted, work, folder, fingerprint, clips_above)
        work.throw_away()
    return replace(written, unbaked=unbaked)


def _solve(
    stage: Usd.Stage, simulation: Simulation, wanted: CacheRange, work: Unfinished, progress: Progress
) -> tuple[str, ...]:
    times = wanted.times
    running = Running(stage, simulation, simulation.start)
    done, kept = work.done(), work.last_state()
    begin = 0
    # the state is kept after the sample it belongs to; samples beyond it are solved again
    if kept is not None and kept[0] < done:
        begin = kept[0] + 1
        if times[kept[0]] >= simulation.start:
            running.restore(kept[1], times[kept[0]])
    for index in range(begin, len(times)):
        time = times[index]
        running.go_to(time)
        values = running.values(time) if time < simulation.start else running.values()
        _check(values, time)
        work.keep(index, values, running.state)
        unit = "frames" if wanted.per_frame == 1 else "samples"
        progress(Step("bake", index + 1, len(times), unit, simulation.path))
    return running.trouble()


def _check(values: list[Value], time: float) -> None:
    for value in values:
        data = np.array(value.matrix) if isinstance(value, Pose) else value.data
        if not np.isfinite(data).all():
            raise TidyCrateError(
                f"the simulation flies apart at frame {time:g}: its result is not a number",
                value.prim,
                "look at its frequency, mass and speed",
            )


def write_cache(
    stage: Usd.Stage,
    simulation: Simulation,
    wanted: CacheRange,
    work: Unfinished,
    folder: Path,
    fingerprint: str,
    clips_above: int,
) -> WrittenCache:
    """Write the samples of a bake into the cache of a simulation.

    fingerprint: tells the clips of one bake from those of another. clips_above: see `bake_simulation`.
    """
    times = wanted.times
    name = slug(simulation.path)
    layer = _new_layer(stage, wanted.first, wanted.last)
    poses = _Poses(layer)
    heavy = work.last_bytes() * len(times) > clips_above and wanted.first >= 0
    clips = _Clips(stage, folder, name, fingerprint[:8], wanted) if heavy else None
    for index, values in enumerate(work.samples(len(times))):
        arrays = [value for value in values if isinstance(value, Array)]
        for value in values:
            if isinstance(value, Pose):
                poses.add(value, times[index])
        if clips is not None and arrays:
            clips.add(arrays, index)
        else:
            for value in arrays:
                _set(layer, value, times[index])
    files: tuple[Path, ...] = ()
    if clips is not None:
        files = clips.finish(layer)
    for prim, attribute, kind, value in kinds()[simulation.kind].switched_off(simulation):
        _declared(layer, prim, attribute, kind).default = value
    target = folder / f"{name}.usda"
    export(layer, target, "usda")
    return WrittenCache(target, files, tuple(dict.fromkeys((*simulation.prims, *simulation.bodies))), ())


def _new_layer(stage: Usd.Stage, first: float, last: float) -> Sdf.Layer:
    layer = Sdf.Layer.CreateAnonymous("cache.usda")
    # a layer that says nothing of its rate counts 24 time codes a second, whatever the scene does
    layer.timeCodesPerSecond = stage.GetTimeCodesPerSecond()
    layer.framesPerSecond = stage.GetFramesPerSecond()
    layer.startTimeCode, layer.endTimeCode = first, last
    return layer


def _set(layer: Sdf.Layer, value: Array, time: float) -> None:
    attribute = _declared(layer, value.prim, value.attribute, value.type)
    layer.SetTimeSample(attribute.path, float(time), as_array(value))


def _declared(layer: Sdf.Layer, prim: str, name: str, kind: Sdf.ValueTypeName) -> Sdf.AttributeSpec:
    found = layer.GetAttributeAtPath(Sdf.Path(prim).AppendProperty(name))
    if found:
        return found
    return Sdf.AttributeSpec(Sdf.CreatePrimInLayer(layer, prim), name, kind)


class _Poses:
    """Writes poses as translate, orient and scale: a matrix would shear where it is interpolated.

    A pose that is sheared anyway, by an uneven scale above a turned prim, is written as a matrix.
    """

    def __init__(self, layer: Sdf.Layer) -> None:
        self._layer = layer
        self._paths: dict[str, list[Sdf.Path]] = {}
        self._turns: dict[str, Gf.Quatd] = {}
        # by prim, the one operation that holds what the three cannot
        self._sheared: dict[str, Sdf.Path] = {}

    def _take_matrices(self, prim: str) -> None:
        """Go over to whole matrices, with those samples that there are."""
        layer, before = self._layer, {}
        position, orientation, scale = self._paths.pop(prim, (None, None, None))
        for time in layer.ListTimeSamplesForPath(position) if position is not None else ():
            parts = [layer.QueryTimeSample(path, time) for path in (position, orientation, scale)]
            before[time] = Gf.Matrix4d().SetScale(parts[2]) * Gf.Matrix4d(Gf.Rotation(parts[1]), parts[0])
        spec = Sdf.CreatePrimInLayer(layer, prim)
        for one in list(spec.attributes):
            if one.name in (*OPS, "xformOpOrder"):
                spec.RemoveProperty(one)
        Sdf.AttributeSpec(spec, WHOLE, Sdf.ValueTypeNames.Matrix4d)
        order = Sdf.AttributeSpec(spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform)
        order.default = [WHOLE]
        self._sheared[prim] = spec.path.AppendProperty(WHOLE)
        for time, matrix in before.items():
            layer.SetTimeSample(self._sheared[prim], time, matrix)

    def add(self, value: Pose, time: float) -> None:
        if value.prim in self._sheared:
            self._layer.SetTimeSample(self._sheared[value.prim], float(time), value.matrix)
            return
        parts = decomposed(value.matrix)
        if parts is None:
            self._take_matrices(value.prim)
            self.add(value, time)
            return
        if value.prim not in self._paths:
            self._paths[value.prim] = _author_ops(self._layer, value.prim)
        position, orientation, scale = parts
        before = self._turns.get(value.prim)
        if before is not None and _dot(orientation, before) < 0:
            # the same turn either way round, but between samples the short way is wanted
            orientation = -orientation
        self._turns[value.prim] = orientation
        for path, part in zip(self._paths[value.prim], (position, orientation, scale), strict=True):
            self._layer.SetTimeSample(path, float(time), part)


class _Clips:
    """Writes arrays as value clips, one file per frame, with the next frame's first sample to interpolate up to."""

    def __init__(self, stage: Usd.Stage, folder: Path, stem: str, mark: str, wanted: CacheRange) -> None:
        self._stage, self._wanted, self._stem = stage, wanted, stem
        self._name = f"{stem}.clips-{mark}"
        self._folder = folder / self._name
        self._layer: Sdf.Layer | None = None
        self._kinds: dict[tuple[str, str], Sdf.ValueTypeName] = {}
        self._files: list[Path] = []
        self._frame = wanted.first

    def add(self, arrays: list[Array], index: int) -> None:
        """Add the arrays of one sample."""
        frame, part = divmod(index, self._wanted.per_frame)
        time = self._wanted.first + index / self._wanted.per_frame
        if part == 0:
            if self._layer is not None and self._wanted.per_frame > 1:
                for value in arrays:
                    if not value.varying:
                        _set(self._layer, value, time)
            self._close()
            self._frame = self._wanted.first + frame
            self._layer = _new_layer(self._stage, self._frame, self._frame)
        assert self._layer is not None
        for value in arrays:
            self._kinds[value.prim, value.attribute] = value.type
            _set(self._layer, value, time)

    def _close(self) -> None:
        if self._layer is not None:
            path = self._folder / f"{self._stem}.{self._frame:0{len(_HASHES)}d}.usdc"
            export(self._layer, path, "usdc")
            self._files.append(path)

    def finish(self, layer: Sdf.Layer) -> tuple[Path, ...]:
        """Close the last file, and say in the cache's own layer where they are."""
        self._close()
        manifest = _new_layer(self._stage, self._wanted.first, self._wanted.last)
        for (prim, attribute), kind in self._kinds.items():
            _declared(manifest, prim, attribute, kind)
            _declared(layer, prim, attribute, kind)
        manifest_file = self._folder / "manifest.usda"
        export(manifest, manifest_file, "usda")
        for prim in dict.fromkeys(prim for prim, _ in self._kinds):
            Sdf.CreatePrimInLayer(layer, prim).SetInfo(
                "clips",
                {
                    "default": {
                        TEMPLATE: f"./{self._name}/{self._stem}.{_HASHES}.usdc",
                        "templateStartTime": float(self._wanted.first),
                        "templateEndTime": float(self._wanted.last),
                        "templateStride": 1.0,
                        "primPath": prim,
                        "manifestAssetPath": Sdf.AssetPath(f"./{self._name}/manifest.usda"),
                    }
                },
            )
        return (*self._files, manifest_file)


def _author_ops(layer: Sdf.Layer, prim: str) -> list[Sdf.Path]:
    spec = Sdf.CreatePrimInLayer(layer, prim)
    kinds = (Sdf.ValueTypeNames.Double3, Sdf.ValueTypeNames.Quatd, Sdf.ValueTypeNames.Double3)
    for name, kind in zip(OPS, kinds, strict=True):
        Sdf.AttributeSpec(spec, name, kind)
    order = Sdf.AttributeSpec(spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform)
    order.default = list(OPS)
    return [Sdf.Path(prim).AppendProperty(name) for name in OPS]


def decomposed(matrix: Gf.Matrix4d) -> tuple[Gf.Vec3d, Gf.Quatd, Gf.Vec3d] | None:
    """Place, turn and scale of a pose; None for a sheared one, which these cannot say."""
    transform = Gf.Transform(matrix)
    back = Gf.Transform()
    back.SetTranslation(transform.GetTranslation())
    back.SetRotation(transform.GetRotation())
    back.SetScale(transform.GetScale())
    size = max(abs(value) for row in matrix for value in row)
    off = np.abs(np.array(matrix) - np.array(back.GetMatrix())).max()
    if off > SHEAR_TOLERANCE * size:
        return None
    return transform.GetTranslation(), transform.GetRotation().GetQuat(), transform.GetScale()


def _dot(a: Gf.Quatd, b: Gf.Quatd) -> float:
    return float(a.GetReal() * b.GetReal() + Gf.Dot(a.GetImaginary(), b.GetImaginary()))
