"""A shot: a scene, its crate and its job, the rules for them, and what the steps need to look at it."""

from __future__ import annotations

import os
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from tidy_crate.core.asset.paths import scene_stem, without_version
from tidy_crate.core.context.carry_rules import SCENE, CarryRules
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.staging import RenderParts
from tidy_crate.core.work.options import SendOptions

if TYPE_CHECKING:
    from tidy_crate.core.context.scene import SceneContext
    from tidy_crate.core.crate.packing import PackingList
    from tidy_crate.core.estimate.model import Quote
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.job.ledger import Ledger
    from tidy_crate.core.job.submission import Links


@dataclass(frozen=True)
class Offer:
    """The way of sending a crate that the estimate recommends, or that is left where none can be made."""

    farm: str
    """As it was named: a card's name or path."""
    name: str
    """The name on the card."""
    options: SendOptions
    quote: Quote | None
    """None where no estimate can be made."""
    ways: tuple[Quote, ...]
    """All ways that were estimated, of which it is one; none where no estimate can be made."""
    no_quote: str
    """Why there is none."""
    errors: tuple[str, ...]
    """What forbids sending it there."""
    command: tuple[str, ...]
    """The line that sends it so."""


class Desk(Protocol):
    """What the steps know of the user: files, ledger, farms and the clock."""

    @property
    def ledger(self) -> Ledger:
        """Return the ledger, open."""

    @property
    def links(self) -> Links:
        """Return the links to farms."""

    def now(self) -> datetime:
        """Return the time, with its zone."""

    def open_scene(self, scene: Path) -> SceneContext:
        """Return a scene with its decisions and caches as they are now."""

    def known_farms(self) -> tuple[str, ...]:
        """Return the farms that are known by name."""

    def card(self, farm: str) -> FarmCard:
        """Return a farm's card, by name or path."""

    def origin_of(self, crate: Path) -> Path:
        """Return the file in which it is noted what a crate was made from."""

    def proof_of(self, crate: Path) -> Path:
        """Return the file in which the last proof of a crate is noted."""

    def offer(self, crate: Path, farms: Sequence[str], options: SendOptions) -> Offer:
        """Return the best way to send a crate to one of some farms. Asks no farm, and sends nothing."""


@dataclass(frozen=True)
class Shot:
    """What is carried. Paths are absolute."""

    desk: Desk
    rules: CarryRules
    rules_file: Path | None
    """Where the rules are written; None where there are none."""
    crate: Path
    scene: Path | None = None
    """None where a crate or a job is all that there is."""
    job: str | None = None
    """None where it is to be found by the crate."""
    farms: tuple[str, ...] = ()
    spare: tuple[str, ...] = ()
    """Farms that may take the rest of the job where its own falls silent."""
    cap: tuple[Decimal, str] | None = None
    """Most that the job may cost, and its currency."""
    asked: RenderParts = field(default_factory=RenderParts)
    """What is to be rendered, where that is said from outside of the scene."""
    options: SendOptions = field(default_factory=SendOptions)
    """Wishes for the job."""
    into: Path = Path("frames")
    deliver: Path | None = None
    report: Path | None = None

    @property
    def by(self) -> str:
        """Return who decides what a rule allows, for the record."""
        return f"rule in {self.rules_file.name}" if self.rules_file is not None else "rule"

    def cards(self) -> tuple[FarmCard, ...]:
        """Return the cards of the farms, each once."""
        return tuple({card.name: card for card in map(self.desk.card, self.farms)}.values())


def options_of(quote: Quote) -> SendOptions:
    """Return the wishes that make a submission the one that was quoted."""
    found: dict[str, Any] = {"machine": quote.machine, "nodes": quote.nodes, "batch": quote.batch}
    found |= {"priority": quote.priority} if quote.priority else {}
    found |= {"reclaimable": True} if quote.reclaimable else {}
    return SendOptions.model_validate(found)


def send_line(crate: Path | str, farm: str, options: SendOptions) -> tuple[str, ...]:
    """Return the line that sends a crate so, as words without the program's name."""
    words = ["send", str(crate), "--farm", farm]
    for name in ("machine", "nodes", "batch", "priority"):
        value = getattr(options, name)
        words += [f"--{name}", str(value)] if value is not None else []
    return (*words, *(["--reclaimable"] if options.reclaimable else []))


def words_of(*words: object) -> tuple[str, ...]:
    """Return a command line as texts."""
    return tuple(map(str, words))


def line_of(words: Sequence[str]) -> str:
    """Return a command line as it is typed."""
    return f"tidy-crate {shlex.join(words)}"


def placed(pattern: str, scene: Path, root: Path) -> Path:
    """Return the path that a rule names for a scene. Raises WrongUsage for one that has other names in braces."""
    name = without_version(scene_stem(scene.name))
    found = pattern.replace(SCENE, name)
    if "{" in found or "}" in found:
        raise WrongUsage(f"a path of [carry] may hold {SCENE} and nothing else in braces", pattern)
    return Path(os.path.normpath(root / found))


def same_contents(one: PackingList, other: PackingList) -> bool:
    """Return whether two crates hold the same files, whatever is asked of them."""
    return _contents(one) == _contents(other)


def _contents(content: PackingList) -> tuple[str, Mapping[str, str]]:
    return content.scene, {file.path: file.blake3 for file in content.files}
