"""The command lines that a scene, a crate or the scenes of a folder name, for the question whether they may run."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path

from tidy_crate.core.context.decisions import Decisions, RenderTable
from tidy_crate.core.context.outside import claims_outside
from tidy_crate.core.context.project import FILE_NAME, Project, ProjectFile
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.archive import is_archive, packing_list_in
from tidy_crate.core.crate.origin import scene_of
from tidy_crate.core.crate.packing import is_crate
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.scene.formats.registry import formats
from tidy_crate.core.toml import read_toml
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.trust import Claim, Trust

# files and folders looked at below a folder
_MOST = 100_000


def commands_in(target: Path, trust: Trust, origin_of: Callable[[Path], Path]) -> Commands:
    """Return the commands of a scene, a crate, an archive of one, or all scenes below a folder.

    origin_of: see crate_commands. Raises UnreadableInput when there is nothing there.
    """
    if is_crate(target) or is_archive(target):
        return crate_commands(target, trust, origin_of)
    if target.is_dir():
        project = Project.of(target / FILE_NAME)
        folder = project.root or target
        found = [*_render(project.content.render, FILE_NAME), *_below(folder)]
        return Commands((folder,), tuple(dict.fromkeys(found)), trust)
    if not target.exists():
        raise UnreadableInput("there is no such folder or scene", target)
    context = open_scene(target, trust=trust)
    commands = context.commands
    return replace(commands, claims=(*commands.claims, *claims_outside(context)))


def crate_commands(
    crate: Path, trust: Trust, origin_of: Callable[[Path], Path], environment: Mapping[str, str] | None = None
) -> Commands:
    """Return the commands of a crate, or of an archive of one.

    It belongs to its own folder, and to the project that it was made from here. origin_of: the file in which this
    machine notes what a crate was made from. environment: for the commands. Raises UnreadableInput where no crate is.
    """
    render = packing_list_in(crate).render
    scene = scene_of(origin_of(crate))
    # asked about by the project, where that is known: one answer for all of its crates
    folders = (*([Project.of(scene).root or scene.parent] if scene is not None else ()), crate)
    return Commands(folders, tuple(_render(render, crate.name)), trust, environment or {})


def _below(folder: Path) -> Iterator[Claim]:
    """The claims of the scenes and decisions below a folder. Links to folders are not followed."""
    endings = tuple(suffix for one in formats() for suffix in one.suffixes)
    seen = 0
    for where, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            seen += 1
            if seen > _MOST:
                raise UnreadableInput("the folder holds too many files to look through", folder, "name one scene of it")
            path = Path(where, name)
            try:
                if name == "decisions.toml" and path.parent.suffix == ".tidy":
                    yield from _render(read_toml(Decisions, path, "decisions").render, path.parent.name)
                elif name == FILE_NAME and where != str(folder):
                    yield from _render(read_toml(ProjectFile, path, "project file").render, name)
                elif name.lower().endswith(endings):
                    context = open_scene(path)
                    yield from context.format.claims(path)
                    yield from claims_outside(context)
            except TidyCrateError:
                continue  # what cannot be read runs nothing


def _render(table: RenderCommand | None, origin: str) -> list[Claim]:
    command = table.as_command() if isinstance(table, RenderTable) else table
    return [] if command is None else [Claim("render", command.command, origin, command.reads)]
