"""The composed scene in one pass: its prims by kind, and which spec of which file each of the interesting ones has."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdRender, UsdShade

from tidy_crate.core.scene.formats.usd.compose import Composed
from tidy_crate.core.scene.formats.usd.layers import Walk

# a file by its path, and the path of a prim's spec in it
Site = tuple[str, str]


class Kind:
    """Kind of a prim type, as bits of a plain number: it is asked for every prim."""

    NONE = 0
    IMAGEABLE = 1
    BINDS = 2
    """Takes a material."""
    SHADING = 4
    RENDER = 8
    LIGHT = 16
    CAMERA = 32
    INSTANCER = 64


@dataclass(frozen=True)
class Names:
    """The names that the facts of all layers bring up: only prims of these names need to be asked."""

    properties: frozenset[str]
    outward: frozenset[str]
    arcs: frozenset[str]
    timed: frozenset[str]
    visibility: frozenset[str]
    purpose: frozenset[str]
    variants: frozenset[str]
    sited: frozenset[str]
    schemas: frozenset[str]
    clipped: frozenset[str]
    linked: frozenset[str]
    """Prims with a target or a connection that may lead nowhere."""
    everything: bool

    @classmethod
    def of(cls, walk: Walk) -> Names:
        """The names of a whole scene."""
        facts = list(walk.facts.values())

        def union(field_name: str) -> frozenset[str]:
            return frozenset().union(*(getattr(one, field_name) for one in facts))

        # what an arc brings in has the name of the prim with the arc
        arcs = union("arcs")

        sited = {_name_of(prim) for prim in {o.prim for o in walk.occurrences} if prim != "/"}
        sited |= {_name_of(text) for one in facts for text in one.assets}
        return cls(
            properties=union("properties"),
            outward=union("outward") | arcs,
            arcs=arcs,
            timed=union("timed") | arcs,
            visibility=union("visibility") | arcs,
            purpose=union("purpose") | arcs,
            variants=union("variants") | arcs,
            sited=frozenset(sited),
            schemas=union("schemas"),
            clipped=union("clipped") | (arcs if any(one.clipped for one in facts) else frozenset()),
            linked=_doubtful_links(walk) | arcs,
            # a layer that renames prims, or staging that adds some: no name can be trusted to have stayed
            everything=any(one.relocates for one in facts),
        )


def _name_of(path: str) -> str:
    """Return the name of the prim of a spec's path."""
    if "{" in path or "[" in path:
        return str(Sdf.Path(path).GetPrimPath().name)
    return path.rpartition("/")[2].partition(".")[0]


def _doubtful_links(walk: Walk) -> frozenset[str]:
    """Return the prims whose links may lead nowhere. In most layers a target is in the same layer and travels with it.

    A reference brings in one root prim of a layer, so what is below another one stays away.
    """
    facts = walk.facts
    if any(one.deep for one in facts.values()):
        return frozenset().union(*(one.linked for one in facts.values()))
    own, queue = set(), [walk.root]
    sublayers: dict[Path, list[Path]] = {}
    for occurrence in walk.occurrences:
        if occurrence.slot.field == "subLayers" and occurrence.layer_target is not None:
            sublayers.setdefault(occurrence.layer, []).append(occurrence.layer_target)
    while queue:
        path = queue.pop()
        if path not in own:
            own.add(path)
            queue.extend(sublayers.get(path, ()))
    brought = frozenset().union(*(one.crossing for path, one in facts.items() if path not in own))
    return brought.union(*(one.loose for one in facts.values()))


@dataclass
class ScenePrims:
    """The prims of a composed scene. Paths are texts: there are very many, and the library's own are slow."""

    active: list[tuple[Usd.Prim, str, int, str]] = field(default_factory=list)
    """Prims that may render, with name, kind and path, parents first.

    The path is empty for a part of a material that names no file and leads nowhere.
    """
    users: dict[Site, list[str]] = field(default_factory=dict)
    """The composed prims that a place reaches."""
    sites_of: dict[str, list[Site]] = field(default_factory=dict)
    """The places of a composed prim, strongest first."""
    _assets: dict[str, frozenset[str]] = field(default_factory=dict)
    _kinds: dict[str, int] = field(default_factory=dict)
    first_of_type: dict[str, str] = field(default_factory=dict)
    """A prim of every type that there is."""

    def kind(self, prim: Usd.Prim) -> int:
        """Return what a prim is; asked of the library once per type."""
        name = prim.GetTypeName()
        found = self._kinds.get(name)
        if found is None:
            found = self._kinds[name] = _kind_of(prim)
            self.first_of_type[str(name)] = prim.GetPath().pathString
        return found

    def of_kind(self, kind: int) -> Iterable[Usd.Prim]:
        """The active prims of a kind."""
        return (prim for prim, _, own, _ in self.active if own & kind)

    def named(self, names: frozenset[str]) -> Iterable[Usd.Prim]:
        """The active prims of certain names."""
        return (prim for prim, name, _, _ in self.active if name in names)

    def is_only_opinion(self, path: str, name: str) -> bool:
        """Return whether just one spec of a prim says anything about a property that holds a file."""
        sites = self.sites_of.get(path, ())
        if len(sites) == 1:
            file, spec = sites[0]
            return f"{spec}.{name}" in self._assets.get(file, ())
        return sum(f"{spec}.{name}" in self._assets.get(file, ()) for file, spec in sites) == 1


def timed_prims(scene: ScenePrims, names: Names) -> Iterator[Usd.Prim]:
    """Yield the active prims whose values may change over time: with samples of their own, or below value clips."""
    clipped: str | None = None
    for prim, name, _, path in scene.active:
        if clipped is not None and not is_below(path or prim.GetPath().pathString, clipped):
            clipped = None
        if clipped is None and name in names.clipped and prim.HasAuthoredMetadata("clips"):
            clipped = path or prim.GetPath().pathString
        if clipped is not None or name in names.timed:
            yield prim


def is_below(path: str, top: str) -> bool:
    """Return whether a prim is another one, or below it."""
    return path.startswith(top) and (len(path) == len(top) or path[len(top)] == "/")


def scan(composed: Composed, walk: Walk, names: Names) -> ScenePrims:
    """Go through the composed scene once."""
    found = ScenePrims(_assets={str(path): facts.assets for path, facts in walk.facts.items()})
    sites = {o.site for o in walk.occurrences if o.prim != "/"}
    for path, facts in walk.facts.items():
        file = str(path)
        sites |= {(file, text.rpartition(".")[0]) for text in facts.assets}
    wanted = names.sited | names.arcs
    renders = Usd.PrimIsActive & Usd.PrimIsDefined & ~Usd.PrimIsAbstract
    root = composed.stage.GetPseudoRoot()
    walked = iter(Usd.PrimRange(root, Usd.TraverseInstanceProxies(Usd.PrimAllPrimsPredicate)))
    next(walked)
    rest = []
    everything, named = names.everything, wanted | names.outward
    for prim in walked:
        # prims that are switched off, abstract or mere overrides render nothing, but name files all the same
        if not renders(prim):
            if everything or prim.GetName() in wanted:
                rest.append(prim)
            continue
        kind = found.kind(prim)
        name, text = prim.GetName(), ""
        if everything or not kind & Kind.SHADING or name in named:
            text = prim.GetPath().pathString
            if everything or name in wanted:
                _note_sites(prim, text, composed, sites, found)
        found.active.append((prim, name, kind, text))
    for prim in rest:
        _note_sites(prim, prim.GetPath().pathString, composed, sites, found)
    return found


def _note_sites(prim: Usd.Prim, path: str, composed: Composed, sites: set[Site], found: ScenePrims) -> None:
    own = []
    for spec in prim.GetPrimStack():
        file = composed.text_of(spec.layer)
        if file is not None and (site := (file, spec.path.pathString)) in sites:
            own.append(site)
    if own:
        found.sites_of[path] = own
        for site in own:
            found.users.setdefault(site, []).append(path)


def _kind_of(prim: Usd.Prim) -> int:
    kind = Kind.NONE
    if prim.IsA(UsdGeom.Imageable):
        kind |= Kind.IMAGEABLE
    # a type that is unknown here may be visible, with its material
    if prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.Subset) or not prim.IsA(Usd.Typed):
        kind |= Kind.BINDS
    if prim.IsA(UsdShade.NodeGraph) or prim.IsA(UsdShade.Shader):
        kind |= Kind.SHADING
    if prim.IsA(UsdRender.SettingsBase) or prim.IsA(UsdRender.Var):
        kind |= Kind.RENDER
    if prim.IsA(UsdGeom.Camera):
        kind |= Kind.CAMERA
    if prim.IsA(UsdGeom.PointInstancer):
        kind |= Kind.INSTANCER
    if prim.IsA(UsdLux.BoundableLightBase) or prim.IsA(UsdLux.NonboundableLightBase):
        kind |= Kind.LIGHT
    return kind
