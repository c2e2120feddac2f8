"""tidy-crate trust"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, command
from tidy_crate.cli.text import clean

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.work.covered import Covered
    from tidy_crate.core.work.trust import Claim


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
                {
                    "purpose": one.purpose,
                    "words": list(one.words),
                    "named_by": one.origin,
                    "trusted": trusted,
                    "reads": list(one.reads),
                    "covers": sorted({*covered.files, *covered.links}),
                    "folders": list(covered.folders),
                    "not_covered": list(covered.not_covered),
                }
                for one, trusted, covered in zip(found.claims, found.trusted, found.covered, strict=True)
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
    for one, covered in zip(found.claims, found.covered, strict=True):
        if one.is_command:
            _parts(console, one, covered)


# lines of files that are shown of one command
_SHOWN = 12


def _parts(console: Console, claim: Claim, covered: Covered) -> None:
    """Show what belongs to a command: a change of it has to be trusted again."""
    from tidy_crate.cli.show import counted

    names = sorted({*covered.files, *covered.links})
    own = [name for name in names if not any(name.startswith(f"{folder}/") for folder in covered.folders)]
    lines = [(name, f"leads to {covered.links[name]}" if name in covered.links else "") for name in own]
    for folder in covered.folders:
        count = sum(name.startswith(f"{folder}/") or (folder == "." and "/" not in name) for name in covered.files)
        where = "the project itself" if folder == "." else f"{folder}/"
        lines.append((where, counted(count, "file of code", "files of code")))
    lines += [(path, "may be read during the proof") for path in claim.reads]
    if not lines and not covered.not_covered:
        return
    head = "a change of these has to be trusted again" if lines else "no file of the project belongs to it"
    console.print(f"\n{claim.purpose}: {head}", markup=False, style="bold")
    for name, more in lines[:_SHOWN]:
        console.print(f"  {clean(name)}" + (f"  ({clean(more)})" if more else ""), markup=False, highlight=False)
    if len(lines) > _SHOWN:
        console.print(f"  ... and {len(lines) - _SHOWN} more: --json lists all", style="dim")
    for text in covered.not_covered:
        console.print(f"  not covered: {clean(text)}", markup=False, highlight=False, style="yellow")
