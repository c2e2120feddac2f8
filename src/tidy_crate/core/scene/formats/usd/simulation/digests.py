"""Digests of what a node sees at a frame, comparable to the bit."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.scene.formats.baking import Digests
from tidy_crate.core.scene.formats.usd.compose import compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.formats.usd.simulation.live import Evaluator
from tidy_crate.core.scene.staging import StagingPlan


def frame_digests(scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
    """For each frame, a digest of the world matrix and the points of every prim that has any."""
    walk = walk_layers(scene, plan, Disk(tokens))
    source = compose_source(walk)
    stage = compose_staged(walk, plan, source).stage if plan.edits else source.stage
    with usd_messages(scene):
        evaluator = Evaluator(stage)
        prims = [prim for prim in stage.Traverse(Usd.TraverseInstanceProxies()) if prim.IsA(UsdGeom.Xformable)]
        found = {}
        for frame in frames:
            evaluator.go_to(frame)
            cache = UsdGeom.XformCache(frame)
            found[frame] = {str(prim.GetPath()): _digest(prim, cache, frame) for prim in prims}
        return found


def _digest(prim: Usd.Prim, cache: UsdGeom.XformCache, frame: int) -> str:
    digest = hashlib.blake2b(np.array(cache.GetLocalToWorldTransform(prim)).tobytes(), digest_size=8)
    if prim.IsA(UsdGeom.PointBased):
        points = UsdGeom.PointBased(prim).GetPointsAttr().Get(frame)
        if points is not None:
            digest.update(np.array(points).tobytes())
    return digest.hexdigest()
