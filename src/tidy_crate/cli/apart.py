"""Running a command of this program in a process of its own: a fork of this one, which has it imported already."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NoReturn


def run_apart(words: Sequence[str], folder: Path, *, silent: bool) -> tuple[int, str]:
    """Run `tidy-crate WORDS` in a folder, with no input. Return its exit code and, when silent, its messages.

    Where a process cannot fork, the program is started again.
    """
    if not hasattr(os, "fork"):
        line = [sys.executable, "-P", "-m", "tidy_crate", *words]
        done = subprocess.run(line, cwd=folder, check=False, capture_output=silent, stdin=subprocess.DEVNULL)
        return done.returncode, done.stderr.decode("utf-8", "replace").strip() if silent else ""
    sys.stdout.flush()
    sys.stderr.flush()
    with tempfile.TemporaryFile() as messages:
        child = os.fork()
        if child == 0:
            _become(words, folder, messages.fileno() if silent else None)
        _, status = os.waitpid(child, 0)
        messages.seek(0)
        return os.waitstatus_to_exitcode(status), messages.read().decode("utf-8", "replace").strip()


def _become(words: Sequence[str], folder: Path, messages: int | None) -> NoReturn:
    """Be that command, and end with it. messages: where messages go in place of the terminal; its output is dropped."""

    def arrange() -> None:
        os.chdir(folder)
        nothing = os.open(os.devnull, os.O_RDWR)
        os.dup2(nothing, 0)
        if messages is not None:
            os.dup2(nothing, 1)
            os.dup2(messages, 2)

    be_program(words, arrange)


def be_program(words: Sequence[str], arrange: Callable[[], None]) -> NoReturn:
    """Run `tidy-crate WORDS` in this process, which a fork just made, and end it. arrange: is done first."""

    def run() -> None:
        arrange()
        sys.argv = ["tidy-crate", *words]
        from tidy_crate.cli.app import main

        main()

    run_and_end(run)


def run_and_end(run: Callable[[], None]) -> NoReturn:
    """Run something in this process, which a fork just made, and end it as an interpreter ends."""
    code: object = 1
    try:
        run()
        code = 0
    except SystemExit as end:
        code = end.code
    except BaseException:  # noqa: BLE001 - as an interpreter does at its end
        import traceback

        traceback.print_exc()
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            continue
    os._exit(code if isinstance(code, int) else int(code is not None))
