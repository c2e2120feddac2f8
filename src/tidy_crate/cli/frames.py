"""tidy-crate retrieve, review, rerender"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.jobs import JobArgument
from tidy_crate.cli.talk import Talk, YesOption, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.job.retrieve import Retrieved
    from tidy_crate.core.review.run import Review


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "retrieve")
    def retrieve(
        talk: Talk,
        job: JobArgument,
        into: Annotated[Path, typer.Option("--into", metavar="DIR", help="The folder for the frames.")],
        follow: Annotated[
            bool, typer.Option("--follow", "-f", help="Stay, and fetch frames as they are done.")
        ] = False,
        verify_home: Annotated[
            bool,
            typer.Option("--verify-home", help="Read every file at home again, also where none was touched."),
        ] = False,
    ) -> None:
        """Bring frames home, verified, into a folder per output."""
        with talk.progress("retrieving") as progress:
            result = api.retrieve(job, into, follow=follow, verify_home=verify_home, tell=talk.say, progress=progress)
        talk.result(result, lambda console: _show_retrieved(console, result))
        if result.missing or result.damaged:
            raise typer.Exit(1)

    @command(app, "review")
    def review(
        talk: Talk,
        what: Annotated[str, typer.Argument(metavar="JOB-or-DIR", help="A job, or a folder of frames.")],
        expect: Annotated[
            Path | None,
            typer.Option("--expect", metavar="CRATE", help="For a folder: the crate the frames were rendered from."),
        ] = None,
        sheet: Annotated[
            Path | None,
            typer.Option("--sheet", metavar="FILE.png", help="Draw all frames on a contact sheet."),
        ] = None,
    ) -> None:
        """Open every frame and judge it."""
        from tidy_crate.core.work.attempt import Verdict

        with talk.progress("reviewing") as progress:
            result = api.review(what, expect=expect, progress=progress)
        if sheet is not None:
            from tidy_crate.core.review.sheet import write_contact_sheet

            write_contact_sheet(result, sheet)
        counts = {verdict.value: result.count(verdict) for verdict in Verdict}
        talk.result(result.model_dump(mode="json") | {"counts": counts}, lambda console: _show(console, result))
        if sheet is not None:
            talk.say(f"Contact sheet: {sheet}")
        if not result.clean:
            raise typer.Exit(1)

    @command(app, "rerender")
    def rerender(
        talk: Talk,
        job: JobArgument,
        failed: Annotated[
            bool, typer.Option("--failed", help="Only the frames that failed at a farm; no review is needed.")
        ] = False,
        yes: YesOption = False,
    ) -> None:
        """Render again only what the review rejected or missed."""
        from tidy_crate.cli.show import counted
        from tidy_crate.core.asset.frames import format_frames

        if failed:
            talk.agree(f"Render the failed frames of {job} again?", yes)
            tasks = api.resubmit_failed(job)
            talk.result(
                {"job": job, "tasks": [str(task) for task in tasks]},
                lambda console: console.print(f"{len(tasks)} frames are rendered again: track {job} --follow"),
            )
            return
        wanted = api.to_rerender(job)
        if wanted.tasks:
            numbers = format_frames(sorted({task.frame for task in wanted.tasks}))
            talk.say(f"To be rendered again: {counted(len(wanted.tasks), 'frame')}, {numbers}")
            talk.agree(f"Render {counted(len(wanted.tasks), 'frame')} again?", yes)
            api.rerender(wanted)
        words = (
            f"{counted(len(wanted.tasks), 'frame')} of {job} will render again."
            if wanted.tasks
            else "Every frame is good."
        )
        talk.result(wanted, lambda console: console.print(words))


def _show_retrieved(console: Console, result: Retrieved) -> None:
    from tidy_crate.cli.show import cell, counted, state, table

    console.print(
        cell(f"{counted(len(result.retrieved), 'file')} came home into {result.into}, {result.at_home} are there now.")
    )
    if result.missing or result.damaged:
        rows = table("frame", "output", "state", "why", right=("frame",))
        for word, group in (("missing", result.missing), ("bad", result.damaged)):
            for one in group[:20]:
                rows.add_row(str(one.frame), cell(one.output), state(word), cell(one.why))
        console.print(rows)
        if len(result.missing) > 20:
            console.print(f"and {len(result.missing) - 20} more missing")


def _show(console: Console, result: Review) -> None:
    from tidy_crate.cli.show import cell, counted, state, table
    from tidy_crate.core.work.attempt import Verdict

    poor = [frame for frame in result.frames if frame.verdict is not Verdict.GOOD]
    if poor:
        rows = table("frame", "output", "verdict", "why", right=("frame",))
        for one in poor[:40]:
            rows.add_row(str(one.frame), cell(one.output), state(one.verdict.value), cell("; ".join(one.reasons)))
        console.print(rows)
        if len(poor) > 40:
            console.print(f"and {len(poor) - 40} more")
        console.print()
    unchecked = sorted({word for frame in result.frames for word in frame.unchecked})
    if unchecked:
        console.print(
            f"Unchecked, since nobody said what is expected: {', '.join(unchecked)}. Add --expect CRATE.",
            style="yellow",
        )
    by_output: dict[str, int] = {}
    for frame in result.frames:
        by_output[frame.output] = by_output.get(frame.output, 0) + (frame.verdict is Verdict.GOOD)
    good = ", ".join(f"{cell(name)} {count}" for name, count in by_output.items())
    words = f"{counted(len(result.frames), 'frame')}: {result.count(Verdict.GOOD)} good ({good}), {len(poor)} not."
    console.print(words, style="bold green" if not poor else "bold red")
