"""What one layer says that a survey wants to know: a pure function of the layer, read in one walk over its specs.

The composed scene is then asked only about the few prims whose names these facts bring up, since asking every prim
about everything takes many times as long.
"""

from __future__ import annotations

from dataclasses import dataclass

from pxr import Sdf

from tidy_crate.core.scene.formats.usd.slots import (
    Slot,
    attribute_slots,
    is_asset,
    layer_slots,
    metadata_slots,
    prim_slots,
)

# relationships that link prims without making the render use them; bindings are asked about all at once
NO_USE = ("proxyPrim", "collection:", "physics:", "tidy:", "material:binding")
# keys of a prim by which another prim's opinions reach it under its own name, without naming a file
_INTERNAL_ARCS = ("references", "payload", "inheritPaths", "specializes")


@dataclass(frozen=True)
class LayerFacts:
    """Names are those of prims, wherever they stand in the layer.

    slots: every place that names a file. assets: paths of all properties that can hold a file. properties: names of
    all properties. outward: prims with a relationship, or a connection that leads out of what holds them. arcs:
    prims that take opinions from elsewhere. timed: with time samples; visibility, purpose, variants: with those
    authored. relocates: whether the layer renames prims of what it brings in.
    """

    slots: tuple[Slot, ...]
    assets: frozenset[str]
    properties: frozenset[str]
    outward: frozenset[str]
    arcs: frozenset[str]
    timed: frozenset[str]
    visibility: frozenset[str]
    purpose: frozenset[str]
    variants: frozenset[str]
    relocates: bool


def layer_facts(layer: Sdf.Layer) -> LayerFacts:
    """Walk a layer once."""
    paths: list[Sdf.Path] = []
    layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
    slots = layer_slots(layer)
    assets: set[str] = set()
    properties: set[str] = set()
    outward: set[str] = set()
    arcs: set[str] = set()
    timed: set[str] = set()
    variants: set[str] = set()
    by_property: dict[str, set[str]] = {"visibility": set(), "purpose": set()}
    has_samples = bool(layer.ListAllTimeSamples())
    for path in paths:
        if path.IsPrimPropertyPath():
            name = path.name
            properties.add(name)
            spec = layer.GetObjectAtPath(path)
            if isinstance(spec, Sdf.AttributeSpec):
                if is_asset(spec):
                    assets.add(path.pathString)
                    slots.extend(attribute_slots(layer, path, spec))
                if has_samples and layer.GetNumTimeSamplesForPath(path):
                    timed.add(_owner(path))
            elif isinstance(spec, Sdf.RelationshipSpec) and not name.startswith(NO_USE):
                outward.add(_owner(path))
            if spec.HasInfo("customData") or spec.HasInfo("assetInfo"):
                slots.extend(metadata_slots(path.pathString, spec, spec.ListInfoKeys()))
            if name in by_property:
                by_property[name].add(_owner(path))
        elif path.IsPrimPath() or path.IsPrimVariantSelectionPath():
            spec = layer.GetObjectAtPath(path)
            spec = spec.primSpec if isinstance(spec, Sdf.VariantSpec) else spec
            keys = spec.ListInfoKeys()
            slots.extend(prim_slots(path, spec, keys))
            if any(key in keys for key in _INTERNAL_ARCS):
                arcs.add(path.GetPrimPath().name)
            if "variantSetNames" in keys:
                variants.add(path.GetPrimPath().name)
        elif path.IsTargetPath() and _leads_out(path):
            outward.add(_owner(path))
    return LayerFacts(
        slots=tuple(slots),
        assets=frozenset(assets),
        properties=frozenset(properties),
        outward=frozenset(outward),
        arcs=frozenset(arcs),
        timed=frozenset(timed),
        visibility=frozenset(by_property["visibility"]),
        purpose=frozenset(by_property["purpose"]),
        variants=frozenset(variants),
        relocates=layer.HasRelocates() if hasattr(layer, "HasRelocates") else False,
    )


def _owner(path: Sdf.Path) -> str:
    return str(path.GetPrimPath().name)


def _leads_out(path: Sdf.Path) -> bool:
    """Whether a connection leaves the prim that holds the one it starts from. A material is used as a whole."""
    if path.GetParentPath().name.startswith(NO_USE):
        return False
    holder = path.GetPrimPath().GetParentPath()
    return holder.IsAbsoluteRootPath() or not path.targetPath.GetPrimPath().HasPrefix(holder)
