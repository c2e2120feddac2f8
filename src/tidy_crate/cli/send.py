"""tidy-crate send"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.estimate import FarmOption, MachineOption, NodesOption
from tidy_crate.cli.talk import Talk, YesOption, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.estimate.model import Quote
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.job.send import Sending, Sent

USUAL_BATCH = 4


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "send")
    def send(
        talk: Talk,
        crate: CrateArgument,
        farm: FarmOption,
        machine: MachineOption = None,
        nodes: NodesOption = None,
        batch: Annotated[int, typer.Option("--batch", min=1, help="Frames that a node takes at a time.")] = USUAL_BATCH,
        yes: YesOption = False,
    ) -> None:
        """Upload what the farm lacks, and start the job.

        Before it starts, what the farm understood of the crate is compared with the survey.
        """
        from datetime import date

        from tidy_crate.cli.places import Links, load_card, open_ledger, origin_of
        from tidy_crate.core.job import send as core

        card, path = load_card(farm)
        sending = core.prepare(crate, card, machine, nodes, batch, date.today(), origin_of(crate))
        quote = _quote(sending, card)
        if not talk.as_json:
            _show_plan(talk.err, sending, card, quote)
        talk.agree(f"Send this job to {card.name}?", yes)
        link = Links.to(card, path)
        try:
            with talk.progress("uploading") as progress:
                sent = core.send(sending, card, path, link, open_ledger(), quote, progress)
        finally:
            link.close()
        talk.result(sent, lambda console: _show(console, sent))


def _quote(sending: Sending, card: FarmCard) -> Quote | None:
    """What this very submission will cost, where the crate was probed."""
    from tidy_crate.core.errors import TidyCrateError
    from tidy_crate.core.estimate.model import Wishes
    from tidy_crate.core.estimate.probe import read_probe
    from tidy_crate.core.estimate.quote import estimate

    try:
        probe = read_probe(sending.crate)
    except TidyCrateError:
        return None
    wishes = Wishes(machine=sending.machine, nodes=sending.nodes, batch=sending.batch)
    return estimate(sending.packing, probe, [card], wishes).quotes[0]


def _show_plan(console: Console, sending: Sending, card: FarmCard, quote: Quote | None) -> None:
    from tidy_crate.cli.check_view import waiver_lines
    from tidy_crate.cli.show import cell, duration, facts, money

    request = sending.packing.requests[0]
    cost = "unknown: run probe first"
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
    for finding in sending.warnings:
        console.print(cell(f"warning: {finding.code}  {finding.subject}: {finding.message}"), style="yellow")
    for line in waiver_lines(sending.waived, sending.accepted):
        console.print(cell(f"waived: {line}"), style="dim")


def _own(sending: Sending, name: str) -> str:
    return sending.packing.output(name).path


def _show(console: Console, sent: Sent) -> None:
    from tidy_crate.cli.show import counted, size

    for one in sent.submissions:
        console.print(
            f"Job {sent.job} runs at {one.farm}: {counted(one.tasks, 'frame')}, {size(one.uploaded_bytes)} uploaded, "
            f"{size(one.reused_bytes)} were there already."
        )
