"""Evaluating a scene as a render node does: live simulations start, at rest, at the first frame the node is given."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom

from tidy_crate.core.bake.spring import SpringState, advance, at_rest
from tidy_crate.core.scene.formats.usd.simulations import (
    SUBSTEPS,
    SpringFollow,
    find_springs,
    target_positions,
)


@dataclass
class _Running:
    spring: SpringFollow
    frame: float
    state: SpringState


class Evaluator:
    """Poses the live simulations of a stage, frame after frame, in the stage's session layer.

    Forwards it goes on from the frame before. Asked for an earlier frame it starts anew there, since a machine has
    no other past than the frames it was given.
    """

    def __init__(self, stage: Usd.Stage) -> None:
        self.stage = stage
        self._springs = [spring for spring in find_springs(stage) if spring.live and spring.target]
        self._running: dict[str, _Running] = {}

    def go_to(self, frame: float) -> None:
        """Pose everything at a frame (a time code)."""
        with Usd.EditContext(self.stage, self.stage.GetSessionLayer()):
            for spring in self._springs:
                position = self.position(spring, frame)
                _pose(self.stage, spring.path, local_pose(self.stage, spring.path, frame, position))

    def position(self, spring: SpringFollow, frame: float) -> np.ndarray:
        """World position of a spring follow at a frame, shape (3,)."""
        now = self._running.get(spring.path)
        if now is None or frame <= now.frame:
            goal = target_positions(self.stage, spring, [frame])[0]
            now = self._running[spring.path] = _Running(spring, frame, at_rest(goal))
        elif frame > now.frame:
            now.state = solve(self.stage, spring, now.state, now.frame, frame)
            now.frame = frame
        return now.state.position


def solve(stage: Usd.Stage, spring: SpringFollow, state: SpringState, start: float, end: float) -> SpringState:
    """Carry a spring's state from one time code to a later one."""
    seconds = 1.0 / (SUBSTEPS * stage.GetTimeCodesPerSecond())
    times = start + np.arange(max(1, round((end - start) * SUBSTEPS)) + 1) / SUBSTEPS
    goals = target_positions(stage, spring, times)
    for before, after in pairwise(goals):
        state = advance(state, before, after, seconds, spring.frequency, spring.damping_ratio)
    return state


def local_pose(stage: Usd.Stage, path: str, frame: float, position: np.ndarray) -> Gf.Matrix4d:
    """The prim's own matrix that puts it at a world position, turned and scaled as the scene has it."""
    cache = UsdGeom.XformCache(frame)
    prim = stage.GetPrimAtPath(path)
    parent = cache.GetParentToWorldTransform(prim)
    local = _authored_pose(stage, prim, frame)
    local.SetTranslateOnly(parent.GetInverse().Transform(Gf.Vec3d(*map(float, position))))
    return local


def _authored_pose(stage: Usd.Stage, prim: Usd.Prim, frame: float) -> Gf.Matrix4d:
    """The prim's matrix without the pose that the evaluator gave it at the frame before."""
    spec = stage.GetSessionLayer().GetPrimAtPath(prim.GetPath())
    order = spec.attributes.get("xformOpOrder") if spec else None
    if order is not None:
        spec.RemoveProperty(order)
    local, _ = UsdGeom.XformCache(frame).GetLocalTransformation(prim)
    return Gf.Matrix4d(local)


def _pose(stage: Usd.Stage, path: str, local: Gf.Matrix4d) -> None:
    """Set a prim's whole local matrix in the session layer, which is never saved."""
    layer = stage.GetSessionLayer()
    spec = Sdf.CreatePrimInLayer(layer, path)
    name = "xformOp:transform:live"
    attribute = spec.attributes.get(name) or Sdf.AttributeSpec(spec, name, Sdf.ValueTypeNames.Matrix4d)
    attribute.default = local
    order = spec.attributes.get("xformOpOrder") or Sdf.AttributeSpec(
        spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform
    )
    order.default = [name]
