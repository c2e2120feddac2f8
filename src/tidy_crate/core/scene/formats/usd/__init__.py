"""OpenUSD scenes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib.util import find_spec
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.scene.formats.interface import StagedScene

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

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


class OpenUsd:
    """OpenUSD by the `pxr` library, which is only imported once a scene is opened."""

    name = "openusd"
    suffixes = (".usda", ".usdc", ".usd", ".usdz")

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
        """See SceneFormat.read."""
        from tidy_crate.core.scene.formats.usd.read import read

        return read(scene, plan, request, maps, survey_cache, tokens, questions)

    @property
    def reader(self) -> str:
        """See SceneFormat.reader."""
        library = find_spec("pxr")
        home = Path(library.origin).parent if library is not None and library.origin else None
        return f"{home} {home.stat().st_mtime_ns}" if home is not None else ""

    def render_command(self, scene: Path) -> RenderCommand | None:
        """See SceneFormat.render_command. The format has no place for one."""
        return None

    def claims(self, scene: Path) -> tuple[Claim, ...]:
        """See SceneFormat.claims. The format has no place for any."""
        return ()

    def opens(self, scene: Path) -> Path:
        """See SceneFormat.opens."""
        return scene

    def baker(self) -> Baker:
        """See SceneFormat.baker."""
        from tidy_crate.core.scene.formats.usd.simulation.baker import UsdBaker

        return UsdBaker()

    def geometry_bytes(
        self, scene: Path, plan: StagingPlan, survey_cache: Path | None = None, tokens: FrameTokens = STANDARD
    ) -> int | None:
        """See SceneFormat.geometry_bytes."""
        from tidy_crate.core.scene.formats.usd.geometry import geometry_bytes

        return geometry_bytes(scene, plan, survey_cache, tokens)

    def activity(self, scene: Path, camera: str, frames: Sequence[int]) -> NDArray[np.float64] | None:
        """See SceneFormat.activity."""
        from tidy_crate.core.scene.formats.usd.activity import activity

        return activity(scene, camera, frames)

    def composition(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        packed: Callable[[str], Packed | None],
        method: int | None = None,
    ) -> Composition | None:
        """See SceneFormat.composition."""
        from tidy_crate.core.scene.formats.usd.compared import compared

        return compared(scene, plan, survey, packed, method)

    def apply(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        crate_paths: Mapping[Path, PurePosixPath],
        folder: Path,
        commands: Commands,
    ) -> StagedScene:
        """See SceneFormat.apply."""
        from tidy_crate.core.scene.formats.usd.apply import apply

        return apply(scene, plan, survey, crate_paths, folder)
