"""Interface of a baker. Formats without simulations have none. Formats without simulations have no baker."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.progress import Progress
from tidy_crate.core.scene.model import Simulation, Survey
from tidy_crate.core.scene.staging import StagingPlan
from tidy_crate.core.work.running import Commands


@dataclass(frozen=True)
class CacheRange:
    """The frames that a cache holds."""

    first: int
    last: int
    """Both ends counted."""
    per_frame: int
    """Samples in a frame."""

    @property
    def times(self) -> list[float]:
        """The time codes of all samples."""
        count = (self.last - self.first) * self.per_frame + 1
        return [self.first + index / self.per_frame for index in range(count)]


@dataclass(frozen=True)
class WrittenCache:
    """A cache on disk."""

    layer: Path
    """Its main file."""
    files: tuple[Path, ...]
    """The files that the main file needs beside it."""
    prims: tuple[str, ...]
    """The prims whose values it holds."""
    unbaked: tuple[str, ...]
    """The parts of the simulation that could not be solved, by prim."""


@dataclass(frozen=True)
class BakeOrder:
    """One simulation to be baked."""

    scene: Path
    plan: StagingPlan
    simulation: Simulation
    wanted: CacheRange
    folder: Path
    """The folder for the cache."""
    survey_cache: Path | None = None
    """See SceneFormat.read."""
    tokens: FrameTokens = STANDARD
    commands: Commands = field(default_factory=Commands)
    """Runs what the scene names, where it is trusted."""
    staged_copy: Callable[[StagingPlan], Path] | None = None
    """Write a staged copy of the scene under a plan and return its path. A host application bakes only on a copy."""


@dataclass(frozen=True)
class Trial:
    """The start of a bake, tried out to predict the rest."""

    seconds: float | None
    """Predicted wall clock seconds of the whole bake."""
    bytes: int | None
    """Predicted size of the cache."""
    trouble: tuple[str, ...] = ()
    """Parts that cannot be solved, by prim, or the reason why the simulation cannot be baked."""


@dataclass(frozen=True)
class Curve:
    """Curve of one prim of a cache over time, for a plot."""

    prim: str
    label: str
    times: NDArray[np.float64] = field(repr=False)
    values: NDArray[np.float64] = field(repr=False)


# frame: prim: digest of its pose and points
Digests = dict[int, dict[str, str]]


class Baker(Protocol):
    """Bakes the simulations of scenes of one format, and reads its own caches."""

    def per_frame(self, survey: Survey) -> int:
        """Return how many samples a frame a cache of this scene needs."""

    def bake(self, order: BakeOrder, progress: Progress) -> WrittenCache:
        """Solve one simulation and write its cache. What it depends on is cached already. A killed bake resumes.

        Raises UnreadableInput when the simulation makes no sense, TidyCrateError when it cannot be solved or written.
        """

    def trials(
        self,
        scene: Path,
        plan: StagingPlan,
        wanted: Mapping[str, CacheRange],
        survey_cache: Path | None,
        tokens: FrameTokens,
    ) -> dict[str, Trial]:
        """Try out the first frames of simulations, by name. One that is left out cannot be tried."""

    def bad_values(self, file: Path) -> Iterator[str]:
        """Yield what in a cache file is not a finite number, in words."""

    def digests(self, scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
        """Evaluate frames in the order given, as one node does. Raises WrongUsage where the format cannot."""

    def curves(self, simulation: Simulation) -> list[Curve]:
        """Return what the prims in a cache do over time, empty where the format cannot say."""
