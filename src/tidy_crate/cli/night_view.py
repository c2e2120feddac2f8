"""How a night of shots stands, for people: what needs them on top, then a row for each shot."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.text import Text

from tidy_crate.cli.show import cell, counted, duration, money, sums, table, typed
from tidy_crate.cli.text import clean
from tidy_crate.core.workflow.night_news import NEEDS_YOU
from tidy_crate.core.workflow.night_standing import COLUMNS, ShotWord

if TYPE_CHECKING:
    from pathlib import Path

    from rich.console import Console

    from tidy_crate.core.workflow.night_standing import NightStanding, PlannedShot, ShotStanding

STYLES = {"done": "green", "now": "cyan", "you": "bold yellow", "failed": "bold red"}
# shots whose questions are shown; the others are in the page and in --json
MOST_ASKED = 5
MOST_ROWS = 400


def board(now: NightStanding, height: int = 40) -> RenderableType:
    """Draw a night for a screen of so many lines: what needs a person, the shots that are under way, the money."""
    asked = _asked(now, most=min(MOST_ASKED, max(1, height // 8)), lines=1)
    left = max(3, height - len(asked) - 10)
    return Group(_head(now), Text(), *asked, *([Text()] if asked else []), _rows(now, left), Text(), _foot(now))


def show_night(console: Console, now: NightStanding, page: Path | None, *, plan: bool = False) -> None:
    """Print how a night stands, or has ended. plan: what would be sent too."""
    console.print(_head(now))
    console.print()
    console.print(_rows(now, MOST_ROWS))
    console.print()
    for one in _asked(now, most=MOST_ASKED, lines=3):
        console.print(one, soft_wrap=True)
    for line in _plan(now) if plan else ():
        console.print(line, soft_wrap=True)
    console.print(_foot(now))
    if page is not None:
        console.print(cell(f"Page: {page}"), soft_wrap=True)


def _head(now: NightStanding) -> Text:
    parts = [f"{counted(len(now.shots), 'shot')}"]
    for word in (
        ShotWord.DONE,
        ShotWord.FARM,
        ShotWord.CARRIED,
        *NEEDS_YOU,
        ShotWord.TO_DO,
        ShotWord.ELSEWHERE,
        ShotWord.QUEUED,
    ):
        if count := now.count(word):
            parts.append(
                f"{count} need{'s' if count == 1 else ''} you" if word is ShotWord.PERSON else f"{count} {word.value}"
            )
    took = (now.now - now.began).total_seconds()
    return Text.assemble((clean(now.title), "bold"), f": {', '.join(parts)}; {duration(took)}")


def _rows(now: NightStanding, most: int) -> RenderableType:
    rows = table("shot", *COLUMNS, "cost", "state", right=("frames", "cost"))
    # what is done gives way first: it is counted above
    shown = [one for one in now.shots if one.state is not ShotWord.DONE]
    shown += [one for one in now.shots if one.state is ShotWord.DONE]
    for one in shown[:most]:
        cost = one.forecast if one.forecast is not None else one.billed
        cells = [one.column(name) for name in COLUMNS]
        rows.add_row(
            cell(one.shot),
            *(Text(word, style=STYLES.get(word, "cyan" if word else "")) for word in cells),
            money(cost, one.currency) if cost is not None else "",
            _state(one),
        )
    if len(shown) > most:
        return Group(rows, Text(f"and {len(shown) - most} more, of which {_hidden_done(shown[most:])} done", "dim"))
    return rows


def _hidden_done(hidden: list[ShotStanding]) -> int:
    return sum(one.state is ShotWord.DONE for one in hidden)


def _state(one: ShotStanding) -> Text:
    style = {ShotWord.PERSON: "bold yellow", ShotWord.LEFT_OUT: "bold yellow", ShotWord.FAILED: "bold red",
             ShotWord.DONE: "green", ShotWord.FARM: "cyan"}.get(one.state, "dim")  # fmt: skip
    return Text(one.state.value, style=style)


def _asked(now: NightStanding, most: int, lines: int) -> list[Text]:
    """Return what needs a person, a line for each shot, with the lines that answer."""
    waiting = [one for one in now.shots if one.state in NEEDS_YOU]
    found = []
    for one in waiting[:most]:
        step = f"{one.step}: " if one.step is not None else ""
        text = one.questions[0].text if one.questions else one.said
        found.append(Text.assemble((f"{clean(one.shot)} ", "bold yellow"), clean(f"{step}{text}")))
        answers = [words for question in one.questions for words in question.commands]
        found += [Text(f"    {typed(words)}", style="cyan") for words in answers[:lines]]
    if len(waiting) > most:
        found.append(Text(f"and {len(waiting) - most} more that need you", style="yellow"))
    return found


def _plan(now: NightStanding) -> list[Text]:
    """Return what would be sent now, by farm and machine class, in lines."""
    by_pool: dict[tuple[str, str, int], list[PlannedShot]] = {}
    for one in now.planned:
        by_pool.setdefault((one.farm, one.machine, one.nodes), []).append(one)
    if not by_pool:
        return []
    high = sum(one.high for one in now.planned)
    likely = sum(one.likely for one in now.planned)
    costs = f"{likely:.2f} {now.currency}, in nine of ten cases under {high:.2f}"
    text = f"{counted(len(now.planned), 'shot')} for {costs}; home within {duration(now.planned_seconds)}"
    lines = [Text.assemble(("Plan: ", "bold"), text)]
    for (farm, machine, nodes), own in by_pool.items():
        names = ", ".join(one.shot for one in own[:MOST_ASKED])
        more = f" and {len(own) - MOST_ASKED} more" if len(own) > MOST_ASKED else ""
        lines.append(cell(f"  {farm}, {nodes} x {machine}: {names}{more}"))
    if now.not_planned:
        lines.append(Text(clean(f"  no way within budget and time: {', '.join(now.not_planned)}"), style="yellow"))
    return lines


def _foot(now: NightStanding) -> Text:
    budget = f" of {money(now.budget, now.currency)}" if now.budget is not None else ""
    text = f"billed {sums(now.billed)}{budget}, likely {sums(now.forecast)} in all"
    if now.finish is not None:
        text += f"; frames at farms likely done at {now.finish:%H:%M}"
    return Text(text, style="dim")
