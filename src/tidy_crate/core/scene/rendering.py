"""Running the command line that renders a scene, for the proof, the probe and one's own machines."""

from __future__ import annotations

import re
import time
from dataclasses import dataclass
from glob import escape as glob_escape
from pathlib import Path

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.patterns import pattern
from tidy_crate.core.process import Limits
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import Output
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.product import below, output_folder, product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.task import Task

LOG = "render.log"
_NUMBER = re.compile(r"-?[0-9]{1,9}")
_SECONDS = re.compile(r"[0-9]{1,9}(?:\.[0-9]{0,9})?")


@dataclass(frozen=True)
class RenderRun:
    """One run."""

    seconds: float
    """Wall clock time."""
    cpu_seconds: float
    memory_bytes: int
    """Peak memory."""
    frame_seconds: dict[int, float]
    """Seconds of each frame, where the command prints them."""
    log: str
    startup_seconds: float = 0.0
    """Until the renderer printed its first line: starting up, before the scene is loaded."""


def placeholders(
    command: RenderCommand, scene: Path, request: RenderRequest, frames: tuple[int, ...], into: Path, view: str = ""
) -> dict[str, str]:
    """Return the values for a render command's placeholders.

    view: the camera to render from, by its name in the request.
    """
    looked_at = request.view(view)
    return {
        "scene": str(scene),
        "host_scene": str(format_of(scene).opens(scene)),
        "frames": format_frames(frames, steps=command.steps),
        "camera": looked_at.camera if looked_at else request.camera,
        "width": str(request.width),
        "height": str(request.height),
        "output_folder": str(into),
        # a value that nothing states is left out: a command that asks for it is refused
        **command.samples_of(request.samples),
    }


def run(
    command: RenderCommand,
    scene: Path,
    request: RenderRequest,
    frames: tuple[int, ...],
    into: Path,
    time_limit: float,
    commands: Commands,
    view: str = "",
    limits: Limits | None = None,
) -> RenderRun:
    """Run the command in an empty folder and measure it.

    What it prints is kept in `render.log` in that folder. commands: runs it, where it is trusted.
    limits: of what it may take of this machine. Raises NotTrusted, and CommandFailed with the last lines of the log
    when it fails, cannot start, or takes longer than the limit (seconds) or more than it may.
    """
    is_done = pattern(command.frame_done, "frame_done", ["frame", "seconds"]) if command.frame_done else None
    seconds: dict[int, float] = {}
    asked = set(frames)

    first: float | None = None
    began = time.monotonic()

    def on_line(text: str) -> None:
        nonlocal first
        match = is_done.search(text) if is_done is not None else None
        if first is None:
            # a renderer whose first line is that of a finished frame says nothing of its start
            first = 0.0 if match is not None else time.monotonic() - began
        if match is None:
            return
        frame, took = match["frame"] or "", match["seconds"] or ""
        if not _NUMBER.fullmatch(frame) or not _SECONDS.fullmatch(took):
            what = f"frame_done of the render command found {frame[:40]!r} and {took[:40]!r}, which are not numbers"
            raise WrongUsage(what, command.frame_done, "let the groups hold a frame number and seconds, as in 1.25")
        if int(frame) in asked:
            seconds[int(frame)] = float(took)

    into.mkdir(parents=True, exist_ok=True)
    values = placeholders(command, scene, request, frames, into, view)
    ended = commands.run(
        command.command, values, into, time_limit, log=into / LOG, on_line=on_line, what="the renderer", watch=True,
        limits=limits, reads=command.reads,
    )  # fmt: skip
    return RenderRun(ended.seconds, ended.cpu_seconds, ended.memory_bytes, seconds, ended.text, first or 0.0)


def products(
    folder: Path, outputs: tuple[Output, ...], task: Task, tokens: FrameTokens = STANDARD
) -> dict[str, Path | None]:
    """The files that a run left for a task, by output name: in their own folder, or anywhere below by file name."""
    found: dict[str, Path | None] = {}
    for output in outputs:
        own = below(folder, product_path(naming(output), task, tokens=tokens))
        if own.is_file():
            found[output.name] = own
            continue
        hits = sorted(folder.rglob(glob_escape(own.name)))
        # two outputs may share a file name in folders of their own
        inside = [hit for hit in hits if output_folder(output.name) in hit.relative_to(folder).parts]
        found[output.name] = next(iter(inside or hits), None)
    return found


def all_products(
    folder: Path, outputs: tuple[Output, ...], task: Task, tokens: FrameTokens = STANDARD
) -> dict[str, Path]:
    """Return the files that a run left for a task, by output name. Raises TidyCrateError where it left out any."""
    found = products(folder, outputs, task, tokens)
    there = {name: path for name, path in found.items() if path is not None}
    if lost := [name for name in found if name not in there]:
        what = f"the render command wrote nothing for {', '.join(lost)} at frame {task.frame}"
        raise TidyCrateError(what, folder, f"see {folder / LOG} for what it said")
    return there
