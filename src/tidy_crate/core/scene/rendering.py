"""Running the command line that renders a scene, for the proof, the probe and one's own machines."""

from __future__ import annotations

import re
import subprocess
import threading
import time
from dataclasses import dataclass
from glob import escape as glob_escape
from pathlib import Path

import psutil

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.errors import CommandFailed, WrongUsage
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import Output
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.command import RenderCommand, filled
from tidy_crate.core.work.product import below, output_folder, product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task

LOG = "render.log"
# what a shell returns for a command that it cannot run, and for one that it does not find
_NOT_STARTED = (126, 127)


@dataclass(frozen=True)
class RenderRun:
    """One run. seconds: wall clock; frame_seconds: per frame, where it prints them; memory_bytes: at its peak."""

    seconds: float
    cpu_seconds: float
    memory_bytes: int
    frame_seconds: dict[int, float]
    log: str


def words(
    command: RenderCommand, scene: Path, request: RenderRequest, frames: tuple[int, ...], into: Path, view: str = ""
) -> list[str]:
    """The command line with its placeholders filled in. Raises WrongUsage on a placeholder that is not known.

    view: the camera to render from, by its name in the request.
    """
    looked_at = request.view(view)
    values = {
        "scene": str(scene),
        "host_scene": str(format_of(scene).opens(scene)),
        "frames": format_frames(frames),
        "camera": looked_at.camera if looked_at else "",
        "width": str(request.width),
        "height": str(request.height),
        "samples": str(request.samples or 0),
        "output_folder": str(into),
    }
    return filled(command.command, values)


def run(
    command: RenderCommand,
    scene: Path,
    request: RenderRequest,
    frames: tuple[int, ...],
    into: Path,
    time_limit: float,
    environment: dict[str, str] | None = None,
    view: str = "",
) -> RenderRun:
    """Run the command in an empty folder and measure it.

    What it prints is kept in `render.log` in that folder. Raises CommandFailed with the last lines of it when it fails,
    cannot start, or takes longer than the limit (seconds).
    """
    line = words(command, scene, request, frames, into, view)
    into.mkdir(parents=True, exist_ok=True)
    began = time.perf_counter()
    try:
        process = subprocess.Popen(
            line,
            cwd=into,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
        )
    except OSError as error:
        what = f"the renderer cannot start ({(error.strerror or str(error)).lower()})"
        raise CommandFailed(what, line[0], "check the command under [render]", started=False) from error
    watch = _Watch(process.pid)
    timer = threading.Timer(time_limit, process.kill)
    timer.start()
    try:
        with watch:
            output, _ = process.communicate()
    finally:
        late = not timer.is_alive()
        timer.cancel()
    seconds = time.perf_counter() - began
    log = output.decode("utf-8", "replace")
    kept = into / LOG
    kept.write_bytes(output)
    if late and process.returncode != 0:
        raise CommandFailed(f"the renderer did not end within {time_limit:g} s", line[0], said=log, log=kept)
    if process.returncode in _NOT_STARTED:
        raise CommandFailed("the renderer cannot start", line[0], said=log, log=kept, started=False)
    if process.returncode != 0:
        what = f"the renderer failed with code {process.returncode}"
        raise CommandFailed(what, line[0], said=log, log=kept)
    return RenderRun(seconds, watch.cpu_seconds, watch.memory_bytes, _frame_seconds(command, log), log)


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


def _frame_seconds(command: RenderCommand, log: str) -> dict[int, float]:
    if not command.frame_done:
        return {}
    try:
        pattern = re.compile(command.frame_done)
        return {int(match["frame"]): float(match["seconds"]) for match in pattern.finditer(log)}
    except (re.error, IndexError, ValueError) as error:
        raise WrongUsage(f"frame_done of the render command does not work ({error})", command.frame_done) from error


class _Watch:
    """Samples the memory and processor time of a process and its children while it runs."""

    def __init__(self, pid: int) -> None:
        self._pid = pid
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._sample, daemon=True)
        self.memory_bytes = 0
        self.cpu_seconds = 0.0

    def __enter__(self) -> _Watch:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._end.set()
        self._thread.join()

    def _sample(self) -> None:
        try:
            process = psutil.Process(self._pid)
        except psutil.Error:
            return
        while True:
            memory, cpu = 0, 0.0
            try:
                for one in (process, *process.children(recursive=True)):
                    memory += one.memory_info().rss
                    times = one.cpu_times()
                    cpu += times.user + times.system
            except psutil.Error:
                pass
            self.memory_bytes = max(self.memory_bytes, memory)
            self.cpu_seconds = max(self.cpu_seconds, cpu)
            if self._end.wait(0.05):
                return
