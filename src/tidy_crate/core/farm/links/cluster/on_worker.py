"""The functions that Dask runs on its workers and in its scheduler. They are sent there as they are.

They start `on_node.py`, which does the work, from the shared storage; what is read from its answers is plain text.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

# times that a batch may meet a node that cannot do it
MOST_UNFIT = 20
UNFIT = 3
# seconds before a batch that met such a node is given to another one
PAUSE = 0.5


def batches_under_way(job: str, dask_scheduler: Any = None) -> int:
    """Return how many batches of a job the scheduler still means to run. Runs in the scheduler."""
    states = ("waiting", "no-worker", "queued", "processing")
    return sum(
        1 for key, task in dask_scheduler.tasks.items() if str(key).startswith(f"{job}/") and task.state in states
    )


def in_words(do: str, given: str) -> str:
    """Do `who`, `show` or `judge`. given: what it needs, as a list in JSON. Return the answer as JSON.

    Whoever asked takes plain text only: an object could bring code along.
    """
    known: dict[str, Callable[..., object]] = {"who": who, "show": show, "judge": judge}
    return json.dumps(known[do](*json.loads(given)))


def who() -> str:
    """Return the account that this worker renders as."""
    import getpass

    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return "unknown"


def show(line: list[str]) -> dict[str, str]:
    """Show that this worker can do an order. line: runs on_node with `--show`. Return what it says."""
    if not Path(line[0]).is_file():
        return {"trouble": f"it does not see {line[0]}: the shared storage is not mounted there"}
    done = subprocess.run(_own(line), capture_output=True, timeout=150, check=False, stdin=subprocess.DEVNULL)
    try:
        found = json.loads(done.stdout)
        return {"trouble": str(found["trouble"])[:500]}
    except (ValueError, KeyError, TypeError):
        said = (done.stdout + done.stderr).decode("utf-8", "replace").split()
        return {"trouble": f"it cannot run on_node.py ({' '.join(said)[-200:]})"}


def run_batch(line: list[str]) -> int:
    """Render a batch. line: runs on_node. Return its exit code; a node that cannot do it hands the batch on."""
    if not Path(line[0]).is_file():
        code = UNFIT
    else:
        code = subprocess.run(_own(line), stdin=subprocess.DEVNULL, check=False, start_new_session=True).returncode
    if code == UNFIT:
        from distributed import Reschedule, get_worker

        # a worker keeps count for itself, since it may not see the storage
        visits = get_worker().__dict__.setdefault("_tidy_crate_visits", {})
        visits[line[2]] = visits.get(line[2], 0) + 1
        if visits[line[2]] > MOST_UNFIT:
            raise RuntimeError("no node can do it")
        time.sleep(PAUSE)
        raise Reschedule
    return code


def _own(line: list[str]) -> list[str]:
    return [sys.executable, "-E", "-s", *line]


def judge(version: str, frames: list[dict[str, Any]]) -> dict[str, Any]:
    """Judge frames for a review. version: of the package, which must be installed here too.

    frames: `path` and `expected` of each. Return this worker's name, its `trouble` or else its `answers`, in order.
    """
    import os
    import socket

    worker = f"{socket.gethostname()}-{os.getpid()}"
    try:
        import tidy_crate
        from tidy_crate.core.picture.judge import Expected
        from tidy_crate.core.picture.readers import FrameReaders, Looked
    except ImportError as error:
        return {"worker": worker, "trouble": f"tidy-crate is not installed there ({error})"}
    if tidy_crate.__version__ != version:
        return {"worker": worker, "trouble": f"it has tidy-crate {tidy_crate.__version__}, here is {version}"}
    looked = [Looked(Path(one["path"]), Expected.model_validate(one["expected"])) for one in frames]
    with FrameReaders(1) as readers:
        answers = [one.model_dump(mode="json") for one in readers.judge(looked)]
    return {"worker": worker, "trouble": "", "answers": answers}
