"""tidy-crate survey"""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidy_crate import api
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from tidy_crate.core.scene.model import Asset, Look, MemoryNeed, Survey

SceneArgument = Annotated[Path, typer.Argument(metavar="SCENE", help="The scene file the artist saved.")]
TidyOption = Annotated[
    Path | None,
    typer.Option("--tidy-dir", metavar="DIR", help="Folder of decisions and caches, if not beside the scene."),
]


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "survey")
    def survey(
        talk: Talk,
        scene: SceneArgument,
        as_found: Annotated[
            bool,
            typer.Option("--as-found", help="Leave out decisions and caches: the scene as it was saved."),
        ] = False,
        every: Annotated[
            bool, typer.Option("--all", help="List every file, not just those that need attention.")
        ] = False,
        memory: Annotated[
            bool, typer.Option("--memory-need", help="Add up what a machine must hold: decoded textures, geometry.")
        ] = False,
        looks: Annotated[
            bool, typer.Option("--looks", help="Survey each choice of each variant set as if it were selected.")
        ] = False,
        tidy_dir: TidyOption = None,
    ) -> None:
        """Show what is in a scene, through every level.

        \b
        Examples:
          tidy-crate survey shots/quay_010/lantern_quay_v001.usda
          tidy-crate survey scene.usda --memory-need --json
        """
        from tidy_crate.core.context.looks import survey_looks

        context = api.open_scene(scene, tidy_dir=tidy_dir)
        if talk.as_json and not memory and not looks:
            with contextlib.suppress(ValueError):
                talk.document(context.survey_json(as_found=as_found))
                return
        found = context.survey_as_found() if as_found else context.survey()
        more: dict[str, Any] = {}
        need = context.memory_need(found, as_found=as_found) if memory else None
        each: tuple[Look, ...] = ()
        if need is not None:
            more["memory"] = need.model_dump(mode="json")
        if looks:
            with talk.progress("looks") as progress:
                each = survey_looks(context, found, progress)
            more["looks"] = [one.model_dump(mode="json") for one in each]

        def show(console: Console) -> None:
            from tidy_crate.cli.show import show_next

            _show(console, found, every or talk.verbose)
            if need is not None:
                _show_memory(console, need)
            if looks:
                _show_looks(console, each)
            show_next(console, scene, tidy_dir=tidy_dir)

        talk.result(found, show, more)


def _show(console: Console, survey: Survey, every: bool) -> None:
    from rich.text import Text

    from tidy_crate.cli.show import cell, counted, duration, facts, heading, size, state, table

    frames, totals = survey.frames, survey.totals
    span = "none stated"
    if frames.start is not None and frames.end is not None:
        length = duration(frames.count / frames.fps) if frames.fps else "?"
        span = f"{frames.start}-{frames.end}, {counted(frames.count, 'frame')}, {length} at {frames.fps:g} fps"
    picture = "none stated"
    if survey.resolution:
        width, height = survey.resolution.rendered
        scaled = f" (scaled by {survey.resolution.scale:g})" if survey.resolution.scale != 1 else ""
        picture = f"{width} x {height}{scaled}"
    facts(
        console,
        [
            ("scene", survey.scene),
            ("frames", span),
            ("resolution", picture),
            ("units", f"{survey.meters_per_unit:g} m, {survey.up_axis} up"),
            (
                "made with",
                ", ".join(f"{s.name} {s.version} ({s.role})" for s in survey.software) or "unknown",
            ),
            ("uses", _features(survey)),
            ("colour", _colour(survey)),
            *([("ordered", _said(survey))] if survey.said else []),
            ("moves", {"still": "nothing", "camera": "only the camera", "things": "things"}[survey.motion]),
            (
                "files",
                f"{counted(totals.files, 'file')}, {size(totals.bytes)}, named in {counted(totals.assets, 'place')}",
            ),
        ],
    )
    heading(console, "Outputs")
    outputs = table("output", "path", "passes", "camera")
    for output in survey.outputs:
        path = cell(output.path) if output.path else Text("no path", style="red")
        outputs.add_row(cell(output.name), path, cell(" ".join(output.passes)), cell(output.camera or "none"))
    console.print(outputs if survey.outputs else "none: nothing would be saved")
    heading(console, "Cameras")
    cameras = table("camera", "moves over", "renders")
    for camera in survey.cameras:
        moves = "{}-{}".format(*camera.moves) if camera.moves else "not known" if camera.trouble else "-"
        cameras.add_row(cell(camera.path), moves, cell(" ".join(camera.renders) or "-"))
    console.print(cameras if survey.cameras else "none")
    if survey.simulations:
        heading(console, "Simulations")
        sims = table("simulation", "kind", "state", "starts", "cache covers", "depends on")
        for one in survey.simulations:
            covers = "{}-{}".format(*one.covers) if one.covers else "-"
            sims.add_row(
                cell(one.name),
                one.kind,
                state(one.state.value),
                str(one.start),
                covers,
                cell(" ".join(one.depends_on)),
            )
        console.print(sims)
    for name, where in survey.unknown_simulations.items():
        console.print(cell(f"not known here, maybe a simulation: {name} ({where})"), style="yellow")
    if survey.variants:
        heading(console, "Variants")
        looks = table("prim", "set", "selected", "choices")
        for look in survey.variants:
            looks.add_row(cell(look.prim), cell(look.set), cell(look.selected), cell(" ".join(look.choices)))
        console.print(looks)
    shown = [asset for asset in survey.assets if every or asset.status.value != "found"]
    shown.sort(key=lambda asset: not asset.needed)
    heading(console, "Files" if every else "Files that need attention")
    console.print(_files(shown) if shown else "none")
    for line in survey.unread:
        console.print(cell(f"unread: {line}"))
    for where, text in survey.text_files.items():
        console.print(cell(f"named by a text only, stays behind: {text} ({where})"), style="yellow")


def _said(survey: Survey) -> str:
    """Return the parts of the request that are said from outside of the scene, and where."""
    names = {"output": "outputs"}
    by_place: dict[str, list[str]] = {}
    for part, place in survey.said.items():
        by_place.setdefault(place, []).append(names.get(part, part))
    return "; ".join(f"{', '.join(parts)} by the {place}" for place, parts in by_place.items())


def _features(survey: Survey) -> str:
    words = [f"{one.name} ({one.software} {one.since})" if one.since else one.name for one in survey.features]
    return ", ".join([*words, *(f"font {name}" for name in survey.fonts)]) or "nothing out of the ordinary"


def _colour(survey: Survey) -> str:
    spaces = sorted({output.colour_space for output in survey.outputs if output.colour_space})
    return ", ".join(spaces) or "no colour space is stated"


def _show_memory(console: Console, need: MemoryNeed) -> None:
    from tidy_crate.cli.show import cell, counted, facts, heading, size

    heading(console, "Memory that a machine needs at least")
    facts(
        console,
        [
            ("textures", f"{size(need.textures)}, {counted(need.texture_files, 'file')} decoded with all mip levels"),
            ("geometry", f"{size(need.geometry)} before subdivision" if need.geometry is not None else "unknown"),
            ("at least", size(need.least)),
        ],
    )
    for path in need.unknown:
        console.print(cell(f"no size can be read from {path}"))


def _show_looks(console: Console, looks: tuple[Look, ...]) -> None:
    from tidy_crate.cli.show import cell, heading, table

    heading(console, "Looks")
    if not looks:
        console.print("none")
        return
    rows = table("prim", "set", "choice", "selected", "cameras", "frames", "moves over", "resolution", "missing")
    for one in looks:
        frames = f"{one.frames.start}-{one.frames.end}" if one.frames and one.frames.count else "-"
        rows.add_row(
            cell(one.prim), cell(one.set), cell(one.choice), "yes" if one.selected else "-",
            cell(one.error or " ".join(one.cameras) or "-"), frames,
            "{}-{}".format(*one.animated) if one.animated else "-",
            "{} x {}".format(*one.resolution.rendered) if one.resolution else "-", str(one.missing),
        )  # fmt: skip
    console.print(rows)


def _files(assets: list[Asset]) -> Table:
    from rich.text import Text

    from tidy_crate.cli.show import cell, size, state, table

    files = table("id", "file as written", "kind", "status", "size", "needed", "because", right=("size",))
    for asset in assets:
        because = asset.because if asset.status.value == "found" else f"{asset.trouble or ''}; {asset.because}"
        files.add_row(
            asset.id,
            cell(asset.authored),
            asset.kind,
            state(asset.status.value) if asset.needed else Text(asset.status.value, style="dim"),
            size(asset.bytes) if asset.members else "-",
            "yes" if asset.needed else "no",
            cell(because),
        )
    return files
