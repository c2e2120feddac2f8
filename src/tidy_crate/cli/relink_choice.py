"""Choosing among candidates, one missing file after the other."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import typer

from tidy_crate.cli.talk import Talk
from tidy_crate.cli.text import clean
from tidy_crate.core.errors import WrongUsage

if TYPE_CHECKING:
    from tidy_crate.core.context.relink import Proposal
    from tidy_crate.core.scene.model import Asset


def choose(talk: Talk, proposals: tuple[Proposal, ...], lacking: list[Asset]) -> list[Proposal]:
    """Ask about each missing file that has candidates. Returns what was chosen, as sure.

    Raises WrongUsage without a terminal.
    """
    if not sys.stdin.isatty():
        raise WrongUsage("choosing needs a terminal", None, "run it in a terminal, or use --apply for the sure ones")
    by_asset: dict[str, list[Proposal]] = {}
    for proposal in proposals:
        by_asset.setdefault(proposal.asset, []).append(proposal)
    chosen: dict[str, Proposal] = {}
    asked = [asset for asset in lacking if asset.id in by_asset]
    for number, asset in enumerate(asked, 1):
        if asset.id in chosen:
            continue
        candidates = by_asset[asset.id]
        talk.say(f"\n{number} of {len(asked)}: {clean(asset.authored)}   ({asset.because})")
        for at, one in enumerate(candidates, 1):
            talk.say(f"  {at}  {clean(one.candidate)}   {clean(one.reason)}, {one.confidence:.0%} sure")
        pick = _answer(candidates)
        if pick == "q":
            break
        if pick == "s":
            continue
        taken = candidates[int(pick.rstrip("a")) - 1]
        chosen[asset.id] = taken.model_copy(update={"sure": True})
        if pick.endswith("a") and taken.moved is not None:
            for other in by_asset.values():
                same = next((one for one in other if one.moved == taken.moved), None)
                if same is not None and same.asset not in chosen:
                    chosen[same.asset] = same.model_copy(update={"sure": True})
    return list(chosen.values())


def _answer(candidates: list[Proposal]) -> str:
    numbers = [str(at) for at in range(1, len(candidates) + 1)]
    allowed = {*numbers, *(f"{at}a" for at in numbers), "s", "q"}
    default = "1" if candidates[0].sure else "s"
    while True:
        question = "Number; number and a for all files that moved with it; s to skip; q to stop"
        found = str(typer.prompt(question, default=default, err=True)).strip().lower()
        if found in allowed:
            return found
