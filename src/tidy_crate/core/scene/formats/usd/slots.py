"""The places in one layer that name a file, found and rewritten by the same walk."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from pxr import Sdf

from tidy_crate.core.scene.formats.usd.clips import TEMPLATE, template_numbers

ARCS = ("subLayers", "references", "payload")
# items that a list takes out or only puts in order: they bring nothing in, but name the file that is meant
REMOVED = {"references": "references:removed", "payload": "payload:removed"}
# opinions of an attribute that holds asset paths, and of one that holds a file as plain text
VALUES = ("default", "timeSamples", "text", "textSamples")
TEXTS = ("text", "textSamples")
# what only says where something came from, or shows it to people: no renderer opens it
PROVENANCE = ("assetInfo", "customLayerData")
_BRINGING = ("explicitItems", "prependedItems", "appendedItems", "addedItems")
_REMOVING = ("deletedItems", "orderedItems")
_ASSET = Sdf.ValueTypeNames.Asset
_ASSETS = Sdf.ValueTypeNames.AssetArray
_STRING = Sdf.ValueTypeNames.String
_TOKEN = Sdf.ValueTypeNames.Token
_FILE_NAME = re.compile(r"\.[A-Za-z0-9]{1,8}$")
# keys that hold nested dictionaries in which any value may be an asset path
_DICTIONARIES = ("customData", "assetInfo", "customLayerData", "clips", "sdrMetadata")


class Slot(NamedTuple):
    """One place that names a file. A tuple: there are hundreds of thousands."""

    path: str
    """Path of the spec, with variant selections."""
    field: str
    """`subLayers`, `references`, `payload`, `default`, `timeSamples`, or a metadata key.

    `text` and `textSamples` for a file that an attribute of type string names.
    """
    text: str
    time: float | None = None
    """Time code of a time sample."""
    numbers: tuple[str, ...] = ()
    """Numbers that fill in a template of value clips."""

    @property
    def is_arc(self) -> bool:
        """Return whether the file is composed into the scene rather than used by it."""
        return self.field in ARCS


def may_name_file(spec: Sdf.AttributeSpec) -> bool:
    """Return whether an attribute holds text, which some renderers take for the name of a file."""
    return spec.typeName in (_STRING, _TOKEN)


def text_slots(layer: Sdf.Layer, path: Sdf.Path, spec: Sdf.AttributeSpec) -> Iterator[Slot]:
    """Yield the texts of an attribute that look like names of files. A settings map says which of them are."""
    where = path.pathString
    value = spec.default if spec.HasInfo("default") else None
    if is_file_name(value):
        yield Slot(where, "text", str(value))
    for time in layer.ListTimeSamplesForPath(path):
        value = layer.QueryTimeSample(path, time)
        if is_file_name(value):
            yield Slot(where, "textSamples", value, time)


def is_file_name(value: Any) -> bool:
    """Return whether a text looks like the name of a file."""
    return isinstance(value, str) and _FILE_NAME.search(value) is not None


def is_asset(spec: Sdf.AttributeSpec) -> bool:
    """Return whether an attribute holds files."""
    kind = spec.typeName
    return kind in (_ASSET, _ASSETS)


def layer_slots(layer: Sdf.Layer) -> list[Slot]:
    """The files that the layer as a whole names: sublayers, and metadata."""
    found = [Slot("/", "subLayers", text) for text in layer.subLayerPaths]
    root = layer.pseudoRoot
    keys = root.ListInfoKeys()
    if "colorConfiguration" in keys:
        found.extend(Slot("/", "colorConfiguration", text) for text in _texts(root.GetInfo("colorConfiguration")))
    found.extend(metadata_slots("/", root, keys))
    return found


def attribute_slots(layer: Sdf.Layer, path: Sdf.Path, spec: Sdf.AttributeSpec) -> Iterator[Slot]:
    """The files that an asset attribute names, by default and over time."""
    where = path.pathString
    if spec.HasInfo("default"):
        yield from (Slot(where, "default", text) for text in _texts(spec.default))
    for time in layer.ListTimeSamplesForPath(path):
        value = layer.QueryTimeSample(path, time)
        yield from (Slot(where, "timeSamples", text, time) for text in _texts(value))


def prim_slots(path: Sdf.Path, spec: Sdf.PrimSpec, keys: list[str]) -> Iterator[Slot]:
    """The layers that a prim brings in, and the files its metadata names. keys: of all its metadata."""
    where = path.pathString
    for field, removed in REMOVED.items():
        if field in keys:
            arcs = spec.GetInfo(field)
            yield from (Slot(where, field, text) for text in _arc_texts(arcs, _BRINGING))
            yield from (Slot(where, removed, text) for text in _arc_texts(arcs, _REMOVING))
    yield from metadata_slots(where, spec, keys)


def metadata_slots(where: str, spec: Sdf.Spec, keys: list[str]) -> Iterator[Slot]:
    """The files named in the dictionaries among a spec's metadata."""
    for key in _DICTIONARIES:
        if key in keys:
            value = spec.GetInfo(key)
            for text in _dictionary_texts(value):
                yield Slot(where, key, text)
            if key == "clips":
                yield from _template_slots(where, value)


def _template_slots(where: str, clip_sets: Any) -> Iterator[Slot]:
    """Templates are texts, not asset paths, but name files all the same."""
    for name in sorted(clip_sets) if isinstance(clip_sets, dict) else ():
        clip_set = clip_sets[name]
        if isinstance(clip_set, dict) and isinstance(clip_set.get(TEMPLATE), str) and clip_set[TEMPLATE]:
            yield Slot(where, "clips", clip_set[TEMPLATE], None, template_numbers(clip_set))


def _spec(layer: Sdf.Layer, path: Sdf.Path) -> Any:
    found = layer.GetObjectAtPath(path)
    # what a variant says itself, its references above all, stands on the prim inside it
    return found.primSpec if isinstance(found, Sdf.VariantSpec) else found


def _texts(value: Any) -> list[str]:
    """The authored paths in an asset value; empty ones name nothing."""
    if isinstance(value, Sdf.AssetPath):
        return [value.path] if value.path else []
    if isinstance(value, Sdf.AssetPathArray):
        return [item.path for item in value if item.path]
    return []


def _arc_texts(arcs: Any, lists: tuple[str, ...]) -> list[str]:
    """The layers that some lists of references or payloads name; '' is this same layer."""
    return list(dict.fromkeys(arc.assetPath for name in lists for arc in getattr(arcs, name) if arc.assetPath))


def _dictionary_texts(value: Any) -> Iterator[str]:
    if isinstance(value, dict):
        for key in sorted(value):
            yield from _dictionary_texts(value[key])
    else:
        yield from _texts(value)


def rewrite(layer: Sdf.Layer, new_text: Callable[[Slot], str]) -> None:
    """Replace the text of every slot of an editable layer by what `new_text` says."""
    # setting the paths again would reset their offsets, and with them when animation plays
    offsets = list(layer.subLayerOffsets)
    layer.subLayerPaths[:] = [new_text(Slot("/", "subLayers", text)) for text in list(layer.subLayerPaths)]
    for index, offset in enumerate(offsets):
        layer.subLayerOffsets[index] = offset
    paths: list[Sdf.Path] = []
    layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
    for path in paths:
        _rewrite_at(layer, path, new_text)


def _rewrite_at(layer: Sdf.Layer, path: Sdf.Path, new_text: Callable[[Slot], str]) -> None:
    spec = _spec(layer, path)
    where = str(path)
    if isinstance(spec, Sdf.AttributeSpec):
        if spec.typeName in (_ASSET, _ASSETS):
            if spec.HasInfo("default"):
                spec.default = _replaced(spec.default, where, "default", None, new_text)
            for time in layer.ListTimeSamplesForPath(path):
                value = layer.QueryTimeSample(path, time)
                layer.SetTimeSample(path, time, _replaced(value, where, "timeSamples", time, new_text))
        elif may_name_file(spec):
            for slot in list(text_slots(layer, path, spec)):
                text = new_text(slot)
                if text == slot.text:
                    continue
                if slot.time is None:
                    spec.default = text
                else:
                    layer.SetTimeSample(path, slot.time, text)
    elif isinstance(spec, Sdf.PrimSpec):
        for field, kind in (("references", Sdf.Reference), ("payload", Sdf.Payload)):
            if spec.HasInfo(field):
                spec.SetInfo(field, _moved_arcs(spec.GetInfo(field), where, field, kind, new_text))
    elif isinstance(spec, Sdf.PseudoRootSpec):
        if spec.HasInfo("colorConfiguration"):
            value = spec.GetInfo("colorConfiguration")
            spec.SetInfo("colorConfiguration", _replaced(value, where, "colorConfiguration", None, new_text))
    elif not isinstance(spec, Sdf.PropertySpec):
        return
    for key in _DICTIONARIES:
        if spec.HasInfo(key):
            value = spec.GetInfo(key)
            if key == "clips" or next(_dictionary_texts(value), None) is not None:
                spec.SetInfo(key, _replaced(value, where, key, None, new_text))


def _moved_arcs(arcs: Any, where: str, field: str, kind: Any, new_text: Callable[[Slot], str]) -> Any:
    """A list of references or payloads with new paths, list by list: what is taken out stays taken out."""
    for names, slot in ((_BRINGING, field), (_REMOVING, REMOVED[field])):
        for name in names:
            items = getattr(arcs, name)
            if items:
                setattr(arcs, name, [_moved_arc(arc, where, slot, kind, new_text) for arc in items])
    return arcs


def _moved_arc(arc: Any, where: str, field: str, kind: Any, new_text: Callable[[Slot], str]) -> Any:
    if not arc.assetPath:
        return arc
    text = new_text(Slot(where, field, arc.assetPath))
    if kind is Sdf.Reference:
        return Sdf.Reference(text, arc.primPath, arc.layerOffset, arc.customData)
    return Sdf.Payload(text, arc.primPath, arc.layerOffset)


def _replaced(value: Any, where: str, field: str, time: float | None, new_text: Callable[[Slot], str]) -> Any:
    """The value with every path in it replaced; anything that is no path stays as it is."""
    if isinstance(value, dict):
        return {
            key: new_text(Slot(where, field, item, time))
            if field == "clips" and key == TEMPLATE and isinstance(item, str) and item
            else _replaced(item, where, field, time, new_text)
            for key, item in value.items()
        }
    if isinstance(value, Sdf.AssetPath):
        return Sdf.AssetPath(new_text(Slot(where, field, value.path, time))) if value.path else value
    if isinstance(value, Sdf.AssetPathArray):
        return Sdf.AssetPathArray(
            [Sdf.AssetPath(new_text(Slot(where, field, item.path, time))) if item.path else item for item in value]
        )
    return value
