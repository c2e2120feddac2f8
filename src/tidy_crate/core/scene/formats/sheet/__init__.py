"""Scene sheets: how a host application with a closed format takes part, by a small exporter and its own commands."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.scene.formats.interface import StagedScene

if TYPE_CHECKING:
    from tidy_crate.core.scene.composition import Packed
    from tidy_crate.core.scene.formats.baking import Baker
    from tidy_crate.core.scene.model import Survey
    from tidy_crate.core.scene.settings import SettingsMap
    from tidy_crate.core.scene.staging import StagingPlan
    from tidy_crate.core.scene.survey_cache import Questions
    from tidy_crate.core.work.command import RenderCommand
    from tidy_crate.core.work.request import RenderRequest
    from tidy_crate.core.work.running import Commands
    from tidy_crate.core.work.trust import Claim


class SceneSheet:
    """`NAME.sheet.json`, and the scene of the host application that it speaks for."""

    name = "sheet"
    reader = ""
    suffixes = (".sheet.json",)

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
        """See SceneFormat.read. What is needed is what the exporter says, and in doubt everything."""
        from tidy_crate.core.scene.formats.sheet.read import read

        return read(scene, plan, maps, tokens)

    def geometry_bytes(
        self, scene: Path, plan: StagingPlan, survey_cache: Path | None = None, tokens: FrameTokens = STANDARD
    ) -> int | None:
        """See SceneFormat.geometry_bytes."""
        return None

    def activity(self, scene: Path, camera: str, frames: Sequence[int]) -> None:
        """See SceneFormat.activity. A sheet does not say what is on screen."""
        return None

    def composition(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        packed: Callable[[str], Packed | None],
        method: int | None = None,
    ) -> None:
        """See SceneFormat.composition. Nothing is composed in this format."""
        return None

    def apply(
        self,
        scene: Path,
        plan: StagingPlan,
        survey: Survey,
        crate_paths: Mapping[Path, PurePosixPath],
        folder: Path,
        commands: Commands,
    ) -> StagedScene:
        """See SceneFormat.apply. The host's own command relinks the staged copy, which is then looked at again."""
        from tidy_crate.core.scene.formats.sheet.apply import apply

        return apply(scene, plan, survey, crate_paths, folder, commands)

    def opens(self, scene: Path) -> Path:
        """See SceneFormat.opens: the host's own scene."""
        from tidy_crate.core.scene.formats.sheet.model import host_scene, read_sheet

        return host_scene(scene, read_sheet(scene))

    def baker(self) -> Baker:
        """See SceneFormat.baker."""
        from tidy_crate.core.scene.formats.sheet.bake import SheetBaker

        return SheetBaker()

    def render_command(self, scene: Path) -> RenderCommand | None:
        """See SceneFormat.render_command."""
        from tidy_crate.core.scene.formats.sheet.model import read_sheet

        return read_sheet(scene).commands.render

    def claims(self, scene: Path) -> tuple[Claim, ...]:
        """See SceneFormat.claims."""
        from tidy_crate.core.scene.formats.sheet.model import read_sheet
        from tidy_crate.core.work.trust import Claim

        commands = read_sheet(scene).commands
        reads = {"render": commands.render.reads} if commands.render is not None else {}
        return tuple(Claim(what, words, scene.name, reads.get(what, ())) for what, words in commands.lines())
