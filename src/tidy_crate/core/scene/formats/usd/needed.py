"""Which files a render request really uses, judged on the composed scene.

An opinion is needed when it is the winning one at a requested time (shutter included) and reachable from a prim
that is active, at some requested time visible and meant for the render; from its bound materials; from lights;
or from the render settings. In doubt it is needed.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdRender, UsdShade

from tidy_crate.core.scene.formats.usd.compose import Composed
from tidy_crate.core.scene.formats.usd.layers import Occurrence

SHUTTER = 1.0  # time codes before and after a frame that motion blur may look at
# relationships that link prims without making the render use them
_NO_USE = ("proxyPrim", "collection:", "physics:", "tidy:")
MOST_USERS = 8


@dataclass
class Needed:
    """Verdict per place: why a spec is used, and by which prims of the scene it is reached at all."""

    reasons: dict[tuple[Path, str], str] = field(default_factory=dict)
    users: dict[tuple[Path, str], list[str]] = field(default_factory=dict)
    layers: set[Path] = field(default_factory=set)
    marked: set[Sdf.Path] = field(default_factory=set)
    times: tuple[float, float] = (0.0, 0.0)


def judge(
    composed: Composed,
    places: set[tuple[Path, str]],
    window: tuple[float, float] | None,
    settings: Usd.Prim | None,
) -> Needed:
    """Find out which of `places` (file and prim path of the spec) the frames in `window` use.

    window: first and last requested time code; None means at any time.
    """
    first, last = window if window else (float("-inf"), float("inf"))
    needed = Needed(times=(first - SHUTTER, last + SHUTTER))
    _note_users(composed, places, needed)
    queue: deque[tuple[Usd.Prim, str]] = deque(_rendered(composed.stage, needed.times))
    if settings:
        queue.append((settings, "the render settings"))
    seen: set[Sdf.Path] = set()
    while queue:
        prim, reason = queue.popleft()
        if prim.GetPath() in seen:
            continue
        seen.add(prim.GetPath())
        _mark(composed, prim, reason, places, needed)
        queue.extend(_reached_from(prim))
    return needed


def is_needed(occurrence: Occurrence, composed: Composed, needed: Needed, root_layers: set[Path]) -> tuple[bool, str]:
    """Whether one occurrence is needed, and because of what."""
    slot = occurrence.slot
    if slot.field == "subLayers":
        if occurrence.layer in root_layers:
            return True, "a layer of the scene"
        used = occurrence.layer in needed.layers
        return (
            used,
            "a layer of something that renders" if used else "nothing that renders comes from this layer",
        )
    if slot.path == "/":
        return True, "the whole scene uses it"
    prim_path = str(Sdf.Path(slot.path).GetPrimOrPrimVariantSelectionPath())
    reason = needed.reasons.get((occurrence.layer, prim_path))
    if reason is None:
        return False, "nothing that renders in these frames uses it"
    if slot.field in ("default", "timeSamples") and not _wins(occurrence, composed, needed, prim_path):
        return False, "a stronger opinion overrides it, or its time lies outside the frames"
    return True, f"used by {reason}"


def _rendered(stage: Usd.Stage, times: tuple[float, float]) -> Iterator[tuple[Usd.Prim, str]]:
    """The prims that show in the picture or light it. Materials and settings count only once something reaches them."""
    predicate = Usd.TraverseInstanceProxies(Usd.PrimIsActive & Usd.PrimIsDefined & ~Usd.PrimIsAbstract)
    walk = iter(Usd.PrimRange(stage.GetPseudoRoot(), predicate))
    for prim in walk:
        if prim.IsPseudoRoot():
            continue
        if prim.IsA(UsdGeom.Imageable):
            if not _ever_visible(prim, times):
                walk.PruneChildren()
                continue
            if UsdGeom.Imageable(prim).ComputePurpose() in (UsdGeom.Tokens.guide, UsdGeom.Tokens.proxy):
                continue
        if prim.IsA(UsdShade.Material) or prim.IsA(UsdShade.Shader) or prim.IsA(UsdShade.NodeGraph):
            continue
        if prim.IsA(UsdRender.SettingsBase) or prim.IsA(UsdRender.Var):
            continue
        yield prim, f"light {prim.GetPath()}" if prim.HasAPI(UsdLux.LightAPI) else str(prim.GetPath())


def _ever_visible(prim: Usd.Prim, times: tuple[float, float]) -> bool:
    attribute = UsdGeom.Imageable(prim).GetVisibilityAttr()
    if not attribute.HasAuthoredValue():
        return True
    inside = [t for t in attribute.GetTimeSamples() if times[0] <= t <= times[1]]
    at = [max(times[0], -1e12), *inside]
    return any(attribute.Get(t) != UsdGeom.Tokens.invisible for t in at)


def _reached_from(prim: Usd.Prim) -> Iterator[tuple[Usd.Prim, str]]:
    stage, reason = prim.GetStage(), str(prim.GetPath())
    if prim.IsA(UsdGeom.Imageable):
        binding = UsdShade.MaterialBindingAPI(prim)
        for purpose in (UsdShade.Tokens.full, UsdShade.Tokens.allPurpose):
            material = binding.ComputeBoundMaterial(purpose)[0]
            if material:
                yield material.GetPrim(), f"the material of {reason}"
    for relationship in prim.GetAuthoredRelationships():
        if relationship.GetName().startswith(_NO_USE):
            continue
        for path in relationship.GetForwardedTargets():
            target = stage.GetPrimAtPath(path.GetPrimPath())
            if target and not (target.IsA(UsdGeom.Gprim) and not relationship.GetName().startswith("prototypes")):
                yield target, reason
    for attribute in prim.GetAuthoredAttributes():
        if attribute.HasAuthoredConnections():
            for path in attribute.GetConnections():
                target = stage.GetPrimAtPath(path.GetPrimPath())
                if target:
                    yield target, reason
    if prim.IsA(UsdShade.Material) or prim.IsA(UsdShade.NodeGraph):
        # an output that nothing connects by name can still be picked by a renderer of its own
        for child in prim.GetChildren():
            yield child, reason


def _mark(composed: Composed, prim: Usd.Prim, reason: str, places: set[tuple[Path, str]], needed: Needed) -> None:
    """Note a prim's specs, and those of everything above it, as used."""
    while prim and not prim.IsPseudoRoot() and prim.GetPath() not in needed.marked:
        needed.marked.add(prim.GetPath())
        specs = [(composed.file_of(spec.layer), str(spec.path)) for spec in prim.GetPrimStack()]
        for file, path in specs:
            if file is not None:
                needed.layers.add(file)
                if (file, path) in places:
                    needed.reasons.setdefault((file, path), reason)
        prim = prim.GetParent()


def _note_users(composed: Composed, places: set[tuple[Path, str]], needed: Needed) -> None:
    for prim in Usd.PrimRange(composed.stage.GetPseudoRoot(), Usd.TraverseInstanceProxies(Usd.PrimAllPrimsPredicate)):
        if prim.IsPseudoRoot():
            continue
        for spec in prim.GetPrimStack():
            file = composed.file_of(spec.layer)
            if file is not None and (file, str(spec.path)) in places:
                users = needed.users.setdefault((file, str(spec.path)), [])
                if len(users) < MOST_USERS:
                    users.append(str(prim.GetPath()))


def _wins(occurrence: Occurrence, composed: Composed, needed: Needed, prim_path: str) -> bool:
    """Whether the opinion is the strongest on at least one prim that it reaches, at a requested time."""
    name = Sdf.Path(occurrence.slot.path).name
    users = needed.users.get((occurrence.layer, prim_path), [])
    for user in users:
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
        elif _held_in(occurrence.slot.time, attribute.GetTimeSamples(), needed.times):
            return True
    # only the first users are kept, so with more of them there is doubt
    return len(users) >= MOST_USERS


def _held_in(time: float, samples: list[float], window: tuple[float, float]) -> bool:
    """Whether a held sample is in force at some moment of the window."""
    later = [t for t in samples if t > time]
    until = min(later) if later else float("inf")
    first = min(samples) if samples else time
    begins = float("-inf") if time == first else time
    return begins <= window[1] and until > window[0]
