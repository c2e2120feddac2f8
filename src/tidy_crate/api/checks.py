"""Checks, fixes and waivers."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.farms import load_card
from tidy_crate.api.scene import open_scene
from tidy_crate.api.user import SCORE_HERE, User
from tidy_crate.core.errors import WrongUsage

if TYPE_CHECKING:
    from tidy_crate.core.check.mends import Mend
    from tidy_crate.core.check.result import CheckResult
    from tidy_crate.core.check.run import Against
    from tidy_crate.core.context.decisions import MendDecision, Waiver
    from tidy_crate.core.context.scene import SceneContext


def against(
    farms: Iterable[str] = (),
    *,
    brief: Path | None = None,
    account: str | None = None,
    score_here: float = SCORE_HERE,
    accept_practice: bool = False,
    user: User | None = None,
) -> Against:
    """Return what a scene is checked against. farms: cards by file or name; account: at a farm, that pays."""
    from tidy_crate.core.check.run import Against
    from tidy_crate.core.context.brief import read_brief
    from tidy_crate.core.estimate.model import Wishes

    cards = tuple(load_card(name, user=user)[0] for name in farms)
    names = [card.name for card in cards]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise WrongUsage("two of the cards have one name", twice, "name each farm once")
    return Against(
        cards=cards,
        brief=read_brief(brief) if brief is not None else None,
        today=date.today(),
        account=account,
        wishes=Wishes(score_here=score_here, accept_practice=accept_practice),
    )


def check(
    target: Path, what: Against | None = None, *, tidy_dir: Path | None = None, user: User | None = None
) -> CheckResult:
    """Check a scene or a crate. what: see `against`."""
    from tidy_crate.core.check import run as core

    user = user or User.here()
    if target.is_dir():
        cache = user.survey_cache_of(target)
        return core.check_crate(target, what or core.NOTHING, user.origin_of(target), survey_cache=cache)
    return core.check_scene(open_scene(target, tidy_dir=tidy_dir, user=user), what or core.NOTHING)


def mend(
    scene: Path, what: Against | None = None, *, by: str = "", tidy_dir: Path | None = None, user: User | None = None
) -> tuple[Mend, ...]:
    """Fix in the staged copy what needs no human decision, and return what was done. by: who decides, if no person."""
    from tidy_crate.core.check import decide
    from tidy_crate.core.check.run import NOTHING

    def reopen() -> SceneContext:
        return open_scene(scene, tidy_dir=tidy_dir, user=user)

    return decide.mend(reopen(), reopen, what or NOTHING, by)


def take_back(
    scene: Path, code: str, *, tidy_dir: Path | None = None, user: User | None = None
) -> tuple[MendDecision, ...]:
    """Remove the fixes of one check, or of `all`."""
    from tidy_crate.core.check import decide

    return decide.take_back(open_scene(scene, tidy_dir=tidy_dir, user=user), code)


def waive(
    scene: Path,
    code: str,
    because: str,
    *,
    subject: str | None = None,
    by: str = "",
    tidy_dir: Path | None = None,
    user: User | None = None,
) -> Waiver:
    """Accept a warning for a reason, and return what was written down."""
    from tidy_crate.core.check import decide
    from tidy_crate.core.context.decisions import Waiver

    user = user or User.here()
    if not because.strip():
        raise WrongUsage("a waiver needs a reason", code, 'add --because "..."')
    waiver = Waiver(code=code, subject=subject, because=because, by=by or user.name, on=date.today())
    decide.waive(open_scene(scene, tidy_dir=tidy_dir, user=user), waiver)
    return waiver
