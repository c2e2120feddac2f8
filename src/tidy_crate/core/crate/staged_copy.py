"""A staged copy of a scene beside its decisions, for host applications that work on a copy only."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.copying import Way

STAGED = "staged-for-host"


def staged_copy(context: SceneContext) -> Path:
    """Write or refresh the copy, and return the staged scene in it."""
    return collect(context, context.tidy / STAGED, way=Way.REFLINK).scene
