"""What may be decided without a person while a scene is carried: `[carry]` in the project file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.money import parse_money

# in a path of the rules: the scene's name without its version
SCENE = "{scene}"


def _amount(text: str) -> str:
    if text:
        try:
            _, currency = parse_money(text, "")
        except WrongUsage as error:
            raise ValueError(f"{error.what}; {error.remedy}") from error
        if not currency:
            raise ValueError("a cap needs its currency: write an amount and a currency, such as '120 EUR'")
    return text


# an amount with its currency, or nothing
CapText = Annotated[str, AfterValidator(_amount)]


def _reason(text: str) -> str:
    if not text.strip():
        raise ValueError("a waiver needs a reason")
    return text


class CarryRules(Model):
    """Rules of one project. What no rule allows waits for a person."""

    farms: tuple[str, ...] = ()
    """Cards, by name or by path from the project's folder, among which the estimate chooses."""
    cap: CapText = ""
    """Most that a job may cost, such as `120 EUR`. Without it nothing is sent unless a person agrees."""
    relink: Literal["ask", "sure"] = "ask"
    """sure: a missing file is replaced where exactly one candidate is certain."""
    look_in: tuple[Path, ...] = ()
    """Folders in which missing files are looked for, from the project's folder."""
    mend: bool = False
    """True to fix in the staged copy what `check --mend` fixes."""
    waive: dict[str, Annotated[str, AfterValidator(_reason)]] = Field(default_factory=dict)
    """Warnings that are accepted: the reason, by the check's code."""
    rerender: Annotated[int, Field(ge=0, le=10)] = 0
    """How often a frame that is bad is rendered again."""
    suspect: Literal["wait", "rerender"] = "wait"
    """Whether a suspect frame waits for a person, or counts as bad."""
    hand_over_after: Annotated[float, Field(gt=0, le=10_000)] | None = None
    """Minutes for which a farm may be silent before the rest of its job goes to another of the farms."""
    into: str = ""
    """Folder for the frames, from the project's folder; `{scene}` stands for the scene's name."""
    deliver: str = ""
    """Where accepted frames are delivered: a folder or an archive. Nothing is delivered where it is not said."""
    report: str = ""
    """The HTML file of the record. None is written where it is not said."""
