"""tidy-crate relink, override"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command
from tidy_crate.core.errors import WrongUsage

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.context.relink import Proposal
    from tidy_crate.core.scene.model import Asset

BecauseOption = Annotated[str, typer.Option("--because", metavar="REASON", help="Why; kept with the decision.")]


# more rows than this are read by a program and not by a person
MOST_ROWS = 60


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "relink")
    def relink(
        talk: Talk,
        scene: SceneArgument,
        look_in: Annotated[
            list[Path] | None,
            typer.Option("--look-in", metavar="DIR", help="A folder to search; repeatable."),
        ] = None,
        maps: Annotated[
            list[str] | None,
            typer.Option("--map", metavar="OLD=NEW", help="An old drive or root and its new path; repeatable."),
        ] = None,
        apply: Annotated[bool, typer.Option("--apply", help="Write the sure ones to the decisions.")] = False,
        ask: Annotated[
            bool, typer.Option("--ask", help="Go through what is missing and choose; your choices are kept.")
        ] = False,
        let_go: Annotated[
            str | None,
            typer.Option("--let-go", metavar="ASSET", help="Do without a missing file, by id or path."),
        ] = None,
        because: BecauseOption = "",
        tidy_dir: TidyOption = None,
    ) -> None:
        """Find missing files, and decide what replaces them.

        \b
        Examples:
          tidy-crate relink scene.usda --look-in archive --map Q:/show=/mnt/show
          tidy-crate relink scene.usda --look-in archive --apply
        """
        from tidy_crate.cli.relink_choice import choose

        if let_go is not None:
            api.let_go(scene, let_go, because, tidy_dir=tidy_dir)
        found = api.relink(
            scene,
            look_in or [],
            [_pair(text) for text in maps or []],
            apply=apply,
            choose=(lambda proposals, lacking: tuple(choose(talk, proposals, lacking))) if ask else None,
            tidy_dir=tidy_dir,
        )
        proposals, applied, still = found.proposals, found.applied, list(found.still_missing)
        document = {
            "proposals": [proposal.model_dump(mode="json") for proposal in proposals],
            "applied": [proposal.model_dump(mode="json") for proposal in applied],
            "still_missing": [asset.model_dump(mode="json") for asset in still],
            "decisions": str(found.decisions),
        }
        decided = {(one.asset, one.candidate) for one in applied}
        if applied:
            talk.say(f"Written to {found.decisions}")
        talk.result(document, lambda console: _show(console, proposals, decided, still, scene, tidy_dir))
        if not applied and any(proposal.sure for proposal in proposals):
            talk.say("Nothing is decided yet: add --apply to keep the sure ones.")
        if any(asset.needed for asset in still):
            raise typer.Exit(1)

    @command(app, "override")
    def override(
        talk: Talk,
        scene: SceneArgument,
        output: Annotated[str, typer.Argument(metavar="OUTPUT", help="The output, by the name that survey shows.")],
        path: Annotated[
            str, typer.Option("--path", metavar="PATH", help="The path it is written to, with a frame token.")
        ],
        because: BecauseOption = "",
        tidy_dir: TidyOption = None,
    ) -> None:
        """Give an output another path in the staged scene.

        \b
        Examples:
          tidy-crate override scene.usda Matte --path "renders/matte/quay_matte.####.exr"
          tidy-crate override scene.usda Beauty --path "renders/beauty.####.exr" --because "one folder"
        """
        context = api.open_scene(scene, tidy_dir=tidy_dir)
        known = [one.name for one in context.survey().outputs]
        if output not in known:
            raise WrongUsage("the scene has no such output", output, "it has " + (", ".join(known) or "none"))
        context.file.set(("output", output), {"path": path} | ({"because": because} if because else {}))
        document = {"output": output, "path": path, "decisions": str(context.file.path)}
        talk.result(document, lambda console: console.print(f"{output} is written to {path}", markup=False))


def _pair(text: str) -> tuple[str, str]:
    old, equals, new = text.partition("=")
    if not (old and equals and new):
        raise WrongUsage("not a mapping", repr(text), "write OLD=NEW, such as Q:/show=/mnt/show")
    return old, new


def _more(console: Console, count: int) -> None:
    if count > MOST_ROWS:
        console.print(f"and {count - MOST_ROWS} more; --json lists them all")


def _show(
    console: Console,
    proposals: tuple[Proposal, ...],
    decided: set[tuple[str, Path]],
    still: list[Asset],
    scene: Path,
    tidy_dir: Path | None,
) -> None:
    from tidy_crate.cli.show import cell, counted, heading, show_next, state, table

    if proposals:
        rows = table("missing file", "needed", "candidate", "because", "sure", "decided")
        settled = {one.asset for one in proposals if one.sure}
        # what is to be decided comes first; beside a sure one the others need not be read
        shown = [one for one in proposals if one.asset not in settled] + [one for one in proposals if one.sure]
        for one in shown[:MOST_ROWS]:
            taken = (one.asset, one.candidate) in decided
            rows.add_row(
                cell(one.authored), "yes" if one.needed else "no", cell(one.candidate), cell(one.reason),
                f"{one.confidence:.0%}", "yes" if taken else "-",
            )  # fmt: skip
        console.print(rows)
        _more(console, len(shown))
    needed = [asset for asset in still if asset.needed]
    if still:
        heading(console, f"Still missing: {len(still)}, of which needed: {len(needed)}")
        rows = table("id", "file as written", "needed", "status", "because")
        for asset in sorted(still, key=lambda asset: not asset.needed)[:MOST_ROWS]:
            rows.add_row(
                asset.id, cell(asset.authored), "yes" if asset.needed else "no", state(asset.status.value),
                cell(f"{asset.trouble}; {asset.because}"),
            )  # fmt: skip
        console.print(rows)
        _more(console, len(still))
    if not still and not proposals:
        console.print("Nothing is missing.")
        show_next(console, scene, tidy_dir=tidy_dir)
    elif not needed:
        console.print(f"\n{counted(len(decided), 'file')} relinked, nothing that these frames need is missing.")
        show_next(console, scene, tidy_dir=tidy_dir)
