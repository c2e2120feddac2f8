"""What a scene format does for the rest of the tool. A new one is a sibling of `usd`, registered by an entry point."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Protocol

from tidy_crate.core.scene.decisions import RenderCommand
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.request import RenderRequest
from tidy_crate.core.scene.settings import SettingsMap
from tidy_crate.core.scene.staging import StagingPlan


@dataclass(frozen=True)
class StagedScene:
    """What staging wrote, relative to the crate. root: the scene that a node opens; written: all files it wrote."""

    root: PurePosixPath
    written: tuple[PurePosixPath, ...]
    # places that scene files take in the crate as they are, and where their bytes come from
    copied: Mapping[PurePosixPath, Path]


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
        memory: Path | None = None,
    ) -> Survey:
        """Survey a scene as found, or with a plan as it would be staged.

        `needed` is judged for the request, or without one for the scene's own range.
        memory: a file in which the format may keep what it worked out, to be faster the next time.
        Raises UnreadableInput when the scene itself cannot be read; what is wrong further down is in the survey.
        """

    def render_command(self, scene: Path) -> RenderCommand | None:
        """The command line that the scene itself names for rendering it, None where the format cannot say."""

    def geometry_bytes(self, scene: Path, plan: StagingPlan, memory: Path | None = None) -> int | None:
        """The arrays of everything that renders at the first frame, instances once; None where it cannot be known.

        memory: see `read`.
        """

    def apply(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        places: Mapping[Path, PurePosixPath],
        folder: Path,
    ) -> StagedScene:
        """Write the staged scene files into `folder`.

        survey: the staged survey. places: for every source file (or set pattern) its place in the crate.
        Files that are not scene files, and scene files whose paths hold as they are, are left to the caller to copy.
        """
