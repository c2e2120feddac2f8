"""tidy-crate pair"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.review.pair import Difference, Pair


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "pair")
    def pair(
        talk: Talk,
        crate: CrateArgument,
        frame: Annotated[int, typer.Option("--frame", metavar="FRAME", help="Which frame to render.")],
        switch: Annotated[
            str,
            typer.Option(
                "--switch", metavar="NAME=VALUE", help="The setting to switch; PRIM:SET=CHOICE for a variant."
            ),
        ],
        job: Annotated[
            str | None,
            typer.Option(
                "--job", metavar="JOB", autocompletion=complete.jobs, help="Compare both with this job's frame too."
            ),
        ] = None,
        picture: Annotated[
            Path | None, typer.Option("--picture", metavar="FILE.png", help="Draw both frames and their difference.")
        ] = None,
    ) -> None:
        """Render a frame here twice, as it is and with one setting switched, to find out what a farm does otherwise.

        With --job it says which of the two the farm's frame is like. The crate is not changed.

        \b
        Examples:
          tidy-crate pair quay.crate --frame 1001 --switch samples=16
          tidy-crate pair quay.crate --frame 1001 --switch /Quay/Lights:mood=night --job quay-3 --picture pair.png
        """
        with talk.progress("rendering the pair") as progress:
            result = api.render_pair(crate, frame, switch, job=job, progress=progress)
        if picture is not None:
            from tidy_crate.core.review.looking import draw_difference

            first = result.outputs[0]
            names = (f"{result.setting}: {result.was}", f"{result.setting}: {result.now}")
            draw_difference(first.as_it_is, first.switched, picture, names=names)
        talk.result(result, lambda console: _show(console, result))
        if picture is not None:
            talk.say(f"Picture: {picture}")


def _show(console: Console, result: Pair) -> None:
    from tidy_crate.cli.show import cell, table

    console.print(
        f"Frame {result.frame} with {result.setting} switched from {result.was} to {result.now}",
        highlight=False,
        markup=False,
    )
    farm = any(one.farm is not None for one in result.outputs)
    against = ("farm against it as it is", "farm against it switched", "the farm's is like") if farm else ()
    rows = table("output", "switched against as it is", *against)
    for one in result.outputs:
        like = {"as-it-is": f"{result.was}", "switched": f"{result.now}"}.get(one.nearer, "either")
        rows.add_row(
            cell(one.output),
            _words(one.pair),
            *((_words(one.farm_as_it_is), _words(one.farm_switched), cell(like)) if farm else ()),
        )
    console.print(rows)
    if not any(one.pair.differs for one in result.outputs):
        console.print("The setting makes no difference to this frame.")
    elif any(one.nearer == "switched" for one in result.outputs):
        console.print(f"The farm seems to render with {result.now}: look for that setting there.", markup=False)
    console.print(f"Both frames: {result.outputs[0].as_it_is.parents[1].parent}", highlight=False, markup=False)


def _words(found: Difference | None) -> str:
    if found is None:
        return "-"
    return f"{found.share:.0%} differs, {found.level:+.2f} stops" if found.differs else "the same"
