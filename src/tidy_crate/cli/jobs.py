"""tidy-crate track, jobs, pause, resume, priority, cancel, release, log"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.talk import Talk, YesOption, command
from tidy_crate.core.errors import FarmError

if TYPE_CHECKING:
    from collections.abc import Callable
    from decimal import Decimal

    from rich.console import Console

    from tidy_crate.core.job.track import JobView

JobArgument = Annotated[
    str, typer.Argument(metavar="JOB", autocompletion=complete.jobs, help="The job's name, as send and jobs show it.")
]
# seconds between two looks; longer for a job of many frames, whose grid costs more
REFRESH, REFRESH_LARGE = 0.5, 3.0
LARGE = 20_000


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "track")
    def track(
        talk: Talk,
        job: Annotated[
            str | None,
            typer.Argument(metavar="[JOB]", autocompletion=complete.jobs, help="The job's name; all jobs if not said."),
        ] = None,
        follow: Annotated[bool, typer.Option("--follow", "-f", help="Stay until the job has ended.")] = False,
        frames: Annotated[
            bool, typer.Option("--each-frame", help="List every frame with node, time, cost and attempt.")
        ] = False,
        page: Annotated[
            Path | None,
            typer.Option("--page", metavar="FILE.html", help="Write the same as a page that refreshes itself."),
        ] = None,
    ) -> None:
        """Show how a job stands: frames, machines, cost so far and to come.

        A job that will break its cap is paused. Closing the terminal changes nothing: the job goes on, and the next
        track catches up.

        \b
        Examples:
          tidy-crate track quay-3 --follow
          tidy-crate track quay-3 --follow --page quay.html
        """
        if job is None:
            _list(talk, balances=True)
            return
        # listing every frame of a large job costs more than all else
        listed = frames or talk.verbose or talk.as_json
        if follow:
            view = _follow(talk, job, page, listed)
        else:
            with talk.progress("catching up") as progress:
                view = api.track(job, frames=listed, last_known=True, progress=progress)
        if page is not None and not follow:
            _write_page(page, view)
        talk.result(view, lambda console: _show(console, view, frames or talk.verbose))
        for farm in view.unheard:
            talk.say(f"{farm.farm} does not answer: {farm.trouble}")
        if view.unheard:
            raise typer.Exit(FarmError.exit_code)
        # whoever waits for the end must be able to tell a job that is done from one that only goes no further
        if view.state == "failed" or (follow and view.state != "done"):
            raise typer.Exit(1)

    @command(app, "jobs")
    def jobs(
        talk: Talk,
        balance: Annotated[bool, typer.Option("--balance", help="Ask each farm what is left to spend.")] = False,
    ) -> None:
        """List all jobs at all farms, from the ledger.

        \b
        Examples:
          tidy-crate jobs
          tidy-crate jobs --balance
        """
        _list(talk, balances=balance)

    @command(app, "pause")
    def pause(talk: Talk, job: JobArgument) -> None:
        """Pause a job: no further frame begins.

        \b
        Examples:
          tidy-crate pause quay-3
          tidy-crate pause quay-3 --json
        """
        _act(talk, job, "pause", "is paused at")

    @command(app, "resume")
    def resume(
        talk: Talk,
        job: JobArgument,
        cap: Annotated[
            str | None, typer.Option("--cap", metavar="AMOUNT", help="Most that it may cost from now on: '40 EUR'.")
        ] = None,
        yes: YesOption = False,
    ) -> None:
        """Let a job go on that is paused, held, or waits for its quote to be accepted.

        One that was paused at its cap needs a higher one.

        \b
        Examples:
          tidy-crate resume quay-3
          tidy-crate resume quay-3 --cap "60 EUR" --yes
        """
        view = api.track(job, frames=False)
        offers = [one for one in view.at if one.state == "offered" and one.offer is not None]
        quoted = " and ".join(f"{one.offer.cost} {one.offer.currency} at {one.farm}" for one in offers if one.offer)
        talk.agree(f"Accept the quote of {quoted}?" if quoted else f"Let {job} go on? Its frames are paid.", yes)
        most = None
        if cap is not None:
            from tidy_crate.core.money import parse_money

            most = parse_money(cap, view.currency)
        _act(talk, job, "resume", "goes on at", most)

    @command(app, "priority")
    def priority(
        talk: Talk,
        job: JobArgument,
        rank: Annotated[
            int, typer.Argument(metavar="NUMBER", min=0, max=100, help="From 0 to 100: 50 is usual, more is sooner.")
        ],
    ) -> None:
        """Set how soon a job is served.

        \b
        Examples:
          tidy-crate priority quay-3 80
          tidy-crate priority quay-3 20
        """
        farms = api.act(job, "priority", priority=rank)
        talk.result({"job": job, "farms": farms}, lambda console: console.print(f"{job} has priority {rank} now."))

    @command(app, "cancel")
    def cancel(talk: Talk, job: JobArgument, yes: YesOption = False) -> None:
        """Stop a job. Rendered frames stay; what is paid back is shown first.

        \b
        Examples:
          tidy-crate cancel quay-3
          tidy-crate cancel quay-3 --yes
        """
        back = api.refunds(job)
        if not talk.as_json:
            for one in back:
                spent, back_again = f"{one.spent:.2f} {one.currency} spent", f"about {one.likely:.2f} comes back"
                talk.say(f"{one.farm}: {spent}, {back_again} ({one.because})")
        talk.agree(f"Stop {job}?", yes)
        view = api.cancel(job)
        talk.result(view, lambda console: _show(console, view, frames=False))

    @command(app, "release")
    def release(talk: Talk, job: JobArgument) -> None:
        """Record that the machines rented for a job are shut down.

        \b
        Examples:
          tidy-crate release quay-3
          tidy-crate release quay-3 --json
        """
        view = api.release(job)
        talk.result(view, lambda console: _show(console, view, frames=False))

    @command(app, "log")
    def log(
        talk: Talk,
        job: JobArgument,
        frame: Annotated[int, typer.Argument(metavar="FRAME", help="The frame's number.")],
        request: Annotated[str, typer.Option("--request", help="The request, where a job has several.")] = "",
        view: Annotated[
            str, typer.Option("--view", metavar="NAME", help="The camera or variant, where there are several.")
        ] = "",
        tile: Annotated[int | None, typer.Option("--tile", min=0, help="The tile, where pictures are split.")] = None,
        share: Annotated[int | None, typer.Option("--sample-share", min=0, help="The sample share.")] = None,
    ) -> None:
        """Show what a node said while it rendered a frame, the last attempt.

        \b
        Examples:
          tidy-crate log quay-3 1017
          tidy-crate log poster-1 1 --tile 4
        """
        from tidy_crate.core.work.task import Task

        name = request or api.first_request(job)
        text = api.log(job, Task(name, frame, view, tile, share))
        talk.result(
            {"job": job, "frame": frame, "log": text},
            lambda console: console.print(text.rstrip(), markup=False, soft_wrap=True),
        )


def _act(talk: Talk, job: str, action: str, words: str, cap: tuple[Decimal, str] | None = None) -> None:
    farms = api.act(job, action, cap=cap)
    talk.result(
        {"job": job, "farms": farms},
        lambda console: console.print(f"{job} {words} {', '.join(farms)}.", markup=False, soft_wrap=True),
    )


def _list(talk: Talk, *, balances: bool) -> None:
    lines = api.jobs()
    left = api.balances() if balances else ()
    document: dict[str, Any] = {"jobs": [line.model_dump(mode="json") for line in lines]}
    if balances:
        document["balances"] = [one.model_dump(mode="json") for one in left]

    def show(console: Console) -> None:
        from tidy_crate.cli.show import cell, money
        from tidy_crate.cli.track_view import jobs_table

        if not lines:
            console.print("No job has been sent yet.")
            return
        console.print(jobs_table(lines))
        for one in left:
            known = one.balance is not None
            text = f"{money(one.balance, one.currency)} left" if known and one.balance is not None else one.trouble
            console.print(cell(f"{one.farm}: {text}"), style="" if known else "dim")

    talk.result(document, show)


def _follow(talk: Talk, job: str, page: Path | None, listed: bool) -> JobView:
    """Draw the job until it has ended; without a terminal say a line whenever something has changed."""
    from rich.live import Live

    pause = REFRESH_LARGE if api.frame_grid(job, 1).frames > LARGE else REFRESH

    def also_page(view: JobView) -> None:
        if page is not None:
            _write_page(page, view)

    if not talk.err.is_terminal or talk.quiet or talk.as_json:
        api.track(job, frames=False, follow=_plain(talk, also_page), last_known=True, pause=pause, tell=talk.warn)
    else:
        from tidy_crate.cli.track_view import Room, job_view

        with Live(console=talk.err, screen=True, auto_refresh=False) as live:

            def draw(view: JobView) -> None:
                room = Room(talk.err.width, talk.err.height)
                live.update(job_view(view, api.frame_grid(job, room.cells), room), refresh=True)
                also_page(view)

            api.track(job, frames=False, follow=draw, last_known=True, pause=pause, tell=talk.warn)
    view = api.track(job, frames=listed)
    also_page(view)
    return view


def _plain(talk: Talk, also: Callable[[JobView], None]) -> Callable[[JobView], None]:
    from tidy_crate.cli.track_view import plain_line

    last = ""

    def say(view: JobView) -> None:
        nonlocal last
        line = plain_line(view)
        if line != last:
            talk.say(line)
            last = line
        also(view)

    return say


def _write_page(path: Path, view: JobView) -> None:
    from datetime import UTC, datetime

    from tidy_crate.cli.track_page import CELLS, page
    from tidy_crate.core.outputs import write_output

    write_output(path.absolute(), page(view, api.frame_grid(view.job, CELLS), datetime.now(UTC)))


def _show(console: Console, view: JobView, frames: bool) -> None:
    from tidy_crate.cli.track_view import Room, frame_table, job_view

    room = Room(console.width)
    console.print(job_view(view, api.frame_grid(view.job, room.cells), room))
    if frames:
        console.print()
        console.print(frame_table(view))
