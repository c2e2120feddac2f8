"""Places of a composed scene that lead nowhere: composition errors, dangling targets, layers in other units.

Source of the errors: the OpenUSD library's own composition (`Usd.Stage.GetCompositionErrors`).
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator

from pxr import Gf, Pcp, Sdf, Usd, UsdGeom, UsdRender

from tidy_crate.core.scene.formats.usd.compose import Composed
from tidy_crate.core.scene.formats.usd.layers import Occurrence, Walk
from tidy_crate.core.scene.formats.usd.needed import Needed
from tidy_crate.core.scene.formats.usd.prims import Kind, Names, ScenePrims
from tidy_crate.core.scene.model import BrokenLink, LinkKind

MOST = 200
# a file that is missing is found by our own walk, which knows more about it
_FILES = (Pcp.ErrorInvalidAssetPath, Pcp.ErrorInvalidSublayerPath)
_OTHERS_SAY = (
    *_FILES, Pcp.ErrorMutedAssetPath,
    # the same target is asked about below
    Pcp.ErrorInvalidTargetPath, Pcp.ErrorInvalidExternalTargetPath, Pcp.ErrorInvalidInstanceTargetPath,
)  # fmt: skip
# relationships without whose target the picture lacks something; others group and annotate
_PICTURE = re.compile(
    r"products|orderedVars|camera|material:binding(?!:physics).*|prototypes|skel:.*|blendShapeTargets|light:filters"
)
# what must be of a type, or is passed over
_WANTED = {"products": (UsdRender.Product, "a render product"), "orderedVars": (UsdRender.Var, "a render variable")}
_AT_LAYER = re.compile(r"@([^@]*)@")
_FIXED = "unitsResolve"


def broken_links(
    composed: Composed, walk: Walk, prims: ScenePrims, names: Names, needed: Needed
) -> tuple[BrokenLink, ...]:
    """Find every place that leads nowhere, at most `MOST` of each kind."""
    stage = composed.stage
    shown = _Shown(stage, needed)
    found = [*_composition(composed, walk, shown), *_settings_path(stage), *_variants(prims, names, shown)]
    found += _targets(stage, prims, names, shown)
    found += _units(composed, walk, prims, shown)
    return tuple(found)


class _Shown:
    """Decides if the picture depends on a prim that may not exist."""

    def __init__(self, stage: Usd.Stage, needed: Needed) -> None:
        self._stage, self._needed = stage, needed

    def __call__(self, path: Sdf.Path) -> bool:
        """In doubt it does: an override of a prim that failed to compose is not defined, and would show."""
        path = path.GetPrimPath()
        if path.isEmpty or path.IsAbsoluteRootPath():
            return True
        if self._needed.uses(path.pathString):
            return True
        prim = self._stage.GetPrimAtPath(path)
        if prim and (prim.IsDefined() or not prim.IsActive()):
            return self._uses_below(prim)
        parent = path.GetParentPath()
        return parent.IsAbsoluteRootPath() or self._needed.uses(parent.pathString)

    def _uses_below(self, prim: Usd.Prim) -> bool:
        """Return whether anything below a prim is used, so that a mere folder may show what it fails to bring in."""
        inner = (one for one in Usd.PrimRange(prim) if one != prim)
        return any(self._needed.uses(one.GetPath().pathString) for one in inner)


def _composition(composed: Composed, walk: Walk, shown: _Shown) -> Iterator[BrokenLink]:
    seen: set[tuple[str, str]] = set()
    # what the library does not find and our own walk does is told too
    told = walk.unread or walk.opaque or any(o.slot.is_arc and not o.resolution.members for o in walk.occurrences)
    for error in composed.stage.GetCompositionErrors():
        if isinstance(error, _OTHERS_SAY) and (told or not isinstance(error, _FILES)):
            continue
        path = Sdf.Path(error.rootSite.path)
        what = _AT_LAYER.sub(lambda match: _short(match[1], composed), str(error).strip())
        if len(seen) < MOST and (str(path), what) not in seen:
            seen.add((str(path), what))
            where = str(path) if not path.isEmpty else "/"
            yield BrokenLink(kind=LinkKind.COMPOSITION, where=where, what=what, needed=shown(path))


def _short(identifier: str, composed: Composed) -> str:
    """Return a layer's name as a person knows it: copies in memory and absolute folders mean nothing to a person."""
    file = composed.origin.get(identifier)
    name = (str(file) if file is not None else identifier).replace("\\", "/").rpartition("/")[2]
    return name.rpartition(":")[2] if name.startswith("anon:") else name


def _variants(prims: ScenePrims, names: Names, shown: _Shown) -> Iterator[BrokenLink]:
    """Variants that are selected and are not there: nothing composes in their place, and the library says nothing."""
    for prim in prims.named(names.variants):
        sets = prim.GetVariantSets()
        for name in sets.GetNames():
            one = sets.GetVariantSet(name)
            chosen = one.GetVariantSelection()
            if chosen and chosen not in one.GetVariantNames():
                what = f"the variant {chosen} of {name} is selected and not there"
                where = str(prim.GetPath())
                yield BrokenLink(kind=LinkKind.COMPOSITION, where=where, what=what, needed=shown(prim.GetPath()))


def _settings_path(stage: Usd.Stage) -> Iterator[BrokenLink]:
    path = stage.GetMetadata("renderSettingsPrimPath") or ""
    if path and not UsdRender.Settings.GetStageRenderSettings(stage):
        what = f"the scene's render settings {path} are not there"
        yield BrokenLink(kind=LinkKind.TARGET, where="renderSettingsPrimPath", what=what)


def _targets(stage: Usd.Stage, prims: ScenePrims, names: Names, shown: _Shown) -> Iterator[BrokenLink]:
    count = 0
    for prim, name, kind, _ in prims.active:
        if name not in names.linked and not names.everything and not kind & Kind.RENDER:
            continue
        for owner, what, picture in _of_prim(stage, prim):
            if count >= MOST:
                return
            count += 1
            kind_of = LinkKind.TARGET if picture else LinkKind.OTHER_TARGET
            yield BrokenLink(kind=kind_of, where=owner, what=what, needed=picture and shown(prim.GetPath()))


def _of_prim(stage: Usd.Stage, prim: Usd.Prim) -> Iterator[tuple[str, str, bool]]:
    """Each property whose target is not there: its path, what is wrong, and whether the picture needs it."""
    for one in prim.GetAuthoredRelationships():
        # the camera of an output has a check of its own
        if one.GetName() == "camera":
            continue
        picture = _PICTURE.fullmatch(one.GetName()) is not None
        # what an instancer copies may be an override where it is
        copied = one.GetName() == "prototypes"
        gone = [
            path for path in one.GetTargets() if not (_is_there(stage, path) or (copied and stage.GetPrimAtPath(path)))
        ]
        gone += _dropped(one)
        for path in dict.fromkeys(gone):
            yield str(one.GetPath()), f"{path} is not there", picture
        if (wanted := _WANTED.get(one.GetName())) is not None and prim.IsA(UsdRender.SettingsBase):
            for path in one.GetForwardedTargets():
                target = stage.GetPrimAtPath(path)
                if target and path not in gone and not target.IsA(wanted[0]):
                    yield str(one.GetPath()), f"{path} is not {wanted[1]}", picture
    for one in prim.GetAuthoredAttributes():
        if one.HasAuthoredConnections():
            for path in one.GetConnections():
                if not stage.GetPrimAtPath(path.GetPrimPath()):
                    yield str(one.GetPath()), f"{path} is not there", True


def _is_there(stage: Usd.Stage, path: Sdf.Path) -> bool:
    if path.IsPropertyPath():
        # a collection has no property of its own name
        return bool(stage.GetPrimAtPath(path.GetPrimPath()))
    prim = stage.GetPrimAtPath(path)
    return bool(prim) and (prim.IsDefined() or prim.IsAbstract() or not prim.IsActive() or bool(prim.GetTypeName()))


def _dropped(one: Usd.Relationship) -> list[str]:
    """Return targets that are authored and lost on the way, since a reference leaves out what they lead to."""
    if one.GetTargets():
        return []
    spec = next((spec for spec in one.GetPropertyStack() if spec.HasInfo("targetPaths")), None)
    if not isinstance(spec, Sdf.RelationshipSpec):
        return []
    return [str(path) for path in spec.targetPathList.GetAddedOrExplicitItems()]


def _units(composed: Composed, walk: Walk, prims: ScenePrims, shown: _Shown) -> Iterator[BrokenLink]:
    stage = composed.stage
    own = (UsdGeom.GetStageMetersPerUnit(stage), str(UsdGeom.GetStageUpAxis(stage)))
    seen = set()
    for occurrence in walk.occurrences:
        target = occurrence.layer_target
        facts = walk.facts.get(target) if target is not None else None
        if facts is None or occurrence.slot.field not in ("references", "payload"):
            continue
        metres = own[0] if facts.meters_per_unit is None else facts.meters_per_unit
        differs = not math.isclose(metres, own[0], rel_tol=1e-6)
        turned = facts.up_axis is not None and facts.up_axis != own[1]
        if not (differs or turned) or (target, occurrence.layer) in seen:
            continue
        site = _first_site(occurrence, composed, prims)
        if site is None or not _has_shapes(site) or _is_fitted(site, metres / own[0], differs, turned):
            continue
        seen.add((target, occurrence.layer))
        said = [f"{metres:g} m a unit, the scene has {own[0]:g}"] if differs else []
        said += [f"{facts.up_axis} is up in it, {own[1]} in the scene"] if turned else []
        what = f"{target.name if target else ''}: {'; '.join(said)}"
        yield BrokenLink(kind=LinkKind.UNITS, where=str(site.GetPath()), what=what, needed=shown(site.GetPath()))


def _first_site(occurrence: Occurrence, composed: Composed, prims: ScenePrims) -> Usd.Prim | None:
    users = prims.users.get(occurrence.site, ())
    found = (composed.stage.GetPrimAtPath(path) for path in users)
    return next((prim for prim in found if prim and prim.IsDefined() and prim.IsActive()), None)


def _has_shapes(site: Usd.Prim) -> bool:
    return any(prim.IsA(UsdGeom.Boundable) for prim in Usd.PrimRange(site, Usd.TraverseInstanceProxies()))


def _is_fitted(site: Usd.Prim, factor: float, differs: bool, turned: bool) -> bool:
    """Return whether the prim, or one above it, scales and turns what it brings in, as a fit of units does."""
    matrix = Gf.Matrix4d(1)
    while site and not site.IsPseudoRoot():
        if site.IsA(UsdGeom.Xformable):
            ops = UsdGeom.Xformable(site).GetOrderedXformOps()
            if any(_FIXED in op.GetOpName() for op in ops):
                return True
            matrix = matrix * UsdGeom.Xformable(site).GetLocalTransformation()
        site = site.GetParent()
    scales = [matrix.GetRow3(at).GetLength() for at in range(3)]
    scaled = all(math.isclose(scale, factor, rel_tol=1e-2) for scale in scales)
    along = [matrix.GetRow3(at).GetNormalized() for at in (1, 2)]
    # the layer's Y axis is the scene's Z axis, or the other way round
    is_turned = abs(along[0][2]) > 0.99 or abs(along[1][1]) > 0.99
    return (scaled or not differs) and (is_turned or not turned)
