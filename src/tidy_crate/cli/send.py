"""tidy-crate send"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.estimate import FarmOption, MachineOption, NodesOption
from tidy_crate.cli.talk import Talk, YesOption, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.job.send import Sending, Sent


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "send")
    def send(
        talk: Talk,
        crate: CrateArgument,
        farm: FarmOption,
        machine: MachineOption = None,
        nodes: NodesOption = None,
        batch: Annotated[
            int, typer.Option("--batch", min=1, help="Frames that a node takes at a time.")
        ] = api.USUAL_BATCH,
        again: Annotated[
            bool, typer.Option("--again", help="Send it although the farm has the same crate and frames already.")
        ] = False,
        yes: YesOption = False,
    ) -> None:
        """Upload what the farm lacks, and start the job.

        Before it starts, what the farm understood of the crate is compared with the survey.
        """
        prepared = api.prepare(crate, farm, machine=machine, nodes=nodes, batch=batch)
        if prepared.earlier is not None and prepared.earlier.confirmed and not again:
            from tidy_crate.core.job.send import repeated

            raise repeated(prepared.earlier, prepared.card.name)
        if not talk.as_json:
            _show_plan(talk.err, prepared)
            if prepared.earlier is not None and not prepared.earlier.confirmed:
                talk.say(f"{prepared.earlier.job} was never confirmed by the farm: this goes on with it.")
        talk.agree(f"Send this job to {prepared.card.name}?", yes)
        with talk.progress("uploading") as progress:
            sent = api.send(prepared, again=again, progress=progress)
        talk.result(sent, lambda console: _show(console, sent))


def _show_plan(console: Console, prepared: api.Prepared) -> None:
    from tidy_crate.cli.check_view import waiver_lines
    from tidy_crate.cli.show import cell, duration, facts, money

    sending, card, quote = prepared.sending, prepared.card, prepared.quote
    request = sending.packing.requests[0]
    cost = f"unknown: {prepared.no_quote}"
    if quote is not None and quote.eligible:
        likely = quote.cost
        cost = (
            f"{money(likely.likely, likely.currency)}, between {likely.low:.2f} and {likely.high:.2f}; "
            f"done in {duration(quote.seconds.likely)}"
        )
    facts(
        console,
        [
            (
                "farm",
                f"{card.title or card.name}, {sending.nodes} x {sending.machine}, batches of {sending.batch}",
            ),
            ("frames", f"{request.frames} at {request.width} x {request.height}"),
            ("outputs", f"{', '.join(request.outputs)}: {sending.products} files"),
            ("estimate", cost),
        ],
    )
    moved = [f"{name} as {path}" for name, path in sending.overlay.outputs.items() if path != _own(sending, name)]
    if moved:
        console.print(cell(f"This farm is asked to write {', '.join(moved)}"), style="dim")
    if outside := sending.packing.from_outside:
        shown = ", ".join(outside[:6]) + (f" and {len(outside) - 6} more" if len(outside) > 6 else "")
        console.print(cell(f"from outside the project: {shown}"), style="yellow")
    for finding in sending.warnings:
        console.print(cell(f"warning: {finding.code}  {finding.subject}: {finding.message}"), style="yellow")
    for line in waiver_lines(sending.waived, sending.accepted):
        console.print(cell(f"waived: {line}"), style="dim")


def _own(sending: Sending, name: str) -> str:
    return sending.packing.output(name).path


def _show(console: Console, sent: Sent) -> None:
    from tidy_crate.cli.show import counted, size

    for one in sent.submissions:
        how = "goes on" if sent.continued else "runs"
        console.print(
            f"Job {sent.job} {how} at {one.farm}: {counted(one.tasks, 'frame')}, {size(one.uploaded_bytes)} uploaded, "
            f"{size(one.reused_bytes)} were there already."
        )
