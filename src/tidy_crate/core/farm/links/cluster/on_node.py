"""The program of a node of one's own: `python -E -s on_node.py JOB BATCH`, with Python's standard library alone.

`JOB --row TABLE NUMBER` renders the batches in a row of a table instead, for engines that count.

It is on the shared storage beside `node_job.py` and `supervise.py`, so that a node needs nothing of this package. JOB
is the job's folder as the node sees it. Whatever it does and finds is written there, since whoever ordered it may be
gone:

    order.json       who ordered what; its absence says that the storage is not mounted
    node-order.json  what every batch needs: scene, command line, limits
    batches/NAME.json    the tasks of a batch
    control.json     paused, cancelled, and the turn of handing out: a batch of an earlier turn does nothing
    records/         a line per task and change, a file per run of the renderer
    claims/TASK      the node that has the task now; touched while it is alive
    done/TASK        a task that is rendered, and at home in frames/
    unfit/NODE.txt   why a node takes no more batches of this job
    spent/PROCESS    what its work has cost so far, where the job has a cap
    capped-TURN      why a turn of handing out has stopped at the cap
    failing/NODE     frames in a row that failed there
    frames/, logs/, work/

Ends with 0 when there is nothing left to do here, with 3 when another node is to do it, with 1 when frames were lost.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import secrets
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import datetime, timezone
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING or __package__:
    from tidy_crate.core.farm.links.cluster.node_job import STALE, Claims, Job, Unfit, host, node_name
else:
    # on a node, from the folder that it is in
    from node_job import STALE, Claims, Job, Unfit, host, node_name

UNFIT = 3
TAIL = 2000
# seconds between two looks at the renderer
LOOK = 0.5
# seconds without a change after which the last file of a run is taken for whole
QUIET = 10.0
# seconds before the end of a renderer that failed, in which what it wrote last may be cut short
RECENT = 1.0
# seconds that a frame may still take when the job is paused
PAUSE = 120.0


class Batch:
    """The work on one batch."""

    def __init__(self, job: Job, name: str) -> None:
        self.job, self.name = job, name
        self.content = job.batch(name)
        self.claims = Claims(job)
        self.tries: dict[str, int] = {}
        """By task, runs in which it failed: in earlier visits too."""
        self.lost = 0
        self.barren = 0
        """Runs in a row without a frame: the second says that it is not the first frame that is at fault."""
        self.alone: set[str] = set()
        """Tasks at one of which the renderer ended: each is rendered by itself, which tells which it is."""
        for line in self._lines():
            if line["state"] == "failed":
                self.tries[key_of(line["task"])] = self.tries.get(key_of(line["task"]), 0) + 1

    def render(self) -> int:
        """Render what is left of it. Return the exit code."""
        try:
            while self.job.goes_on(self.content["turn"]):
                self.job.need_fit()
                left = [task for task in self.content["tasks"] if self._takes(task)]
                if left:
                    Run(self, self._next(left)).finish()
                elif any(self._is_open(task) for task in self.content["tasks"]):
                    # another process has them, or had them and is gone: then its claims are over soon
                    time.sleep(STALE / 20)
                else:
                    break
            return int(self.lost > 0)
        finally:
            self.claims.give_all_back()

    def _next(self, left: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """Return the tasks for the next run: what has failed comes last, so that it holds up no other frame."""

        def tries(task: dict[str, Any]) -> int:
            return self.tries.get(key_of(task["task"]), 0)

        least = min(map(tries, left))
        group = [task for task in left if tries(task) == least]
        together = [task for task in group if self.key(task) not in self.alone]
        return together or group[:1]

    def _is_open(self, task: dict[str, Any]) -> bool:
        tries, most = self.tries.get(key_of(task["task"]), 0), int(self.job.order["retries"])
        return not self.job.is_done(self.key(task)) and tries <= most

    def _takes(self, task: dict[str, Any]) -> bool:
        key = self.key(task)
        if not self._is_open(task) or not self.claims.take(key):
            return False
        if self.job.is_done(key):
            # another one has just rendered it
            self.claims.give_back(key)
            return False
        return True

    def key(self, task: dict[str, Any]) -> str:
        """Return the name of a task's files: of this order for it."""
        return f"{key_of(task['task'])}.{task['generation']}"

    def failed(self, task: dict[str, Any]) -> bool:
        """Count a failure. Return whether it was the last try."""
        key = key_of(task["task"])
        self.tries[key] = self.tries.get(key, 0) + 1
        self.job.failed_here()
        final = self.tries[key] > int(self.job.order["retries"])
        self.lost += final
        return final

    def _lines(self) -> Iterator[dict[str, Any]]:
        for path in sorted((self.job.folder / "records").glob(f"{self.name}-*.jsonl")):
            for line in path.read_bytes().splitlines():
                with contextlib.suppress(ValueError):
                    yield json.loads(line)


class Run:
    """One run of the renderer over tasks of a batch."""

    def __init__(self, batch: Batch, tasks: list[dict[str, Any]]) -> None:
        self.batch, self.job, self.left = batch, batch.job, tasks
        self.number = self._next_number()
        self.work = self.job.folder / "work" / f"{batch.name}-{self.number}-{secrets.token_hex(3)}"
        self.work.mkdir()
        self.log = self.job.folder / "logs" / f"{batch.name}-{self.number}.log"
        self.last = self.began = time.time()
        self.seen: dict[str, tuple[float, tuple[tuple[int, int], ...]]] = {}
        """By task, when its files last changed, and their sizes and times."""

    def finish(self) -> None:
        """Render, note each frame the moment it is whole, and what has failed."""
        code, why, count = STOPPED, "", len(self.left)
        try:
            for task in self.left:
                self._note(task, "rendering", began=self.began)
            code, why = self._render()
            self._take_whole(ended=code == 0, before=time.time() - RECENT)
        finally:
            # also where this process is told to end
            begun = [task for task in self.left if self._files(task) is not None]
            if code != STOPPED and count > 1:
                self.batch.barren = 0 if begun or len(self.left) < count else self.batch.barren + 1
            shutil.rmtree(self.work, ignore_errors=True)
            self._rest(code, why, begun)
            for task in self.left:
                self.batch.claims.give_back(self.batch.key(task))

    def _rest(self, code: int, why: str, begun: list[dict[str, Any]]) -> None:
        """Note what has become of the frames that were not rendered. begun: those with files that may be cut short."""
        if not self.left:
            return
        if code == STOPPED:
            for task in self.left:
                self._note(task, "waiting", began=None)
            return
        if code == 0 or self.batch.barren > 1:
            # the renderer has left them out, or it cannot start at all
            failed = list(self.left)
        elif begun and len(self.left) > 1:
            # it ended in the last one with a file, or in the next one
            failed = []
            untouched = [task for task in self.left if task not in begun]
            self.batch.alone |= {self.batch.key(task) for task in (*begun, *untouched[:1])}
        else:
            # it ended in the first one, and the others were not tried
            failed = self.left[:1]
        ended = time.time()
        if failed:
            self.job.spend(ended - self.last)
        for task in failed:
            final = self.batch.failed(task)
            self._note(task, "failed", began=self.last, ended=ended, error=why, log=self.log.name, final=final)
            # a second is counted once, however many frames it was lost for
            self.last = ended
        for task in [one for one in self.left if one not in failed]:
            self._note(task, "waiting", began=None)

    def _render(self) -> tuple[int, str]:
        order = self.job.order
        values = {
            **self.batch.content["values"], "frames": ranges(task["task"]["frame"] for task in self.left),
            "python": sys.executable, "output_folder": str(self.work),
        }  # fmt: skip
        line = [
            re.sub(r"\{([a-z_]*)\}", lambda match: values.get(match[1], match[0]), word) for word in order["command"]
        ]
        with self.log.open("wb") as out:
            try:
                process = _started(line, self.work, out)
            except OSError as error:
                out.write(f"{line[0]} cannot start ({error.strerror})\n".encode())
                return 127, f"{line[0]} cannot start ({error.strerror})"
            try:
                stopped = self._watch(process, order["seconds"])
            finally:
                end_all(process)
            if stopped is not None:
                out.write(f"\nended: {stopped[1]}\n".encode())
                return stopped
        said = self.log.read_bytes()[-TAIL:].decode("utf-8", "replace")
        return process.returncode, said or "the program left no frame"

    def _watch(self, process: subprocess.Popen[bytes], seconds: float) -> tuple[int, str] | None:
        """Note frames as they appear. Return why the renderer is to be ended; None where it has ended by itself."""
        paused_since = None
        while process.poll() is None:
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(LOOK)
            count = len(self.left)
            self._take_whole(ended=False)
            if not self.job.goes_on(self.batch.content["turn"]):
                paused_since = paused_since or time.time()
                done_one = len(self.left) < count
                if self.job.control().get("cancelled") or done_one or time.time() - paused_since > PAUSE:
                    return STOPPED, "the job was paused, cancelled or handed out anew"
            if time.time() - self.last > seconds:
                return 1, f"a frame took longer than {seconds:g} s"
        return None

    def _take_whole(self, *, ended: bool, before: float | None = None) -> None:
        """Bring home every frame whose files are whole: the renderer has ended well, gone on, or left them alone.

        before: what was last written before this time is whole too: the renderer ended in something else.
        """
        found = [(task, files) for task in self.left if (files := self._files(task)) is not None]
        written = [max(path.stat().st_mtime for path in files.values()) for _, files in found]
        for (task, files), own in zip(found, written):  # noqa: B905 - older nodes
            gone_on = any(other > own for other in written) or (before is not None and own < before)
            if ended or gone_on or self._quiet(task, files):
                self._bring_home(task, files)

    def _quiet(self, task: dict[str, Any], files: dict[str, Path]) -> bool:
        now = tuple((path.stat().st_size, path.stat().st_mtime_ns) for path in files.values())
        key = self.batch.key(task)
        if self.seen.get(key, (0.0, ()))[1] != now:
            self.seen[key] = (time.time(), now)
        return time.time() - self.seen[key][0] > QUIET

    def _files(self, task: dict[str, Any]) -> dict[str, Path] | None:
        """Return the files of a task by output; None while one is missing or empty."""
        found = {name: _found(self.work, path) for name, path in task["files"].items()}
        whole = all(path is not None and path.stat().st_size for path in found.values())
        return {name: path for name, path in found.items() if path is not None} if whole else None

    def _bring_home(self, task: dict[str, Any], files: dict[str, Path]) -> None:
        products = []
        ended = self.last
        if not (self.job.folder / "frames").is_dir():
            # nothing is made below a mount point that is not mounted
            raise Unfit(f"it does not see {self.job.folder} any more: the shared storage is gone")
        for name, path in task["files"].items():
            source, target = files[name], self.job.folder / "frames" / path
            ended = max(ended, min(source.stat().st_mtime, time.time()))
            target.parent.mkdir(parents=True, exist_ok=True)
            size, digest = source.stat().st_size, _digest(source)
            source.replace(target)
            products.append({"output": name, "path": path, "bytes": size, "blake3": digest})
        self._note(task, "done", began=self.last, ended=ended, products=products, log=self.log.name)
        (self.job.folder / "done" / self.batch.key(task)).write_text(host(), encoding="utf-8")
        self.batch.claims.give_back(self.batch.key(task))
        self.job.rendered_here()
        self.job.spend(ended - self.last)
        self.left.remove(task)
        self.last = ended

    def _next_number(self) -> int:
        """Return the number of this run: one more than those that were begun, also by a node that was lost."""
        number = int(self.batch.content["first"])
        while True:
            path = self.job.folder / "records" / f"{self.batch.name}-{number}.jsonl"
            try:
                os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
            except FileExistsError:
                number += 1
                continue
            return number

    def _note(self, task: dict[str, Any], state: str, **rest: Any) -> None:
        """Write down what has become of a task: a line, whole or not at all."""
        times = {name: _time(rest.pop(name)) for name in ("began", "ended") if rest.get(name) is not None}
        rest.pop("began", None)
        line = {"task": task["task"], "attempt": self.number, "state": state, "node": node_name(), **times, **rest}
        path = self.job.folder / "records" / f"{self.batch.name}-{self.number}.jsonl"
        with path.open("ab", buffering=0) as out:
            out.write(json.dumps(line).encode() + b"\n")


# the renderer was ended on purpose: its frames are handed back
STOPPED = -1000


def _started(line: list[str], folder: Path, out: Any) -> subprocess.Popen[bytes]:
    """Start the renderer in a session of its own; on Linux below a process that ends all that it starts."""
    words: dict[str, Any] = {"cwd": folder, "stdout": out, "stderr": subprocess.STDOUT, "stdin": subprocess.DEVNULL}
    supervisor = Path(__file__).with_name("supervise.py")
    if not sys.platform.startswith("linux") or not supervisor.is_file():
        return subprocess.Popen(line, start_new_session=True, **words)
    told, report = os.pipe()
    with os.fdopen(told, "rb") as reading:
        try:
            process = subprocess.Popen(
                [sys.executable, "-E", "-s", str(supervisor), str(os.getpid()), str(report), *line],
                start_new_session=True, pass_fds=(report,), **words,
            )  # fmt: skip
        finally:
            os.close(report)
        said = reading.read()
    if said:
        process.wait()
        raise OSError(int(said), os.strerror(int(said)), line[0])
    return process


def end_all(process: subprocess.Popen[bytes]) -> None:
    """End the renderer with all that it has started."""
    if process.poll() is None:
        process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(10)
    if hasattr(os, "killpg"):
        with contextlib.suppress(OSError):
            os.killpg(process.pid, signal.SIGKILL)
    if process.poll() is None:
        process.kill()
    process.wait()


def key_of(task: dict[str, Any]) -> str:
    """Return a file name for a task."""
    words = json.dumps([task["request"], task["view"], task["tile"], task["share"]])
    return f"{task['frame']}-{hashlib.sha256(words.encode()).hexdigest()[:12]}"


def ranges(numbers: Iterator[int]) -> str:
    """Return frame numbers as ranges, as in `1-10,15`.

    >>> ranges(iter([1, 2, 3, 7]))
    '1-3,7'
    """
    found: list[list[int]] = []
    for number in sorted(set(numbers)):
        if found and found[-1][1] == number - 1:
            found[-1][1] = number
        else:
            found.append([number, number])
    return ",".join(f"{first}" if first == last else f"{first}-{last}" for first, last in found)


def _found(work: Path, path: str) -> Path | None:
    """A file in its own folder, or anywhere below by its name."""
    own = work / path
    if own.is_file():
        return own
    hits = sorted(one for one in work.rglob(own.name.replace("[", "[[]")) if one.is_file())
    folder = own.parent.name
    return next(iter([one for one in hits if folder in one.parts] or hits), None)


def _digest(path: Path) -> str | None:
    """The BLAKE3 of a file, where this node has the library."""
    try:
        from blake3 import blake3
    except ImportError:
        return None
    found = blake3()
    with path.open("rb") as stream:
        while chunk := stream.read(1 << 20):
            found.update(chunk)
    return str(found.hexdigest())


def _time(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, timezone.utc).isoformat()  # noqa: UP017 - older nodes


def main() -> int:
    """Render a batch, or with `--show` say whether this node can do the order."""
    folder, name = Path(sys.argv[1]), sys.argv[2]
    if name == "--show":
        try:
            trouble = Job(folder).trouble()
        except (Unfit, OSError, ValueError) as error:
            trouble = str(error)
        sys.stdout.write(json.dumps({"trouble": trouble}))
        return 0
    # told to end, it ends the renderer first
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda told, _: sys.exit(128 + told))
    with contextlib.suppress(ImportError):
        from supervise import end_with_parent  # type: ignore[import-not-found]

        end_with_parent(signal.SIGTERM)
    try:
        names = [name]
        if name == "--row":
            names = json.loads(Path(sys.argv[3]).read_bytes())[int(sys.argv[4])]
        job = Job(folder)
        return max(Batch(job, one).render() for one in names)
    except Unfit as error:
        sys.stderr.write(f"{node_name()}: {error}\n")
        return UNFIT


if __name__ == "__main__":
    sys.exit(main())
