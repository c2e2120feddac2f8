"""Finds the format that reads a scene."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import quoted
from tidy_crate.core.plugins import plugins
from tidy_crate.core.scene.formats.interface import SceneFormat

GROUP = "tidy_crate.scene_formats"


@cache
def formats() -> tuple[SceneFormat, ...]:
    """All formats that are installed, this tool's own and those of other packages."""
    return tuple(found() for found in plugins(GROUP).values())


def format_of(scene: Path) -> SceneFormat:
    """The format that reads this scene, by its ending. Raises UnreadableInput when there is none, or no file."""
    if not scene.exists():
        raise UnreadableInput("there is no such scene", scene, "check the path")
    if scene.is_dir():
        if (scene / "packing-list.json").is_file():
            remedy = f"name its scene, or check the crate: tidy-crate check {quoted(scene)}"
            raise UnreadableInput("this is a crate, not a scene", scene, remedy)
        raise UnreadableInput("this is a folder, not a scene", scene, "name the scene file in it")
    if not scene.is_file():
        raise UnreadableInput("this is a device or a pipe, not a scene", scene)
    for one in formats():
        if scene.name.lower().endswith(one.suffixes):
            return one
    known = " ".join(sorted(suffix for one in formats() for suffix in one.suffixes))
    sheet = f"tidy-crate sheet new {quoted(scene)} --host NAME --version V (docs/hosts.md)"
    remedy = f"these are read: {known}; for the scene of another host: {sheet}"
    raise UnreadableInput("this is not a scene format that can be read", scene, remedy)


def is_scene(path: Path) -> bool:
    """Return whether the name of a file is that of a scene."""
    return path.name.lower().endswith(tuple(suffix for one in formats() for suffix in one.suffixes))
