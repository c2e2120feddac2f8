"""The code that runs on a worker. It is sent there as it is, so that it needs nothing but Python's own library.

All that it does and finds is written to the shared storage: who ordered it may be gone by then.
"""

from __future__ import annotations

import contextlib
import getpass
import json
import os
import re
import secrets
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import datetime, timezone
from pathlib import Path
from typing import Any

TAIL = 2000
LOOK = 0.5
# times that a batch may meet a worker that cannot do it
MOST_UNFIT = 20


def batches_under_way(job: str, dask_scheduler: Any = None) -> int:
    """Return how many batches of a job the scheduler still means to run. Runs in the scheduler."""
    states = ("waiting", "no-worker", "queued", "processing")
    return sum(
        1 for key, task in dask_scheduler.tasks.items() if str(key).startswith(f"{job}/") and task.state in states
    )


def worker_name() -> str:
    """Return the name of this worker: its machine and process."""
    return f"{socket.gethostname()}-{os.getpid()}"


def who() -> str:
    """Return the account that this worker renders as."""
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return f"user {os.getuid()}" if hasattr(os, "getuid") else "unknown"


def in_words(do: str, given: str) -> str:
    """Do `who`, `show` or `judge`. given: what it needs, as a list in JSON. Return the answer as JSON.

    Whoever asked takes plain text only: an object could bring code along.
    """
    known: dict[str, Callable[..., object]] = {"who": who, "show": show, "judge": judge}
    return json.dumps(known[do](*json.loads(given)))


def show(order: dict[str, Any]) -> dict[str, str]:
    """Show that this worker can do it: it has the version, reads the crate, and can write the frames.

    Return its name, its account, and what is wrong, which is empty where nothing is.
    """
    return {"worker": worker_name(), "account": who(), "trouble": _trouble(order)}


def judge(version: str, frames: list[dict[str, Any]]) -> dict[str, Any]:
    """Judge frames for a review. version: of the package, which must be installed here too.

    frames: `path` and `expected` of each. Return this worker's name, its `trouble` or else its `answers`, in order.
    """
    try:
        import tidy_crate
        from tidy_crate.core.picture.judge import Expected
        from tidy_crate.core.picture.readers import FrameReaders, Looked
    except ImportError as error:
        return {"worker": worker_name(), "trouble": f"tidy-crate is not installed there ({error})"}
    if tidy_crate.__version__ != version:
        return {"worker": worker_name(), "trouble": f"it has tidy-crate {tidy_crate.__version__}, here is {version}"}
    looked = [Looked(Path(one["path"]), Expected.model_validate(one["expected"])) for one in frames]
    with FrameReaders(1) as readers:
        answers = [one.model_dump(mode="json") for one in readers.judge(looked)]
    return {"worker": worker_name(), "trouble": "", "answers": answers}


def _trouble(order: dict[str, Any]) -> str:
    crate, frames = Path(order["crate"]), Path(order["job"], "frames")
    scene = crate / order["scene"]
    try:
        with scene.open("rb") as stream:
            if os.fstat(stream.fileno()).st_size != order["scene_bytes"]:
                return f"it sees another scene at {scene}"
            stream.read(1)
    except OSError as error:
        return f"it cannot read the crate as {who()} ({error.strerror}: {scene})"
    probe = frames / f".may-{secrets.token_hex(6)}"
    try:
        probe.write_bytes(b"may this be written?")
        probe.unlink()
    except OSError as error:
        return f"it cannot write frames as {who()} ({error.strerror}: {frames})"
    if order["version_command"]:
        try:
            done = subprocess.run(
                order["version_command"], capture_output=True, timeout=120, check=False, stdin=subprocess.DEVNULL
            )
        except (OSError, subprocess.SubprocessError) as error:
            return f"it has no {order['version_command'][0]} ({error})"
        said = (done.stdout + done.stderr).decode("utf-8", "replace")
        if order["version"] and not re.search(rf"(?<![\d.]){re.escape(order['version'])}(?![\d])", said):
            return f"it has another version than {order['version']}: {' '.join(said.split())[:120]}"
    return ""


def run_batch(order: dict[str, Any], batch: dict[str, Any]) -> str:
    """Render the tasks of a batch, and write down each as it is done. Returns the worker's name."""
    job = Path(order["job"])
    trouble = _trouble(order)
    if trouble:
        _elsewhere(job, batch, trouble)
    number = _next_attempt(job, batch)
    if number > order["retries"] + 1:
        # lost so often that another try would be no better; what is written down says so
        return worker_name()
    if not _may_go_on(job):
        return worker_name()
    work = job / "work" / f"{batch['name']}-{number}"
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir(parents=True)
    log = job / "logs" / f"{batch['name']}-{number}.log"
    began = time.time()
    for task in batch["tasks"]:
        _note(job, batch, number, task, "rendering", began=began)
    code, said = _render(order, batch, work, log, job)
    last = began
    lost = []
    for task in batch["tasks"]:
        files = {name: _found(work, path) for name, path in task["files"].items()}
        if code != 0 or any(path is None for path in files.values()):
            lost.append(task)
            continue
        products = []
        for name, path in task["files"].items():
            source, target = files[name], job / "frames" / path
            assert source is not None
            ended = source.stat().st_mtime
            target.parent.mkdir(parents=True, exist_ok=True)
            size, digest = source.stat().st_size, _digest(source)
            source.replace(target)
            products.append({"output": name, "path": path, "bytes": size, "blake3": digest})
        ended = max(last, min(ended, time.time()))
        _note(job, batch, number, task, "done", began=last, ended=ended, products=products, log=log.name)
        last = ended
    shutil.rmtree(work, ignore_errors=True)
    if lost and not _cancelled(job):
        why = said[-TAIL:] or "the program left no frame"
        again = number <= order["retries"]
        for task in lost:
            state = "failed"
            _note(job, batch, number, task, state, began=last, ended=time.time(), error=why, log=log.name)
        if again:
            raise RuntimeError(f"{len(lost)} frames of {batch['name']} failed: {why[-300:]}")
    return worker_name()


def _render(order: dict[str, Any], batch: dict[str, Any], work: Path, log: Path, job: Path) -> tuple[int, str]:
    values = {**batch["values"], "python": sys.executable, "output_folder": str(work)}
    line = [re.sub(r"\{([a-z_]*)\}", lambda match: values.get(match[1], match[0]), word) for word in order["command"]]
    log.parent.mkdir(parents=True, exist_ok=True)
    with log.open("wb") as out:
        try:
            process = subprocess.Popen(line, cwd=work, stdout=out, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL)
        except OSError as error:
            out.write(f"{line[0]} cannot start ({error.strerror})\n".encode())
            return 127, f"{line[0]} cannot start ({error.strerror})"
        deadline = time.monotonic() + order["seconds"] * len(batch["tasks"])
        while process.poll() is None:
            if _cancelled(job) or time.monotonic() > deadline:
                process.kill()
                process.wait()
                out.write(b"\nended: cancelled, or over its time\n")
                return 1, "it was cancelled, or took too long"
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(LOOK)
    return process.returncode, log.read_bytes()[-TAIL:].decode("utf-8", "replace")


def _found(work: Path, path: str) -> Path | None:
    """A file in its own folder, or anywhere below by its name."""
    own = work / path
    if own.is_file():
        return own
    hits = sorted(one for one in work.rglob("*") if one.name == own.name and one.is_file())
    folder = own.parent.name
    return next(iter([one for one in hits if folder in one.parts] or hits), None)


def _digest(path: Path) -> str | None:
    """The BLAKE3 of a file, where this worker has the library."""
    try:
        from blake3 import blake3
    except ImportError:
        return None
    found = blake3()
    with path.open("rb") as stream:
        while chunk := stream.read(1 << 20):
            found.update(chunk)
    return str(found.hexdigest())


def _next_attempt(job: Path, batch: dict[str, Any]) -> int:
    """The number of this try: one more than those that were begun, also by a worker that was lost."""
    folder = job / "records"
    folder.mkdir(parents=True, exist_ok=True)
    number = batch["first"]
    while True:
        try:
            handle = os.open(folder / f"{batch['name']}-{number}.jsonl", os.O_CREAT | os.O_EXCL | os.O_WRONLY)
        except FileExistsError:
            number += 1
            continue
        os.close(handle)
        return int(number)


def _note(job: Path, batch: dict[str, Any], number: int, task: dict[str, Any], state: str, **rest: Any) -> None:
    """Write down what has become of a task: a line, whole or not at all."""
    line = {
        "task": task["task"], "attempt": number, "state": state, "node": worker_name(),
        **{name: _time(value) if name in ("began", "ended") else value for name, value in rest.items()},
    }  # fmt: skip
    data = json.dumps(line).encode() + b"\n"
    with (job / "records" / f"{batch['name']}-{number}.jsonl").open("ab", buffering=0) as out:
        out.write(data)


def _time(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, timezone.utc).isoformat()  # noqa: UP017 - older workers


def _may_go_on(job: Path) -> bool:
    """Wait while the job is paused. Returns whether it goes on, and was not cancelled."""
    while True:
        state = _control(job)
        if state.get("cancelled"):
            return False
        if not state.get("paused"):
            return True
        time.sleep(LOOK)


def _cancelled(job: Path) -> bool:
    return bool(_control(job).get("cancelled"))


def _control(job: Path) -> dict[str, Any]:
    try:
        found = json.loads((job / "control.json").read_bytes())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def _elsewhere(job: Path, batch: dict[str, Any], trouble: str) -> None:
    """Send a batch to another worker, and write down why. Raises RuntimeError where too many could not do it."""
    folder = job / "unfit"
    folder.mkdir(parents=True, exist_ok=True)
    known = [one for one in folder.glob(f"{batch['name']}-*") if one.is_file()]
    (folder / f"{batch['name']}-{len(known)}-{secrets.token_hex(3)}.txt").write_text(f"{worker_name()}: {trouble}\n")
    if len(known) >= MOST_UNFIT:
        raise RuntimeError(f"no worker can do it; the last one: {trouble}")
    time.sleep(LOOK)
    from distributed import Reschedule

    raise Reschedule
