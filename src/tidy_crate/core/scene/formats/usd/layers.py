"""Our own walk over all layers of a scene, from its root along sublayers, references and payloads."""

from __future__ import annotations

import hashlib
import json
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from pxr import Sdf

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, Resolution, resolve, resolve_each
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.assets import along_search_path
from tidy_crate.core.scene.formats.usd import package
from tidy_crate.core.scene.formats.usd.clips import filled
from tidy_crate.core.scene.formats.usd.facts import NO_FACTS, LayerFacts
from tidy_crate.core.scene.formats.usd.library import Library
from tidy_crate.core.scene.formats.usd.slots import REMOVED, TEXTS, Slot
from tidy_crate.core.scene.ids import Ids, stem_of
from tidy_crate.core.scene.model import Asset, Unread, Why
from tidy_crate.core.scene.staging import StagingPlan

MOST_LAYERS = 100_000


class BrokenLayer(Exception):
    """A layer whose text was read cannot be parsed by the library."""


class Occurrence(NamedTuple):
    """One slot of one layer in one context, and what it stands for. A tuple: there are hundreds of thousands."""

    id: str
    layer: Path
    slot: Slot
    prim: str
    """The path of the prim's spec that holds the slot, with variant selections, `/` for the layer as a whole."""
    context: str
    value: str
    """The text in force, after expressions and relinks."""
    resolution: Resolution
    relinked: bool
    layer_target: Path | None
    """The layer that it brings in, if any."""
    site: tuple[str, str]
    """The layer's path, and `prim`."""
    evaluated: str = ""
    within: str = ""
    leads: str = ""
    """See Asset."""


@dataclass
class Walk:
    """All layers of a scene in the order they were met, and every occurrence."""

    root: Path
    library: Library
    facts: dict[Path, LayerFacts] = field(default_factory=dict)
    """Facts of every layer that could be read."""
    occurrences: list[Occurrence] = field(default_factory=list)
    unread: dict[Path, Unread] = field(default_factory=dict)
    """Layers that could not be read, with the reason."""
    opaque: set[Path] = field(default_factory=set)
    """Arcs to files that this USD build has no reader for."""
    # value clips that name files themselves
    clips: set[Path] = field(default_factory=set)
    # layers that bring in no others, whose facts are read last
    leaves: list[Path] = field(default_factory=list)


def walk_layers(
    scene: Path,
    plan: StagingPlan,
    disk: Disk,
    survey_cache: Path | None = None,
    texts: frozenset[str] = frozenset(),
    on_layers: Callable[[Walk], Callable[[], object]] | None = None,
) -> Walk:
    """Walk all layers. Raises UnreadableInput only when the root layer itself cannot be read.

    survey_cache: a file that keeps what was found in each layer for the next time.
    texts: names of the attributes of type string that name files.
    on_layers: is called once all layers are known, with their arcs as the only occurrences: the scene can be composed
    while the files that it uses are looked for. It returns what waits until it is. With it, text layers are read
    without the library; raises BrokenLayer where composing shows that one of them is broken.
    """
    with Library(survey_cache, reads_text=on_layers is not None) as library:
        walk = Walk(scene, library)
        # the root is opened whatever is known of it: a broken scene fails here and nowhere later
        library.layer(scene)
        visits = _walk(walk, plan, disk, texts)
        walk.occurrences = [one for visit in visits for one in visit.found.values()]
        composed = on_layers(walk) if on_layers is not None else None
        _read_leaves(walk, visits, texts, composed)
        ids = Ids()
        walk.occurrences = [one for visit in visits for one in visit.all(walk, plan, disk, ids)]
        if composed is not None:
            composed()
            if not library.confirm():
                raise BrokenLayer
    return walk


@dataclass
class _Visit:
    """One layer under one set of expression variables."""

    path: Path
    variables: dict[str, Any]
    context: str
    slots: list[Slot]
    found: dict[int, Occurrence]
    """The occurrences that lead to other layers, by the place of their slots in the list."""

    def all(self, walk: Walk, plan: StagingPlan, disk: Disk, ids: Ids) -> Iterator[Occurrence]:
        """Every occurrence, in the order of the slots."""
        stem, packed = stem_of(walk.root, self.path), package.split(self.path) is not None
        within = self.context
        for index, slot in enumerate(self.slots):
            one = self.found.get(index)
            if one is None:
                one = _occurrence(walk, self.path, stem, packed, slot, self.variables, within, plan, disk, ids)
                one = one._replace(within=within) if within else one
            yield one


def _leads_on(slot: Slot) -> bool:
    """Return whether a slot decides how the scene is composed."""
    return slot.is_arc or slot.field == "clips" or slot.field in REMOVED.values()


def _walk(walk: Walk, plan: StagingPlan, disk: Disk, texts: frozenset[str]) -> list[_Visit]:
    """Go through all layers along their arcs."""
    scene, library = walk.root, walk.library
    walk.facts[scene] = library.facts(scene)
    variables = walk.facts[scene].variables
    queue: deque[tuple[Path, dict[str, Any]]] = deque([(scene, variables)])
    # a layer is walked once per set of expression variables, since only these change what its paths mean
    seen = {(scene, _context(variables))}
    ids = Ids()
    visits: list[_Visit] = []
    while queue:
        path, variables = queue.popleft()
        context = _context(variables)
        stem, packed = stem_of(scene, path), package.split(path) is not None
        slots = _slots_of(walk.facts[path], texts)
        by_index = {
            index: _occurrence(walk, path, stem, packed, slot, variables, context, plan, disk, ids)
            for index, slot in enumerate(slots)
            if _leads_on(slot)
        }
        found = list(by_index.values())
        arcs = [occurrence for occurrence in found if occurrence.layer_target is not None]
        library.expect(dict.fromkeys(o.layer_target for o in arcs if o.layer_target not in walk.facts))  # type: ignore[misc]
        for occurrence in found:
            if occurrence.slot.field == "clips":
                queue.extend((clip, variables) for clip in _clips_with_files(walk, occurrence))
        into: dict[str, str] = {}
        for occurrence in arcs:
            target = occurrence.layer_target
            assert target is not None
            if not _read_facts(walk, target):
                continue
            inherited = variables
            if occurrence.slot.field != "subLayers":
                # a layer stack of its own: its root's variables, overridden by those of the stack that brings it in
                inherited = {**walk.facts[target].variables, **variables}
            key = (target, _context(inherited))
            into[occurrence.id] = key[1]
            if key not in seen:
                seen.add(key)
                queue.append((target, inherited))
        _refuse_endless(_opened_by_library(found))
        if context or any(into.values()):
            by_index = {
                index: one._replace(within=context, leads=into.get(one.id, "")) for index, one in by_index.items()
            }
        visits.append(_Visit(path, variables, context, slots, by_index))
    return visits


# attributes whose text is the name of something that is written, or of none; and those of this tool
_NO_FILES, _OWN = frozenset({"productName", "info:id"}), ("tidy:",)


def _slots_of(facts: LayerFacts, texts: frozenset[str]) -> list[Slot]:
    return [slot for slot in facts.slots if slot.field not in TEXTS or slot.path.rpartition(".")[2] in texts]


def text_files(walk: Walk, disk: Disk, texts: frozenset[str], assets: Iterable[Asset]) -> dict[str, str]:
    """Return the files that only a text of an attribute names, by attribute: nobody has said that it does.

    Left out are files that come along with the scene anyway, the names of outputs, and what the tool itself reads.
    """
    known = {member.path for asset in assets for member in asset.members}
    found: dict[str, str] = {}
    for layer, facts in walk.facts.items():
        if package.split(layer) is not None:
            continue
        for slot in facts.slots:
            name = slot.path.rpartition(".")[2]
            if slot.field not in TEXTS or name in texts or name in _NO_FILES or name.startswith(_OWN):
                continue
            members = resolve(slot.text, layer.parent, disk).members
            if members and slot.path not in found and any(member.path not in known for member in members):
                found[slot.path] = slot.text
    return found


def _read_leaves(
    walk: Walk, visits: list[_Visit], texts: frozenset[str], composed: Callable[[], object] | None
) -> None:
    """Read the facts of all leaves, while the scene is composed. Raises BrokenLayer for one that cannot be read."""
    left = []
    for path in walk.leaves:
        facts = walk.library.leaf_facts(path)
        if facts is None:
            left.append(path)
        else:
            walk.facts[path] = facts
    if left and composed is not None:
        # no layer is opened here while another thread composes
        composed()
    try:
        walk.facts.update((path, walk.library.facts(path)) for path in left)
    except UnreadableInput as error:
        raise BrokenLayer from error
    leaves = set(walk.leaves)
    for visit in visits:
        if visit.path in leaves:
            visit.slots = _slots_of(walk.facts[visit.path], texts)


def _opened_by_library(found: Iterable[Occurrence]) -> Iterator[Occurrence]:
    """Those occurrences whose files the library opens by itself when it composes."""
    return (one for one in found if one.slot.is_arc or one.slot.field == "clips")


def _refuse_endless(found: Iterable[Occurrence]) -> None:
    """Make sure that the library meets no pipe and no device, which it would read for ever."""
    for one in found:
        if one.resolution.trouble is None or one.resolution.location is None:
            continue
        for path in (one.resolution.location, *map(Path, one.resolution.absent)):
            if path.exists() and not path.is_file() and not path.is_dir():
                what = f"a layer is a pipe or a device, which cannot be composed ({one.slot.path} in {one.layer.name})"
                raise UnreadableInput(what, path, "put a file in its place, or take it out of the scene")


def _read_facts(walk: Walk, path: Path) -> bool:
    """Return whether a layer can be read, its facts being in the walk then."""
    if path in walk.facts:
        return True
    if path in walk.unread:
        return False
    if len(walk.facts) >= MOST_LAYERS:
        raise UnreadableInput(f"the scene has more than {MOST_LAYERS} layers", walk.root)
    if walk.library.is_leaf(path):
        # the scene can be composed before these are read
        walk.facts[path] = NO_FACTS
        walk.leaves.append(path)
        return True
    try:
        walk.facts[path] = walk.library.facts(path)
    except UnreadableInput as error:
        walk.unread[path] = Unread(path=path, why=Why.BROKEN, detail=error.what)
        return False
    return True


def _clips_with_files(walk: Walk, occurrence: Occurrence) -> Iterator[Path]:
    """Those clips of a set that name files themselves. All others are looked at and let go: there may be thousands."""
    clips = [m.path for m in occurrence.resolution.members if m.path.suffix.lower() in (".usd", ".usda", ".usdc")]
    walk.library.expect(path for path in clips if path not in walk.facts)
    for path in clips:
        if path in walk.facts or path in walk.unread:
            continue
        try:
            facts = walk.library.facts(path)
        except UnreadableInput as error:
            walk.unread[path] = Unread(path=path, why=Why.BROKEN, detail=error.what)
            continue
        if facts.slots:
            walk.facts[path] = facts
            walk.clips.add(path)
            yield path
        else:
            walk.library.opened.pop(path, None)


def _occurrence(
    walk: Walk,
    path: Path,
    stem: str,
    packed: bool,
    slot: Slot,
    variables: dict[str, Any],
    context: str,
    plan: StagingPlan,
    disk: Disk,
    ids: Ids,
) -> Occurrence:
    expression = slot.text.startswith("`")
    value = _evaluated(slot.text, variables) if expression else slot.text
    seen_in = context if expression else ""
    name = ids.of(stem, slot.path, slot.field, slot.text, str(slot.time), seen_in)
    evaluated = value if expression else ""
    value, relinked = plan.value(name, slot.text, value)
    resolution = _resolved(path, packed, slot, value, disk)
    if plan.search and not packed and not slot.numbers:
        resolution, value, searched = along_search_path(value, resolution, plan, disk)
        relinked = relinked or searched
    target = None
    if slot.is_arc and resolution.members and resolution.location is not None:
        target = _layer_target(walk, resolution.location, value)
    prim = _prim_of(slot.path)
    site = (str(path), prim)
    return Occurrence(name, path, slot, prim, seen_in, value, resolution, relinked, target, site, evaluated)


def _resolved(path: Path, packed: bool, slot: Slot, value: str, disk: Disk) -> Resolution:
    """packed: whether the layer is in a package, asked once for all its slots."""
    value = paths.without_arguments(value)
    if packed:
        return package.resolve_inside(value, path, disk.tokens)
    if paths.dialect(value) is paths.Dialect.PACKAGED:
        return package.resolve_outside(value, path.parent, disk)
    if slot.numbers:
        each = [(filled(value, text), int(text) if "." not in text else None) for text in slot.numbers]
        return resolve_each(value, each, path.parent, disk)
    return resolve(value, path.parent, disk)


def _layer_target(walk: Walk, location: Path, value: str) -> Path | None:
    """The layer that an arc brings in, None for a file that this USD build has no reader for."""
    value = paths.without_arguments(value)
    packaged = paths.split_package(value)
    if packaged is not None and paths.split_package(location.as_posix()) is None:
        return package.joined(location, packaged[1])
    inside = package.split(location)
    suffix = Path(inside[1] if inside is not None else location).suffix.lower()
    if inside is None and Sdf.FileFormat.FindByExtension(suffix.lstrip(".")) is None:
        walk.opaque.add(location)
        return None
    return location


def _prim_of(path: str) -> str:
    # property names hold no slash, prim names no dot; a variant's selection may hold a dot, but comes before a slash
    head, slash, tail = path.rpartition("/")
    closing = tail.rfind("}")
    dot = tail.find(".", closing + 1)
    return path if dot < 0 else f"{head}{slash}{tail[:dot]}"


def _evaluated(expression: str, variables: dict[str, Any]) -> str:
    result = Sdf.VariableExpression(expression).Evaluate(variables)
    return str(result.value) if not result.errors and result.value is not None else expression


def _context(variables: dict[str, Any]) -> str:
    """A short name for a set of expression variables; empty for none."""
    if not variables:
        return ""
    return hashlib.blake2b(json.dumps(variables, sort_keys=True, default=str).encode(), digest_size=4).hexdigest()
