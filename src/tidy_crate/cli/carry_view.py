"""How a scene stands, for people: a line for each step, and what waits for them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from tidy_crate.cli.show import cell, duration, table, typed
from tidy_crate.cli.text import clean
from tidy_crate.core.workflow.standing import StepName, StepState

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from tidy_crate.core.workflow.standing import Question, Standing, Standings

STYLES = {
    StepState.DONE: "green",
    StepState.STALE: "yellow",
    StepState.TO_DO: "",
    StepState.PERSON: "bold yellow",
    StepState.FARM: "cyan",
    StepState.FAILED: "bold red",
    StepState.UNNEEDED: "dim",
}


def show_standings(console: Console, found: Standings, until: StepName | None = None) -> None:
    """Draw the steps, then the first one that is not over: what it asks, and the lines that answer."""
    rows = table("step", "state", "what is known")
    for names, one in _rows(found.steps):
        said = cell(one.said)
        if one.state is StepState.UNNEEDED:
            said.stylize("dim")
        time = f"; about {duration(one.seconds)}" if one.seconds is not None and not one.state.over else ""
        rows.add_row(names, Text(one.state.value, style=STYLES[one.state]), said + time)
    console.print(rows)
    current = found.current
    console.print()
    if current is None:
        console.print(Text("Done: nothing is left to do.", style="bold green"))
        return
    every = list(StepName)
    if until is not None and every.index(current.step) > every.index(until):
        console.print(Text(f"Done up to {until}.", style="bold green"))
        return
    if current.questions:
        head = "failed" if current.state is StepState.FAILED else "waits for you"
        console.print(Text(f"{current.step} {head}:", style=STYLES[current.state]))
        for question in current.questions:
            _question(console, question)
        return
    for words in found.next:
        console.print(Text(f"Next: {typed(words)}", style="dim"), soft_wrap=True)


def _rows(steps: Sequence[Standing]) -> list[tuple[str, Standing]]:
    """Return the steps, those in turn that say the same as one row."""
    rows: list[tuple[list[str], Standing]] = []
    for one in steps:
        if rows and (rows[-1][1].state, rows[-1][1].said) == (one.state, one.said):
            rows[-1][0].append(one.step.value)
        else:
            rows.append(([one.step.value], one))
    return [(names[0] if len(names) == 1 else f"{names[0]} to {names[-1]}", one) for names, one in rows]


def said_line(standing: Standing) -> str:
    """Return a step that begins, or that waits, as a line."""
    state = "" if standing.state.can_be_done else f"{standing.state.value}: "
    return clean(f"{standing.step:<9} {state}{standing.said}")


def _question(console: Console, question: Question) -> None:
    console.print(Text(f"  {clean(question.text)}"), soft_wrap=True)
    if question.remedy:
        console.print(Text(f"    {clean(question.remedy)}", style="dim"), soft_wrap=True)
    for words in question.commands:
        console.print(Text(f"    {typed(words)}", style="cyan"), soft_wrap=True)
