"""tidy-crate track, jobs, cancel"""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.talk import Talk, YesOption, command

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console, Group, RenderableType
    from rich.table import Table
    from rich.text import Text

    from tidy_crate.core.job.track import JobLine, JobView

JobArgument = Annotated[str, typer.Argument(metavar="JOB", help="The job's name, as send and jobs show it.")]
REFRESH = 0.5
ACROSS = 24
# one letter per frame: what it says must not hang on a colour
MARKS = {
    "waiting": (".", "dim"), "rendering": ("~", "cyan"), "done": ("d", "green"), "failed": ("F", "bold red"),
    "retrieved": ("h", "green"), "good": ("g", "bold green"), "suspect": ("s", "yellow"),
    "bad": ("B", "bold red"), "missing": ("M", "bold red"),
}  # fmt: skip
MEANINGS = {
    ".": "waiting", "~": "rendering", "d": "done", "h": "at home", "g": "good", "s": "suspect", "B": "bad",
    "M": "missing", "F": "failed",
}  # fmt: skip
_PRECEDENCE = ("failed", "bad", "missing", "suspect", "waiting", "rendering", "done", "retrieved", "good")


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "track")
    def track(
        talk: Talk,
        job: Annotated[
            str | None, typer.Argument(metavar="[JOB]", help="The job's name; all jobs if not said.")
        ] = None,
        follow: Annotated[bool, typer.Option("--follow", "-f", help="Stay until the job has ended.")] = False,
        frames: Annotated[
            bool, typer.Option("--frames", help="List every frame with node, time, cost and attempt.")
        ] = False,
    ) -> None:
        """Show how a job stands: frames, nodes, cost so far and to come."""
        from tidy_crate.cli.places import Links, open_ledger
        from tidy_crate.core.job import track as core
        from tidy_crate.core.job.submission import ENDED

        ledger = open_ledger()
        if job is None:
            lines = core.list_jobs(ledger)
            talk.result({"jobs": [line.model_dump(mode="json") for line in lines]}, lambda c: _show_jobs(c, lines))
            return
        with Links() as links:
            view = core.track(ledger, job, links)
            if follow and view.state not in ENDED:
                view = _follow(talk, view, lambda: core.track(ledger, job, links))
        talk.result(view, lambda console: _show(console, view, frames or talk.verbose))
        if view.state == "failed":
            raise typer.Exit(1)

    @command(app, "jobs")
    def jobs(talk: Talk) -> None:
        """List all jobs at all farms, as far as the ledger knows."""
        from tidy_crate.cli.places import open_ledger
        from tidy_crate.core.job.track import list_jobs

        lines = list_jobs(open_ledger())
        talk.result({"jobs": [line.model_dump(mode="json") for line in lines]}, lambda c: _show_jobs(c, lines))

    @command(app, "cancel")
    def cancel(talk: Talk, job: JobArgument, yes: YesOption = False) -> None:
        """Stop a job. What has rendered stays and can still be retrieved."""
        from tidy_crate.cli.places import Links, open_ledger
        from tidy_crate.core.job.track import cancel as core

        talk.agree(f"Stop {job}? What was rendered is paid.", yes)
        with Links() as links:
            view = core(open_ledger(), job, links)
        talk.result(view, lambda console: _show(console, view, frames=False))


def _follow(talk: Talk, view: JobView, ask: Callable[[], JobView]) -> JobView:
    """Draw the job until it has ended; without a terminal just wait for it."""
    from rich.live import Live

    from tidy_crate.core.job.submission import ENDED

    drawn = talk.err.is_terminal and not talk.quiet and not talk.as_json
    live = Live(_drawn(view, frames=False), console=talk.err, refresh_per_second=4, transient=True) if drawn else None
    if live:
        live.start()
    try:
        while view.state not in ENDED:
            time.sleep(REFRESH)
            view = ask()
            if live:
                live.update(_drawn(view, frames=False))
    finally:
        if live:
            live.stop()
    return view


def _show(console: Console, view: JobView, frames: bool) -> None:
    console.print(_drawn(view, frames))


def _drawn(view: JobView, frames: bool) -> Group:
    from rich.console import Group
    from rich.table import Table
    from rich.text import Text

    from tidy_crate.cli.show import cell, duration, money, state, table

    head = Table.grid(padding=(0, 2, 0, 0))
    left = duration(view.forecast.seconds_left)
    heading = {"done": "the job has ended", "failed": "the job has ended", "cancelled": "the job was stopped"}
    coming = heading.get(view.state) or f"about {left} of farm time to go"
    if view.forecast.cost is not None and view.state not in heading:
        coming += f", {money(view.forecast.cost, view.currency)} in the end"
    head.add_row(Text("job", style="dim"), Text.assemble(view.job, "  ", state(view.state)))
    head.add_row(Text("farm", style="dim"), cell(", ".join(view.farms)))
    head.add_row(Text("frames", style="dim"), Text(f"{view.done} of {view.total} rendered"))
    head.add_row(
        Text("cost", style="dim"),
        Text(f"{money(view.cost, view.currency)} in {duration(view.clock)} of farm time; {coming}"),
    )
    nodes = table("node", "frames", "farm time", "cost", right=("frames", "farm time", "cost"))
    for node in view.nodes:
        nodes.add_row(
            cell(node.name),
            str(node.frames),
            duration(node.free_at - node.began),
            money(node.cost, view.currency),
        )
    parts: list[RenderableType] = [head, Text(""), *_grid(view), Text(""), nodes]
    troubles = [row for row in view.frames if row.error]
    for row in troubles[:5]:
        parts.append(Text(f"frame {row.frame}: ", style="red") + cell(row.error or ""))
    if frames:
        parts += [Text(""), _frame_table(view)]
    return Group(*parts)


def _grid(view: JobView) -> list[Text]:
    """A letter per frame, the worst of its outputs, in rows that start with their first frame's number."""
    from rich.text import Text

    states: dict[tuple[str, int], str] = {}
    for row in view.frames:
        key = (row.request, row.frame)
        worst = states.get(key, row.state)
        states[key] = min(worst, row.state, key=lambda one: _PRECEDENCE.index(one) if one in _PRECEDENCE else 0)
    lines, used = [], []
    keys = sorted(states)
    for at in range(0, len(keys), ACROSS):
        line = Text(f"{keys[at][1]:>8}  ", style="dim")
        for place, key in enumerate(keys[at : at + ACROSS]):
            mark, style = MARKS.get(states[key], ("?", ""))
            line.append(mark + (" " if place % 6 == 5 else ""), style=style)
            used.append(mark)
        lines.append(line)
    legend = "   ".join(f"{mark} {word}" for mark, word in MEANINGS.items() if mark in used)
    return [*lines, Text(f"          {legend}", style="dim")]


def _frame_table(view: JobView) -> Table:
    from tidy_crate.cli.show import cell, duration, money, state, table

    rows = table(
        "frame",
        "output",
        "state",
        "node",
        "time",
        "cost",
        "attempt",
        right=("frame", "time", "cost", "attempt"),
    )
    for row in view.frames:
        rows.add_row(
            str(row.frame), cell(row.output), state(row.state), cell(row.node or "-"),
            duration(row.seconds) if row.seconds else "-",
            money(row.cost, view.currency), str(row.attempt),
        )  # fmt: skip
    return rows


def _show_jobs(console: Console, lines: tuple[JobLine, ...]) -> None:
    from tidy_crate.cli.show import cell, money, state, table

    if not lines:
        console.print("No job has been sent yet.")
        return
    rows = table("job", "sent", "farm", "state", "at home", "cost", "frames in", right=("at home", "cost"))
    for line in lines:
        rows.add_row(
            cell(line.job), line.created[:16].replace("T", " "), cell(", ".join(line.farms)), state(line.state),
            f"{line.at_home} of {line.products}", money(line.cost, line.currency), cell(line.into or "-"),
        )  # fmt: skip
    console.print(rows)
