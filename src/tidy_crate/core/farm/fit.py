"""Machine classes of a farm that can render a scene, and the reasons against the others."""

from __future__ import annotations

import math
from dataclasses import dataclass

from tidy_crate.core.farm.card import FarmCard, Machine

GIB = 2**30
# tiles render a margin around them for filters, and read the whole scene each
TILE_OVERHEAD = 1.1


@dataclass(frozen=True)
class Need:
    """Requirements of a scene on a machine."""

    memory: int | None = None
    """Bytes, None while unknown."""
    gpu_memory: int | None = None
    """Bytes, None while unknown."""
    disk: int | None = None
    """Bytes, None while unknown."""
    device: str | None = None
    """The kind that the scene is set to, None while unknown."""
    frame_seconds: float | None = None
    """Seconds of the slowest frame on a machine of score 1. None without a test frame."""
    load_seconds: float = 0.0
    """Seconds to load the scene on such a machine."""


@dataclass(frozen=True)
class Fit:
    """One machine class."""

    machine: str
    reasons: tuple[str, ...]
    """The reasons why it cannot render the scene. Empty when it can."""
    frame_seconds: float | None = None
    tiles: int = 1
    """Number of tiles that a frame needs."""


def fit(machine: Machine, need: Need, card: FarmCard) -> Fit:
    """Hold a machine class against a scene."""
    reasons = []
    if need.memory is not None and need.memory > machine.memory_gb * GIB:
        reasons.append(f"the scene takes {gib(need.memory)} at least, it has {machine.memory_gb:g} GiB of memory")
    kinds = machine.device_kinds
    if need.device is not None and need.device not in kinds:
        reasons.append(f"the scene renders on a {need.device.upper()}, it offers {' and '.join(kinds)}")
    elif need.device == "gpu" and (need.gpu_memory or 0) > (machine.gpu_memory_gb or math.inf) * GIB:
        reasons.append(f"the scene takes {gib(need.gpu_memory or 0)} of a GPU, each has {machine.gpu_memory_gb:g} GiB")
    if need.disk is not None and machine.disk_gb is not None and need.disk > machine.disk_gb * GIB:
        reasons.append(f"the crate takes {gib(need.disk)}, its disk has {machine.disk_gb:g} GiB free")
    seconds = None if need.frame_seconds is None else need.frame_seconds / machine.score
    tiles = 1
    limit = card.limits.minutes_per_frame
    if seconds is not None and limit is not None:
        load = need.load_seconds / machine.score
        tiles = tiles_for(seconds, load, limit * 60)
        if tiles == 0:
            reasons.append(f"loading the scene alone takes longer than the {limit:g} minutes a frame may take")
        elif tiles > 1 and not card.nodes.tiles:
            reasons.append(f"a frame takes {seconds / 60:.0f} minutes, over {limit:g}, and it renders no tiles")
    return Fit(machine.name, tuple(reasons), seconds, max(tiles, 1))


def tiles_for(frame_seconds: float, load_seconds: float, limit_seconds: float) -> int:
    """Return how many tiles bring a frame under a limit: 1 when it is under as it is, 0 when no number does.

    Each tile loads the scene, and renders a tenth more than its share: a margin for the filters.
    """
    if frame_seconds + load_seconds <= limit_seconds:
        return 1
    if load_seconds >= limit_seconds:
        return 0
    return math.ceil(frame_seconds * TILE_OVERHEAD / (limit_seconds - load_seconds))


def grid(tiles: int) -> tuple[int, int]:
    """Columns and rows that make at least so many tiles, as square as can be."""
    columns = math.ceil(math.sqrt(tiles))
    return columns, math.ceil(tiles / columns)


def gib(count: float) -> str:
    """Bytes in GiB, for reasons."""
    return f"{count / GIB:.1f} GiB" if count >= GIB / 10 else f"{count / 2**20:.1f} MiB"
