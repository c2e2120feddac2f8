"""Interface of a scene format.

A new one is a sibling of `usd`, registered by an entry point. A new one is a sibling of `usd`, registered by an
entry point.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Protocol

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.scene.composition import Composition, Packed
from tidy_crate.core.scene.formats.baking import Baker
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.settings import SettingsMap
from tidy_crate.core.scene.staging import StagingPlan
from tidy_crate.core.scene.survey_cache import Questions
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.trust import Claim

if TYPE_CHECKING:
    # a heavy import, only named here
    import numpy as np
    from numpy.typing import NDArray


@dataclass(frozen=True)
class StagedScene:
    """Files that staging wrote, relative to the crate."""

    root: PurePosixPath
    """The scene that a node opens."""
    written: tuple[PurePosixPath, ...]
    """All files that staging wrote."""
    copied: Mapping[PurePosixPath, Path]
    """Scene files that stay as they are: their path in the crate, and the file that they are copied from."""


class SceneFormat(Protocol):
    """Reads scenes of one format into surveys, and writes staged ones."""

    name: str
    suffixes: tuple[str, ...]

    def read(
        self,
        scene: Path,
        plan: StagingPlan | None = None,
        request: RenderRequest | None = None,
        maps: tuple[SettingsMap, ...] = (),
        survey_cache: Path | None = None,
        tokens: FrameTokens = STANDARD,
        questions: Questions | None = None,
    ) -> Survey:
        """Survey a scene as saved, or with a plan as it would be staged.

        `needed` is judged for the request, or without one for the scene's own range.
        survey_cache: a file in which the format may keep results, to be faster the next time.
        tokens: the frame tokens that count in file names.
        questions: is filled with all that was asked of the disk, by a format whose survey follows from the answers and
        these arguments alone: it is kept for as long as the answers stay the same.
        Raises UnreadableInput when the scene itself cannot be read; what is wrong further down is in the survey.
        """

    @property
    def reader(self) -> str:
        """The library that reads scenes: the same text for as long as it is the same build."""

    def render_command(self, scene: Path) -> RenderCommand | None:
        """Return the command line that the scene itself names for rendering it, None where the format has none."""

    def claims(self, scene: Path) -> tuple[Claim, ...]:
        """Return all command lines that the scene itself names, the one that renders it too."""

    def opens(self, scene: Path) -> Path:
        """Return the file that a renderer opens: the scene, or the scene of the host application that it describes."""

    def geometry_bytes(
        self, scene: Path, plan: StagingPlan, survey_cache: Path | None = None, tokens: FrameTokens = STANDARD
    ) -> int | None:
        """Return the bytes of all arrays that render at the first frame, instances once; None where unknown.

        survey_cache, tokens: see `read`.
        """

    def activity(self, scene: Path, camera: str, frames: Sequence[int]) -> NDArray[np.float64] | None:
        """Return features of what is on screen at each frame, shape (frames, features); None where unknown.

        They say between which frames much changes, so that test frames can be spread over it. scene: a staged one.
        camera: path of the camera that looks.
        """

    def apply(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        crate_paths: Mapping[Path, PurePosixPath],
        folder: Path,
        commands: Commands,
    ) -> StagedScene:
        """Write the staged scene files into `folder`.

        survey: the staged survey. crate_paths: for every source file (or set pattern) its path in the crate.
        commands: runs what the scene names, where staging needs that; raises NotTrusted where it may not.
        Files that are not scene files, and scene files whose paths hold as they are, are left to the caller to copy.
        """

    def composition(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        packed: Callable[[str], Packed | None],
        method: int | None = None,
    ) -> Composition | None:
        """Digest what the format's own library composes, None where the format composes nothing.

        survey: of the scene under this plan. packed: returns a file, named by its absolute path, as it is in the
        crate; None for one that does not travel. method: how to compare, see `Composition.method`; the format chooses
        where it is None.
        """

    def baker(self) -> Baker | None:
        """Return what bakes simulations in scenes of this format, None where the format has none."""
