"""tidy-crate probe, estimate"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console


FarmOption = Annotated[
    str,
    typer.Option(
        "--farm", metavar="CARD", autocompletion=complete.farms, help="A farm card's file, or a known farm's name."
    ),
]
MachineOption = Annotated[
    str | None,
    typer.Option(
        "--machine",
        metavar="CLASS",
        autocompletion=complete.machines,
        help="Machine class; the card's first if not said.",
    ),
]
NodesOption = Annotated[int | None, typer.Option("--nodes", min=1, help="Number of machines.")]
BatchOption = Annotated[int | None, typer.Option("--batch", min=1, help="Frames that a node takes at a time.")]
ScoreOption = Annotated[float, typer.Option("--score-here", min=0.01, help="This machine's benchmark score.")]
TimingsOption = Annotated[
    Path | None, typer.Option("--timings", metavar="FILE.csv", help="Take frame times from a table.")
]
PerFrameOption = Annotated[
    str | None, typer.Option("--seconds-per-frame", metavar="TIME", help="Every frame takes this long: 80s.")
]
SingleOption = Annotated[
    list[str] | None,
    typer.Option("--timing", metavar="FRAME=TIME", help="These frames take so long: 1=80s,120=6m."),
]
LoadOption = Annotated[
    str | None, typer.Option("--load-time", metavar="TIME", help="To load the scene, with times that are typed in.")
]
FromJobOption = Annotated[
    str | None,
    typer.Option(
        "--from-job", metavar="JOB", autocompletion=complete.jobs, help="Take frame times from an earlier job."
    ),
]


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "probe")
    def probe(
        talk: Talk,
        crate: CrateArgument,
        frames: Annotated[
            int | None,
            typer.Option("--count", min=1, help="Exactly so many test frames; as many as it needs if not said."),
        ] = None,
        scale: Annotated[
            str, typer.Option("--size", metavar="SIZE", help="Render them at this share of width and height: 50%.")
        ] = "100%",
        samples: Annotated[
            str, typer.Option("--samples-at", metavar="SHARE", help="Render them with this share of the samples: 25%.")
        ] = "100%",
        good_enough: Annotated[
            str,
            typer.Option(
                "--good-enough", metavar="SHARE", help="Stop when the range of the total is no wider than this."
            ),
        ] = "15%",
        most_time: Annotated[
            str, typer.Option("--most-time", metavar="TIME", help="Begin no further test frame after this time: 30m.")
        ] = "30m",
        timings: TimingsOption = None,
        per_frame: PerFrameOption = None,
        single: SingleOption = None,
        load: LoadOption = None,
        from_job: FromJobOption = None,
    ) -> None:
        """Render a few representative test frames here, and measure them.

        They are spread over the shot and over what changes on screen. More are rendered, each where it tells most,
        until the range of the total is narrow enough. They are kept, and compared with the farm's frames later. With
        times from elsewhere nothing is rendered: they are kept as those of the crate.

        \b
        Examples:
          tidy-crate probe quay.crate
          tidy-crate probe quay.crate --size 50% --most-time 10m
        """
        from tidy_crate.cli.estimate_view import show_probe
        from tidy_crate.core.estimate.durations import parse_seconds, parse_share
        from tidy_crate.estimating import TimingSource

        source = TimingSource(timings, per_frame, tuple(single or ()), load, from_job)
        if source != TimingSource():
            kept = api.take_timings(crate, source)
            talk.result(kept, lambda console: show_probe(console, kept, crate))
            return
        with talk.progress("probing") as progress:
            result = api.probe(
                crate,
                frames=frames,
                scale=parse_share(scale, "--size"),
                samples=parse_share(samples, "--samples-at"),
                width=parse_share(good_enough, "--good-enough"),
                seconds=parse_seconds(most_time, "--most-time"),
                progress=progress,
            )
        talk.result(result, lambda console: show_probe(console, result, crate))

    @command(app, "estimate")
    def estimate(
        talk: Talk,
        target: Annotated[
            str,
            typer.Argument(
                metavar="CRATE-or-JOB",
                autocompletion=complete.jobs,
                help="A crate's folder, or a job of which frames are left.",
            ),
        ] = "",
        farms: Annotated[
            list[str] | None,
            typer.Option(
                "--farm",
                metavar="CARD",
                autocompletion=complete.farms,
                help="A farm card's file or name; all known farms if not said.",
            ),
        ] = None,
        finish_by: Annotated[
            str | None,
            typer.Option("--finish-by", metavar="TIME", help="Choose the cheapest that is done by then: 'Fri 18:00'."),
        ] = None,
        budget: Annotated[
            str | None,
            typer.Option("--budget", metavar="AMOUNT", help="Choose the fastest that stays within: '120 EUR'."),
        ] = None,
        what_if: Annotated[
            str | None,
            typer.Option(
                "--what-if", metavar="CHANGE", help="With a change: samples=64,size=50%,frames=1-100x2,speed=2."
            ),
        ] = None,
        plot: Annotated[
            Path | None,
            typer.Option("--plot", metavar="FILE", help="Draw frame times, cost against time, and parts (PNG)."),
        ] = None,
        machine: Annotated[
            str | None,
            typer.Option(
                "--machine", metavar="CLASS", autocompletion=complete.machines, help="This machine class only."
            ),
        ] = None,
        nodes: NodesOption = None,
        batch: BatchOption = None,
        priority: Annotated[str | None, typer.Option("--priority", metavar="NAME", help="This priority only.")] = None,
        reclaimable: Annotated[
            bool | None,
            typer.Option("--reclaimable/--not-reclaimable", help="Only reclaimable machines, or none of them."),
        ] = None,
        timings: TimingsOption = None,
        per_frame: PerFrameOption = None,
        single: SingleOption = None,
        load: LoadOption = None,
        from_job: FromJobOption = None,
        score: Annotated[
            float | None, typer.Option("--score-here", min=0.01, help="This machine's benchmark score.")
        ] = None,
        upload: Annotated[
            float | None, typer.Option("--upload-mbit", min=0.001, help="Speed of the line here, in megabits a second.")
        ] = None,
        currency: Annotated[
            str | None,
            typer.Option("--currency", metavar="CODE", help="Compare in this currency; the first farm's if not said."),
        ] = None,
        accept: Annotated[
            bool,
            typer.Option("--accept-practice-timings", help="Use timings of the practice renderer for a real farm."),
        ] = False,
        accept_old: Annotated[
            bool,
            typer.Option("--accept-old-timings", help="Use timings of an earlier state of the crate."),
        ] = False,
        ask_farms: Annotated[
            bool, typer.Option("--ask-farms", help="Ask farms that have the crate for quotes of their own.")
        ] = False,
        parts: Annotated[
            bool, typer.Option("--parts", help="Show what each part of each way takes and costs.")
        ] = False,
        every: Annotated[bool, typer.Option("--all", help="Show every way, not just those worth taking.")] = False,
        accuracy: Annotated[
            bool, typer.Option("--accuracy", help="Show how the estimates of finished jobs did.")
        ] = False,
    ) -> None:
        """Compare what a crate costs and takes at each farm, and recommend one.

        Ranges hold in eight of ten cases. Nothing is binding. For a job that is under way it is about what is left.

        \b
        Examples:
          tidy-crate estimate quay.crate --farm gullwing --farm ninepins
          tidy-crate estimate quay.crate --farm gullwing --finish-by 'Fri 18:00'
        """
        from tidy_crate.cli import estimate_view as view
        from tidy_crate.core.errors import WrongUsage
        from tidy_crate.estimating import Ask, TimingSource

        if accuracy:
            found = api.estimate_accuracy()
            document = {"accuracy": [one.model_dump(mode="json") for one in found]}
            talk.result(document, lambda console: view.show_accuracy(console, found))
            return
        if not target:
            raise WrongUsage("no crate is named", "estimate", "name a crate or a job, or add --accuracy")
        answer = api.estimate(
            target,
            farms or (),
            Ask(
                machine=machine, nodes=nodes, batch=batch, priority=priority, reclaimable=reclaimable, score_here=score,
                upload_mbit=upload, currency=currency, accept_practice=accept, finish_by=finish_by, budget=budget,
                what_if=what_if, ask_farms=ask_farms,
            ),
            TimingSource(
                table=timings, per_frame=per_frame, single=tuple(single or ()), load=load, job=from_job,
                accept_old=accept_old,
            ),
        )  # fmt: skip
        if plot is not None:
            from tidy_crate.core.estimate.plot import draw

            draw(answer, plot)
        result = answer.estimate

        def show(console: Console) -> None:
            named = {api.load_card(word)[0].name: word for word in farms or ()}
            view.show_estimate(console, result, target, named, every=every, parts=parts, plot=plot)

        talk.result(result, show)
        if result.pick is None:
            raise typer.Exit(1)
