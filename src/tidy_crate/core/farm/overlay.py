"""Changes by one farm's rules: made when a crate is sent, never in the crate itself."""

from __future__ import annotations

from tidy_crate.core.asset import paths
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Output


class Overlay(Model):
    """Changes that one farm is asked to apply to a crate."""

    outputs: dict[str, str]
    """By output, the path that the farm is asked to write."""


def overlay(card: FarmCard, outputs: tuple[Output, ...]) -> Overlay:
    """The output paths in the form that a farm takes."""
    found = {output.name: output_path(card, output.path) for output in outputs}
    return Overlay(outputs=found)


def output_path(card: FarmCard, path: str) -> str:
    """One output's path as this farm wants it: its name only, from the job's folder, or on its share."""
    match card.outputs.path:
        case "name":
            return paths.file_name(path)
        case "relative":
            return inside_job(path)
        case "share":
            return f"{paths.to_slashes(card.outputs.share or '').rstrip('/')}/{inside_job(path)}"
        case _:
            return path


def inside_job(path: str) -> str:
    """A path that starts in the job's folder and does not leave it; of an absolute one only the name is left."""
    if paths.is_absolute(path):
        return paths.file_name(path)
    kept: list[str] = []
    for part in paths.parts(path):
        if part == "..":
            kept = kept[:-1]
        else:
            kept.append(part)
    return "/".join(kept)
