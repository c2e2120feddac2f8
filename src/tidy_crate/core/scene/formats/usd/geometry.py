"""Size of a scene's geometry."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom, Vt

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.scene.formats.usd.compose import compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.prims import Names
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.staging import StagingPlan


def geometry_bytes(scene: Path, plan: StagingPlan, survey_cache: Path | None, tokens: FrameTokens) -> int:
    """Bytes of all arrays of shapes and instancers that are active and not hidden for good, at the first frame."""
    with no_garbage_collection():
        walk = walk_layers(scene.absolute(), plan, Disk(tokens), survey_cache)
        source = compose_source(walk)
        stage = compose_staged(walk, plan, source).stage if plan.edits else source.stage
        at = Usd.TimeCode(stage.GetStartTimeCode()) if stage.HasAuthoredTimeCodeRange() else Usd.TimeCode.EarliestTime()
        names = Names.of(walk)
        # only prims of these names can be hidden, or be shown for the screen only
        may_hide = None if names.everything else names.visibility | names.purpose
        with usd_messages(scene):
            shapes = _shapes(stage, may_hide)
            return sum(_array_bytes(attribute, at) for prim in shapes for attribute in prim.GetAuthoredAttributes())


def _shapes(stage: Usd.Stage, may_hide: frozenset[str] | None) -> Iterator[Usd.Prim]:
    roots = [stage.GetPseudoRoot(), *stage.GetPrototypes()]
    is_shape: dict[str, bool] = {}
    for root in roots:
        walked = iter(Usd.PrimRange(root, Usd.PrimIsActive & Usd.PrimIsDefined & ~Usd.PrimIsAbstract))
        for prim in walked:
            if (may_hide is None or prim.GetName() in may_hide) and _is_hidden(prim):
                walked.PruneChildren()
                continue
            kind = prim.GetTypeName()
            if kind not in is_shape:
                is_shape[kind] = prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.PointInstancer)
            if is_shape[kind]:
                yield prim


def _is_hidden(prim: Usd.Prim) -> bool:
    shape = UsdGeom.Imageable(prim)
    if not shape or shape.GetVisibilityAttr().GetNumTimeSamples():
        return False
    invisible = shape.GetVisibilityAttr().Get() == UsdGeom.Tokens.invisible
    return invisible or shape.GetPurposeAttr().Get() in ("guide", "proxy")


def _array_bytes(attribute: Usd.Attribute, at: Usd.TimeCode) -> int:
    if not attribute.GetTypeName().isArray:
        return 0
    value = attribute.Get(at)
    if value is None or isinstance(value, (Vt.StringArray, Vt.TokenArray, Sdf.AssetPathArray)):
        return 0
    return int(np.asarray(value).nbytes)
