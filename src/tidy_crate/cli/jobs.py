"""tidy-crate track, jobs, cancel"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, YesOption, command

if TYPE_CHECKING:
    from rich.console import Console, Group, RenderableType
    from rich.table import Table
    from rich.text import Text

    from tidy_crate.core.job.track import JobLine, JobView

JobArgument = Annotated[str, typer.Argument(metavar="JOB", help="The job's name, as send and jobs show it.")]
REFRESH = 0.5
ACROSS = 24
# tasks of a job whose every frame is drawn while it is followed
MOST_DRAWN = 5000
# one letter per frame: what it says must not hang on a colour
MARKS = {
    "waiting": (".", "dim"), "rendering": ("~", "cyan"), "done": ("d", "green"), "failed": ("F", "bold red"),
    "retrieved": ("h", "green"), "good": ("g", "bold green"), "suspect": ("s", "yellow"),
    "bad": ("B", "bold red"), "missing": ("M", "bold red"), "cancelled": ("x", "dim"),
}  # fmt: skip
MEANINGS = {
    ".": "waiting", "~": "rendering", "d": "done", "h": "at home", "g": "good", "s": "suspect", "B": "bad",
    "M": "missing", "F": "failed", "x": "cancelled",
}  # fmt: skip
_PRECEDENCE = ("failed", "bad", "missing", "suspect", "cancelled", "waiting", "rendering", "done", "retrieved", "good")


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
        if job is None:
            lines = api.jobs()
            talk.result({"jobs": [line.model_dump(mode="json") for line in lines]}, lambda c: _show_jobs(c, lines))
            return
        view = _follow(talk, job) if follow else api.track(job)
        talk.result(view, lambda console: _show(console, view, frames or talk.verbose))
        if view.state == "failed":
            raise typer.Exit(1)

    @command(app, "jobs")
    def jobs(talk: Talk) -> None:
        """List all jobs at all farms, as far as the ledger knows."""
        lines = api.jobs()
        talk.result({"jobs": [line.model_dump(mode="json") for line in lines]}, lambda c: _show_jobs(c, lines))

    @command(app, "cancel")
    def cancel(talk: Talk, job: JobArgument, yes: YesOption = False) -> None:
        """Stop a job. What has rendered stays and can still be retrieved."""
        talk.agree(f"Stop {job}? What was rendered is paid.", yes)
        view = api.cancel(job)
        talk.result(view, lambda console: _show(console, view, frames=False))


def _follow(talk: Talk, job: str) -> JobView:
    """Draw the job until it has ended; without a terminal just wait for it."""
    from rich.live import Live

    if not talk.err.is_terminal or talk.quiet or talk.as_json:
        api.track(job, frames=False, follow=lambda view: None, pause=REFRESH, tell=talk.say)
    else:
        # drawing every frame of a large job would take longer than asking for it
        few = api.track(job, frames=False).total <= MOST_DRAWN
        with Live(console=talk.err, refresh_per_second=4, transient=True) as live:

            def draw(view: JobView) -> None:
                live.update(_drawn(view, frames=False))

            api.track(job, frames=few, follow=draw, pause=REFRESH, tell=talk.say)
    return api.track(job)


def _show(console: Console, view: JobView, frames: bool) -> None:
    console.print(_drawn(view, frames))


def _drawn(view: JobView, frames: bool) -> Group:
    from rich.console import Group
    from rich.table import Table
    from rich.text import Text

    from tidy_crate.cli.show import cell, duration, money, state, sums, table

    head = Table.grid(padding=(0, 2, 0, 0))
    left = duration(view.forecast.seconds_left)
    heading = {"done": "the job has ended", "failed": "the job has ended", "cancelled": "the job was stopped"}
    coming = heading.get(view.state) or f"about {left} of farm time to go"
    if view.forecast.cost is not None and view.state not in heading:
        coming += f", {money(view.forecast.cost, view.forecast.currency)} in the end"
    head.add_row(Text("job", style="dim"), Text.assemble(view.job, "  ", state(view.state)))
    head.add_row(Text("farm", style="dim"), cell(", ".join(view.farms)))
    head.add_row(Text("frames", style="dim"), Text(f"{view.done} of {view.total} rendered"))
    head.add_row(
        Text("cost", style="dim"),
        Text(f"{sums(view.costs)} in {duration(view.clock)} of farm time; {coming}"),
    )
    nodes = table("node", "frames", "farm time", "cost", right=("frames", "farm time", "cost"))
    for node in view.nodes:
        nodes.add_row(
            cell(node.name),
            str(node.frames),
            duration(node.seconds),
            money(node.cost, node.currency),
        )
    parts: list[RenderableType] = [head, Text(""), *_grid(view), Text(""), nodes]
    for row in view.troubles[:5]:
        parts.append(Text(f"frame {row.frame}: ", style="red") + cell(row.error or ""))
    if frames:
        parts += [Text(""), _frame_table(view)]
    return Group(*parts)


def _grid(view: JobView) -> list[Text]:
    """A letter per frame, the worst of its outputs, in rows that start with their first frame's number."""
    from rich.text import Text

    if not view.frames:
        return [Text(f"{len(view.nodes)} nodes at work on {view.total} tasks", style="dim")]
    states: dict[tuple[str, str, int], str] = {}
    for row in view.frames:
        key = (row.request, row.view, row.frame)
        worst = states.get(key, row.state)
        states[key] = min(worst, row.state, key=lambda one: _PRECEDENCE.index(one) if one in _PRECEDENCE else 0)
    lines, used = [], []
    keys = sorted(states)
    for at in range(0, len(keys), ACROSS):
        line = Text(f"{keys[at][2]:>8}  ", style="dim")
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
            money(row.cost, view.currency) if view.currency else str(row.cost), str(row.attempt),
        )  # fmt: skip
    return rows


def _show_jobs(console: Console, lines: tuple[JobLine, ...]) -> None:
    from tidy_crate.cli.show import cell, state, sums, table

    if not lines:
        console.print("No job has been sent yet.")
        return
    rows = table("job", "sent", "farm", "state", "at home", "cost", "frames in", right=("at home", "cost"))
    for line in lines:
        rows.add_row(
            cell(line.job), line.created[:16].replace("T", " "), cell(", ".join(line.farms)), state(line.state),
            f"{line.at_home} of {line.products}", sums(line.costs), cell(line.into or "-"),
        )  # fmt: skip
    console.print(rows)
