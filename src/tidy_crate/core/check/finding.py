"""Findings, and the register of checks that make them."""

from __future__ import annotations

import inspect
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from enum import StrEnum
from functools import cached_property
from pathlib import Path
from typing import Literal

from tidy_crate.core.asset.head import Head, read_head
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.context.outside import Border, Held
from tidy_crate.core.context.rules import CheckRules
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.estimate.probe_result import ProbeResult
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Asset, AssetMember, MemoryNeed, Status, Survey
from tidy_crate.core.work.request import RenderRequest


class Severity(StrEnum):
    """error: blocks. warning: blocks nothing, and can be waived with a reason. note: for information."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Next(StrEnum):
    """The next step for a finding, in the order of the work."""

    RELINK = "relink"
    AGREE = "agree"
    BAKE = "bake"
    ORDER = "order"
    MEND = "mend"
    SCENE = "scene"
    COLLECT = "collect"
    FARM = "farm"
    DECIDE = "decide"
    NOTHING = "nothing"


Seen = Literal["found", "staged", "both"]


class Finding(Model):
    """One result of a check."""

    code: str
    severity: Severity
    subject: str
    """The prim, file or setting that it is about."""
    message: str
    why: str
    """The damage if it stays."""
    remedy: str
    waived: bool = False
    waived_because: str | None = None
    waived_by: str = ""
    waived_on: date | None = None
    farm: str | None = None
    """The farm whose rule it is, None for the scene's own troubles."""
    seen: Seen = "both"
    """In the scene as saved, as staged, or in both."""
    next: Next = Next.DECIDE
    """The next step, in words or as a command."""
    mend: str | None = None
    """The fix that `check --mend` would apply, None where it takes a person."""


@dataclass(frozen=True)
class Trouble:
    """One problem that a check found."""

    subject: str
    message: str
    remedy: str
    next: Next | None = None
    """The next step, where it is not the same for every trouble of the check."""


@dataclass
class Heads:
    """The first bytes of files, each read once. A file that cannot be read has an error in place of a head."""

    # by text, which is quicker than by path
    _known: dict[str, Head | OSError] = field(default_factory=dict)

    def of(self, path: Path | str) -> Head | OSError:
        """Return what a file begins like."""
        name = str(path)
        found = self._known.get(name)
        if found is None:
            try:
                found = read_head(name)
            except OSError as error:
                found = error
            self._known[name] = found
        return found


@dataclass(frozen=True)
class Checked:
    """Everything that checks read."""

    survey: Survey
    """Survey of the scene in question, as saved or as staged."""
    root: Path | None
    rules: CheckRules = field(default_factory=CheckRules)
    is_crate: bool = False
    original: str = ""
    """The file name of a crate's original scene, empty for a scene itself."""
    for_farms: bool = False
    """True if farm cards are asked too, which may allow what is forbidden otherwise."""
    changed: tuple[Path, ...] = ()
    """Files that are no longer as they were collected."""
    border: Border | None = None
    """Decides what may leave this machine; None for a crate, which is on its way."""
    disk: Disk = field(default_factory=Disk)
    """Looked at once for all checks."""
    heads: Heads = field(default_factory=Heads)
    """Read once for all checks."""

    @cached_property
    def files(self) -> dict[Path, tuple[Asset, AssetMember]]:
        """Every file that these frames need, with the first place that names it."""
        found: dict[Path, tuple[Asset, AssetMember]] = {}
        for asset in self.survey.assets:
            if asset.needed and asset.status in (Status.FOUND, Status.PARTIAL):
                for member in asset.members:
                    found.setdefault(member.path, (asset, member))
        return found

    @cached_property
    def held(self) -> tuple[Held, ...]:
        """The files that may not leave this machine unasked."""
        if self.border is None:
            return ()
        border = replace(self.border, look=self._head)
        return border.held(dict.fromkeys(m.path for asset in self.survey.assets for m in asset.members))

    def _head(self, path: str) -> Head:
        found = self.heads.of(path)
        if isinstance(found, OSError):
            raise found
        return found

    @cached_property
    def held_paths(self) -> frozenset[Path]:
        """The same as a set of paths."""
        return frozenset(one.path for one in self.held)

    @cached_property
    def names(self) -> tuple[tuple[str, str, Path], ...]:
        """Folder and name of each of these files, as text, with its path: taking paths apart is slow."""
        return tuple((*os.path.split(path), path) for path in self.files)

    @cached_property
    def heads_of_files(self) -> tuple[tuple[str, Path, Head | OSError], ...]:
        """Name, path and first bytes of each of these files."""
        return tuple((name, path, self.heads.of(path)) for _, name, path in self.names)

    @cached_property
    def _lead(self) -> str:
        return "" if self.root is None else f"{self.root}{os.sep}"

    def is_inside(self, path: Path) -> bool:
        """Return whether a file is in the project; where there is none, everything does."""
        return str(path).startswith(self._lead)

    def short(self, path: Path) -> str:
        """A path from the project's root, or whole where it is outside. Asked for every file of a scene."""
        text = str(path)
        return text[len(self._lead) :] if self._lead and text.startswith(self._lead) else text


@dataclass(frozen=True)
class OnFarm:
    """A scene or crate as one farm would get it."""

    scene: Checked
    card: FarmCard
    today: date
    """The day of the check."""
    request: RenderRequest | None = None
    """The frames to render, None where the scene lacks something."""
    files: tuple[tuple[str, int], ...] = ()
    """Path in the crate, with forward slashes, and bytes of everything that travels."""
    memory: MemoryNeed | None = None
    """None where not measured."""
    probe: ProbeResult | None = None
    """None where not measured."""
    quote: Quote | None = None
    """None where not measured."""
    score_here: float = 100.0
    balance: Decimal | None = None
    """Balance of the account that pays, in the card's currency."""

    @cached_property
    def bytes(self) -> int:
        """The size of everything that travels."""
        return sum(size for _, size in self.files)

    @property
    def survey(self) -> Survey:
        """The scene as it would be staged."""
        return self.scene.survey


SceneCheck = Callable[[Checked], Iterator[Trouble]]
FarmCheck = Callable[[OnFarm], Iterator[Trouble]]


@dataclass(frozen=True)
class Check:
    """A registered check: `of_scene` or `of_farm`, whichever it looks at."""

    code: str
    severity: Severity
    need: str
    why: str
    """The damage if it is ignored."""
    next: Next
    of_scene: SceneCheck | None = None
    of_farm: FarmCheck | None = None


CATALOGUE: dict[str, Check] = {}


def check(code: str, severity: Severity, need: str, then: Next = Next.SCENE) -> Callable[[SceneCheck], SceneCheck]:
    """Register a check of a scene. Its docstring says what goes wrong on the farm when it is ignored.

    need: the group it belongs to. then: what a wrangler does about it. Raises ValueError on a code that is taken.
    """

    def register(function: SceneCheck) -> SceneCheck:
        _add(Check(code, severity, need, _why(function), then, of_scene=function))
        return function

    return register


def farm_check(code: str, severity: Severity, need: str, then: Next = Next.FARM) -> Callable[[FarmCheck], FarmCheck]:
    """Register a check of a scene against a farm card; see `check`."""

    def register(function: FarmCheck) -> FarmCheck:
        _add(Check(code, severity, need, _why(function), then, of_farm=function))
        return function

    return register


def _add(one: Check) -> None:
    if one.code in CATALOGUE:
        raise ValueError(f"there is a check {one.code} already")
    CATALOGUE[one.code] = one


def _why(function: Callable[..., object]) -> str:
    return " ".join((inspect.getdoc(function) or "").split())
