"""tidy-crate retrieve, review, accept, reject, rerender"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.jobs import JobArgument
from tidy_crate.cli.talk import Talk, YesOption, command
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.work.attempt import Verdict

# rows of a table of frames that are not good
MOST_ROWS = 40

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.context.review_rules import ReviewRules
    from tidy_crate.core.job.accepting import Judged
    from tidy_crate.core.job.retrieve import Retrieved
    from tidy_crate.core.review.verdicts import GroupVerdict, Review


FramesOption = Annotated[str | None, typer.Option("--frames", metavar="FRAMES", help="A frame list: 1001-1004,1009.")]
VerdictOption = Annotated[list[Verdict] | None, typer.Option("--verdict", help="All that the review called that.")]
OutputOption = Annotated[str | None, typer.Option("--output", metavar="NAME", help="Only of this output.")]
BecauseOption = Annotated[str, typer.Option("--because", metavar="REASON", help="Why, for the record.")]
AskOption = Annotated[bool, typer.Option("--ask", help="Ask about each frame.")]


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
        folders: Annotated[
            str | None,
            typer.Option(
                "--folders",
                metavar="PATTERN",
                help="Folders below DIR, from {request} {view} {camera} {variant} {output}. Kept for this job.",
            ),
        ] = None,
    ) -> None:
        """Bring frames home, verified, into a folder per output.

        \b
        Examples:
          tidy-crate retrieve quay-3 --into frames --follow
          tidy-crate retrieve quay-3 --into frames --folders "{variant}/{camera}/{output}"
        """
        from tidy_crate.core.work.folders import pattern

        with talk.progress("retrieving") as progress:
            result = api.retrieve(
                job,
                into,
                follow=follow,
                verify_home=verify_home,
                folders=pattern(folders),
                tell=talk.warn,
                progress=progress,
            )
        talk.result(result, lambda console: _show_retrieved(console, result))
        if result.missing or result.damaged:
            raise typer.Exit(1)

    @command(app, "review")
    def review(
        talk: Talk,
        what: Annotated[
            str,
            typer.Argument(metavar="JOB-or-DIR", autocompletion=complete.jobs, help="A job, or a folder of frames."),
        ],
        expect: Annotated[
            Path | None,
            typer.Option("--expect", metavar="CRATE", help="For a folder: the crate the frames were rendered from."),
        ] = None,
        sheet: Annotated[
            Path | None,
            typer.Option("--sheet", metavar="FILE.png", help="Draw all frames on a contact sheet."),
        ] = None,
        meant: Annotated[
            str | None,
            typer.Option("--meant", metavar="FRAMES", help="Frames at which flashes, cuts or black are meant."),
        ] = None,
        rules: Annotated[
            Path | None,
            typer.Option("--rules", metavar="FILE.toml", help="Limits to judge by, as below [review] in a project."),
        ] = None,
        explain: Annotated[
            int | None, typer.Option("--measures", metavar="FRAME", help="Show what was measured of one frame.")
        ] = None,
        workers: Annotated[
            str | None,
            typer.Option("--workers", metavar="dasks://HOST:PORT", help="Read the frames on a scheduler's workers."),
        ] = None,
    ) -> None:
        """Open every frame and judge it, by itself and against the frames beside it.

        bad: to be rendered again. suspect: a person should look. Limits are in the project's file, under [review].

        \b
        Examples:
          tidy-crate review quay-3 --sheet quay-3.png
          tidy-crate review frames/Beauty --meant 1040-1042
          tidy-crate review quay-3 --measures 1017
        """
        from tidy_crate.core.asset.frames import parse_frames

        with talk.progress("reviewing") as progress:
            result = api.review(
                what,
                expect=expect,
                rules=_rules(rules),
                meant=parse_frames(meant) if meant else (),
                explain=explain,
                workers=workers,
                progress=progress,
            )
        if sheet is not None:
            from tidy_crate.core.review.sheet import write_contact_sheet

            write_contact_sheet(result, sheet)
        counts = {verdict.value: result.count(verdict) for verdict in Verdict}
        talk.result(result.model_dump(mode="json") | {"counts": counts}, lambda console: _show(console, result, what))
        if sheet is not None:
            talk.say(f"Contact sheet: {sheet}")
        if not Path(what).is_dir() and result.clean:
            talk.say(f"Next: tidy-crate deliver {what} -o FOLDER")
        if not Path(what).is_dir() and not result.clean:
            bad = result.count(Verdict.BAD) + result.count(Verdict.MISSING)
            if result.count(Verdict.MISSING) == len(result.frames):
                talk.say(f"Next: tidy-crate track {what}")
            elif result.shared_fault is not None:
                talk.say(f"All frames of an output have one fault: {result.shared_fault}. Its cause is in the scene,")
                talk.say("its settings or the farm's program. Rendering again would cost as much and show the same.")
                talk.say("Next, to see the frames that this machine renders: tidy-crate probe CRATE")
            else:
                talk.say(f"Next: tidy-crate rerender {what}{'' if bad else ' --suspect'}")
            if result.count(Verdict.SUSPECT):
                talk.say(f"Or: tidy-crate accept {what} --verdict suspect --ask")
        if not result.clean:
            raise typer.Exit(1)

    @command(app, "accept")
    def accept(
        talk: Talk,
        job: JobArgument,
        frames: FramesOption = None,
        verdict: VerdictOption = None,
        output: OutputOption = None,
        because: BecauseOption = "",
        ask: AskOption = False,
    ) -> None:
        """Accept frames, whatever the review says of them. They are not called suspect again.

        \b
        Examples:
          tidy-crate accept quay-3 --frames 1040-1042 --because "the lighthouse flashes"
          tidy-crate accept quay-3 --verdict suspect --ask
        """
        _decide(talk, job, frames, verdict, output, because, ask, accept=True)

    @command(app, "reject")
    def reject(
        talk: Talk,
        job: JobArgument,
        frames: FramesOption = None,
        verdict: VerdictOption = None,
        output: OutputOption = None,
        because: BecauseOption = "",
        ask: AskOption = False,
    ) -> None:
        """Reject frames, whatever the review says of them: rerender takes them with it.

        \b
        Examples:
          tidy-crate reject quay-3 --frames 1017,1018 --because "the lantern hangs in the air"
          tidy-crate reject quay-3 --verdict suspect --because "seen by the artist"
        """
        _decide(talk, job, frames, verdict, output, because, ask, accept=False)

    @command(app, "rerender")
    def rerender(
        talk: Talk,
        job: JobArgument,
        failed: Annotated[
            bool, typer.Option("--failed", help="Only the frames that failed at a farm; no review is needed.")
        ] = False,
        suspect: Annotated[bool, typer.Option("--suspect", help="What is suspect too.")] = False,
        farm: Annotated[
            str | None,
            typer.Option(
                "--farm", metavar="CARD", autocompletion=complete.farms, help="At this farm, as a part of the same job."
            ),
        ] = None,
        machine: Annotated[
            str | None,
            typer.Option(
                "--machine", metavar="CLASS", autocompletion=complete.machines, help="With --farm: the machine class."
            ),
        ] = None,
        yes: YesOption = False,
    ) -> None:
        """Render again only what was rejected or is missing, on its own numbers.

        \b
        Examples:
          tidy-crate rerender quay-3
          tidy-crate rerender quay-3 --suspect --farm gullwing --machine large
        """
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
        if machine is not None and farm is None:
            raise WrongUsage("--machine needs --farm", machine, "add --farm CARD")
        wanted = api.to_rerender(job, suspect=suspect)
        if wanted.tasks:
            numbers = format_frames(sorted({task.frame for task in wanted.tasks}))
            talk.say(f"To be rendered again: {counted(len(wanted.tasks), 'frame')}, {numbers}")
            if farm is not None:
                from tidy_crate.core.work.options import SendOptions

                prepared = api.prepare_again(wanted, farm, SendOptions(machine=machine) if machine else None)
                talk.agree(f"Render {counted(len(wanted.tasks), 'frame')} again at {prepared.card.name}?", yes)
                with talk.progress("uploading") as progress:
                    api.send(prepared, job=job, again=True, tell=talk.warn, progress=progress)
            else:
                talk.agree(f"Render {counted(len(wanted.tasks), 'frame')} again?", yes)
                api.rerender(wanted)
        words = (
            f"{counted(len(wanted.tasks), 'frame')} of {job} will render again."
            if wanted.tasks
            else "Every frame is good."
        )
        talk.result(wanted, lambda console: console.print(words))


def _rules(path: Path | None) -> ReviewRules | None:
    if path is None:
        return None
    from tidy_crate.core.context.review_rules import ReviewRules
    from tidy_crate.core.toml import read_toml

    return read_toml(ReviewRules, path, "limits of the review")


def _decide(
    talk: Talk,
    job: str,
    frames: str | None,
    verdict: list[Verdict] | None,
    output: str | None,
    because: str,
    ask: bool,
    *,
    accept: bool,
) -> None:
    from tidy_crate.cli.show import counted
    from tidy_crate.core.asset.frames import parse_frames

    word = "accept" if accept else "reject"
    if frames is None and not verdict and not ask:
        raise WrongUsage(f"nothing says which frames to {word}", job, "add --frames, --verdict or --ask")
    if ask and not talk.can_ask:
        raise WrongUsage("--ask needs a terminal", job, "name the frames with --frames")
    numbers = parse_frames(frames) if frames is not None else None
    chosen = api.judged_products(job, frames=numbers, verdicts=verdict or (), output=output)
    if ask:
        chosen = tuple(one for one in chosen if one.verdict is not None and talk.ask(_question(one, word)))
    if not chosen and not ask:
        raise WrongUsage("no frame at home is meant by this", job, f"tidy-crate review {job}")
    done = api.decide(job, chosen, accept=accept, because=because)
    count = len(done.products)
    words = f"{counted(count, 'frame')} of {job} {'is' if count == 1 else 'are'} {word}ed."
    if done.told:
        words += f" Told: {', '.join(done.told)}."
    if done.later:
        words += f" {', '.join(done.later)} does not answer, and is told with the next tidy-crate track {job}."
    talk.result(done, lambda console: console.print(words if accept else f"{words} Next: tidy-crate rerender {job}"))


def _show_retrieved(console: Console, result: Retrieved) -> None:
    from tidy_crate.cli.show import by_frames, cell, counted, show_next, state, table

    console.print(
        cell(f"{counted(len(result.retrieved), 'file')} came home into {result.into}, {result.at_home} are there now.")
    )
    if result.missing or result.damaged:
        rows = table("frames", "output", "state", "why")
        groups = [("missing", one) for one in result.missing] + [("bad", one) for one in result.damaged]
        found = by_frames((one.frame, (one.output, word, one.why)) for word, one in groups)
        for frames, (output, word, why) in found[:MOST_ROWS]:
            rows.add_row(cell(frames), cell(output), state(word), cell(why))
        console.print(rows)
        if len(found) > MOST_ROWS:
            console.print(f"and {len(found) - MOST_ROWS} more rows like these")
    if result.ended and not result.missing:
        show_next(console, result.job)


def _question(one: Judged, word: str) -> str:
    why = "; ".join(one.reasons) or "nothing found"
    return f"{one.output} {one.frame} is {one.verdict}: {why}. {word.capitalize()} it?"


def _explain(console: Console, result: Review) -> None:
    from tidy_crate.cli.show import cell, facts, heading, table

    for one in result.explained:
        heading(console, f"{one.frame.output} {one.frame.frame}: {one.frame.verdict.value}")
        facts(console, one.form.items())
        if one.figures:
            rows = table(
                "measure", "kind", "figure", "usual here", "limit", "", right=("figure", "usual here", "limit")
            )
            for figure in one.figures:
                usual = "" if figure.usual is None else f"{figure.usual:.4g}"
                over = "over" if figure.over else ""
                rows.add_row(
                    cell(figure.what), figure.kind.value, f"{figure.figure:.4g}", usual, f"{figure.limit:.4g}", over
                )
            console.print(rows)
        for sign in one.frame.signs:
            console.print(cell(f"{sign.weight.value}: {sign.text}"))
    console.print()


def _show_group(console: Console, group: GroupVerdict, what: str) -> None:
    """Show frames that share a difference, how to see it, and how to decide for all of them at once."""
    import shlex

    from tidy_crate.cli.show import cell, counted
    from tidy_crate.core.asset.frames import format_frames

    frames = format_frames(group.frames)
    who = f"{group.cause}: " if group.cause else ""
    share = f"{who}{counted(len(group.frames), 'frame')} of {group.output} share a difference: {frames}"
    console.print(cell(share), style="bold yellow", soft_wrap=True)
    console.print(cell(f"  {group.text}"), soft_wrap=True)
    if Path(what).is_dir():
        return
    odd, plain = group.shows
    seen = f"look {what} -o difference.png --difference {odd} --against {plain} --output {shlex.quote(group.output)}"
    console.print(cell(f"  see it: tidy-crate {seen}"), style="dim", soft_wrap=True)
    decide = f'{what} --frames {frames.replace(" ", "")} --output {shlex.quote(group.output)} --because "..."'
    console.print(cell(f"  decide: tidy-crate reject {decide}"), style="dim", soft_wrap=True)
    console.print(cell(f"      or: tidy-crate accept {decide}"), style="dim", soft_wrap=True)


def _show(console: Console, result: Review, what: str) -> None:
    from tidy_crate.cli.show import by_frames, cell, counted, state, table

    _explain(console, result)

    poor = [frame for frame in result.frames if frame.verdict is not Verdict.GOOD]
    if poor:
        rows = table("frames", "output", "verdict", "why")
        found = by_frames((one.frame, (one.output, one.verdict.value, "; ".join(one.reasons))) for one in poor)
        for frames, (output, verdict, why) in found[:MOST_ROWS]:
            rows.add_row(cell(frames), cell(output), state(verdict), cell(why))
        console.print(rows)
        if len(found) > MOST_ROWS:
            console.print(f"and {len(found) - MOST_ROWS} more rows like these")
        console.print()
    for name, frames in result.gaps.items():
        console.print(cell(f"{name}: frames {frames} are not there."), style="yellow", soft_wrap=True)
    for group in result.groups:
        _show_group(console, group, what)
    unchecked = sorted({word for frame in result.frames for word in frame.unchecked})
    if unchecked:
        console.print(
            f"Not checked, because no crate says what is expected: {', '.join(unchecked)}. Add --expect CRATE.",
            style="yellow",
        )
    compared = [sign for frame in result.frames for sign in frame.signs if sign.kind == "here"]
    if compared:
        agree = sum(sign.weight == "note" for sign in compared)
        console.print(f"{agree} of {counted(len(compared), 'frame')} that were also rendered here agree with that.")
    by_output: dict[str, int] = {}
    for frame in result.frames:
        by_output[frame.output] = by_output.get(frame.output, 0) + (frame.verdict is Verdict.GOOD)
    good = ", ".join(f"{cell(name)} {count}" for name, count in by_output.items())
    words = f"{counted(len(result.frames), 'frame')}: {result.count(Verdict.GOOD)} good ({good}), {len(poor)} not good."
    console.print(words, style="bold green" if not poor else "bold red")
