"""tidy-crate ready"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from tidy_crate.core.installation import Part


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "ready")
    def ready(
        talk: Talk,
        farms: Annotated[bool, typer.Option("--farms", help="Sign in to every known farm too.")] = False,
    ) -> None:
        """Check this installation: libraries, optional parts, sandbox, disk, ledger, keyring, and with --farms farms.

        It ends with 1 when something that is needed does not work.

        \b
        Examples:
          tidy-crate ready
          tidy-crate ready --farms
        """
        from tidy_crate.core.installation import State

        with talk.progress("checking") as progress:
            parts = api.examine_installation(farms=farms, progress=progress)
        broken = [one for one in parts if one.state is State.BROKEN]
        document = {"ready": not broken, "parts": [one.model_dump(mode="json") for one in parts]}
        talk.result(document, lambda console: _show(console, parts, len(broken)))
        if broken:
            raise typer.Exit(1)


def _show(console: Console, parts: Sequence[Part], broken: int) -> None:
    from tidy_crate.cli.show import cell, counted, heading, state, table

    words = {"works": "works", "missing": "not there", "broken": "broken"}
    for group in dict.fromkeys(one.group for one in parts):
        heading(console, group.capitalize())
        rows = table("part", "state", "found", "what to do")
        rows.show_header = False
        for one in parts:
            if one.group == group:
                rows.add_row(cell(one.name), state(words[one.state.value]), cell(one.found), cell(one.remedy))
        console.print(rows)
    console.print()
    if broken:
        verb = "does" if broken == 1 else "do"
        console.print(f"{counted(broken, 'part')} {verb} not work: see what to do above.", style="bold red")
    else:
        console.print("Ready. Next: tidy-crate demo", style="bold green")
