"""This machine as a farm: batches wait in a folder, and a process renders them after the command has ended."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.links.cluster.interface import Batches
from tidy_crate.core.farm.links.cluster.on_here import STALE
from tidy_crate.core.farm.links.cluster.storage import Storage, told
from tidy_crate.core.files import write_bytes
from tidy_crate.core.process import own_helper

SHOWING = 200.0


class Here:
    """The engine of `here:`. See interface.Engine for what each call does."""

    fulfils: frozenset[str] = frozenset()

    def __init__(self, storage: Storage, nodes: int) -> None:
        """nodes: batches that are rendered at a time, as far as memory allows."""
        self._storage, self._nodes = storage, nodes
        self._folder = storage.shared / "here"

    def meet(self) -> str:
        """Say how this machine renders."""
        from tidy_crate.core.farm.links.cluster.node_job import account

        return f"this machine, {self._nodes} at a time; it renders as {account()}"

    def show(self, line: Sequence[str]) -> list[str]:
        """Show that this machine can do an order."""
        done = subprocess.run(
            [sys.executable, "-E", "-s", *line, "--show"], capture_output=True, timeout=SHOWING, check=False,
            stdin=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            trouble = str(json.loads(done.stdout)["trouble"])
        except (ValueError, KeyError, TypeError):
            trouble = " ".join(done.stderr.decode("utf-8", "replace").split())[-200:]
        if trouble:
            raise FarmError(f"this machine cannot render it: {trouble}", self._folder, "see what it says")
        return ["here"]

    def begin(self, batches: Batches) -> None:
        """Let batches wait for the process that renders. A job of a higher rank comes first."""
        self.show(batches.line)
        with told(self._folder):
            (self._folder / "queue").mkdir(parents=True, exist_ok=True)
            order = time.time_ns()
            for number, name in enumerate(batches.names):
                before = f"{999 - min(batches.rank, 999):03d}-{order}-{number:06d}"
                path = self._folder / "queue" / f"{before}-{batches.job}.json"
                write_bytes(path, json.dumps({"words": [*batches.line, name]}).encode())
        self._start(batches.most)

    def under_way(self, job: str) -> int:
        """Return how many batches wait or render. The process that renders is started again where it is gone."""
        with told(self._folder):
            found = len(list((self._folder / "queue").glob(f"*-{job}.json"))) if self._folder.is_dir() else 0
        if found:
            self._start(self._nodes)
        return found

    def cancel(self, job: str) -> None:
        """Take back what waits. What renders ends by itself: it looks at the job's control file."""
        with told(self._folder):
            for path in (self._folder / "queue").glob(f"*-{job}.json"):
                path.unlink(missing_ok=True)

    def why(self, job: str) -> str:
        """See Engine.why: there is no scheduler to ask."""
        return ""

    def _start(self, most: int) -> None:
        """Start the process that renders, unless it is there."""
        note = self._folder / "runner"
        try:
            if time.time() - note.stat().st_mtime < STALE:
                return
        except OSError:
            pass
        program = self._storage.program().with_name("on_here.py")
        _, environment = own_helper("tidy_crate")
        environment.pop("TIDY_CRATE_STARTED_BY", None)
        # a session of its own: it goes on when the terminal is closed
        apart: dict[str, Any] = (
            {"creationflags": getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)}
            if sys.platform == "win32"
            else {"start_new_session": True}
        )
        words = [sys.executable, "-E", "-s", str(program), str(self._folder), str(min(most, self._nodes))]
        with Path(os.devnull).open("wb") as nothing:
            subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=nothing, stderr=nothing, env=environment, **apart)
