"""tidy-crate sheet"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from tidy_crate.cli.talk import Talk, command

SheetArgument = Annotated[Path, typer.Argument(metavar="SHEET", help="A scene sheet, NAME.sheet.json.")]


def register(app: typer.Typer) -> None:
    """Add the commands."""
    sheet = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Scene sheets: schema, check, new.")
    app.add_typer(sheet, name="sheet")

    @command(sheet, "schema")
    def schema(talk: Talk) -> None:
        """Print the JSON Schema of a scene sheet.

        \b
        Examples:
          tidy-crate sheet schema
          tidy-crate sheet schema > scene-sheet.schema.json
        """
        from tidy_crate.core.schemas import json_schema

        document = json_schema("scene-sheet")
        talk.result(document, lambda console: console.out(json.dumps(document, indent=1), highlight=False))

    @command(sheet, "check")
    def check(talk: Talk, sheet: SheetArgument) -> None:
        """Check a scene sheet, and that its files exist.

        \b
        Examples:
          tidy-crate sheet check boat.sheet.json
          tidy-crate sheet check boat.sheet.json --json
        """
        from tidy_crate.core.errors import Blocked
        from tidy_crate.core.scene.formats.sheet import SceneSheet
        from tidy_crate.core.scene.model import Status

        survey = SceneSheet().read(sheet)
        lacking = [asset.authored for asset in survey.assets if asset.needed and asset.status is not Status.FOUND]
        document = {"sheet": str(sheet), "valid": True, "missing": lacking}
        talk.result(document, lambda console: console.print("The sheet is valid.", style="bold green"))
        if lacking and not talk.as_json:
            raise Blocked(f"files that it names are missing: {', '.join(lacking[:5])}", sheet, "relink finds them")
        if lacking:
            raise typer.Exit(1)

    @command(sheet, "new")
    def new(
        talk: Talk,
        scene: Annotated[Path, typer.Argument(metavar="SCENE", help="The host application's scene file.")],
        host: Annotated[str, typer.Option("--host", metavar="NAME", help="The host application's name.")],
        version: Annotated[str, typer.Option("--version", metavar="V", help="Its version.")],
    ) -> None:
        """Write the smallest valid sheet beside a host's scene, to be filled in.

        \b
        Examples:
          tidy-crate sheet new boat.host --host boatmaker --version 3.2
          tidy-crate sheet new boat.host --host boatmaker --version 3.2 --json
        """
        from tidy_crate.core.asset.paths import scene_stem
        from tidy_crate.core.errors import UnreadableInput, WrongUsage
        from tidy_crate.core.files import write_json
        from tidy_crate.core.scene.formats.sheet.model import SUFFIX, Sheet, SheetSoftware

        if not scene.is_file():
            raise UnreadableInput("there is no such scene", scene, "check the path")
        target = scene.with_name(scene_stem(scene.name) + SUFFIX)
        if target.exists():
            raise WrongUsage("there is a sheet already", target, "edit it, or move it away")
        sheet = Sheet(scene=scene.name, host=SheetSoftware(name=host, version=version))
        write_json(target, sheet.model_dump(mode="json"))
        talk.result({"sheet": str(target)}, lambda console: console.print(str(target), markup=False, soft_wrap=True))
