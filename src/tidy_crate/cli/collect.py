"""tidy-crate collect, prove"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli.survey import SceneArgument, TidyOption
from tidy_crate.cli.talk import Talk, command
from tidy_crate.cli.text import named_values
from tidy_crate.core.errors import TidyCrateError

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.crate.collect import CollectResult
    from tidy_crate.core.crate.proving import Proof

CrateArgument = Annotated[Path, typer.Argument(metavar="CRATE", help="A crate's folder, as collect writes it.")]


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "collect")
    def collect(
        talk: Talk,
        scene: SceneArgument,
        output: Annotated[
            Path | None,
            typer.Option("--out", "-o", metavar="CRATE", help="The crate's folder; beside the scene if not said."),
        ] = None,
        frames: Annotated[
            str | None,
            typer.Option(
                "--frames",
                metavar="LIST",
                help="Frames to render, such as 1001-1048; the scene's own if not said.",
            ),
        ] = None,
        archive: Annotated[
            Path | None,
            typer.Option(
                "--archive", metavar="FILE", help="Write the crate as one file too: FILE.zip or FILE.tar.zst."
            ),
        ] = None,
        needed_frames_only: Annotated[
            bool,
            typer.Option("--needed-frames-only", help="Copy only those files of image sequences that the frames need."),
        ] = False,
        on_share: Annotated[
            list[str] | None,
            typer.Option(
                "--on-share",
                metavar="LOCAL=NODE",
                help="Copy nothing below LOCAL, which nodes see as NODE. The crate must be there too.",
            ),
        ] = None,
        using: Annotated[
            str,
            typer.Option(
                "--using",
                metavar="WAY",
                help="copy; or reflink, or hard-link, where the disk can: the crate then shares the originals' space.",
            ),
        ] = "copy",
        from_outside: Annotated[
            list[Path] | None,
            typer.Option(
                "--from-outside",
                metavar="DIR",
                help="Allow files of this folder outside the project in the crate, now and later. May be given again.",
            ),
        ] = None,
        let_through: Annotated[
            list[Path] | None,
            typer.Option(
                "--let-through",
                metavar="FILE",
                help="Allow this file although it looks private or is of another kind. May be given again.",
            ),
        ] = None,
        camera: Annotated[
            str | None,
            typer.Option("--camera", metavar="NAME", help="Camera to render, by path or name; kept in the decisions."),
        ] = None,
        resolution: Annotated[
            str | None, typer.Option("--size", metavar="SIZE", help="Such as 1920x1080; kept in the decisions.")
        ] = None,
        product: Annotated[
            list[str] | None,
            typer.Option(
                "--product",
                metavar="NAME=PATH",
                help="An output, such as beauty=renders/b.####.exr; without a path by the naming rule. Kept as well.",
            ),
        ] = None,
        passes: Annotated[
            list[str] | None,
            typer.Option("--passes", metavar="NAME=LIST", help="Passes of an output: beauty=depth,normal. Kept too."),
        ] = None,
        replace: Annotated[
            bool, typer.Option("--replace", help="Let the crate take the place of another scene's crate of that name.")
        ] = False,
        verify: Annotated[
            bool,
            typer.Option("--verify", help="Prove afterwards that the crate is complete and composes like its source."),
        ] = False,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Copy the staged scene and every file it names into one folder. Originals are only read.

        \b
        Examples:
          tidy-crate collect scene.usda -o quay.crate
          tidy-crate collect scene.usda -o quay.crate --archive quay.zip
        """

        from tidy_crate.core.work.request import size_of

        size = None if resolution is None else size_of(resolution.lower())

        def build(outside: list[Path]) -> CollectResult:
            with talk.progress("collecting") as progress:
                return api.collect(
                    scene,
                    output,
                    frames=frames,
                    using=using,
                    needed_frames_only=needed_frames_only,
                    on_share=on_share or [],
                    from_outside=outside,
                    let_through=let_through or [],
                    replace=replace,
                    camera=camera,
                    size=size,
                    products=named_values(product, "--product", empty=True),
                    passes={
                        name: text.split(",") for name, text in named_values(passes, "--passes", empty=True).items()
                    },
                    tidy_dir=tidy_dir,
                    progress=progress,
                )

        result = _asking_about_folders(talk, build, from_outside or [])
        document = result.model_dump(mode="json")
        if archive is not None:
            with talk.progress("archiving") as progress:
                written = api.archive(result.crate, archive, progress)
            document |= {"archive": str(archive.absolute()), "archive_bytes": written}
        proof = None
        if verify:
            talk.say("Opening the crate in a sandbox that can read nothing else...")
            proof = api.prove(result.crate, test=False)
            document |= {"proof": proof.model_dump(mode="json")}

        def show(console: Console) -> None:
            from tidy_crate.cli.show import show_next

            _show(console, result)
            if result.complete and result.requests and proof is None:
                show_next(console, result.crate)
            if proof is not None:
                console.print()
                _show_proof(console, proof)

        talk.result(document, show)
        if archive is not None:
            talk.say(f"Archive: {archive}")
        if not result.complete or not (proof is None or proof.whole):
            raise typer.Exit(1)

    @command(app, "prove")
    def prove(
        talk: Talk,
        crate: CrateArgument,
        frame: Annotated[
            int | None,
            typer.Option("--test-frame", metavar="N", help="The frame to render; the middle one if not said."),
        ] = None,
        no_frame: Annotated[bool, typer.Option("--no-test-frame", help="Render none.")] = False,
    ) -> None:
        """Prove that a crate, or an archive of one, is complete with no way back to the originals.

        \b
        Examples:
          tidy-crate prove quay.crate
          tidy-crate prove quay.zip --test-frame 1001
        """
        talk.say("Opening the crate in a sandbox that can read nothing else...")
        proof = api.prove(crate, frame=frame, test=not no_frame)
        talk.result(proof, lambda console: _show_proof(console, proof, crate))
        if not proof.holds:
            raise typer.Exit(1)


def _asking_about_folders(
    talk: Talk, build: Callable[[list[Path]], CollectResult], outside: list[Path]
) -> CollectResult:
    """Collect, and at a terminal ask about each folder outside the project that files would come from."""
    try:
        return build(outside)
    except TidyCrateError as error:
        from tidy_crate.core.context.outside import HeldBack, Reason

        if not isinstance(error, HeldBack) or not talk.can_ask:
            raise
        agreed = []
        for folder in error.folders:
            names = [one.path.name for one in error.held if one.reason is Reason.OUTSIDE and one.real.parent == folder]
            shown = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
            if not talk.ask(f"{shown} from {folder}, outside the project. Allow them in the crate?"):
                raise
            agreed.append(folder)
        if not agreed:
            raise
    return build([*outside, *agreed])


def _show(console: Console, result: CollectResult) -> None:
    from tidy_crate.cli.show import cell, counted, facts, heading, size, table

    facts(
        console,
        [
            ("crate", result.crate),
            ("scene", result.scene.relative_to(result.crate)),
            ("holds", f"{counted(result.files, 'file')}, {size(result.bytes)}"),
            ("copied", f"{size(result.copied_bytes)}, {size(result.reused_bytes)} were here already"),
            (
                "rewritten",
                _rewritten(result.rewritten),
            ),
        ],
    )
    if result.from_outside:
        heading(console, "From outside the project")
        for source in result.from_outside[:20]:
            console.print(cell(f"  {source}"))
        if len(result.from_outside) > 20:
            console.print(f"  and {len(result.from_outside) - 20} more")
    if result.missing:
        heading(console, "Not in the crate")
        rows = table("id", "file as written", "needed", "let go", "because")
        for one in result.missing:
            rows.add_row(
                one.asset,
                cell(one.authored),
                "yes" if one.needed else "no",
                "yes" if one.let_go else "no",
                cell(one.because),
            )
        console.print(rows)
    _show_unsolved(console, result.crate)
    if not result.requests:
        console.print(
            "\nNothing in it can be rendered yet: the scene lacks outputs, a frame range or a resolution.",
            style="yellow",
        )
    if not result.complete:
        console.print(
            "\nThe crate lacks files that these frames need: relink them, then collect again.",
            style="bold red",
        )


def _rewritten(layers: tuple[str, ...]) -> str:
    from tidy_crate.cli.show import counted

    names = ", ".join(Path(path).name for path in layers)
    return f"{counted(len(layers), 'layer')}: {names}" if layers else "nothing"


def _show_unsolved(console: Console, crate: Path) -> None:
    """Tell again what a bake told, which ended long ago and maybe elsewhere."""
    from tidy_crate.cli.show import cell

    for line in api.unsolved(crate):
        console.print(cell(f"not solved: {line}"), style="yellow")


# paths that are shown of those that a renderer could read
_OPENED = 6


def _show_proof(console: Console, proof: Proof, crate: Path | None = None) -> None:
    from rich.text import Text

    from tidy_crate.cli.show import cell, counted, duration, said_lines, show_next, state, table
    from tidy_crate.core.scene.composition import COMPOSES

    rows = table("asked", "answer", "in detail")

    def line(question: str, troubles: tuple[str, ...], good: str) -> None:
        rows.add_row(
            question,
            state("bad" if troubles else "good"),
            cell("; ".join(troubles[:5]) if troubles else good),
        )

    reach = ", ".join(proof.out_of_reach)
    enforced = f"out of reach: {reach}" if proof.enforced else f"not by the kernel: {proof.why_not}"
    if not proof.enforced and reach:
        enforced += f"; out of reach: {reach}"
    rows.add_row("sandboxed meanwhile", Text("yes" if proof.enforced else "no"), cell(enforced))
    if proof.opened or proof.declared:
        more = f" and {len(proof.declared) - _OPENED} more" if len(proof.declared) > _OPENED else ""
        declared = ", ".join(proof.declared[:_OPENED]) + more
        reads = f"; declared by its command: {declared}" if declared else ", and nothing else outside the crate"
        answer = Text("more" if declared else "itself")
        rows.add_row("opened to the renderer", answer, cell(f"its own installation{reads}"))
    line("every file as packed", proof.changed, "all hashes agree")
    line("no unexpected file", proof.unexpected, "all files in the folder are on the packing list")
    line("no path leads out", proof.outside, "every path ends inside the crate")
    line("every file found", proof.unresolved, "all that was not let go resolves")
    composes = [one for one in proof.differs if one.startswith(COMPOSES)]
    line(
        "surveys the same",
        tuple(one for one in proof.differs if one not in composes),
        "range, cameras, outputs, passes, simulations, files",
    )
    if proof.compared_entries is not None:
        good = f"{counted(proof.compared_entries, 'entry', 'entries')} of the file, with all that they name"
        rows.add_row("composes the same", state("bad" if composes else "good"), cell("; ".join(composes) or good))
    elif proof.compared_prims is not None:
        times = ", ".join(f"{time:g}" for time in proof.compared_times) or "their defaults"
        left = f"; sampled: {'; '.join(proof.sampled)}" if proof.sampled else ""
        good = f"{counted(proof.compared_prims, 'prim')}, values at {times}{left}"
        if proof.compared_layers is not None:
            layers = counted(proof.compared_layers, "layer")
            good = f"{layers} and the files that they lead to, which compose to {counted(proof.compared_prims, 'prim')}"
        rows.add_row("composes the same", state("bad" if composes else "good"), cell("; ".join(composes) or good))
    else:
        rows.add_row(
            "composes the same",
            Text("not compared"),
            cell(proof.not_compared or ""),
        )
    test = proof.test_frame
    if test is None:
        rows.add_row("renders", Text("not tried"), cell("no render command, or it was not asked for"))
    else:
        detail = f"frame {test.frame} in {duration(test.seconds)}" if test.good else f"frame {test.frame}: {test.why}"
        verdict = state("good" if test.good else "bad") if test.started else Text("not tried")
        rows.add_row("renders", verdict, cell(detail))
    console.print(rows)
    console.print()
    if test is not None and test.said:
        said_lines(console, test.said)
        console.print()
    if proof.whole and test is not None and not test.usable:
        console.print("The crate is complete. Its render command cannot be used as it is.", style="bold yellow")
        console.print(
            "Mend the command where it is stated, the sheet or the project file, and collect again.", style="dim"
        )
    elif proof.whole and not proof.holds:
        console.print("The crate is complete. The renderer could not start.", style="bold yellow")
        console.print(
            'What it needs to run goes into its render command, as absolute paths: reads = ["FOLDER"]', style="dim"
        )
    elif proof.whole:
        console.print("The crate is complete.", style="bold green")
        if crate is not None:
            _show_unsolved(console, crate)
            show_next(console, crate)
    else:
        console.print("The crate is not complete.", style="bold red")
