"""tidy-crate practice"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from tidy_crate.cli.talk import Talk, command

FolderOption = Annotated[
    Path | None,
    typer.Option(
        "--folder", metavar="DIR", help="Where the farm keeps its state; a folder of this user's if not said."
    ),
]


def register(app: typer.Typer) -> None:
    """Add the commands."""
    practice = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="The practice farm: start, stop.")
    app.add_typer(practice, name="practice")

    @command(practice, "start")
    def start(
        talk: Talk,
        folder: FolderOption = None,
        port: Annotated[int, typer.Option("--port", help="0 takes any that is free.")] = 0,
        nodes: Annotated[int | None, typer.Option("--nodes", min=1, max=64, help="Number of simulated nodes.")] = None,
        faults: Annotated[
            list[str] | None,
            typer.Option(
                "--fault",
                metavar="KIND:FRAME",
                help="Spoil a frame's first attempt: black, invalid, truncated, or damaged in transit.",
            ),
        ] = None,
    ) -> None:
        """Start the practice farm in the background."""
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
        talk.result(
            document,
            lambda console: console.print(
                f"The practice farm {words} at {farm.url}\ncard: {farm.card}", markup=False, soft_wrap=True
            ),
        )

    @command(practice, "stop")
    def stop(talk: Talk, folder: FolderOption = None) -> None:
        """Stop the practice farm. Its jobs and frames stay, and go on after the next start."""
        from tidy_crate.practice.farm import control

        stopped = control.stop(folder or _usual_folder())
        words = "The practice farm has stopped." if stopped else "The practice farm was not running."
        talk.result({"stopped": stopped}, lambda console: console.print(words))


def _usual_folder() -> Path:
    from tidy_crate import api

    return api.User.here().home / "practice-farm"
