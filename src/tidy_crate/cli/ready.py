"""tidy-crate ready"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, command
from tidy_crate.cli.text import clean

if TYPE_CHECKING:
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

        rows = _Rows(talk)
        parts = api.examine_installation(farms=farms, show=rows)
        broken = [one for one in parts if one.state is State.BROKEN]
        document = {"ready": not broken, "parts": [one.model_dump(mode="json") for one in parts]}
        talk.result(document, lambda console: _conclude(console, len(broken)))
        if broken:
            raise typer.Exit(1)


class _Rows:
    """Shows each part as it is examined: on a slow machine the whole takes a while."""

    def __init__(self, talk: Talk) -> None:
        self._console = None if talk.as_json else talk.out
        self._group = ""

    def __call__(self, part: Part) -> None:
        from rich.table import Table

        from tidy_crate.cli.show import cell, heading, state

        if self._console is None:
            return
        if part.group != self._group:
            self._group = part.group
            heading(self._console, part.group.capitalize())
        # a table of one row: its columns stand where those of the others do
        row = Table.grid(padding=(0, 2, 0, 0))
        row.add_column(width=19)
        row.add_column(width=9)
        row.add_column(overflow="fold")
        found = cell(part.found)
        if part.remedy:
            found.append(f"\n{clean(part.remedy)}", style="dim")
        row.add_row(cell(part.name), state(_WORDS[part.state.value]), found)
        self._console.print(row)


_WORDS = {"works": "works", "missing": "not there", "broken": "broken"}


def _conclude(console: Console, broken: int) -> None:
    from tidy_crate.cli.show import counted

    console.print()
    if broken:
        verb = "does" if broken == 1 else "do"
        console.print(f"{counted(broken, 'part')} {verb} not work: see what to do above.", style="bold red")
    else:
        console.print("Ready. Next: tidy-crate demo", style="bold green")
