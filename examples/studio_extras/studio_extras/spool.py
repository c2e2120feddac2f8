"""An engine for own machines: a spool folder on the share, into which every machine looks. `spool:` on the card.

A batch is a file with its command line, `JOB--BATCH.todo`. A machine that takes one renames it to `.HOST`, which one
machine alone can do, runs it, and removes it. On each machine runs

    python3 spool.py /mnt/share/tidy/spool

which needs this one file and Python's standard library. There is no server that could fail.
"""

from __future__ import annotations

import json
import os
import re
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.farm.links.cluster.interface import Batches
    from tidy_crate.core.farm.links.interface import FarmLink
    from tidy_crate.core.farm.links.registry import Token

# seconds between two looks at the folder, and after which a machine that shows nothing is taken for gone
LOOK, GONE = 1.0, 30.0


class Spool:
    """The engine. See tidy_crate.core.farm.links.cluster.interface.Engine for what each call promises."""

    fulfils: frozenset[str] = frozenset()

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def meet(self) -> str:
        """See Engine.meet."""
        return f"{len(self._machines())} machines look into {self._folder}"

    def show(self, line: Sequence[str]) -> list[str]:
        """See Engine.show: whether a machine can do an order shows when it takes a batch."""
        return self._machines()

    def begin(self, batches: Batches) -> None:
        """See Engine.begin. Machines take names in order: a job of a higher priority has the lower number."""
        self._folder.mkdir(parents=True, exist_ok=True)
        for number, name in enumerate(batches.names):
            path = self._folder / f"{999 - batches.rank:03d}-{number:06d}-{batches.job}--{name}.todo"
            draft = path.with_suffix(".draft")
            draft.write_text(json.dumps([*batches.line, name]))
            draft.replace(path)

    def under_way(self, job: str) -> int:
        """See Engine.under_way. A batch of a machine that is gone is not."""
        found = list(self._folder.glob(f"*-{job}--*.todo"))
        return len(found) + sum(1 for host in self._machines() for _ in self._folder.glob(f"*-{job}--*.{host}"))

    def cancel(self, job: str) -> None:
        """See Engine.cancel. What renders ends by itself: nodes look at the job's control file."""
        for path in self._folder.glob(f"*-{job}--*.todo"):
            path.unlink(missing_ok=True)

    def why(self, job: str) -> str:
        """See Engine.why."""
        return "" if self._machines() else f"no machine looks into {self._folder}"

    def _machines(self) -> list[str]:
        now = time.time()
        return [path.name for path in (self._folder / "machines").glob("*") if now - path.stat().st_mtime < GONE]


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link of a card: a job on shared storage, with this engine."""
    from tidy_crate.core.farm.links.cluster.link import ClusterFarm

    return ClusterFarm(card, engine=Spool(Path(card.cluster.shared or ".") / "spool")).link()


def work(folder: Path) -> None:
    """Take batches and run them, until this process is ended."""
    host = re.sub(r"\W", "_", socket.gethostname()) + f"_{os.getpid()}"
    (folder / "machines").mkdir(parents=True, exist_ok=True)
    running: subprocess.Popen[bytes] | None = None
    mine = None
    while True:
        (folder / "machines" / host).touch()
        if running is not None and running.poll() is not None and mine is not None:
            mine.unlink(missing_ok=True)
            running = None
        for path in sorted(folder.glob("*.todo")) if running is None else ():
            mine = path.with_suffix(f".{host}")
            try:
                path.rename(mine)
            except FileNotFoundError:
                continue  # another machine was faster
            running = subprocess.Popen([sys.executable, "-E", "-s", *json.loads(mine.read_text())])
            break
        time.sleep(LOOK)


if __name__ == "__main__":
    work(Path(sys.argv[1]))
