"""Composing the scene as found, and as a staging plan would have it, without writing anything."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf, Usd

from tidy_crate.core.asset import paths
from tidy_crate.core.scene.formats.usd.layers import Occurrence, Walk
from tidy_crate.core.scene.formats.usd.opinions import author, point
from tidy_crate.core.scene.formats.usd.ordered import author_order
from tidy_crate.core.scene.formats.usd.outputs import find_outputs, plain
from tidy_crate.core.scene.formats.usd.quiet import open_stage, usd_messages
from tidy_crate.core.scene.formats.usd.size import refuse_bomb
from tidy_crate.core.scene.formats.usd.slots import REMOVED, TEXTS, Slot, rewrite
from tidy_crate.core.scene.staging import ChooseVariant, SetSetting, StagingPlan, UseCache

LIVE = "tidy:simulation:live"
CACHE = "tidy:simulation:cache"


@dataclass(frozen=True)
class Composed:
    """A composed stage."""

    stage: Usd.Stage
    origin: dict[str, Path]
    """The file that an in-memory layer of the stage stands for, by layer identifier."""
    _texts: dict[str, str | None] = field(default_factory=dict, compare=False)

    def text_of(self, layer: Sdf.Layer) -> str | None:
        """The path of `file_of` as text: asked for each of very many specs."""
        name = layer.identifier
        if name not in self._texts:
            found = self.file_of(layer)
            self._texts[name] = None if found is None else str(found)
        return self._texts[name]

    def file_of(self, layer: Sdf.Layer) -> Path | None:
        """The scene file that a layer of the stage is, None for layers that staging adds."""
        found = self.origin.get(layer.identifier)
        return found if found is not None else (Path(layer.realPath) if layer.realPath else None)


@dataclass(frozen=True)
class Arc:
    """One place in a layer that brings in another layer."""

    layer: Path
    path: str
    field: str
    text: str
    target: Path
    relinked: bool
    within: str = ""
    """The expression variables under which the layer is read."""
    leads: str = ""
    """The expression variables under which the layer that it brings in is read."""


def compose_source(walk: Walk) -> Composed:
    """The scene as the artist saved it, with relinked layers in their places, and nothing else changed."""
    arcs = [
        Arc(o.layer, o.slot.path, o.slot.field, o.slot.text, target, o.relinked, o.within, o.leads)
        for o in walk.occurrences
        if (target := o.layer_target or _removed(o)) is not None
    ]
    return compose(walk.root, arcs, walk.facts, walk.library.layer)


def _removed(occurrence: Occurrence) -> Path | None:
    """Return what an item that is taken out of a list means: it must be written as the one that it takes out."""
    return occurrence.resolution.location if occurrence.slot.field in REMOVED.values() else None


def compose(root: Path, arcs: Iterable[Arc], layers: Iterable[Path], layer_of: Callable[[Path], Sdf.Layer]) -> Composed:
    """Compose a scene from its root, with relinked layers in their places. layers: all files of the scene."""
    with usd_messages(root):
        top, origin, held = _with_relinked_arcs(root, arcs, layers, layer_of)
        # an in-memory layer lives as long as it is referenced, which the stage does from here on
        refuse_bomb(top, root)
        stage = open_stage(top, root)
    del held
    return Composed(stage, origin)


def compose_staged(walk: Walk, plan: StagingPlan, source: Composed) -> Composed:
    """The scene as the plan would have it: caches over it, live solvers off, overrides in force."""
    root = source.stage.GetRootLayer()
    with usd_messages():
        caches = {e.simulation: str(e.layer) for e in plan.of(UseCache)}
        staged = staged_root(source.stage, root, plan, caches, root.identifier)
    return Composed(open_stage(staged, walk.root), source.origin)


def needs_stage(plan: StagingPlan) -> bool:
    """Return whether the plan changes prims, so that the scene must be composed to stage it."""
    return bool(plan.of(UseCache) or plan.changes or plan.of(ChooseVariant))


def staged_root(
    source: Usd.Stage | None, top: Sdf.Layer, plan: StagingPlan, cache_texts: dict[str, str], scene_text: str
) -> Sdf.Layer:
    """The new root over a scene: caches first, the scene last, everything that only a root can say copied onto it.

    A cache brought in by the scene itself would lose to the scene's own opinions. cache_texts: for every
    simulation the path of its cache as it is to be written; scene_text: likewise for the scene's root layer.
    source: the scene as composed, None for a plan that changes no prims; top: its root layer.
    """
    layer = Sdf.Layer.CreateAnonymous("staged.usda")
    for key in top.pseudoRoot.ListInfoKeys():
        if key not in ("subLayers", "subLayerOffsets"):
            layer.pseudoRoot.SetInfo(key, top.pseudoRoot.GetInfo(key))
    layer.subLayerPaths[:] = [*dict.fromkeys(cache_texts.values()), scene_text]
    if source is None:
        return layer
    for edit in plan.of(UseCache):
        path = Sdf.Path(edit.simulation)
        if not source.GetPrimAtPath(path):
            continue
        for prim in (path, *map(Sdf.Path, edit.prims)):
            _make_editable(source, layer, prim)
        spec = Sdf.CreatePrimInLayer(layer, path)
        author(spec, LIVE, Sdf.ValueTypeNames.Bool, False, custom=True)
        author(spec, CACHE, Sdf.ValueTypeNames.Asset, Sdf.AssetPath(cache_texts[edit.simulation]), custom=True)
    if plan.render is not None:
        author_order(source, plan.render, layer)
    if plan.changes:
        _apply_changes(source, plan, layer)
    for look in plan.of(ChooseVariant):
        _make_editable(source, layer, Sdf.Path(look.prim))
        Sdf.CreatePrimInLayer(layer, look.prim).variantSelections[look.set] = look.choice
    return layer


def _apply_changes(source: Usd.Stage, plan: StagingPlan, layer: Sdf.Layer) -> None:
    """Paths and cameras of outputs, and settings, as far as the scene still says what they were decided for."""
    for output in find_outputs(source).outputs:
        path, camera = plan.output_path(output.name), plan.camera(output.name)
        if path is not None and path.holds(output.path):
            spec = Sdf.CreatePrimInLayer(layer, output.prim)
            author(spec, "productName", Sdf.ValueTypeNames.Token, path.path)
        if camera is not None and camera.holds(output.camera):
            spec = Sdf.CreatePrimInLayer(layer, output.prim)
            point(spec, "camera", [Sdf.Path(camera.camera)])
    for owner, name in dict.fromkeys((e.owner, e.name) for e in plan.of(SetSetting)):
        attribute = source.GetAttributeAtPath(f"{owner}.{name}") if Sdf.Path.IsValidPathString(owner) else None
        change = plan.setting(owner, name)
        if change is None or not attribute or not change.holds(plain(attribute.Get())):
            continue
        _make_editable(source, layer, Sdf.Path(owner))
        value = list(change.value) if isinstance(change.value, tuple) else change.value
        author(Sdf.CreatePrimInLayer(layer, owner), name, attribute.GetTypeName(), value, custom=attribute.IsCustom())


def _make_editable(source: Usd.Stage, layer: Sdf.Layer, path: Sdf.Path) -> None:
    """Opinions below an instance are ignored, so what holds the prim must not be an instance any more."""
    for ancestor in path.GetPrefixes():
        prim = source.GetPrimAtPath(ancestor)
        if prim and prim.IsInstance():
            Sdf.CreatePrimInLayer(layer, ancestor).instanceable = False


def _with_relinked_arcs(
    root: Path, found: Iterable[Arc], layers: Iterable[Path], layer_of: Callable[[Path], Sdf.Layer]
) -> tuple[Sdf.Layer, dict[str, Path], list[Sdf.Layer]]:
    """In-memory copies of the layers that lead to a relinked layer; every other layer is used as it is."""
    arcs: dict[Path, list[Arc]] = {}
    for arc in found:
        arcs.setdefault(arc.layer, []).append(arc)
    changed = _leading_to_relinks(arcs)
    # one layer under two sets of variables may lead to two others in the same place: a copy for each
    contexts = {path: dict.fromkeys(arc.within for arc in arcs.get(path, ())) or {"": None} for path in changed}
    copies = {(path, one): Sdf.Layer.CreateAnonymous(path.name) for path in changed for one in contexts[path]}
    # a layer is known to the library by the path it was opened with
    origin = {str(path): path for path in layers}
    origin |= {layer.identifier: path for (path, _), layer in copies.items()}
    for (path, context), copy in copies.items():
        copy.TransferContent(layer_of(path))
        targets = {(arc.path, arc.field, arc.text): arc for arc in arcs.get(path, ()) if arc.within == context}
        folder = path.parent

        def new_text(slot: Slot, targets=targets, folder=folder) -> str:  # type: ignore[no-untyped-def]
            arc = targets.get((slot.path, slot.field, slot.text))
            if arc is not None:
                if arc.target in contexts:
                    own = arc.leads if arc.leads in contexts[arc.target] else next(iter(contexts[arc.target]))
                    return str(copies[arc.target, own].identifier)
                return str(arc.target) + paths.arguments(slot.text)
            return slot.text if slot.field in TEXTS else _spelt_out(slot.text, folder)

        rewrite(copy, new_text)
    top = copies[root, next(iter(contexts[root]))] if root in contexts else layer_of(root)
    return top, origin, list(copies.values())


def _spelt_out(text: str, folder: Path) -> str:
    """An in-memory layer has no folder, so what is looked for from one must be written in full."""
    kind = paths.dialect(text)
    if kind is paths.Dialect.RELATIVE:
        return str(folder / text)
    if kind not in (paths.Dialect.SEARCH, paths.Dialect.PACKAGED) or paths.is_absolute(text):
        return text
    # first beside the layer, then along the search path: a pattern counts by its folder
    packaged = paths.split_package(text)
    outer = text if packaged is None else packaged[0]
    beside = folder / outer
    name = beside.name
    there = beside.exists() or (any(mark in name for mark in "#<%") and beside.parent.is_dir())
    return str(folder / text) if there else text


def _leading_to_relinks(arcs: dict[Path, list[Arc]]) -> set[Path]:
    """The layers that hold a relinked arc, and all from which they are reached."""
    changed = {path for path, found in arcs.items() if any(arc.relinked for arc in found)}
    while True:
        more = {
            path for path, found in arcs.items() if path not in changed and any(arc.target in changed for arc in found)
        }
        if not more:
            return changed
        changed |= more
