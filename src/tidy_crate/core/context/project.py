"""Project configuration: `tidy-crate.toml` in a scene's folder or any folder above it."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.context.brief import read_brief
from tidy_crate.core.context.carry_rules import CarryRules
from tidy_crate.core.context.decisions import RenderTable
from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.context.rules import CheckLimits, CheckRules, Confidential
from tidy_crate.core.model import Model
from tidy_crate.core.toml import read_toml
from tidy_crate.core.work.folders import FolderPattern
from tidy_crate.core.work.options import FarmOptions

FILE_NAME = "tidy-crate.toml"


def _alias(name: str) -> str:
    if not _ALIAS.fullmatch(name) or name.casefold() in _TAKEN or paths.name_troubles(name):
        raise ValueError(f"{name!r} is not an alias for a folder: use letters, digits, - and _")
    return name


# an alias is a folder's name in every crate, and the word before the colon in a packing list
_ALIAS = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,39}")
_TAKEN = {"project", "elsewhere", "caches", "staging"}
Alias = Annotated[str, AfterValidator(_alias)]


class ProjectFile(Model):
    """Contents of the project file."""

    name: str = ""
    roots: dict[Alias, Path] = Field(default_factory=dict)
    """Aliases for folders outside the project that files come from, by which they are noted in a packing list."""
    settings_maps: tuple[Path, ...] = ()
    """Files that translate a renderer's own settings."""
    tidy_dir: Path | None = None
    """Folder of decisions and caches, when they may not be beside the scene."""
    render: RenderTable | None = None
    search_paths: tuple[Path, ...] = ()
    """Folders in which bare paths (`textures/a.png`) are looked for, after the folder of the file that names them."""
    frame_tokens: dict[Annotated[str, Field(min_length=2)], Annotated[int, Field(ge=1, le=20)]] = Field(
        default_factory=dict
    )
    """Texts in file names that stand for a frame number, each with its least number of digits."""
    severity: dict[str, Literal["error", "warning", "note"]] = Field(default_factory=dict)
    """Other severities of checks, by code."""
    limits: CheckLimits = CheckLimits()
    confidential: Confidential = Confidential()
    naming: str | None = None
    """Name of outputs without a path. See CheckRules for the rest."""
    brief: Path | None = None
    """The file of the project's brief."""
    home_folders: FolderPattern = ""
    """Folders for frames at home, such as `{variant}/{camera}/{output}`; empty for the usual ones."""
    review: ReviewRules = ReviewRules()
    """From where on a review calls a frame suspect."""
    send: FarmOptions = FarmOptions()
    """Options of submissions where the command line does not say so."""
    carry: CarryRules = CarryRules()
    """What may be decided without a person while a scene is carried."""


class Project:
    """A project: its root folder and what its file says. Without a file the root is None."""

    def __init__(self, root: Path | None, content: ProjectFile) -> None:
        self.root = root
        self.content = content

    @classmethod
    def of(cls, scene: Path) -> Project:
        """The project that a scene belongs to. Raises UnreadableInput on a broken file."""
        for folder in scene.absolute().parents:
            file = folder / FILE_NAME
            # also where a link leads nowhere: a project that is not read is never passed over
            if os.path.lexists(file):
                return cls(folder, _read(file))
        return cls(None, ProjectFile())

    @property
    def file(self) -> Path | None:
        """The project file, None where there is none."""
        return self.root / FILE_NAME if self.root is not None else None

    @property
    def tidy_dir(self) -> Path | None:
        """Absolute folder for decisions and caches, None for beside the scene."""
        return self.absolute(self.content.tidy_dir) if self.content.tidy_dir else None

    @property
    def brief(self) -> Path | None:
        """Absolute path of the project's brief, None where it names none."""
        return self.absolute(self.content.brief) if self.content.brief is not None else None

    @property
    def settings_maps(self) -> tuple[Path, ...]:
        """Absolute paths of the project's settings maps."""
        return tuple(self.absolute(path) for path in self.content.settings_maps)

    @property
    def search_paths(self) -> tuple[Path, ...]:
        """Absolute folders in which bare paths are looked for."""
        return tuple(self.absolute(path) for path in self.content.search_paths)

    @property
    def roots(self) -> dict[str, Path]:
        """Absolute folders outside the project that files come from, by alias."""
        return {name: Path(os.path.normpath(self.absolute(folder))) for name, folder in self.content.roots.items()}

    @property
    def farms(self) -> tuple[str, ...]:
        """The farms of `[carry]`: names of cards, and paths of cards from the project's folder."""
        named = self.content.carry.farms
        return tuple(str(self.absolute(Path(one))) if "/" in one or one.endswith(".toml") else one for one in named)

    @property
    def tokens(self) -> FrameTokens:
        """The frame tokens that count in this project's file names."""
        return FrameTokens.of(self.content.frame_tokens)

    def rules(self) -> CheckRules:
        """Return what the project says of the checks. Raises UnreadableInput on a broken brief."""
        content = self.content
        rules = CheckRules(
            severity=content.severity,
            limits=content.limits,
            confidential=content.confidential,
            review=content.review,
            home_folders=content.home_folders,
        )
        update = {"naming": content.naming} if content.naming else {}
        if self.brief is not None:
            return rules.model_copy(update=update | {"brief": read_brief(self.brief, self.tokens)})
        return rules.model_copy(update=update)

    def absolute(self, path: Path) -> Path:
        """Return a path that the project's file names."""
        return path if self.root is None else self.root / path


def _read(file: Path) -> ProjectFile:
    return read_toml(ProjectFile, file, "project file")
