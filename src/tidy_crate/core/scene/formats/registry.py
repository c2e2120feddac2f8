"""Finds the format that reads a scene."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from tidy_crate.core.errors import UnreadableInput
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
        raise UnreadableInput("this is a folder, not a scene", scene, "name the scene file in it")
    if not scene.is_file():
        raise UnreadableInput("this is a device or a pipe, not a scene", scene)
    for one in formats():
        if scene.name.lower().endswith(one.suffixes):
            return one
    known = " ".join(sorted(suffix for one in formats() for suffix in one.suffixes))
    raise UnreadableInput("this is not a scene format that can be read", scene, f"known endings: {known}")
