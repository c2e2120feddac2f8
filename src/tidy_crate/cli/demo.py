"""tidy-crate demo"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from tidy_crate.cli.talk import Talk, command


def register(app: typer.Typer) -> None:
    """Add the command."""

    @command(app, "demo")
    def demo(
        talk: Talk,
        folder: Annotated[
            Path | None,
            typer.Argument(metavar="[FOLDER]", help="Where it all goes; a new temporary folder if not said."),
        ] = None,
        pause: Annotated[bool, typer.Option("--pause", help="Wait for Enter after each chapter.")] = False,
        scene_only: Annotated[bool, typer.Option("--scene-only", help="Write the demo scene and end.")] = False,
    ) -> None:
        """Do all of it once, with a small scene of its own.

        \b
        Examples:
          tidy-crate demo
          tidy-crate demo quay --pause
        """
        import tempfile

        from tidy_crate.core.errors import WrongUsage

        place = (folder or Path(tempfile.mkdtemp(prefix="tidy-crate-demo-"))).absolute()
        if place.exists() and not place.is_dir():
            raise WrongUsage("this is a file, not a folder", place, "name a folder for the demo")
        if scene_only:
            from tidy_crate.cli.story import claimed, write_invented_farms
            from tidy_crate.practice.demo.scene import write_demo_scene

            with claimed(place):
                found = write_demo_scene(place)
                write_invented_farms(place)
            document = {
                "scene": str(found.scene),
                "project": str(found.project),
                "archive": str(found.archive),
            }
            talk.result(document, lambda console: console.print(str(found.scene), markup=False, soft_wrap=True))
            return
        from tidy_crate.cli.story import tell

        document = tell(talk, place, pause=pause)
        talk.result(document, lambda console: None)
