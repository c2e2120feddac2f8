"""What a node sees at a frame, as digests that can be compared to the bit.

Run as a program it reads scene, plan and frames as JSON from standard input, and writes the digests as JSON.
"""

from __future__ import annotations

import hashlib
import json
import sys
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom

from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.bake.live import Evaluator
from tidy_crate.core.scene.formats.usd.compose import compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.staging import StagingPlan


def frame_digests(scene: Path, plan: StagingPlan, frames: list[int]) -> dict[int, dict[str, str]]:
    """For each frame, a digest of the world matrix and the points of every prim that has any."""
    walk = walk_layers(scene, plan, Disk())
    source = compose_source(walk)
    stage = compose_staged(walk, plan, source).stage if plan.edits else source.stage
    with usd_messages():
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


def main() -> int:
    """Answer one question."""
    question = json.load(sys.stdin)
    plan = StagingPlan.model_validate(question["plan"])
    json.dump(frame_digests(Path(question["scene"]), plan, question["frames"]), sys.stdout)
    return 0


if __name__ == "__main__":
    sys.exit(main())
