"""The view of a job: a grid of its frames, machines, money and time; on a terminal, live or once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Group
from rich.table import Table
from rich.text import Text

from tidy_crate.cli.show import cell, duration, money, state, sums, table

if TYPE_CHECKING:
    from rich.console import RenderableType

    from tidy_crate.core.job.grid import Cell, Grid
    from tidy_crate.core.job.listing import JobLine
    from tidy_crate.core.job.machines import NodeView
    from tidy_crate.core.job.track import FarmView, JobView

# one letter per frame: what it says must not hang on a colour. A capital is trouble
MARKS = {
    "waiting": (".", "dim"), "rendering": ("~", "cyan"), "done": ("d", "green"), "failed": ("F", "bold red"),
    "retrieved": ("h", "green"), "good": ("g", "bold green"), "suspect": ("S", "bold yellow"),
    "bad": ("B", "bold red"), "missing": ("M", "bold red"), "cancelled": ("x", "dim"),
}  # fmt: skip
MEANINGS = {
    ".": "waiting", "~": "rendering", "d": "done", "h": "at home", "g": "good", "S": "suspect", "B": "bad",
    "M": "missing", "F": "failed", "x": "cancelled",
}  # fmt: skip
HEADINGS = {"done": "the job has ended", "failed": "the job has ended", "cancelled": "the job was stopped"}
# what the user does in a state in which nothing goes on by itself
NEXT = {
    "done": "bring the frames home: tidy-crate retrieve {job} --into DIR",
    "held": "look at the test frames, then: tidy-crate resume {job}",
    "paused": "tidy-crate resume {job}",
    "offered": "accept the farm's quote: tidy-crate resume {job}",
    "unpaid": "pay at the farm; it goes on by itself",
    "sending": "it was never confirmed; send it again to continue",
    "failed": "tidy-crate rerender {job} --failed",
}  # fmt: skip
USUAL_NODES, USUAL_TROUBLES = 12, 5
# columns of a row of the grid beside its cells
MARGIN = 12


@dataclass(frozen=True)
class Room:
    """The space for the view."""

    width: int
    lines: int | None = None
    """None for no limit."""

    @property
    def across(self) -> int:
        """Cells in a row of the grid: a multiple of six, which is how they are grouped."""
        return max(6, (self.width - MARGIN) * 6 // 7 // 6 * 6)

    @property
    def cells(self) -> int:
        """Cells that the grid may have."""
        return self.across * (8 if self.lines is None else max(2, self.lines - 24))


def job_view(view: JobView, grid: Grid, room: Room) -> Group:
    """Draw a job."""
    parts: list[RenderableType] = [_head(view), Text(""), *_grid(grid, room)]
    nodes = _nodes(view, USUAL_NODES if room.lines is None else max(3, min(10, room.lines - 26)))
    if nodes is not None:
        parts += [Text(""), nodes]
    most = USUAL_TROUBLES if room.lines is None else 3
    if view.troubles:
        parts.append(Text(""))
    for row in view.troubles[:most]:
        lines = [line for line in (row.error or "no reason is known").splitlines() if line.strip()][-2:]
        parts.append(
            Text.assemble((f"frame {row.frame} failed on {row.node or 'a node'}: ", "bold red"), "  ".join(lines))
        )
    if len(view.troubles) > most:
        parts.append(Text(f"and more; the log of one: tidy-crate log {view.job} FRAME", style="dim"))
    elif view.troubles:
        parts.append(Text(f"the whole log: tidy-crate log {view.job} {view.troubles[0].frame}", style="dim"))
    if view.latest:
        parts.append(Text.assemble(("to look at: ", "dim"), str(view.latest[0])))
    return Group(*parts)


def _head(view: JobView) -> Table:
    head = Table.grid(padding=(0, 2, 0, 0))

    def row(name: str, value: Text) -> None:
        head.add_row(Text(name, style="dim"), value)

    line = Text.assemble((view.job, "bold"), "  ", state(view.state))
    if following := next_step(view):
        line.append(f"   {following}", style="yellow")
    row("job", line)
    for one in view.at:
        row("farm", _farm(one, several=len(view.at) > 1))
    home = f", {view.at_home} of {view.products} files at home" if view.products else ""
    row("frames", Text(f"{_bar(view.done, view.total)} {view.done} of {view.total} rendered{home}"))
    row("time", Text(_time(view)))
    row("cost", _cost(view))
    for farm in view.billing:
        row("clock", Text(f"{farm}: the rented machines are still paid for; {_release(view)}", style="bold red"))
    return head


def next_step(view: JobView) -> str:
    """Return what the user does next about a job that goes no further by itself; empty for nothing."""
    if view.state == "done" and view.at_home == view.products:
        return ""
    if view.state == "held" and not (view.done or view.counts.failed):
        # it was ordered so, without test frames
        return f"let it begin: tidy-crate resume {view.job}"
    return NEXT.get(view.state, "").format(job=view.job)


def _release(view: JobView) -> str:
    if view.products and view.at_home >= view.products:
        return f"every frame is home: shut them down, then: tidy-crate release {view.job}"
    return "shut them down once every frame is home"


def _farm(one: FarmView, *, several: bool) -> Text:
    found = cell(one.farm)
    if several:
        found.append(f": {one.done} of {one.total}, ").append_text(state(one.state))
        found.append(f", {money(one.cost, one.currency)}")
    if one.given_up:
        found.append("  given up, its frames were handed over", style="dim")
        if one.trouble:
            found.append(f"; it cannot be told ({one.trouble})", style="yellow")
    if one.offer is not None:
        found.append(f"  own quote {money(one.offer.cost, one.offer.currency)}")
        found.append(" (binding)" if one.offer.binding else "")
    if one.trouble and not one.given_up:
        found.append(f"  does not answer; as {_age(one)}", style="bold red")
    if one.why:
        found.append(f"  {'paused: ' if one.state == 'paused' else ''}{one.why}", style="bold yellow")
    return found


def _age(one: FarmView) -> str:
    if one.heard is None:
        return "the ledger knows it"
    seconds = max(0.0, (datetime.now(UTC) - one.heard).total_seconds())
    return f"it was {duration(seconds)} ago" if seconds >= 60 else "it was less than a minute ago"


def _bar(done: int, total: int, width: int = 24) -> str:
    full = done * width // max(1, total)
    return "[" + "#" * full + "-" * (width - full) + "]"


def _time(view: JobView) -> str:
    so_far = f"{duration(view.clock)} of farm time so far"
    if view.state in HEADINGS:
        return f"{so_far}; {HEADINGS[view.state]}"
    if view.unheard:
        return f"{so_far}; no forecast while a farm does not answer"
    if view.behind:
        return f"{so_far}; catching up with the farm: frames and nodes below are as of earlier"
    left, rate = view.forecast, f"{view.rate:.0f} frames an hour" if view.rate else ""
    if left.seconds is None or left.seconds_left is None:
        return f"{so_far}; the time left is unknown before the first frame"
    span = f"{duration(left.seconds.low)} to {duration(left.seconds.high)}"
    text = f"{so_far}; about {duration(left.seconds_left)} to go ({span})"
    if view.finish is not None:
        text += f", done about {view.finish.astimezone():%a %H:%M}"
    return f"{text}, {rate}" if rate else text


def _cost(view: JobView) -> Text:
    found = Text(sums(view.costs) or "nothing yet")
    coming = view.forecast.cost
    if coming is not None and view.state not in HEADINGS:
        found.append(f" so far; {money(coming.likely, coming.currency)} in the end")
        found.append(f" ({coming.low:.2f} to {coming.high:.2f})")
    if view.estimate is not None:
        low, high, currency = view.estimate.low, view.estimate.high, view.estimate.currency
        found.append(f"; estimated {money(view.estimate.likely, currency)} ({low:.2f} to {high:.2f})", style="dim")
    caps = [f"{money(one.cap, one.currency)} at {one.farm}" for one in view.at if one.cap is not None]
    if caps:
        found.append(f"; cap {', '.join(caps)}", style="dim")
    back = [money(one.refunded, one.currency) for one in view.at if one.refunded]
    if back:
        found.append(f"; {', '.join(back)} came back", style="green")
    return found


def _grid(grid: Grid, room: Room) -> list[Text]:
    """A letter per frame or stretch, in rows that start with their first frame's number."""
    lines: list[Text] = []
    used: list[str] = []
    several = len({(one.request, one.view) for one in grid.cells}) > 1
    for name, cells in _by_view(grid):
        if several:
            lines.append(Text(name, style="dim"))
        for at in range(0, len(cells), room.across):
            line = Text(f"{cells[at].first:>8}  ", style="dim")
            for place, one in enumerate(cells[at : at + room.across]):
                mark, style = MARKS.get(one.state, ("?", ""))
                line.append(mark + (" " if place % 6 == 5 else ""), style=style)
                used.append(mark)
            lines.append(line)
    legend = "   ".join(f"{mark} {word}" for mark, word in MEANINGS.items() if mark in used)
    if grid.each > 1:
        legend += f"   each letter stands for {grid.each} frames, the worst of them counts"
    return [*lines, Text(f"          {legend}", style="dim")]


def _by_view(grid: Grid) -> list[tuple[str, list[Cell]]]:
    found: dict[tuple[str, str], list[Cell]] = {}
    for one in grid.cells:
        found.setdefault((one.request, one.view), []).append(one)
    return [(f"{request} {view}".strip(), cells) for (request, view), cells in found.items()]


def _nodes(view: JobView, most: int) -> Table | None:
    if not view.nodes:
        return None
    rows = table(
        "node", "frames", "a frame", "on the clock", "cost", "",
        right=("frames", "a frame", "on the clock", "cost"),
    )  # fmt: skip
    for one in view.nodes[:most]:
        name = f"{one.farm} {one.name}" if len(view.at) > 1 else one.name
        rows.add_row(
            cell(name), str(one.frames), duration(one.mean) if one.mean else "-", duration(one.seconds),
            money(one.cost, one.currency), _remark(one),
        )  # fmt: skip
    if len(view.nodes) > most:
        rows.add_row(Text(f"and {len(view.nodes) - most} more", style="dim"), "", "", "", "", "")
    return rows


def _remark(one: NodeView) -> Text:
    if one.marks:
        return Text(f"{', '.join(one.marks)}: {one.why}", style="bold yellow")
    return Text("off the clock" if one.gone else "rendering" if one.busy else "", style="dim")


def frame_table(view: JobView) -> Table:
    """Every frame with node, time, cost and attempt."""
    rows = table(
        "frame", "output", "state", "node", "time", "cost", "attempt", right=("frame", "time", "cost", "attempt")
    )
    for row in view.frames:
        name = f"{row.view} {row.frame}" if row.view else str(row.frame)
        rows.add_row(
            name, cell(row.output), state(row.state), cell(row.node or "-"),
            duration(row.seconds) if row.seconds else "-",
            money(row.cost, view.currency) if view.currency else str(row.cost), str(row.attempt),
        )  # fmt: skip
    return rows


def plain_line(view: JobView) -> str:
    """A job in one line, for a log."""
    left = view.forecast.seconds_left
    parts = [f"{view.job} {view.state}", f"{view.done} of {view.total} rendered", sums(view.costs)]
    if left and view.state not in HEADINGS:
        parts.append(f"about {duration(left)} to go")
    failed = view.counts.failed
    parts += [f"{failed} failed"] if failed else []
    parts += [f"{one.name} {' and '.join(one.marks)}" for one in view.nodes if one.marks][:3]
    return ", ".join(part for part in parts if part)


def jobs_table(lines: tuple[JobLine, ...]) -> Table:
    """All jobs."""
    rows = table("job", "sent", "farm", "state", "at home", "cost", "frames in", right=("at home", "cost"))
    for line in lines:
        shown = state(line.state)
        if line.billing:
            shown = Text.assemble(shown, ("  still paid for", "bold red"))
        rows.add_row(
            cell(line.job), line.created[:16].replace("T", " "), cell(", ".join(line.farms)), shown,
            f"{line.at_home} of {line.products}", sums(line.costs), cell(line.into or "-"),
        )  # fmt: skip
    return rows
