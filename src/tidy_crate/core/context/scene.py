"""A scene with all that belongs to it: its format, project, decisions and caches."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

from blake3 import blake3

from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.context.brief import name_by
from tidy_crate.core.context.decisions import Decisions, DecisionsFile, RenderTable, tidy_folder
from tidy_crate.core.context.project import Project
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.files import hash_file
from tidy_crate.core.scene.caches import cache_edits
from tidy_crate.core.scene.formats.interface import SceneFormat
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import MemoryNeed, Survey
from tidy_crate.core.scene.settings import SettingsMap, load_maps
from tidy_crate.core.scene.staging import RenderOrder, Resolved, SearchPath, StagingPlan
from tidy_crate.core.scene.survey_cache import SurveyCache, kept_survey
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.trust import STATE, Claim, NotTrusted, Trust


@dataclass(frozen=True)
class SceneContext:
    """A scene with its project, decisions and caches."""

    scene: Path
    """Absolute path."""
    format: SceneFormat
    project: Project
    file: DecisionsFile
    decisions: Decisions
    plan: StagingPlan
    """The staging plan that decisions and caches make now."""
    maps: tuple[SettingsMap, ...]
    survey_cache: Path | None = None
    """See SceneFormat.read."""
    trust: Trust = field(default_factory=Trust)
    """Used for the commands that the scene and its project name."""
    environment: Mapping[str, str] = field(default_factory=dict, repr=False)
    """Used for the commands that the scene and its project name."""

    @property
    def root(self) -> Path:
        """The project's folder, or the scene's own where there is no project."""
        return self.project.root or self.scene.parent

    @property
    def commands(self) -> Commands:
        """The command lines that the scene, its decisions and its project name."""
        named = list(self.format.claims(self.scene))
        for table, file in ((self.decisions.render, self.file.path), (self.project.content.render, self.project.file)):
            render = table.as_command() if table is not None else None
            if render is not None:
                origin = file.name if file is not None else ""
                named.append(Claim("render", render.command, origin, render.reads))
        return Commands((self.root,), tuple(named), self.trust, self.environment)

    @property
    def tidy(self) -> Path:
        """The folder of this scene's decisions and caches."""
        return self.file.path.parent

    @property
    def said(self) -> dict[str, str]:
        """What says how the scene is staged and packed, by name, each as a digest: decisions, project file, brief.

        Of the project file, how it is sent and carried does not count.
        """
        content = self.project.content.model_dump_json(exclude={"carry", "send"})
        found = {"project file": blake3(content.encode()).hexdigest()} if self.project.file is not None else {}
        for name, path in (("decisions", self.file.path), ("brief", self.project.brief)):
            if path is not None and path.is_file():
                found[name] = hash_file(path)
        return found

    @property
    def tokens(self) -> FrameTokens:
        """The frame tokens that count in this scene's file names."""
        return self.project.tokens

    @property
    def render_command(self) -> RenderCommand | None:
        """The command line that renders this scene: its own decision, else what it says itself, else the project's."""
        own, shared = (
            table.as_command() if table is not None else None
            for table in (self.decisions.render, self.project.content.render)
        )
        return own or self.format.render_command(self.scene) or shared

    def with_caches_of_now(self) -> SceneContext:
        """The same scene with the caches that are there now."""
        search = self.project.search_paths
        along = (SearchPath(folders=search, because="the project's search path"),) if search else ()
        edits = (*along, *cache_edits(self.tidy), *self._orders(), *self.decisions.edits(self.scene))
        return replace(self, plan=StagingPlan(edits=edits))._with_identifiers()

    def _with_identifiers(self) -> SceneContext:
        """The same scene with the files that identifiers stand for now, where a resolver is set up."""
        from tidy_crate.core.asset.resolvers import active
        from tidy_crate.core.context.identifiers import resolved_edits

        resolvers = active()
        if not resolvers:
            return self

        def survey(edits: tuple[Resolved, ...]) -> Survey:
            return self._kept(StagingPlan(edits=(*self.plan.edits, *edits)), None).survey()

        found = resolved_edits(self.scene, resolvers, survey, self.versions)
        return replace(self, plan=StagingPlan(edits=(*self.plan.edits, *found)))

    @property
    def versions(self) -> Path | None:
        """The note of the versions that identifiers had; None where this machine keeps nothing of a scene."""
        return self.survey_cache.with_suffix(".identifiers.json") if self.survey_cache is not None else None

    def with_decisions_of_now(self) -> SceneContext:
        """The same scene with the decisions that are there now."""
        return replace(self, decisions=self.file.read()).with_caches_of_now()

    def _orders(self) -> Iterator[RenderOrder]:
        """Yield what the project and the decisions say is to be rendered, the stronger one last."""
        naming = self.project.rules().naming
        tables: tuple[tuple[Literal["project", "decisions"], RenderTable | None], ...] = (
            ("project", self.project.content.render),
            ("decisions", self.decisions.render),
        )
        for origin, table in tables:
            if table is None:
                continue
            order = table.as_order(origin, lambda output: name_by(naming, self.scene.name, output, "exr"))
            if order is not None:
                yield order

    def survey(self, request: RenderRequest | None = None) -> Survey:
        """The scene as it would be staged now."""
        return self._kept(self.plan, request).survey()

    def survey_as_found(self, request: RenderRequest | None = None) -> Survey:
        """The scene as the artist saved it."""
        return self._kept(None, request).survey()

    def memory_need(self, survey: Survey, *, as_found: bool = False) -> MemoryNeed:
        """Return the least memory of a machine for the scene. survey: of it as it would be staged now, or as found."""
        from tidy_crate.core.scene.memory_need import memory_need

        plan = StagingPlan() if as_found else self.plan
        return self._kept(None if as_found else plan, None).derived(
            "memory", MemoryNeed, lambda: memory_need(self.format, self.scene, plan, survey, self.survey_cache)
        )

    def survey_json(self, *, as_found: bool = False) -> bytes:
        """The survey as JSON: a kept one without being read. Raises ValueError as `as_json` does."""
        return self._kept(None if as_found else self.plan, None).json()

    def _kept(self, plan: StagingPlan | None, request: RenderRequest | None) -> SurveyCache:
        return kept_survey(self.format, self.scene, plan, request, self.maps, self.tokens, self.survey_cache)


def open_scene(
    scene: Path,
    tidy_dir: Path | None = None,
    survey_cache: Path | None = None,
    trust: Trust | None = None,
    environment: Mapping[str, str] | None = None,
) -> SceneContext:
    """Find a scene's format, project, decisions and caches. Raises UnreadableInput when any of them is broken.

    tidy_dir: overrides where decisions and caches are. survey_cache: see SceneFormat.read.
    trust: the commands that may run, none without it. environment: for those commands, without any token.
    """
    scene = scene.absolute()
    chosen = format_of(scene)
    project = Project.of(scene)
    trust, root = trust or Trust(), project.root or scene.parent
    folder = tidy_folder(scene, tidy_dir or project.tidy_dir)
    allowed = [root] if tidy_dir is None else [root, tidy_dir]
    file = DecisionsFile(scene, tidy_dir or project.tidy_dir, lambda: _check_state_folder(folder, allowed, trust))
    decisions = file.read()
    maps = load_maps(project.settings_maps)
    context = SceneContext(
        scene, chosen, project, file, decisions, StagingPlan(), maps, survey_cache, trust, environment or {}
    )
    return context.with_caches_of_now()


# what is written to inside of it
_STATE = (".", "caches", "collected", "staged-for-host")


def _check_state_folder(folder: Path, allowed: Sequence[Path], trust: Trust) -> None:
    """Make sure that decisions and caches are kept in the project, or where the user wants them.

    A project from others can name a folder of this machine for them, or bring a link to one.
    """
    places = [os.path.realpath(place) for place in allowed]
    for name in _STATE:
        real = os.path.realpath(folder / name)
        if not any(Path(real).is_relative_to(place) for place in places):
            claim = Claim(STATE, (real,), folder.name)
            if not trust.holds([allowed[0]], claim.mark_words):
                raise NotTrusted(allowed[0], [claim])


def need_render_command(command: RenderCommand | None, where: object) -> RenderCommand:
    """The render command, or a WrongUsage that says how to name one."""
    if command is None:
        raise WrongUsage(
            "there is no render command for this scene",
            where,
            "add to the project's tidy-crate.toml, or to the scene's decisions.toml: "
            '[render] command = ["PROGRAM", "{scene}", "--frames", "{frames}", "--out", "{output_folder}"]',
        )
    return command
