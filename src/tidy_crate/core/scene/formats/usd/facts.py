"""Facts of one layer for a survey: a pure function of the layer, read in one walk over its specs.

The composed scene is then asked only about the few prims whose names these facts bring up, since asking every prim
about everything takes many times as long.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pxr import Sdf

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.hints import Hints, hints_of
from tidy_crate.core.scene.formats.usd.slots import (
    Slot,
    attribute_slots,
    is_asset,
    layer_slots,
    may_name_file,
    metadata_slots,
    prim_slots,
    text_slots,
)

# characters of a path: that of a prim nested a few hundred deep
LONGEST_PATH = 8192
# relationships that link prims without making the render use them; bindings are asked about all at once
NO_USE = ("proxyPrim", "collection:", "physics:", "tidy:", "material:binding")
# keys of a prim by which another prim's opinions reach it under its own name, without naming a file
_INTERNAL_ARCS = ("references", "payload", "inheritPaths", "specializes")


@dataclass(frozen=True)
class LayerFacts:
    """Names are those of prims, wherever they stand in the layer."""

    slots: tuple[Slot, ...]
    """Every opinion that names a file, and texts that may name one."""
    assets: frozenset[str]
    """Paths of all properties that can hold a file."""
    properties: frozenset[str]
    """Names of all properties."""
    outward: frozenset[str]
    """Prims with a relationship, or a connection that leads out of the prim that holds it."""
    arcs: frozenset[str]
    """Prims that take opinions from elsewhere."""
    timed: frozenset[str]
    """Prims with time samples."""
    visibility: frozenset[str]
    """Prims whose visibility is authored."""
    purpose: frozenset[str]
    """Prims whose purpose is authored."""
    variants: frozenset[str]
    """Prims whose variants are authored."""
    schemas: frozenset[str]
    """Names of all applied schemas."""
    clipped: frozenset[str]
    """Prims with value clips."""
    linked: frozenset[str]
    """Prims with a target or a connection."""
    loose: frozenset[str]
    """Linked prims whose target is not in this layer."""
    crossing: frozenset[str]
    """Linked prims whose target is below another root prim."""
    relocates: bool
    """True if the layer renames prims of what it brings in."""
    deep: bool
    """True if it brings in a prim that is not at the root of its layer."""
    variables: dict[str, Any]
    """Expression variables."""
    up_axis: str | None
    """None where the layer states none."""
    meters_per_unit: float | None
    """None where the layer states none."""

    def plain(self) -> dict[str, Any]:
        """As values that JSON knows, to be kept or sent."""
        values = {name: sorted(getattr(self, name)) for name in NAME_SETS}
        slots = [[slot.path, slot.field, slot.text, slot.time, slot.numbers] for slot in self.slots]
        return {**values, "slots": slots, **{name: getattr(self, name) for name in _PLAIN}}

    @classmethod
    def of_plain(cls, values: dict[str, Any]) -> LayerFacts:
        """The inverse of `plain`. Raises KeyError, TypeError or ValueError for anything else."""
        slots = (Slot(path, field, text, time, tuple(numbers)) for path, field, text, time, numbers in values["slots"])
        names: dict[str, Any] = {name: frozenset(values[name]) for name in NAME_SETS}
        return cls(slots=tuple(slots), **{name: values[name] for name in _PLAIN}, **names)


_PLAIN = ("relocates", "deep", "variables", "up_axis", "meters_per_unit")
NAME_SETS = (
    "assets", "properties", "outward", "arcs", "timed", "visibility", "purpose", "variants", "schemas", "clipped",
    "linked", "loose", "crossing",
)  # fmt: skip


NO_FACTS = LayerFacts(
    slots=(),
    relocates=False,
    deep=False,
    variables={},
    up_axis=None,
    meters_per_unit=None,
    **{name: frozenset() for name in NAME_SETS},
)


def layer_facts(layer: Sdf.Layer) -> LayerFacts:
    """Walk a layer once."""
    return facts_with(layer, hints_of(layer))


def facts_with(layer: Sdf.Layer, hints: Hints | None) -> LayerFacts:
    """Walk a layer once. hints: what its text rules out; without them every spec is asked, to the same end."""
    paths: list[Sdf.Path] = []
    layer.Traverse(Sdf.Path.absoluteRootPath, paths.append)
    seen = _Seen(layer, layer_slots(layer), hints)
    # a layer has specs by the hundred thousand and every question to the library costs as much as ten lines here:
    # what a spec is, is read off its path as text
    for path in paths:
        text = path.pathString
        if len(text) > LONGEST_PATH:
            what = f"its prims are nested so deeply that a path has more than {LONGEST_PATH} characters"
            raise UnreadableInput(what, layer.identifier, "no renderer takes such a scene")
        if text.endswith("]"):
            seen.link(text)
            continue
        prim, dot, name = text[text.rfind("}") + 1 :].rpartition(".")
        if dot and "[" not in text:
            seen.prop(path, text, prim.rpartition("/")[2] or path.GetPrimPath().name, name)
        elif not dot and text != "/":
            seen.prim(path, text)
    return seen.facts()


class _Seen:
    """Findings of the walk over one layer so far."""

    def __init__(self, layer: Sdf.Layer, slots: list[Slot], hints: Hints | None) -> None:
        self.layer = layer
        self.slots = slots
        self.hints = hints
        self.there: set[str] = set()
        self.sets: dict[str, set[str]] = {name: set() for name in NAME_SETS}
        # of prims that can have nothing else only these matter, and they are known
        self.asks_prims = hints is None or hints.schemas is None
        if hints is not None and hints.schemas is not None:
            self.sets["schemas"].update(hints.schemas)
        self.has_samples = bool(layer.ListAllTimeSamples())
        self.deep = False
        self.links: list[tuple[str, str]] = []

    def prop(self, path: Sdf.Path, text: str, owner: str, name: str) -> None:
        """A property of a prim."""
        sets = self.sets
        sets["properties"].add(name)
        self.there.add(text)
        if name == "visibility" or name == "purpose":
            sets[name].add(owner)
        if self.has_samples and self.layer.GetNumTimeSamplesForPath(path):
            sets["timed"].add(owner)
        if self.hints is not None and name not in self.hints.opened:
            return
        spec = self.layer.GetPropertyAtPath(path)
        if isinstance(spec, Sdf.AttributeSpec):
            if is_asset(spec):
                sets["assets"].add(text)
                self.slots.extend(attribute_slots(self.layer, path, spec))
            elif may_name_file(spec):
                found = list(text_slots(self.layer, path, spec))
                if found:
                    sets["assets"].add(text)
                    self.slots.extend(found)
        elif not name.startswith(NO_USE):
            sets["outward"].add(owner)
        if spec.HasInfo("customData") or spec.HasInfo("assetInfo"):
            self.slots.extend(metadata_slots(text, spec, spec.ListInfoKeys()))

    def prim(self, path: Sdf.Path, text: str) -> None:
        """A prim, or a variant's own opinions about one."""
        self.there.add(text)
        if not self.asks_prims:
            return
        spec = self.layer.GetObjectAtPath(path)
        spec = spec.primSpec if isinstance(spec, Sdf.VariantSpec) else spec
        if not isinstance(spec, Sdf.PrimSpec):
            return
        keys = spec.ListInfoKeys()
        self.slots.extend(prim_slots(path, spec, keys))
        if any(key in keys for key in _INTERNAL_ARCS):
            self.sets["arcs"].add(path.GetPrimPath().name)
            self.deep = self.deep or _brings_deep(spec)
        if "clips" in keys:
            self.sets["clipped"].add(path.GetPrimPath().name)
        if "apiSchemas" in keys:
            self.sets["schemas"].update(spec.GetInfo("apiSchemas").GetAppliedItems())
        if "variantSetNames" in keys:
            self.sets["variants"].add(path.GetPrimPath().name)

    def link(self, text: str) -> None:
        """A target or a connection: it counts when it leaves the prim that holds the one it starts from.

        What holds a material uses it as a whole.
        """
        start, _, target = text[:-1].partition("[")
        owner, _, name = start.rpartition(".")
        if "{" in text:
            owner = Sdf.Path(owner).StripAllVariantSelections().pathString
            target = Sdf.Path(target).StripAllVariantSelections().pathString
        holder, _, prim = owner.rpartition("/")
        self.links.append((owner, target))
        if name.startswith(NO_USE):
            return
        if not holder or not (target + "/").startswith((holder + "/", holder + ".")):
            self.sets["outward"].add(prim)

    def facts(self) -> LayerFacts:
        """The sum of it."""
        layer, root = self.layer, self.layer.pseudoRoot
        self._sort_links()
        return LayerFacts(
            slots=tuple(self.slots),
            relocates=layer.HasRelocates() if hasattr(layer, "HasRelocates") else False,
            deep=self.deep,
            variables=dict(layer.expressionVariables),
            up_axis=str(root.GetInfo("upAxis")) if root.HasInfo("upAxis") else None,
            meters_per_unit=float(root.GetInfo("metersPerUnit")) if root.HasInfo("metersPerUnit") else None,
            **{name: frozenset(found) for name, found in self.sets.items()},
        )

    def _sort_links(self) -> None:
        """Say of each prim with a link whether its target may be somewhere else."""
        sets, there = self.sets, self.there
        for owner, target in self.links:
            name = owner.rpartition("/")[2]
            sets["linked"].add(name)
            if target not in there:
                sets["loose"].add(name)
            if owner.partition("/")[2].partition("/")[0] != target[1:].partition(".")[0].partition("/")[0]:
                sets["crossing"].add(name)


def _brings_deep(spec: Sdf.PrimSpec) -> bool:
    """Return whether a prim brings in one that is not at the root of its layer: what is outside of it stays away."""
    lists = [spec.referenceList, spec.payloadList] if spec.hasReferences or spec.hasPayloads else []
    arcs = (arc for one in lists for arc in one.GetAddedOrExplicitItems())
    return any(arc.primPath.pathElementCount > 1 for arc in arcs)
