"""Running a host application's own command lines: with a time limit, a log, and progress read off what it prints."""

from __future__ import annotations

import re
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import psutil

from tidy_crate.core.errors import CommandFailed, UnreadableInput
from tidy_crate.core.files import os_reason


def run_host(
    command: tuple[str, ...],
    values: dict[str, str],
    folder: Path,
    limit: float,
    log: Path | None = None,
    on_line: Callable[[str], None] | None = None,
) -> None:
    """Run one of the host's commands in a folder. log: where all that it prints is kept.

    Raises CommandFailed with the last lines that it printed when it cannot start, fails, or takes longer than `limit`
    seconds.
    """
    line = _filled(command, values)
    try:
        process = subprocess.Popen(
            line, cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            encoding="utf-8", errors="replace",
        )  # fmt: skip
    except OSError as error:
        raise CommandFailed(f"the host's command cannot start ({os_reason(error)})", line[0], started=False) from error
    late = threading.Event()

    def end() -> None:
        late.set()
        _kill(process)

    timer = threading.Timer(limit, end)
    timer.start()
    said: list[str] = []
    try:
        assert process.stdout is not None
        for text in process.stdout:
            said.append(text)
            if on_line is not None:
                on_line(text)
        process.wait()
    except BaseException:
        _kill(process)
        process.wait()
        raise
    finally:
        timer.cancel()
        if log is not None:
            log.parent.mkdir(parents=True, exist_ok=True)
            log.write_text("".join(said), encoding="utf-8", errors="replace")
    text = "".join(said)
    if late.is_set():
        raise CommandFailed(f"the host's command did not end within {limit:g} s", line[0], said=text, log=log)
    if process.returncode != 0:
        what = f"the host's command failed with code {process.returncode}"
        raise CommandFailed(what, " ".join(line)[:200], said=text, log=log)


def progress_pattern(text: str | None) -> re.Pattern[str] | None:
    """The pattern for the line of a finished frame. Raises UnreadableInput when it is none, or lacks the group."""
    if text is None:
        return None
    try:
        pattern = re.compile(text)
    except re.error as error:
        raise UnreadableInput(f"bake_done is no regular expression ({error})", text) from error
    if "frame" not in pattern.groupindex:
        raise UnreadableInput(
            "bake_done has no group `frame`", text, "write (?P<frame>-?[0-9]+) where the number stands"
        )
    return pattern


def _filled(command: tuple[str, ...], values: dict[str, str]) -> list[str]:
    known = {"python": sys.executable, **values}
    return [re.sub(r"\{([a-z_]+)\}", lambda match: known.get(match[1], match[0]), word) for word in command]


def _kill(process: subprocess.Popen[str]) -> None:
    """End a program and all that it has started: they hold its output open."""
    try:
        parent = psutil.Process(process.pid)
        for one in (*parent.children(recursive=True), parent):
            one.kill()
    except psutil.Error:
        process.kill()
