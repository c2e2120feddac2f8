"""tidy-crate probe, estimate"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.estimate.model import Estimate, Quote
    from tidy_crate.core.estimate.probe import ProbeResult

FarmOption = Annotated[str, typer.Option("--farm", metavar="CARD", help="A farm card's file, or a known farm's name.")]
MachineOption = Annotated[
    str | None,
    typer.Option("--machine", metavar="CLASS", help="Machine class; the card's first if not said."),
]
NodesOption = Annotated[int | None, typer.Option("--nodes", min=1, help="Number of machines.")]
BatchOption = Annotated[int | None, typer.Option("--batch", min=1, help="Frames that a node takes at a time.")]
ScoreOption = Annotated[float, typer.Option("--score-here", min=0.01, help="This machine's benchmark score.")]
PRACTICE_NOTE = "The timings come from the practice renderer: good for the practice farm, for nothing else."


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "probe")
    def probe(
        talk: Talk,
        crate: CrateArgument,
        frames: Annotated[
            int | None,
            typer.Option("--frames", min=1, help="Exactly so many test frames; as many as it needs if not said."),
        ] = None,
        scale: Annotated[float, typer.Option("--scale", help="Render them at this share of width and height.")] = 1.0,
    ) -> None:
        """Render a few representative test frames here, and measure them."""
        with talk.progress("probing") as progress:
            result = api.probe(crate, frames=frames, scale=scale, progress=progress)
        talk.result(result, lambda console: _show_probe(console, result))

    @command(app, "estimate")
    def estimate(
        talk: Talk,
        crate: CrateArgument,
        farms: Annotated[
            list[str],
            typer.Option("--farm", metavar="CARD", help="A farm card's file or name; may be given again."),
        ],
        machine: MachineOption = None,
        nodes: NodesOption = None,
        batch: BatchOption = None,
        score: ScoreOption = 100.0,
        accept: Annotated[
            bool,
            typer.Option("--accept-practice-timings", help="Take timings of the practice renderer for a real farm's."),
        ] = False,
        accept_old: Annotated[
            bool,
            typer.Option("--accept-old-timings", help="Take timings of an earlier state of the crate."),
        ] = False,
    ) -> None:
        """Say what a crate will cost and take, from its test frames.

        A range each, and not binding.
        """
        result = api.estimate(
            crate,
            farms,
            machine=machine,
            nodes=nodes,
            batch=batch,
            score_here=score,
            accept_practice=accept,
            accept_old_timings=accept_old,
        )
        talk.result(result, lambda console: _show(console, result))
        if result.pick is None:
            raise typer.Exit(1)


def _show_probe(console: Console, result: ProbeResult) -> None:
    from tidy_crate.cli.show import cell, duration, size, table

    rows = table("request", "frame", "seconds", "memory", "size", right=("frame", "seconds", "memory"))
    for one in result.frames:
        rows.add_row(
            cell(one.request),
            str(one.frame),
            duration(one.seconds),
            size(one.memory_bytes),
            f"{one.width} x {one.height}",
        )
    console.print(rows)
    mean = sum(one.seconds for one in result.frames) / len(result.frames)
    console.print(
        f"\n{duration(mean)} a frame on average, and {duration(result.load_seconds)} to start and load, once per batch."
    )
    if result.basis == "practice":
        console.print(PRACTICE_NOTE, style="dim")


def _show(console: Console, result: Estimate) -> None:
    from tidy_crate.cli.show import cell, duration, money, table

    rows = table("", "farm", "machine", "nodes", "batch", "cost", "likely between", "done in", "at the latest",
                 right=("nodes", "batch", "cost", "done in", "at the latest"))  # fmt: skip
    for at, quote in enumerate(result.quotes):
        cost = quote.cost
        rows.add_row(
            "->" if at == result.pick else "",
            cell(quote.farm),
            cell(quote.machine),
            str(quote.nodes),
            str(quote.batch),
            money(cost.likely, cost.currency),
            f"{cost.low:.2f} and {cost.high:.2f}",
            duration(quote.seconds.likely),
            duration(quote.seconds.high),
            style="" if quote.eligible else "dim",
        )
    console.print(rows)
    for quote in result.quotes:
        for reason in quote.reasons:
            console.print(
                cell(f"{quote.farm}, {quote.machine}, {quote.nodes} nodes: cannot be taken, {reason}"),
                style="red",
            )
    if result.pick is not None:
        console.print()
        _show_pick(console, result.quotes[result.pick], result.frames)
    if result.basis == "practice":
        console.print(PRACTICE_NOTE, style="dim")


def _show_pick(console: Console, quote: Quote, frames: int) -> None:
    from tidy_crate.cli.show import counted, duration

    parts = quote.parts
    console.print(
        f"The cheapest way: {counted(quote.nodes, 'node')} for {counted(frames, 'frame')}. "
        f"Upload {duration(parts.upload)}, start-up {duration(parts.startup)}, "
        f"rendering {duration(parts.rendering)}, last frames home {duration(parts.retrieval)}. "
        "An estimate, not binding."
    )
