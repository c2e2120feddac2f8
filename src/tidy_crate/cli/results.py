"""tidy-crate look, stitch, deliver, report"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.jobs import JobArgument
from tidy_crate.cli.talk import Talk, command
from tidy_crate.core.errors import WrongUsage

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from tidy_crate.core.job.missing import Unavailable
    from tidy_crate.core.review.verdicts import FrameVerdict

OutOption = Annotated[Path, typer.Option("--out", "-o", metavar="FILE", help="Where to write it.")]
MOST = 20


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "look")
    def look(
        talk: Talk,
        job: JobArgument,
        out: OutOption,
        passes: Annotated[
            int | None, typer.Option("--passes-of", metavar="FRAME", help="All passes of a frame side by side.")
        ] = None,
        difference: Annotated[
            int | None,
            typer.Option("--difference", metavar="FRAME", help="A frame against another one: see --against."),
        ] = None,
        other: Annotated[
            str | None,
            typer.Option(
                "--against", metavar="FRAME-or-FILE", help="With --difference; the frame before if not given."
            ),
        ] = None,
        preview: Annotated[bool, typer.Option("--preview", help="What has arrived: .webp, .png or .mp4.")] = False,
        timeline: Annotated[bool, typer.Option("--timeline", help="Time of each frame, by node and attempt.")] = False,
        output: Annotated[str | None, typer.Option("--output", metavar="NAME", help="Which output.")] = None,
        view: Annotated[str, typer.Option("--view", metavar="NAME", help="Which camera or variant.")] = "",
        fps: Annotated[float, typer.Option("--fps", min=0.1, max=240, help="Of the preview.")] = 12.0,
    ) -> None:
        """Draw frames to look at: a contact sheet, or what one of the options says.

        \b
        Examples:
          tidy-crate look quay-3 -o quay.webp --preview
          tidy-crate look quay-3 -o passes.png --passes-of 1017
        """
        found = api.record(job)
        frames = _of(found.frames, job, output, view)
        tone = api.tone(job, frames[0].output)
        told: dict[str, object] = {}
        if passes is not None:
            from tidy_crate.core.review.looking import draw_passes

            told["passes"] = draw_passes(_frame(frames, passes), out, tone)
        elif difference is not None:
            from tidy_crate.core.review.looking import draw_difference

            told |= draw_difference(_frame(frames, difference), _other(frames, difference, other), out, tone)
        elif preview:
            from tidy_crate.core.review.looking import draw_preview

            told["frames"] = draw_preview([one.path for one in frames], out, fps, tone)
        elif timeline:
            from tidy_crate.core.review.looking import draw_timeline

            draw_timeline(frames, out, job)
        else:
            from tidy_crate.core.review.sheet import write_contact_sheet
            from tidy_crate.core.review.verdicts import Review

            shown = found.frames if output is None else tuple(frames)
            told["pages"] = [str(page) for page in write_contact_sheet(Review(frames=tuple(shown)), out)]
        talk.result({"job": job, "file": str(out)} | told, lambda console: console.print(f"{out}", highlight=False))

    @command(app, "stitch")
    def stitch(talk: Talk, job: JobArgument) -> None:
        """Put tiles and sample shares together to full frames, beside them.

        \b
        Examples:
          tidy-crate stitch poster-1
          tidy-crate stitch poster-1 --json
        """
        from tidy_crate.cli.show import counted

        with talk.progress("stitching") as progress:
            result = api.stitch(job, progress=progress)
        seams = [(one, text) for one in result.stitched for text in one.seams]

        def show(console: Console) -> None:
            console.print(f"{counted(len(result.stitched), 'full frame')} put together.")
            for one, text in seams[:MOST]:
                console.print(f"{one.output} {one.frame}: {text}", style="yellow", markup=False, highlight=False)
            _unavailable(console, (("missing", result.missing), ("bad", result.wrong)))

        talk.result(result, show)
        if result.missing or result.wrong or seams:
            raise typer.Exit(1)

    @command(app, "deliver")
    def deliver(
        talk: Talk,
        job: JobArgument,
        out: Annotated[
            Path, typer.Option("--out", "-o", metavar="FOLDER-or-ARCHIVE", help="A folder, or .zip, or .tar.zst.")
        ],
    ) -> None:
        """Write the accepted frames as the brief orders them, with a list of digests.

        Nothing is written while a frame is missing, suspect or bad.

        \b
        Examples:
          tidy-crate deliver quay-3 -o delivery
          tidy-crate deliver quay-3 -o quay_010.zip
        """
        from tidy_crate.cli.show import counted, next_command, size

        with talk.progress("delivering") as progress:
            result = api.deliver(job, out, progress=progress)

        def show(console: Console) -> None:
            if result.missing:
                console.print("Nothing was delivered: it is not complete.", style="bold red")
                _unavailable(console, (("missing", result.missing),))
                return
            console.print(f"{counted(len(result.delivered), 'frame')}, {size(result.bytes)}, delivered to {out}.")
            console.print("Their digests are in digests.txt, for b3sum --check.")
            next_command(console, "report", job, "-o", f"{job}.html")

        talk.result(result, show)
        if result.missing:
            raise typer.Exit(1)

    @command(app, "report")
    def report(talk: Talk, job: JobArgument, out: OutOption) -> None:
        """Write the final record of a job as one HTML file: asked, sent, waived, rendered, found and paid.

        \b
        Examples:
          tidy-crate report quay-3 -o quay-3.html
          tidy-crate report quay-3 -o quay-3.html --json
        """
        from tidy_crate.cli.report_page import page
        from tidy_crate.core.outputs import write_output

        found = api.record(job)
        if out.suffix.lower() not in (".html", ".htm"):
            raise WrongUsage("a report is an HTML file", out, "end its name in .html")
        write_output(out, page(found))
        talk.result(found, lambda console: console.print(f"{out}", highlight=False))


def _of(frames: Sequence[FrameVerdict], job: str, output: str | None, view: str) -> list[FrameVerdict]:
    """The frames of one output and view, in order."""
    names = list(dict.fromkeys(one.output for one in frames))
    if output is not None and output not in names:
        raise WrongUsage("the job has no such output", output, f"it has {', '.join(names)}")
    own = [one for one in frames if one.output == (output or names[0]) and (not view or one.view == view)]
    if not own:
        raise WrongUsage("the job has no such frames", view or job, "track shows what it has")
    return sorted(own, key=lambda one: (one.request, one.view, one.frame))


def _frame(frames: Sequence[FrameVerdict], number: int) -> Path:
    found = next((one.path for one in frames if one.frame == number), None)
    if found is None:
        raise WrongUsage("the job has no such frame", number, f"it has {frames[0].frame} to {frames[-1].frame}")
    return found


def _other(frames: Sequence[FrameVerdict], number: int, said: str | None) -> Path:
    if said is None:
        before = [one.frame for one in frames if one.frame < number]
        return _frame(frames, max(before, default=number + 1))
    return _frame(frames, int(said)) if said.lstrip("-").isdigit() else Path(said)


def _unavailable(console: Console, groups: Sequence[tuple[str, Sequence[Unavailable]]]) -> None:
    from tidy_crate.cli.show import cell, state, table

    if not any(group for _, group in groups):
        return
    rows = table("frame", "part", "output", "state", "why", right=("frame",))
    for word, group in groups:
        for one in group[:MOST]:
            part = "" if one.tile is None else f"tile {one.tile}"
            part += "" if one.share is None else f"{' ' if part else ''}share {one.share}"
            rows.add_row(str(one.frame), part, cell(one.output), state(word), cell(one.why))
    console.print(rows)
    more = sum(max(0, len(group) - MOST) for _, group in groups)
    if more:
        console.print(f"and {more} more")
