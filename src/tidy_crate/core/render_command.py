"""Running the command line that renders a scene, for the proof, the probe and one's own machines."""

from __future__ import annotations

import re
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import psutil

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.scene.decisions import RenderCommand
from tidy_crate.core.scene.formats.sheet.model import SUFFIX, host_scene, read_sheet
from tidy_crate.core.scene.model import Output
from tidy_crate.core.scene.request import RenderRequest, product_name

_HOLDER = re.compile(r"\{([a-z_]*)\}")
LOG_TAIL = 2000


@dataclass(frozen=True)
class RenderRun:
    """One run. seconds: wall clock; frame_seconds: per frame, where it prints them; memory_bytes: at its peak."""

    seconds: float
    cpu_seconds: float
    memory_bytes: int
    frame_seconds: dict[int, float]
    log: str


def words(
    command: RenderCommand, scene: Path, request: RenderRequest, frames: tuple[int, ...], into: Path
) -> list[str]:
    """The command line with its placeholders filled in. Raises WrongUsage on a placeholder that is not known."""
    values = {
        "python": sys.executable,
        "scene": str(scene),
        "host_scene": str(_host_scene(scene)),
        "frames": format_frames(frames),
        "camera": request.cameras[0] if request.cameras else "",
        "width": str(request.width),
        "height": str(request.height),
        "samples": str(request.samples or 0),
        "output_folder": str(into),
    }

    def filled(match: re.Match[str]) -> str:
        if match[1] not in values:
            raise WrongUsage(
                "the render command has a placeholder that is not known",
                match[0],
                "use one of " + " ".join(f"{{{k}}}" for k in values),
            )
        return values[match[1]]

    return [_HOLDER.sub(filled, word) for word in command.command]


def _host_scene(scene: Path) -> Path:
    """For a scene sheet the host's own scene, for every other format the scene itself."""
    if not scene.name.lower().endswith(SUFFIX):
        return scene
    return host_scene(scene, read_sheet(scene))


def run(
    command: RenderCommand,
    scene: Path,
    request: RenderRequest,
    frames: tuple[int, ...],
    into: Path,
    time_limit: float,
    environment: dict[str, str] | None = None,
) -> RenderRun:
    """Run the command in an empty folder and measure it.

    Raises TidyCrateError with the end of its log when it fails, cannot start, or takes longer than the limit (seconds).
    """
    line = words(command, scene, request, frames, into)
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
        raise TidyCrateError(
            f"the render command cannot start ({error.strerror})", line[0], "check [render]"
        ) from error
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
    tail = log.strip()[-LOG_TAIL:]
    if late and process.returncode != 0:
        raise TidyCrateError(f"the render command did not end within {time_limit:g} s", line[0], tail or None)
    if process.returncode != 0:
        raise TidyCrateError(f"the render command failed with code {process.returncode}", line[0], tail or None)
    return RenderRun(seconds, watch.cpu_seconds, watch.memory_bytes, _frame_seconds(command, log), log)


def products(folder: Path, outputs: tuple[Output, ...], frame: int) -> dict[str, Path | None]:
    """The files that a run left for a frame, by output name, wherever below the folder it put them."""
    found: dict[str, Path | None] = {}
    for output in outputs:
        hits = sorted(folder.rglob(product_name(output, frame)))
        # two outputs may share a file name in folders of their own
        own = [hit for hit in hits if output.name.strip("/").replace("/", ".") in hit.relative_to(folder).parts]
        found[output.name] = (own or hits or [None])[0]  # type: ignore[list-item]
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
