"""The commands in the stages of the work, as `tidy-crate` alone shows them."""

from __future__ import annotations

from difflib import get_close_matches
from importlib import import_module
from typing import TYPE_CHECKING

import typer
from typer.core import TyperGroup
from typer.main import get_group

from tidy_crate.cli.renamed import renamed

if TYPE_CHECKING:
    from typer._click import Command, Context, HelpFormatter

STAGES: dict[str, dict[str, str]] = {
    "The whole way": {
        "carry": "take a scene from the saved file to delivered frames",
        "status": "show where a scene, a crate or a job stands",
    },
    "Look, and prepare": {
        "survey": "show what is in a scene",
        "bake": "write simulations into caches, so that any frame renders alone",
        "relink": "replace paths that lead nowhere",
        "override": "give an output another path in the staged scene",
        "check": "show what would go wrong, before money is spent",
        "waive": "accept a warning, for a reason",
    },
    "Pack, and prove": {
        "collect": "copy the staged scene and all its files into one folder",
        "prove": "prove that a crate is complete, away from the originals",
        "trust": "allow a project's commands, and its folders outside",
    },
    "Plan": {
        "probe": "render and time a few test frames here",
        "estimate": "compare cost and turnaround at the farms",
        "farm": "list, show, write, check and test farm cards",
    },
    "Send, and track": {
        "send": "upload what the farm lacks, and start the job",
        "track": "show a job: frames, machines, cost, forecast",
        "jobs": "list all jobs at all farms",
        "log": "show what a node said about a frame",
        "pause": "begin no further frame",
        "resume": "let a paused, held or quoted job go on",
        "priority": "serve a job sooner or later",
        "handover": "send the rest of a job to another farm",
        "cancel": "stop a job, and show what comes back",
        "release": "note that rented machines are shut down",
    },
    "Frames home": {
        "retrieve": "bring frames home, verified",
        "review": "open and judge every frame",
        "look": "draw contact sheets, passes, differences, previews",
        "accept": "accept frames",
        "reject": "reject frames",
        "rerender": "render again what was rejected or is missing",
        "pair": "render a frame here with one setting switched",
        "stitch": "join tiles and sample shares to full frames",
        "deliver": "write the accepted frames as the brief orders them",
        "report": "write the final record of a job",
    },
    "Learn, and set up": {
        "demo": "do all of it once, with a small scene of its own",
        "practice": "run a farm on this machine to practise on",
        "ready": "check this installation",
        "sheet": "describe the scene of a host application",
    },
}  # fmt: skip


# by module, the commands that it registers: only the module of the command that is run is imported
MODULES: dict[str, tuple[str, ...]] = {
    "carry": ("carry", "status"),
    "survey": ("survey",),
    "bake": ("bake",),
    "relink": ("relink", "override"),
    "check": ("check", "waive"),
    "collect": ("collect", "prove"),
    "trust": ("trust",),
    "estimate": ("probe", "estimate"),
    "farm": ("farm",),
    "send": ("send", "handover"),
    "jobs": ("track", "jobs", "log", "pause", "resume", "priority", "cancel", "release"),
    "frames": ("retrieve", "review", "accept", "reject", "rerender"),
    "results": ("look", "stitch", "deliver", "report"),
    "pair": ("pair",),
    "demo": ("demo",),
    "practice": ("practice",),
    "ready": ("ready",),
    "sheet": ("sheet",),
}
_MODULE_OF = {name: module for module, names in MODULES.items() for name in names}


class Stages(TyperGroup):
    """Shows the commands by stage and not as one list, and imports what is run."""

    def list_commands(self, ctx: Context) -> list[str]:
        """Return the names of all commands, in the order of the work."""
        return [name for commands in STAGES.values() for name in commands]

    def get_command(self, ctx: Context, cmd_name: str) -> Command | None:
        """Return a command, None for a name that there is not."""
        module = _MODULE_OF.get(cmd_name)
        if module is None:
            return None
        part = typer.Typer(rich_markup_mode=None, pretty_exceptions_enable=False)
        # a group even where the module has one command only
        part.callback()(_nothing)
        import_module(f"tidy_crate.cli.{module}").register(part)
        return get_group(part).commands[cmd_name]

    def resolve_command(self, ctx: Context, args: list[str]) -> tuple[str | None, Command | None, list[str]]:
        """Find the command of a line. For a name that there is not, the error names the nearest."""
        args = renamed(args)
        if args and args[0] not in _MODULE_OF and not args[0].startswith("-") and not ctx.resilient_parsing:
            near = get_close_matches(args[0], _MODULE_OF, 1)
            ctx.fail(f"there is no command {args[0]}" + (f"; did you mean {near[0]}?" if near else ""))
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: Context, formatter: HelpFormatter) -> None:
        """Write a section for each stage."""
        width = max(len(name) for commands in STAGES.values() for name in commands)
        for title, commands in STAGES.items():
            with formatter.section(title):
                formatter.write_dl([(name.ljust(width), text) for name, text in commands.items()])


def _nothing() -> None:
    """Be the callback that makes a group."""
