"""Files that a render request uses, judged on the composed scene.

An opinion is needed when it is the winning one at a requested time (shutter included) and reachable from a prim
that is active, at some requested time visible and meant for the render; from its bound materials; from lights;
or from the render settings. In doubt it is needed.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf, Usd, UsdGeom, UsdMedia, UsdRender, UsdShade, Vt

from tidy_crate.core.asset.resolve import Resolution
from tidy_crate.core.scene.formats.usd.clips import TEMPLATE, filled, template_numbers, template_times
from tidy_crate.core.scene.formats.usd.compose import Composed
from tidy_crate.core.scene.formats.usd.facts import NO_USE
from tidy_crate.core.scene.formats.usd.layers import Occurrence, Walk
from tidy_crate.core.scene.formats.usd.prims import Kind, Names, ScenePrims, Site, is_below
from tidy_crate.core.scene.formats.usd.slots import PROVENANCE, REMOVED, VALUES

SHUTTER = 1.0  # time codes before and after a frame that motion blur may look at
UNUSED = "nothing that renders in these frames uses it"


@dataclass
class Needed:
    """Verdicts on a composed scene."""

    times: tuple[float, float]
    """First and last time code that a frame may look at."""
    reasons: dict[Site, str] = field(default_factory=dict)
    """Why a place is used."""
    layers: set[Path] = field(default_factory=set)
    """Files whose whole layer stack is in use."""
    rendered: dict[str, tuple[Usd.Prim, int]] = field(default_factory=dict)
    """The prims that show or light, with their kinds, by path."""
    reached: dict[str, str] = field(default_factory=dict)
    """Why something uses a prim, by path."""
    clips: dict[Site, frozenset[str] | None] = field(default_factory=dict)
    """The files of explicit lists of clips that some requested time plays; None where that is not known."""

    def uses(self, path: str) -> bool:
        """Return whether the picture depends on a prim."""
        return _reason(path, self.rendered, self.reached) is not None


def judge(
    composed: Composed,
    prims: ScenePrims,
    names: Names,
    walk: Walk,
    window: tuple[float, float] | None,
    settings: Usd.Prim | None,
) -> Needed:
    """Find out which places (a file and the path of a prim's spec in it) the frames in `window` use.

    window: first and last requested time code; None means at any time.
    """
    first, last = window if window else (float("-inf"), float("inf"))
    needed = Needed((first - SHUTTER, last + SHUTTER))
    purposes = _purposes(settings)
    rendered = {path: (prim, kind) for prim, kind, path in _rendered(prims, names, needed.times, purposes)}
    reached = _reach(composed.stage, prims, names, rendered, settings)
    needed.rendered, needed.reached = rendered, reached
    marked: set[str] = set()
    for path, sites in prims.sites_of.items():
        reason = _reason(path, rendered, reached)
        if reason is not None:
            for site in sites:
                needed.reasons.setdefault(site, reason)
            _mark_above(path, reason, prims, needed, marked)
    _mark_layers(walk, composed, needed)
    return needed


def is_needed(
    occurrence: Occurrence, composed: Composed, walk: Walk, prims: ScenePrims, needed: Needed
) -> tuple[bool, str]:
    """Return whether one occurrence is needed, and because of what."""
    slot = occurrence.slot
    if slot.field == "subLayers":
        used = occurrence.layer in needed.layers
        return used, "a layer of something that renders" if used else "nothing that renders comes from this layer"
    if slot.field in PROVENANCE:
        return False, "it only says where something came from, or shows it to people"
    if slot.path == "/":
        return True, "the whole scene uses it"
    if slot.field in REMOVED.values():
        return False, "the scene takes it out of a list"
    if occurrence.layer in walk.clips:
        return True, "a value clip names it"
    site = occurrence.site
    reason = needed.reasons.get(site)
    if reason is None:
        return False, UNUSED
    # most scenes are silent, and this is asked for every file
    sounds = "SpatialAudio" in prims.first_of_type and slot.field in VALUES
    if sounds and _is_heard_only(composed, prims.users.get(site, ())):
        return False, "it is heard, not seen"
    if slot.field in VALUES and not _wins(occurrence, composed, prims, needed, site):
        return False, "a stronger opinion overrides it, or its time is outside the frames"
    if slot.field == "clips" and not slot.numbers and not _clip_is_played(occurrence, walk, composed, prims, needed):
        return False, "no frame of the range plays this clip"
    return True, f"used by {reason}"


def _is_heard_only(composed: Composed, users: Iterable[str]) -> bool:
    found = [composed.stage.GetPrimAtPath(path) for path in users]
    return bool(found) and all(prim and prim.IsA(UsdMedia.SpatialAudio) for prim in found)


def _clip_is_played(occurrence: Occurrence, walk: Walk, composed: Composed, prims: ScenePrims, needed: Needed) -> bool:
    """Return whether a clip of an explicit list is the active one at some requested time; in doubt it is."""
    site = occurrence.site
    if site not in needed.clips:
        # once for all clips of a prim: a list holds thousands
        needed.clips[site] = _played_clips(occurrence, walk, composed, prims, needed)
    played = needed.clips[site]
    return played is None or occurrence.slot.text in played


def _played_clips(
    occurrence: Occurrence, walk: Walk, composed: Composed, prims: ScenePrims, needed: Needed
) -> frozenset[str] | None:
    """Return the files of a prim's lists of clips that some requested time plays; None where no prim plays them."""
    users = list(_clip_users(occurrence, composed, prims))
    played: set[str] = set()
    for name, own in _written_clips(occurrence, walk).items():
        if not isinstance(own, dict):
            continue
        listed = own.get("assetPaths")
        files = [one.path for one in listed] if isinstance(listed, Sdf.AssetPathArray) else []
        manifest = getattr(own.get("manifestAssetPath"), "path", None)
        if manifest is not None and manifest not in files:
            played.add(manifest)
        for prim, offset in users:
            strongest = prim.GetMetadata("clips").get(name)
            active = strongest.get("active") if isinstance(strongest, dict) else None
            # of another type it plays nothing that could be told: in doubt all of it is needed
            active = active if isinstance(active, Vt.Vec2dArray) else ()
            times = [float(offset * pair[0]) for pair in active]
            if not times:
                played.update(files)
            for time, pair in zip(times, active, strict=True):
                # a stronger layer may count further than this one's list reaches
                if 0 <= pair[1] < len(files) and _held_in(time, times, needed.times):
                    played.add(files[int(pair[1])])
    return frozenset(played) if users else None


def _clip_users(
    occurrence: Occurrence, composed: Composed, prims: ScenePrims
) -> Iterator[tuple[Usd.Prim, Sdf.LayerOffset]]:
    """Yield the prims that play a set of clips, each with what takes a time of the clips' layer to the stage."""
    for user in prims.users.get(occurrence.site, ()):
        prim = composed.stage.GetPrimAtPath(user)
        if not prim or not isinstance(prim.GetMetadata("clips"), dict):
            continue
        for spec, offset in prim.GetPrimStackWithLayerOffsets():
            if str(spec.path) == occurrence.prim and composed.file_of(spec.layer) == occurrence.layer:
                yield prim, offset
                break


def times_of_clips(
    occurrence: Occurrence, walk: Walk, composed: Composed, prims: ScenePrims
) -> dict[str, tuple[float, ...]]:
    """Return by file of a template of clips, as written, the stage times from which it plays: for each of its users.

    Times go through all offsets and scales between the layer that states the clips and the stage. Empty where no prim
    plays them.
    """
    offsets = [offset for _, offset in _clip_users(occurrence, composed, prims)]
    for own in _written_clips(occurrence, walk).values():
        numbers = occurrence.slot.numbers
        if isinstance(own, dict) and own.get(TEMPLATE) == occurrence.slot.text and template_numbers(own) == numbers:
            return {
                filled(occurrence.value, number): tuple(float(offset * time) for offset in offsets)
                for number, time in zip(numbers, template_times(own), strict=True)
                if offsets
            }
    return {}


def _written_clips(occurrence: Occurrence, walk: Walk) -> dict[str, object]:
    spec = walk.library.layer(occurrence.layer).GetObjectAtPath(occurrence.prim)
    spec = spec.primSpec if isinstance(spec, Sdf.VariantSpec) else spec
    return dict(spec.GetInfo("clips")) if isinstance(spec, Sdf.PrimSpec) else {}


def without_clips_out_of_use(
    occurrence: Occurrence, times: Mapping[str, tuple[float, ...]], needed: Needed
) -> Resolution:
    """Return what the template of a set of clips stands for, without absent files that no requested time plays.

    times: of `times_of_clips`.
    """
    found = occurrence.resolution
    if not found.absent:
        return found
    played: set[str] = set()
    for on_stage in zip(*times.values(), strict=True):
        ordered = sorted(on_stage)
        played |= {name for name, time in zip(times, on_stage, strict=True) if _held_in(time, ordered, needed.times)}
    absent = tuple(name for name in found.absent if name in played) if times else found.absent
    trouble = f"{len(absent)} of {len(found.members) + len(absent)} files are not there" if absent else None
    return found._replace(absent=absent, trouble=found.trouble if len(absent) == len(found.absent) else trouble)


def _purposes(settings: Usd.Prim | None) -> frozenset[str]:
    """The purposes of prims that the render settings include, beside those that every render shows."""
    attribute = UsdRender.Settings(settings).GetIncludedPurposesAttr() if settings else None
    said = attribute.Get() if attribute and attribute.HasAuthoredValue() else None
    return frozenset({"default", "render", *map(str, said or ())})


def _rendered(
    prims: ScenePrims, names: Names, times: tuple[float, float], purposes: frozenset[str]
) -> Iterator[tuple[Usd.Prim, int, str]]:
    """The prims that show in the picture or light it, with kind and path.

    Materials and settings count only once something reaches them.
    """
    hidden: str | None = None
    purposed: str | None = None
    for prim, name, kind, path in prims.active:
        if kind & (Kind.SHADING | Kind.RENDER) and not kind & Kind.IMAGEABLE:
            continue
        if hidden is not None and is_below(path, hidden):
            continue
        if purposed is not None and not is_below(path, purposed):
            purposed = None
        if kind & Kind.IMAGEABLE:
            if name in names.visibility and not _ever_visible(prim, times):
                hidden = path
                continue
            if purposed is None and name in names.purpose:
                purposed = path
            if purposed is not None and UsdGeom.Imageable(prim).ComputePurpose() not in purposes:
                continue
        if not kind & (Kind.SHADING | Kind.RENDER):
            yield prim, kind, path


def _ever_visible(prim: Usd.Prim, times: tuple[float, float]) -> bool:
    attribute = UsdGeom.Imageable(prim).GetVisibilityAttr()
    inside = [t for t in attribute.GetTimeSamples() if times[0] <= t <= times[1]]
    at = [max(times[0], -1e12), *inside]
    return any(attribute.Get(t) != UsdGeom.Tokens.invisible for t in at)


def _reach(
    stage: Usd.Stage,
    prims: ScenePrims,
    names: Names,
    rendered: dict[str, tuple[Usd.Prim, int]],
    settings: Usd.Prim | None,
) -> dict[str, str]:
    """Prims that are used without showing themselves, with the reason: bound materials, and what links lead to."""
    reached: dict[str, str] = {}
    instancers = [prim for prim, kind in rendered.values() if kind & Kind.INSTANCER]
    prototypes = list(_below_prototypes(stage, instancers))
    shown = [(prim, path) for path, (prim, kind) in rendered.items() if kind & Kind.BINDS]
    shown += [(prim, prim.GetPath().pathString) for prim in prototypes if prims.kind(prim) & Kind.BINDS]
    for purpose in _material_purposes(settings) if shown else ():
        materials, _ = UsdShade.MaterialBindingAPI.ComputeBoundMaterials([prim for prim, _ in shown], purpose)
        for (_, path), material in zip(shown, materials, strict=True):
            if material and (bound := material.GetPath().pathString) not in reached:
                reached[bound] = f"the material of {path}"
    if settings:
        reached[settings.GetPath().pathString] = "the render settings"
    linking = [(prim, path) for prim, name, _, path in prims.active if name in names.outward]
    linking += [(prim, prim.GetPath().pathString) for prim in prototypes if prim.GetName() in names.outward]
    followed: set[str] = set()
    while True:
        before = len(reached)
        for prim, path in linking:
            if path in followed or _reason(path, rendered, reached) is None:
                continue
            followed.add(path)
            for target in _linked_from(stage, prim):
                reached.setdefault(target.GetPath().pathString, path)
        if len(reached) == before:
            return reached


def _material_purposes(settings: Usd.Prim | None) -> list[str]:
    """The purposes of materials that the render settings ask for, and the one for final renders: in doubt needed."""
    attribute = UsdRender.Settings(settings).GetMaterialBindingPurposesAttr() if settings else None
    said = attribute.Get() if attribute and attribute.HasAuthoredValue() else None
    known = (UsdShade.Tokens.full, UsdShade.Tokens.preview, UsdShade.Tokens.allPurpose)
    return list(dict.fromkeys((UsdShade.Tokens.full, *(one for one in map(str, said or ()) if one in known))))


def _below_prototypes(stage: Usd.Stage, instancers: Iterable[Usd.Prim]) -> Iterator[Usd.Prim]:
    """Yield what instancers that show bring into the picture, though it may be abstract or an override where it is."""
    seen: set[Sdf.Path] = set()
    for prim in instancers:
        for path in UsdGeom.PointInstancer(prim).GetPrototypesRel().GetForwardedTargets():
            top = stage.GetPrimAtPath(path)
            if top and path not in seen:
                seen.add(path)
                yield from Usd.PrimRange(top, Usd.TraverseInstanceProxies(Usd.PrimAllPrimsPredicate))


def _linked_from(stage: Usd.Stage, prim: Usd.Prim) -> Iterator[Usd.Prim]:
    for relationship in prim.GetAuthoredRelationships():
        if relationship.GetName().startswith(NO_USE):
            continue
        for path in relationship.GetForwardedTargets():
            target = stage.GetPrimAtPath(path.GetPrimPath())
            # a shape shows or does not, whatever points to it; only an instancer shows what it points to
            if target and not (target.IsA(UsdGeom.Gprim) and not relationship.GetName().startswith("prototypes")):
                yield target
    for attribute in prim.GetAuthoredAttributes():
        if attribute.HasAuthoredConnections():
            for path in attribute.GetConnections():
                target = stage.GetPrimAtPath(path.GetPrimPath())
                if target:
                    yield target


def _reason(path: str, rendered: dict[str, tuple[Usd.Prim, int]], reached: dict[str, str]) -> str | None:
    """Return why a prim is used: it shows, something reaches it, or it is part of a material or of a thing that is
    reached.
    """
    shows = rendered.get(path)
    if shows is not None:
        return f"light {path}" if shows[1] & Kind.LIGHT else path
    while path:
        if path in reached:
            return reached[path]
        path = path.rpartition("/")[0]
    return None


def _mark_above(path: str, reason: str, prims: ScenePrims, needed: Needed, marked: set[str]) -> None:
    """Mark the prims that bring in a prim from further up as used with it. marked: the prims that have been."""
    path = path.rpartition("/")[0]
    while path and path not in marked:
        marked.add(path)
        for site in prims.sites_of.get(path, ()):
            needed.reasons.setdefault(site, reason)
        path = path.rpartition("/")[0]


def _mark_layers(walk: Walk, composed: Composed, needed: Needed) -> None:
    """The layers in use: the scene's own, and the stack of everything that is brought in where something uses it."""
    queue = [walk.root]
    queue += [path for layer in composed.stage.GetLayerStack() if (path := composed.file_of(layer)) is not None]
    brought: dict[Path, set[Path]] = {}
    for occurrence in walk.occurrences:
        if occurrence.layer_target is not None:
            used = occurrence.slot.field == "subLayers" or occurrence.site in needed.reasons
            if used:
                brought.setdefault(occurrence.layer, set()).add(occurrence.layer_target)
    while queue:
        path = queue.pop()
        if path not in needed.layers:
            needed.layers.add(path)
            queue.extend(brought.get(path, ()))


def _wins(occurrence: Occurrence, composed: Composed, prims: ScenePrims, needed: Needed, site: Site) -> bool:
    """Return whether the opinion is the strongest on at least one prim that it reaches, at a requested time."""
    name = occurrence.slot.path.rpartition(".")[2]
    users = prims.users.get(site, ())
    for user in users:
        if occurrence.slot.time is None and prims.is_only_opinion(user, name):
            return True
        prim = composed.stage.GetPrimAtPath(user)
        attribute = prim.GetAttribute(name) if prim else None
        if not attribute:
            return True
        stack = attribute.GetPropertyStack(Usd.TimeCode.Default())
        winner = next((spec for spec in stack if spec.HasInfo("default") or spec.HasInfo("timeSamples")), None)
        if winner is None:
            return True
        if (composed.file_of(winner.layer), str(winner.path)) != (occurrence.layer, occurrence.slot.path):
            continue
        if occurrence.slot.time is None:
            # in one layer time samples hold against the default
            if not winner.HasInfo("timeSamples"):
                return True
        elif _held_in(_on_stage(occurrence, attribute, composed), attribute.GetTimeSamples(), needed.times):
            return True
    return False


def _on_stage(occurrence: Occurrence, attribute: Usd.Attribute, composed: Composed) -> float:
    """The time of a sample on the stage: every arc on the way may shift and stretch the times of its layer."""
    time = occurrence.slot.time or 0.0
    for spec, offset in attribute.GetPropertyStackWithLayerOffsets(Usd.TimeCode.Default()):
        if str(spec.path) == occurrence.slot.path and composed.file_of(spec.layer) == occurrence.layer:
            return float(offset * time)
    return time


def _held_in(time: float, samples: list[float], window: tuple[float, float]) -> bool:
    """Return whether a held sample is in force at some moment of the window."""
    later = [t for t in samples if t > time + 1e-6]
    until = min(later) if later else float("inf")
    first = min(samples) if samples else time
    # the first sample is in force before its time too
    begins = float("-inf") if time <= first + 1e-6 else time
    return begins <= window[1] and until > window[0]
