"""The program `tidy-crate`. Its commands are in `stages`."""

from __future__ import annotations

import gc
from typing import Annotated

import typer

from tidy_crate import __version__
from tidy_crate.cli import guard, usage
from tidy_crate.cli.stages import Stages

app = typer.Typer(
    name="tidy-crate",
    cls=Stages,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Get a scene off an artist's machine, onto a render farm, and every frame back.",
    epilog="New here? Run: tidy-crate demo\n\nOptions and examples of a command: tidy-crate COMMAND --help",
)


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"tidy-crate {__version__}")
        raise typer.Exit


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and end.")
    ] = False,
) -> None:
    if context.invoked_subcommand is None:
        typer.echo(context.get_help())


def main() -> None:
    """Run the program."""
    # a large scene makes objects by the million, and hardly any that are garbage: looking for it often is a third of
    # the time
    gc.freeze()
    gc.set_threshold(100_000, 50, 50)
    guard.run(lambda: usage.run(app))
