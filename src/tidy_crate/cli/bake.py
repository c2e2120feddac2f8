"""tidy-crate bake"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.bake.proof import OrderProof
    from tidy_crate.core.bake.run import BakeResult
    from tidy_crate.core.scene.context import SceneContext


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "bake")
    def bake(
        talk: Talk,
        scene: SceneArgument,
        only: Annotated[
            list[str] | None,
            typer.Option("--only", metavar="NAME", help="Bake this simulation; may be given again."),
        ] = None,
        again: Annotated[bool, typer.Option("--again", help="Bake what is up to date too.")] = False,
        order_proof: Annotated[
            bool,
            typer.Option("--order-proof", help="Bake nothing: show that frames come out the same in any order."),
        ] = False,
        batch: Annotated[int, typer.Option("--batch", min=1, help="Frames a node takes at a time in the proof.")] = 2,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Write simulations into caches, so that any frame renders alone."""
        from tidy_crate.cli.places import open_scene

        context = open_scene(scene, tidy_dir)
        if order_proof:
            _prove(talk, context, batch)
        else:
            _bake(talk, context, only or [], again)


def _bake(talk: Talk, context: SceneContext, only: list[str], again: bool) -> None:
    from tidy_crate.core.bake.run import bake

    with talk.progress("baking") as progress:
        result = bake(context, only, again, progress)
    talk.result(result, lambda console: _show(console, result))
    if result.failed:
        raise typer.Exit(1)


def _prove(talk: Talk, context: SceneContext, batch: int) -> None:
    from tidy_crate.core.bake.proof import prove_order

    with talk.progress("order proof") as progress:
        proof = prove_order(context, batch, progress)
    talk.result(proof, lambda console: _show_proof(console, proof))
    if not proof.holds:
        raise typer.Exit(1)


def _show(console: Console, result: BakeResult) -> None:
    from tidy_crate.cli.show import cell, size, state, table

    if not (result.baked or result.up_to_date or result.failed):
        console.print("Nothing in this scene depends on the frame before.")
        return
    rows = table("simulation", "outcome", "frames", "size", "cache", right=("size",))
    for one in result.baked:
        rows.add_row(
            cell(one.simulation),
            state("cached"),
            f"{one.first}-{one.last}",
            size(one.bytes),
            cell(_short(one.layer)),
        )
    for name in result.up_to_date:
        rows.add_row(cell(name), state("cached"), "", "", "up to date, nothing done")
    for failed in result.failed:
        rows.add_row(cell(failed.simulation), state("failed"), "", "", cell(failed.why))
    console.print(rows)


def _short(path: Path) -> str:
    """A cache by its place in the scene's own folder."""
    return "/".join(path.parts[-3:])


def _show_proof(console: Console, proof: OrderProof) -> None:
    from tidy_crate.cli.show import cell, counted, state, table

    orders = counted(len(proof.orders), "order")
    if proof.holds:
        console.print(f"The proof holds: {counted(proof.frames, 'frame')} come out the same, to the bit, in {orders}.")
    else:
        console.print(f"The proof fails: frames come out differently in {orders}. On a farm the picture would jump.")
        rows = table("prim", "simulation", "differs at", "when evaluated")
        for one in proof.differs:
            rows.add_row(cell(one.prim), cell(one.simulation or "unknown"), str(one.frame), one.order)
        console.print(rows)
    for name in proof.live:
        console.print(state("live"), cell(f"{name}: bake it, then prove again"))
    console.print(cell("tried: " + ", ".join(proof.orders)), style="dim")
