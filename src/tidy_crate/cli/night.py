"""A night of shots on the command line: what `carry` and `status` do with a shot list."""

from __future__ import annotations

import time
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from tidy_crate import api
from tidy_crate.cli.carry import write_report
from tidy_crate.cli.talk import Talk

if TYPE_CHECKING:
    from tidy_crate.core.workflow.night import Night
    from tidy_crate.core.workflow.night_standing import NightStanding

# seconds between two pages
PAGE_EVERY = 5.0


def carry_list(
    talk: Talk, path: Path, budget: str | None, finish_by: str | None, page: Path | None, *, look_only: bool = False
) -> None:
    """Carry all shots of a list, and show how they stand meanwhile and at the end. look_only: nothing is done."""
    from rich.live import Live

    from tidy_crate.cli.night_page import night_page
    from tidy_crate.cli.night_view import board, show_night
    from tidy_crate.core.outputs import write_output
    from tidy_crate.core.workflow.night_news import NightNews, news_of_end
    from tidy_crate.core.workflow.night_standing import standing_of

    found = api.read_list(path)
    purse = api.purse_of(found, budget, finish_by)
    began = datetime.now().astimezone()
    scenes = {one.name: str(one.scene) for one in found.shot}
    written = 0.0
    told: dict[str, str] = {}
    news = NightNews()

    def standing(night: Night) -> NightStanding:
        now = datetime.now().astimezone()
        return standing_of(night, found.title or path.stem, scenes, purse.budget, purse.currency, began, now)

    live = (
        Live(console=talk.err, auto_refresh=False, transient=True) if talk.err.is_terminal and not talk.quiet else None
    )

    def show(night: Night) -> None:
        nonlocal written
        now = standing(night)
        if live is not None:
            live.update(board(now, talk.err.size.height), refresh=True)
        elif not talk.quiet and not look_only:
            _tell(talk, now, told)
        while night.messages:
            talk.warn(night.messages.pop(0))
        fresh = news.look(now, time.monotonic())
        if fresh is not None and not look_only:
            api.tell_others(fresh, talk.warn)
        if page is not None and time.monotonic() - written > PAGE_EVERY:
            written = time.monotonic()
            write_output(page, night_page(now, refresh=True))

    def go() -> Night:
        return api.carry_night(
            path, show, budget=budget, finish_by=finish_by, write_report=write_report, look_only=look_only
        )

    if live is not None:
        with live:
            night = go()
    else:
        night = go()
    end = standing(night)
    if page is not None:
        jobs = {one.shot: one.job for one in end.shots if one.job}
        write_output(page, night_page(end, refresh=False, outcomes=api.outcomes(found, jobs)))
    if not look_only:
        api.tell_others(news_of_end(end), talk.warn)
    talk.result(end, lambda console: show_night(console, end, page, plan=look_only), {"done": end.done})
    if not end.done and not look_only:
        raise typer.Exit(1)


def _tell(talk: Talk, now: NightStanding, told: dict[str, str]) -> None:
    """Say what has changed, a line for each shot that is at another step or in another state."""
    for one in now.shots:
        news = f"{one.state.value}" + (f", {one.step}" if one.step is not None else "")
        if told.get(one.shot) != news and one.steps:
            told[one.shot] = news
            talk.say(f"{one.shot:<16} {news}" + (f": {one.said}" if one.said else ""))
