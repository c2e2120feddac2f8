"""tidy-crate practice"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

FolderOption = Annotated[
    Path | None,
    typer.Option(
        "--folder", metavar="DIR", help="Where the farm keeps its state; a folder of this user's if not said."
    ),
]


def register(app: typer.Typer) -> None:
    """Add the commands."""
    practice = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="The practice farm.")
    app.add_typer(practice, name="practice")

    @command(practice, "start")
    def start(
        talk: Talk,
        folder: FolderOption = None,
        port: Annotated[int, typer.Option("--port", help="0 uses any free port.")] = 0,
        nodes: Annotated[int | None, typer.Option("--nodes", min=1, max=64, help="Number of simulated nodes.")] = None,
        faults: Annotated[
            list[str] | None,
            typer.Option(
                "--fault",
                metavar="KIND:FRAME",
                help="Damage a frame's first attempt: black, invalid, truncated, small, misnumbered, lost, damaged.",
            ),
        ] = None,
    ) -> None:
        """Start the practice farm in the background.

        \b
        Examples:
          tidy-crate practice start
          tidy-crate practice start --nodes 8 --fault black:1020
        """
        from tidy_crate.practice.farm import control
        from tidy_crate.practice.farm.settings import FarmSettings, load_settings, parse_fault

        place = folder or _usual_folder()
        settings = load_settings(place)
        changes: dict[str, object] = {} if nodes is None else {"nodes": nodes}
        changes |= {} if faults is None else {"faults": [parse_fault(text).model_dump() for text in faults]}
        settings = FarmSettings.model_validate(settings.model_dump() | changes)
        farm = control.start(place, settings, port)
        document = {
            "url": farm.url,
            "card": str(farm.card),
            "folder": str(farm.folder),
            "was_running": farm.was_running,
        }
        words = "runs already" if farm.was_running else "runs"

        def show(console: Console) -> None:
            from tidy_crate.cli.show import next_command

            console.print(f"The practice farm {words} at {farm.url}", markup=False, soft_wrap=True)
            console.print("Its card is named by its path in every command.", style="dim")
            next_command(console, "farm", "test", farm.card)
            next_command(console, "send", "CRATE", "--farm", farm.card, "--plan")

        talk.result(document, show)

    @command(practice, "fault")
    def fault(
        talk: Talk,
        faults: Annotated[
            list[str] | None,
            typer.Argument(metavar="[KIND=VALUE]...", help="A fault of the line, such as drop=0.2; 0 switches it off."),
        ] = None,
        folder: FolderOption = None,
    ) -> None:
        """Switch faults of the line on and off while the farm runs; without any, list what there is.

        \b
        Examples:
          tidy-crate practice fault drop=0.2 busy=0.1
          tidy-crate practice fault slow=200000 drop=0
        """
        from tidy_crate.practice.farm import control
        from tidy_crate.practice.farm.settings import LINE_FAULTS, parse_line_fault

        if not faults:
            talk.result({"faults": LINE_FAULTS}, _show_faults)
            return
        switched = dict(parse_line_fault(text) for text in faults)
        control.switch_faults(folder or _usual_folder(), switched)
        words = ", ".join(f"{kind} is {value:g}" if value else f"{kind} is off" for kind, value in switched.items())
        talk.result({"switched": switched}, lambda console: console.print(words))

    @command(practice, "pay")
    def pay(
        talk: Talk,
        amount: Annotated[str, typer.Argument(metavar="AMOUNT", help="In the farm's currency: 50.")],
        folder: FolderOption = None,
    ) -> None:
        """Pay money in at the practice farm, for jobs that wait for it.

        \b
        Examples:
          tidy-crate practice pay 50
          tidy-crate practice pay 12.50 --folder farm
        """
        from tidy_crate.core.money import parse_money
        from tidy_crate.practice.farm import control

        found, _ = parse_money(amount, "EUR")
        control.pay(folder or _usual_folder(), found)
        talk.result({"paid": str(found)}, lambda console: console.print(f"{found} EUR are paid in."))

    @command(practice, "stop")
    def stop(talk: Talk, folder: FolderOption = None) -> None:
        """Stop the practice farm. Its jobs and frames stay, and continue after the next start.

        \b
        Examples:
          tidy-crate practice stop
          tidy-crate practice stop --folder farm
        """
        from tidy_crate.practice.farm import control

        stopped = control.stop(folder or _usual_folder())
        words = "The practice farm has stopped." if stopped else "The practice farm was not running."
        talk.result({"stopped": stopped}, lambda console: console.print(words))


def _show_faults(console: Console) -> None:
    from tidy_crate.cli.show import cell, table
    from tidy_crate.practice.farm.settings import LINE_FAULTS

    rows = table("fault", "its value")
    for name, what in LINE_FAULTS.items():
        rows.add_row(name, cell(what))
    console.print(rows)


def _usual_folder() -> Path:
    from tidy_crate import api

    return api.User.here().home / "practice-farm"
