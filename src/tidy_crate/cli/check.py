"""tidy-crate check, waive"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.estimate import ScoreOption
from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from tidy_crate.core.check.run import Against


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "check")
    def check(
        talk: Talk,
        scene: Annotated[
            Path | None, typer.Argument(metavar="SCENE-OR-CRATE", help="A scene file, or a crate's folder.")
        ] = None,
        farms: Annotated[
            list[str] | None,
            typer.Option(
                "--farm",
                metavar="CARD",
                autocompletion=complete.farms,
                help="Against a farm card's rules too; repeatable.",
            ),
        ] = None,
        brief: Annotated[Path | None, typer.Option("--brief", metavar="FILE", help="Against what was ordered.")] = None,
        mend: Annotated[bool, typer.Option("--mend", help="Fix in the staged copy what needs no decision.")] = False,
        take_back: Annotated[
            str | None,
            typer.Option(
                "--take-back", metavar="CODE", autocompletion=complete.codes, help="Undo the fixes of a check, or all."
            ),
        ] = None,
        explain: Annotated[
            str | None,
            typer.Option("--explain", metavar="CODE", autocompletion=complete.codes, help="Explain a check, and end."),
        ] = None,
        catalogue: Annotated[bool, typer.Option("--catalogue", help="List every check there is, and end.")] = False,
        page: Annotated[
            Path | None, typer.Option("--page", metavar="FILE.html", help="Write the findings as an HTML page too.")
        ] = None,
        every: Annotated[bool, typer.Option("--all", help="Every finding, however many of a kind there are.")] = False,
        account: Annotated[
            str | None, typer.Option("--account", metavar="NAME", help="The account at the farm that pays.")
        ] = None,
        score: ScoreOption = 100.0,
        accept: Annotated[
            bool,
            typer.Option("--accept-practice-timings", help="Use timings of the practice renderer for a real farm."),
        ] = False,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Show what would go wrong on a farm, before money is spent.

        \b
        Examples:
          tidy-crate check scene.usda --mend
          tidy-crate check quay.crate --farm gullwing --farm ninepins
        """
        from tidy_crate.cli import check_view as view
        from tidy_crate.core.errors import WrongUsage

        if catalogue or explain is not None:
            chosen = _checks(explain)
            talk.result({"checks": [_described(one) for one in chosen]}, lambda c: view.show_checks(c, chosen))
            return
        if scene is None:
            raise WrongUsage("check what?", None, "name a scene or a crate")
        if mend and take_back is not None:
            raise WrongUsage("fix, or take fixes back: not both at once", None, "give one of --mend and --take-back")
        against = api.against(farms or [], brief=brief, account=account, score_here=score, accept_practice=accept)
        done: dict[str, Any] = {}
        if mend or take_back is not None:
            done = _change(scene, tidy_dir, mend, take_back, against)
        result = api.check(scene, against, tidy_dir=tidy_dir)
        document = result.model_dump(mode="json") | {"blocked": result.blocked} | done
        if page is not None:
            from tidy_crate.cli.check_page import write_page

            write_page(page, result)
            document["page"] = str(page.absolute())
        talk.result(document, lambda c: view.show(c, result, scene, done, explained=talk.verbose, every=every))
        if result.blocked:
            raise typer.Exit(1)

    @command(app, "waive")
    def waive(
        talk: Talk,
        scene: SceneArgument,
        code: Annotated[
            str, typer.Argument(metavar="CODE", autocompletion=complete.codes, help="The code of the finding.")
        ],
        because: Annotated[str, typer.Option("--because", metavar="REASON", help="Why it is accepted.")],
        subject: Annotated[str | None, typer.Option("--subject", help="Only for this subject.")] = None,
        by: Annotated[str, typer.Option("--by", metavar="NAME", help="Who accepts it.")] = "",
        tidy_dir: TidyOption = None,
    ) -> None:
        """Accept a warning, for a reason.

        The reason is kept with the decisions, and listed again when the job is sent.

        \b
        Examples:
          tidy-crate waive scene.usda scene-autosave-newer --because "only a moved viewport"
          tidy-crate waive scene.usda file-path-long --subject textures/rope.png --because "short at the farm"
        """
        waiver = api.waive(scene, code, because, subject=subject, by=by, tidy_dir=tidy_dir)
        context = api.open_scene(scene, tidy_dir=tidy_dir)
        document = waiver.model_dump(mode="json") | {"decisions": str(context.file.path)}
        talk.result(document, lambda console: console.print(f"{code} is waived: {because}", markup=False))


def _change(scene: Path, tidy_dir: Path | None, mend: bool, take_back: str | None, against: Against) -> dict[str, Any]:
    """Mend, or take mends back. Returns what was done, for the document."""
    from tidy_crate.core.errors import WrongUsage

    if scene.is_dir():
        raise WrongUsage("a crate cannot be fixed", scene, "fix the scene, and collect again")
    done: dict[str, Any] = {}
    if take_back is not None:
        gone = api.take_back(scene, take_back, tidy_dir=tidy_dir)
        done["taken_back"] = [one.model_dump(mode="json") for one in gone]
    if mend:
        made = api.mend(scene, against, tidy_dir=tidy_dir)
        done["mended"] = [one.model_dump(mode="json") for one in made]
        done["decisions"] = str(api.open_scene(scene, tidy_dir=tidy_dir).file.path)
    return done


def _checks(code: str | None) -> list[Any]:
    from tidy_crate.core.check.catalogue import check_of, in_groups

    return [one for group in in_groups().values() for one in group] if code is None else [check_of(code)]


def _described(one: Any) -> dict[str, Any]:
    from tidy_crate.core.check.mends import mendable

    return {
        "code": one.code,
        "severity": one.severity.value,
        "need": one.need,
        "why": one.why,
        "next": one.next.value,
        "asks_farm": one.of_farm is not None,
        "mendable": one.code in mendable(),
    }
