"""tidy-crate check, waive"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.check.run import CheckResult


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "check")
    def check(
        talk: Talk,
        scene: Annotated[Path, typer.Argument(metavar="SCENE-OR-CRATE", help="A scene file, or a crate's folder.")],
        explain: Annotated[bool, typer.Option("--explain", help="Say of each finding why it matters.")] = False,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Say before money is spent what would go wrong."""
        result = _check(scene, tidy_dir)
        document = result.model_dump(mode="json") | {"blocked": result.blocked}
        talk.result(document, lambda console: _show(console, result, explain or talk.verbose))
        if result.blocked:
            raise typer.Exit(1)

    @command(app, "waive")
    def waive(
        talk: Talk,
        scene: SceneArgument,
        code: Annotated[str, typer.Argument(metavar="CODE", help="The code of the finding.")],
        because: Annotated[str, typer.Option("--because", metavar="REASON", help="Why it is accepted.")],
        subject: Annotated[str | None, typer.Option("--subject", help="Only for this subject.")] = None,
        by: Annotated[str, typer.Option("--by", metavar="NAME", help="Who accepts it.")] = "",
        tidy_dir: TidyOption = None,
    ) -> None:
        """Accept a warning, for a reason.

        The reason is kept with the decisions, and listed again when the job is sent.
        """
        from datetime import date

        from tidy_crate.cli.places import open_scene
        from tidy_crate.core.check import run as core
        from tidy_crate.core.errors import WrongUsage
        from tidy_crate.core.scene.decisions import Waiver

        if not because.strip():
            raise WrongUsage("a waiver needs a reason", code, 'add --because "..."')
        context = open_scene(scene, tidy_dir)
        waiver = Waiver(code=code, subject=subject, because=because, by=by, on=date.today())
        core.waive(context, waiver)
        document = waiver.model_dump(mode="json") | {"decisions": str(context.file.path)}
        talk.result(document, lambda console: console.print(f"{code} is waived: {because}", markup=False))


def _check(target: Path, tidy_dir: Path | None) -> CheckResult:
    from tidy_crate.cli.places import open_scene
    from tidy_crate.core.check import run as core

    if target.is_dir():
        return core.check_crate(target)
    return core.check_scene(open_scene(target, tidy_dir))


def _show(console: Console, result: CheckResult, explain: bool) -> None:
    from tidy_crate.cli.show import cell, counted, state, table
    from tidy_crate.core.check.finding import Severity

    rows = table("severity", "code", "where", "what is wrong", "what to do")
    for one in result.findings:
        word = state("waived" if one.waived else one.severity.value)
        remedy = f"waived because {one.waived_because}" if one.waived else one.remedy
        what = f"{one.message}. {one.why}" if explain else one.message
        rows.add_row(word, one.code, cell(one.subject), cell(what), cell(remedy))
    if result.findings:
        console.print(rows)
        console.print()
    for waiver in result.unused_waivers:
        console.print(cell(f"The waiver of {waiver.code} matches nothing any more."))
    counts = [counted(result.count(severity), severity.value) for severity in Severity]
    verdict = "Blocked" if result.blocked else "Ready"
    console.print(f"{verdict}: {', '.join(counts)}.", style="bold red" if result.blocked else "bold green")
