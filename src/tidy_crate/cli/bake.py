"""tidy-crate bake"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.bake.plan import PlannedBake
    from tidy_crate.core.bake.proof import OrderProof
    from tidy_crate.core.bake.run import BakeResult
    from tidy_crate.core.bake.verify import VerifiedCache


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "bake")
    def bake(
        talk: Talk,
        scene: SceneArgument,
        only: Annotated[
            list[str] | None,
            typer.Option("--only", metavar="NAME", help="Bake this simulation; repeatable."),
        ] = None,
        again: Annotated[bool, typer.Option("--again", help="Bake what is up to date too.")] = False,
        order_proof: Annotated[
            bool,
            typer.Option("--order-proof", help="Bake nothing: show that frames come out the same in any order."),
        ] = False,
        plan: Annotated[
            bool, typer.Option("--plan", help="Bake nothing: show the order, the sizes and the time it may take.")
        ] = False,
        verify: Annotated[
            bool, typer.Option("--verify", help="Bake nothing: verify every cache again, byte by byte.")
        ] = False,
        plot: Annotated[
            Path | None,
            typer.Option("--plot", metavar="FILE", help="Draw what each simulation does and which frames are cached."),
        ] = None,
        batch: Annotated[int, typer.Option("--batch", min=1, help="Frames a node takes at a time in the proof.")] = 2,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Write simulations into caches, so that any frame renders alone.

        \b
        Examples:
          tidy-crate bake scene.usda
          tidy-crate bake scene.usda --order-proof
        """
        if order_proof:
            _prove(talk, scene, tidy_dir, batch)
        elif plan:
            _plan(talk, scene, tidy_dir, only or [])
        elif verify:
            _verify(talk, scene, tidy_dir)
        elif plot is None or only or again:
            _bake(talk, scene, tidy_dir, only or [], again)
        if plot is not None:
            from tidy_crate.core.bake.plot import plot_bakes

            drawn = plot_bakes(api.open_scene(scene, tidy_dir=tidy_dir), plot.absolute())
            if not (order_proof or plan or verify or only or again):
                talk.result({"plot": str(plot.absolute()), "drawn": drawn}, lambda console: console.print(str(plot)))
            else:
                talk.say(f"Drawn: {plot}")


def _plan(talk: Talk, scene: Path, tidy_dir: Path | None, only: list[str]) -> None:
    planned = api.plan_bake(scene, only, tidy_dir=tidy_dir)
    document = {"planned": [one.model_dump(mode="json") for one in planned]}
    talk.result(document, lambda console: _show_plan(console, planned))


def _verify(talk: Talk, scene: Path, tidy_dir: Path | None) -> None:
    found = api.verify_caches(scene, tidy_dir=tidy_dir)
    document = {"verified": [one.model_dump(mode="json") for one in found]}
    talk.result(document, lambda console: _show_verified(console, found))
    if any(one.troubles for one in found):
        raise typer.Exit(1)


def _bake(talk: Talk, scene: Path, tidy_dir: Path | None, only: list[str], again: bool) -> None:
    with talk.progress("baking") as progress:
        result = api.bake(scene, only, again=again, tidy_dir=tidy_dir, progress=progress)
    talk.result(result, lambda console: _show(console, result, scene))
    if result.failed:
        raise typer.Exit(1)


def _prove(talk: Talk, scene: Path, tidy_dir: Path | None, batch: int) -> None:
    with talk.progress("order proof") as progress:
        proof = api.prove_order(scene, batch, tidy_dir=tidy_dir, progress=progress)
    talk.result(proof, lambda console: _show_proof(console, proof, scene))
    if not proof.holds:
        raise typer.Exit(1)


def _show(console: Console, result: BakeResult, scene: Path) -> None:
    from tidy_crate.cli.show import cell, next_command, show_next, size, state, table

    if not (result.baked or result.up_to_date or result.failed):
        console.print("This scene has no simulation that this tool knows.")
        show_next(console, scene)
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
    for made in result.baked:
        for trouble in made.unbaked:
            console.print(cell(f"not solved: {trouble}"), style="yellow")
    if not result.failed:
        next_command(console, "bake", scene, "--order-proof")


def _show_plan(console: Console, planned: tuple[PlannedBake, ...]) -> None:
    from tidy_crate.cli.show import cell, duration, size, state, table

    if not planned:
        console.print("This scene has no simulation that this tool knows.")
        return
    rows = table(
        "simulation", "kind", "state", "begins", "frames", "may take", "size", "after", right=("may take", "size")
    )
    for one in planned:
        rows.add_row(
            cell(one.simulation), one.kind, state(one.state), str(one.start), f"{one.first}-{one.last}",
            "nothing to do" if one.up_to_date else duration(one.seconds),
            size(one.bytes) if one.bytes is not None else "-", cell(" ".join(one.after) or "-"),
        )  # fmt: skip
    console.print(rows)
    for one in planned:
        for trouble in one.trouble:
            console.print(cell(f"{trouble}"), style="yellow")
    whole = sum(one.seconds or 0.0 for one in planned)
    console.print(f"\nTogether about {duration(whole)}, estimated from the first frames of each." if whole else "")


def _show_verified(console: Console, found: tuple[VerifiedCache, ...]) -> None:
    from tidy_crate.cli.show import cell, size, state, table

    if not found:
        console.print("This scene has no simulation that this tool knows.")
        return
    rows = table("simulation", "state", "verdict", "covers", "files", "size", "in detail", right=("files", "size"))
    for one in found:
        covers = "{}-{}".format(*one.covers) if one.covers else "-"
        rows.add_row(
            cell(one.simulation), state(one.state), state("bad" if one.troubles else "good"), covers, str(one.files),
            size(one.bytes), cell("; ".join(one.troubles) or "complete, of this scene, every byte as written"),
        )  # fmt: skip
    console.print(rows)
    for one in found:
        for trouble in one.unbaked:
            console.print(cell(f"not solved: {trouble}"), style="yellow")


def _short(path: Path) -> str:
    """A cache by its place in the scene's own folder."""
    return "/".join(path.parts[-3:])


def _show_proof(console: Console, proof: OrderProof, scene: Path) -> None:
    from rich.text import Text

    from tidy_crate.cli.show import cell, counted, next_command, show_next, table
    from tidy_crate.cli.text import clean

    orders = counted(len(proof.orders), "order")
    if proof.holds:
        console.print(f"Proved: {counted(proof.frames, 'frame')} are identical to the bit in {orders}.")
    else:
        others = counted(len(proof.orders) - 1, "other order")
        differ = f"frames differ from those {proof.orders[0]} in {len(proof.differing)} of {others}"
        console.print(f"Not proved: {differ}. On a farm the picture would jump.\n")
        rows = table("prim", "simulation", "differs at", "when evaluated")
        for one in proof.differs:
            rows.add_row(cell(one.prim), cell(one.simulation or "unknown"), str(one.frame), one.order)
        console.print(rows)
    if proof.live:
        console.print(Text.assemble("\nLive: ", ", ".join(map(clean, proof.live))))
    console.print(cell("tried: " + ", ".join(proof.orders)), style="dim")
    if proof.live:
        next_command(console, "bake", scene)
    elif proof.holds:
        show_next(console, scene)
