"""glTF 2.0 scenes, as text (.gltf) and binary (.glb)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.scene.formats.interface import StagedScene

if TYPE_CHECKING:
    from tidy_crate.core.scene.composition import Composition, Packed
    from tidy_crate.core.scene.model import Survey
    from tidy_crate.core.scene.settings import SettingsMap
    from tidy_crate.core.scene.staging import StagingPlan
    from tidy_crate.core.scene.survey_cache import Questions
    from tidy_crate.core.work.command import RenderCommand
    from tidy_crate.core.work.request import RenderRequest
    from tidy_crate.core.work.running import Commands
    from tidy_crate.core.work.trust import Claim


class Gltf:
    """glTF 2.0 by our own reading of its JSON."""

    name = "gltf"
    reader = ""
    suffixes = (".gltf", ".glb")

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
        """See SceneFormat.read. A file states no frame range, rate or outputs, so a request changes nothing."""
        from tidy_crate.core.scene.formats.gltf.read import read

        return read(scene, plan, tokens)

    def render_command(self, scene: Path) -> RenderCommand | None:
        """See SceneFormat.render_command. The format has no place for one."""
        return None

    def claims(self, scene: Path) -> tuple[Claim, ...]:
        """See SceneFormat.claims. The format has no place for any."""
        return ()

    def opens(self, scene: Path) -> Path:
        """See SceneFormat.opens."""
        return scene

    def baker(self) -> None:
        """See SceneFormat.baker. The format has no simulations."""
        return None

    def geometry_bytes(
        self, scene: Path, plan: StagingPlan, survey_cache: Path | None = None, tokens: FrameTokens = STANDARD
    ) -> int | None:
        """See SceneFormat.geometry_bytes."""
        from tidy_crate.core.scene.formats.gltf.read import geometry_bytes

        return geometry_bytes(scene)

    def activity(self, scene: Path, camera: str, frames: Sequence[int]) -> None:
        """See SceneFormat.activity. Nothing is known of it in this format."""
        return None

    def composition(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        packed: Callable[[str], Packed | None],
        method: int | None = None,
    ) -> Composition:
        """See SceneFormat.composition. The file's own entries are compared, with the contents of what they name."""
        from tidy_crate.core.scene.formats.gltf.composition import composition

        return composition(scene, plan, survey, packed)

    def apply(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        crate_paths: Mapping[Path, PurePosixPath],
        folder: Path,
        commands: Commands,
    ) -> StagedScene:
        """See SceneFormat.apply. The staged scene keeps its name and place."""
        from tidy_crate.core.scene.formats.gltf.apply import apply

        return apply(scene, plan, survey, crate_paths, folder)
