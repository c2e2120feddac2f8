"""The program `tidy-crate`: all commands, in the order of the work."""

from __future__ import annotations

import gc
from typing import Annotated

import typer

from tidy_crate import __version__
from tidy_crate.cli import (
    bake,
    check,
    collect,
    demo,
    estimate,
    farm,
    frames,
    guard,
    jobs,
    pair,
    practice,
    relink,
    results,
    send,
    sheet,
    survey,
    trust,
)

app = typer.Typer(
    name="tidy-crate",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Gets a scene off an artist's machine, onto a render farm, and every frame back.",
    epilog="New here? `tidy-crate demo` does all of it with a small scene of its own.",
)
COMMANDS = (
    survey,
    bake,
    relink,
    check,
    collect,
    estimate,
    send,
    jobs,
    frames,
    results,
    pair,
    farm,
    trust,
    sheet,
    practice,
    demo,
)  # fmt: skip
for module in COMMANDS:
    module.register(app)


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"tidy-crate {__version__}")
        raise typer.Exit


@app.callback()
def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and end.")
    ] = False,
) -> None:
    pass


def main() -> None:
    """Run the program."""
    # a large scene makes objects by the million, and hardly any that are garbage: looking for it often is a third of
    # the time
    gc.freeze()
    gc.set_threshold(100_000, 50, 50)
    guard.run(app)
