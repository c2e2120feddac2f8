"""tidy-crate trust"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "trust")
    def trust(
        talk: Talk,
        folder: Annotated[
            Path, typer.Argument(metavar="FOLDER", help="A project's folder, or a scene, a crate or an archive of one.")
        ],
        show: Annotated[bool, typer.Option("--show", help="Only show them, and whether they are trusted.")] = False,
        forget: Annotated[bool, typer.Option("--forget", help="Revoke all trust in it.")] = False,
    ) -> None:
        """Allow a project's commands to run here, and its folders outside to be read.

        \b
        Examples:
          tidy-crate trust lantern_quay --show
          tidy-crate trust lantern_quay
        """
        if forget:
            was = api.distrust(folder)
            talk.result({"folder": str(folder), "forgotten": was}, lambda console: _forgotten(console, folder, was))
            return
        found = api.commands_of(folder) if show else api.trust(folder)
        document = {
            "folder": str(found.folder),
            "claims": [
                {"purpose": one.purpose, "words": list(one.words), "named_by": one.origin, "trusted": trusted}
                for one, trusted in zip(found.claims, found.trusted, strict=True)
            ],
        }
        talk.result(document, lambda console: _show(console, found))


def _forgotten(console: Console, folder: Path, was: bool) -> None:
    console.print(f"All trust in {folder} is revoked." if was else f"Nothing of {folder} was trusted.")


def _show(console: Console, found: api.Trusting) -> None:
    from tidy_crate.cli.show import cell, state, table

    if not found.claims:
        console.print(f"{found.folder} names no commands and no folders outside it.")
        return
    rows = table("for", "command or folder", "named by", "trusted")
    for one, trusted in zip(found.claims, found.trusted, strict=True):
        rows.add_row(one.purpose, cell(one.line), cell(one.origin), state("yes" if trusted else "no"))
    console.print(f"Commands of {found.folder}, and folders that its files come from:")
    console.print(rows)
