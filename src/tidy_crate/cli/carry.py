"""tidy-crate status, carry"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.talk import Talk, command
from tidy_crate.core.workflow.standing import StepName, StepState

if TYPE_CHECKING:
    from tidy_crate.core.review.record import Record
    from tidy_crate.core.workflow.shot import Shot
    from tidy_crate.core.workflow.standing import Standing, Standings

TargetArgument = Annotated[
    str, typer.Argument(metavar="TARGET", help="A scene, a crate, a job's name, or a shot list: .toml, .csv.")
]
FarmsOption = Annotated[
    list[str] | None,
    typer.Option("--farm", metavar="CARD", autocompletion=complete.farms, help="A farm that may be used; repeatable."),
]
CrateOption = Annotated[
    Path | None, typer.Option("--crate", metavar="DIR", help="The scene's crate; beside it if not said.")
]
IntoOption = Annotated[Path | None, typer.Option("--into", metavar="DIR", help="The folder for the frames.")]
CapOption = Annotated[str | None, typer.Option("--cap", metavar="AMOUNT", help="Most that it may cost: '120 EUR'.")]
DeliverOption = Annotated[
    Path | None, typer.Option("--deliver", metavar="PATH", help="Deliver accepted frames: a folder, .zip or .tar.zst.")
]
ReportOption = Annotated[
    Path | None, typer.Option("--report", metavar="FILE.html", help="Write the record of the job.")
]


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "status")
    def status(
        talk: Talk,
        target: TargetArgument,
        farms: FarmsOption = None,
        crate: CrateOption = None,
        cap: CapOption = None,
        into: IntoOption = None,
        deliver: DeliverOption = None,
        report: ReportOption = None,
    ) -> None:
        """Show where a scene, a crate, a job or all shots of a list stand, step by step, and what comes next.

        All of it is worked out from files, caches, the ledger and the farms. Nothing is changed.

        \b
        Examples:
          tidy-crate status quay_010.usda --farm gullwing
          tidy-crate status quay-3
          tidy-crate status night.toml
        """
        from tidy_crate.cli.carry_view import show_standings
        from tidy_crate.core.workflow.shot_list import is_shot_list

        if is_shot_list(Path(target)):
            from tidy_crate.cli.night import carry_list

            carry_list(talk, Path(target), None, None, None, look_only=True)
            return
        with api.Desk() as desk:
            shot = api.shot_for(target, desk, crate_folder=crate, farms=farms or (), cap=cap, into=into,
                                deliver=deliver, report=report)  # fmt: skip
            found = api.standings(shot)
        talk.result(found, lambda console: show_standings(console, found), _more(found))

    @command(app, "carry")
    def carry(
        talk: Talk,
        target: TargetArgument,
        farms: FarmsOption = None,
        crate: CrateOption = None,
        cap: CapOption = None,
        look_in: Annotated[
            list[Path] | None,
            typer.Option("--look-in", metavar="DIR", help="Look for missing files here; repeatable."),
        ] = None,
        into: IntoOption = None,
        deliver: DeliverOption = None,
        report: ReportOption = None,
        until: Annotated[
            StepName | None, typer.Option("--until", metavar="STEP", help="The last step: prove, estimate, review.")
        ] = None,
        plan: Annotated[bool, typer.Option("--plan", help="Show what would be done; do nothing.")] = False,
        budget: Annotated[
            str | None, typer.Option("--budget", metavar="AMOUNT", help="For a list: most that all shots may cost.")
        ] = None,
        finish_by: Annotated[
            str | None,
            typer.Option("--finish-by", metavar="TIME", help="For a list: when it should be home: 'Fri 8:00'."),
        ] = None,
        page: Annotated[
            Path | None, typer.Option("--page", metavar="FILE.html", help="For a list: write how it stands as a page.")
        ] = None,
    ) -> None:
        """Carry a scene the whole way: from the saved file to delivered frames.

        Every step that needs no decision is done. It stops at the first one that does, and says which lines settle it;
        run again, it goes on from there. What may be decided without you is written below [carry] in the project file.
        Without a terminal nothing is sent unless a cap is given.

        \b
        Examples:
          tidy-crate carry quay_010.usda --farm gullwing --cap "40 EUR" --deliver delivery
          tidy-crate carry quay_010.usda --until prove
          tidy-crate carry night.toml --page night.html
        """
        from tidy_crate.cli.carry_view import show_standings
        from tidy_crate.core.workflow.shot_list import is_shot_list

        if is_shot_list(Path(target)):
            from tidy_crate.cli.night import carry_list

            carry_list(talk, Path(target), budget, finish_by, page, look_only=plan)
            return
        with api.Desk(tell=talk.warn) as desk:
            shot = api.shot_for(target, desk, crate_folder=crate, farms=farms or (), cap=cap, look_in=look_in or (),
                                into=into, deliver=deliver, report=report)  # fmt: skip
            found = api.standings(shot) if plan else _carry(talk, shot, desk, until)
        talk.result(found, lambda console: show_standings(console, found, until), _more(found))
        _end(found, until, plan=plan)


def _carry(talk: Talk, shot: Shot, desk: api.Desk, until: StepName | None) -> Standings:
    """Carry it on; at a terminal, ask before money is spent that no cap allows."""
    from tidy_crate.cli.carry_view import said_line

    def tell(standing: Standing) -> None:
        if not talk.quiet:
            talk.say(said_line(standing))

    with talk.progress("carrying") as progress:
        doing = api.Doing(desk, progress, tell=talk.warn, write_report=write_report)
        found = api.carry(shot, doing, tell, until=until)
    current = found.current
    if current is None or current.step is not StepName.SEND or shot.cap is not None or not talk.can_ask:
        return found
    cost = current.cost
    if cost is None or current.state is not StepState.PERSON:
        return found
    from tidy_crate.cli.show import money

    asked = f"Send it? It is likely to cost {money(cost.likely, cost.currency)}, and is stopped before it costs more "
    if not talk.ask(asked + f"than {money(cost.high, cost.currency)}."):
        return found
    return _carry(talk, replace(shot, cap=(cost.high, cost.currency)), desk, until)


def write_report(file: Path, record: Record) -> None:
    from tidy_crate.cli.report_page import page
    from tidy_crate.core.outputs import write_output

    write_output(file, page(record))


def _more(found: Standings) -> dict[str, Any]:
    """Return what a script asks first: whether it is done, and the lines that bring it on."""
    return {"done": found.done, "next": [list(words) for words in found.next]}


def _end(found: Standings, until: StepName | None, *, plan: bool) -> None:
    current = found.current
    if plan or current is None:
        return
    every = list(StepName)
    if until is not None and every.index(current.step) > every.index(until):
        return
    raise typer.Exit(3 if current.state is StepState.FARM else 1)
