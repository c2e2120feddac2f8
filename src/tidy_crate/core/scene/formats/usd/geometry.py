"""How large the geometry of a scene is."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom, Vt

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.scene.formats.usd.compose import compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.staging import StagingPlan


def geometry_bytes(scene: Path, plan: StagingPlan) -> int:
    """Bytes of all arrays of shapes and instancers that are active and not hidden for good, at the first frame."""
    walk = walk_layers(scene.absolute(), plan, Disk())
    source = compose_source(walk)
    stage = compose_staged(walk, plan, source).stage if plan.edits else source.stage
    at = Usd.TimeCode(stage.GetStartTimeCode()) if stage.HasAuthoredTimeCodeRange() else Usd.TimeCode.EarliestTime()
    with usd_messages():
        return sum(_array_bytes(attribute, at) for prim in _shapes(stage) for attribute in prim.GetAuthoredAttributes())


def _shapes(stage: Usd.Stage) -> Iterator[Usd.Prim]:
    roots = [stage.GetPseudoRoot(), *stage.GetPrototypes()]
    for root in roots:
        walked = iter(Usd.PrimRange(root, Usd.PrimIsActive & Usd.PrimIsDefined & ~Usd.PrimIsAbstract))
        for prim in walked:
            shape = UsdGeom.Imageable(prim)
            if shape and shape.GetVisibilityAttr().GetNumTimeSamples() == 0:
                hidden = shape.GetVisibilityAttr().Get() == UsdGeom.Tokens.invisible
                if hidden or shape.GetPurposeAttr().Get() in ("guide", "proxy"):
                    walked.PruneChildren()
                    continue
            if prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.PointInstancer):
                yield prim


def _array_bytes(attribute: Usd.Attribute, at: Usd.TimeCode) -> int:
    if not attribute.GetTypeName().isArray:
        return 0
    value = attribute.Get(at)
    if value is None or isinstance(value, (Vt.StringArray, Vt.TokenArray, Sdf.AssetPathArray)):
        return 0
    return int(np.asarray(value).nbytes)
