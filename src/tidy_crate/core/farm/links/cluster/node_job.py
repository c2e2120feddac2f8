"""A job on shared storage as a node sees it, and the tasks that a process on it has. See `on_node`."""

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
import threading
from pathlib import Path
from typing import Any

# seconds between two touches of a claim of one's own, and after which a claim of another counts no more
TOUCH, STALE = 10.0, 60.0
# frames in a row that may fail on a node while others render theirs
MOST_FAILING = 5
# bytes that have to be free where frames are written
LEAST_FREE = 256 << 20


class Unfit(Exception):
    """This node cannot do the order. Its text says why, in plain words."""


def host() -> str:
    """Return the name of this machine, as its scheduler calls it."""
    name = os.environ.get("SLURMD_NODENAME") or socket.gethostname()
    return re.sub(r"[^\w.-]", "_", name)[:100] or "node"


def node_name() -> str:
    """Return the name under which this node's work is noted: its machine and process."""
    return f"{host()}-{os.getpid()}"


def account() -> str:
    """Return the account that this node renders as."""
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return f"user {os.getuid()}" if hasattr(os, "getuid") else "unknown"


class Job:
    """A job's folder on the shared storage."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        if not (folder / "order.json").is_file():
            # nothing is made below a mount point that is not mounted
            raise Unfit(f"it does not see {folder}: the shared storage is not mounted there")
        self.order: dict[str, Any] = json.loads((folder / "node-order.json").read_bytes())
        self.spent = 0.0
        """Cost of the work of this process so far, where the job has a cap."""

    def batch(self, name: str) -> dict[str, Any]:
        """Return the tasks of a batch."""
        found: dict[str, Any] = json.loads((self.folder / "batches" / f"{name}.json").read_bytes())
        return found

    def control(self) -> dict[str, Any]:
        """Return what the wrangler has told the job since."""
        try:
            found = json.loads((self.folder / "control.json").read_bytes())
        except (OSError, ValueError):
            return {}
        return found if isinstance(found, dict) else {}

    def goes_on(self, turn: int) -> bool:
        """Return whether batches of a turn of handing out are still to be rendered."""
        told = self.control()
        if told.get("cancelled") or told.get("paused") or told.get("turn", turn) != turn:
            return False
        return self.order.get("cap") is None or not (self.folder / f"capped-{turn}").exists()

    def spend(self, seconds: float) -> None:
        """Count seconds of this node for a job with a cap. No frame begins that would cost more, by the last one."""
        cap = self.order.get("cap")
        if cap is None:
            return
        price = next((one for like, one in self.order["prices"] if is_like(host(), like)), self.order["price"])
        cost = max(0.0, seconds) * price / 3600
        self.spent += cost
        folder = self.folder / "spent"
        with contextlib.suppress(OSError):
            (folder / node_name()).write_text(repr(self.spent), encoding="ascii")
            total = 0.0
            for path in folder.iterdir():
                # another node may be writing its own
                with contextlib.suppress(OSError, ValueError):
                    total += float(path.read_text(encoding="ascii"))
            if total + cost > cap:
                why = f"the next frame would cost more than its cap of {cap:g}: {total:.2f} is spent"
                (self.folder / f"capped-{self.control().get('turn', 0)}").write_text(why, encoding="utf-8")

    def is_done(self, key: str) -> bool:
        """Return whether a task is rendered."""
        return (self.folder / "done" / key).exists()

    def need_fit(self) -> None:
        """Raise Unfit where this node cannot do the order, or was left out of it."""
        with contextlib.suppress(OSError):
            raise Unfit((self.folder / "unfit" / f"{host()}.txt").read_text(encoding="utf-8")[:500])
        trouble = self.trouble()
        if trouble:
            self.leave_out(trouble)
            raise Unfit(trouble)

    def leave_out(self, why: str) -> None:
        """Note why this node takes no more batches of this job."""
        with contextlib.suppress(OSError):
            (self.folder / "unfit").mkdir(exist_ok=True)
            (self.folder / "unfit" / f"{host()}.txt").write_text(why, encoding="utf-8")

    def trouble(self) -> str:
        """Return why this node cannot do it, in plain words; empty where it can."""
        order = self.order
        hosts, memory = order["hosts"], order["memory_gb"]
        if hosts and not any(is_like(host(), one) for one in hosts):
            return f"{host()} is not of the class that was ordered ({', '.join(hosts)[:100]})"
        here = _memory_gb()
        if memory is not None and here is not None and here < memory:
            return f"it has {here:.1f} GiB of memory, and {memory:g} GiB are ordered"
        scene = Path(order["crate"], order["scene"])
        try:
            with scene.open("rb") as stream:
                if os.fstat(stream.fileno()).st_size != order["scene_bytes"]:
                    return f"it sees another scene at {scene}"
                stream.read(1)
        except OSError as error:
            return f"it cannot read the crate as {account()} ({error.strerror}: {scene})"
        frames = self.folder / "frames"
        probe = frames / f".may-{secrets.token_hex(6)}"
        try:
            probe.write_bytes(b"may this be written?")
            probe.unlink()
            if shutil.disk_usage(frames).free < LEAST_FREE:
                return f"there is no room left for frames ({frames})"
        except OSError as error:
            return f"it cannot write frames as {account()} ({error.strerror}: {frames})"
        return self._wrong_version()

    def _wrong_version(self) -> str:
        line, wanted = self.order["version_command"], self.order["version"]
        if not line:
            return ""
        try:
            done = subprocess.run(line, capture_output=True, timeout=120, check=False, stdin=subprocess.DEVNULL)
        except (OSError, subprocess.SubprocessError) as error:
            return f"it has no {line[0]} ({error})"
        said = (done.stdout + done.stderr).decode("utf-8", "replace")
        if wanted and not speaks_of(said, wanted):
            return f"it has another version than {wanted}: {' '.join(said.split())[:120]}"
        return ""

    def failed_here(self) -> None:
        """Count a frame that failed, and leave this node out when too many in a row did while others render theirs."""
        path = self.folder / "failing" / host()
        with contextlib.suppress(OSError):
            path.parent.mkdir(exist_ok=True)
            with path.open("ab") as out:
                out.write(b"x")
            if path.stat().st_size >= MOST_FAILING and self._others_render():
                self.leave_out(f"{path.stat().st_size} frames in a row failed on it, while others render theirs")

    def rendered_here(self) -> None:
        """Count anew: a frame was rendered."""
        with contextlib.suppress(OSError):
            (self.folder / "failing" / host()).unlink()

    def _others_render(self) -> bool:
        return any(path.read_text(encoding="utf-8") != host() for path in (self.folder / "done").iterdir())


class Claims:
    """The tasks that this process has: a file for each, touched for as long as it lives."""

    def __init__(self, job: Job) -> None:
        self._folder = job.folder / "claims"
        self._own: set[Path] = set()
        self._end = threading.Event()
        threading.Thread(target=self._touch, daemon=True).start()

    def take(self, key: str) -> bool:
        """Take a task, unless another process has it and is alive."""
        path = self._folder / key
        if path in self._own:
            return True
        for _ in range(2):
            try:
                handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
            except FileExistsError:
                if not self._left(path):
                    return False
                continue
            os.write(handle, node_name().encode())
            os.close(handle)
            self._own.add(path)
            return True
        return False

    def give_back(self, key: str) -> None:
        """Have a task no more."""
        self._own.discard(self._folder / key)
        with contextlib.suppress(OSError):
            (self._folder / key).unlink()

    def give_all_back(self) -> None:
        """Have none any more."""
        self._end.set()
        for path in list(self._own):
            self.give_back(path.name)

    def _left(self, path: Path) -> bool:
        """Return whether a claim was left behind; then it is gone. One process alone can take it away."""
        try:
            # by the storage's own clock: machines' clocks differ
            if self._now() - path.stat().st_mtime < STALE:
                return False
            path.rename(path.with_name(f".{path.name}-{secrets.token_hex(4)}"))
        except FileNotFoundError:
            return True
        return True

    def _now(self) -> float:
        probe = self._folder / f".now-{secrets.token_hex(6)}"
        probe.touch()
        found = probe.stat().st_mtime
        probe.unlink()
        return found

    def _touch(self) -> None:
        while not self._end.wait(TOUCH):
            for path in list(self._own):
                with contextlib.suppress(OSError):
                    os.utime(path)


def is_like(text: str, wildcard: str) -> bool:
    """Return whether a text matches another one, in which `*` stands for any letters and `?` for one.

    >>> is_like("rack-07", "rack-*"), is_like("rack-07", "rack-?")
    (True, False)
    """
    at = star = -1
    here = there = 0
    while here < len(text):
        if there < len(wildcard) and wildcard[there] == "*":
            star, at = there, here
            there += 1
        elif there < len(wildcard) and wildcard[there] in ("?", text[here]):
            here, there = here + 1, there + 1
        elif star >= 0:
            # the star takes one letter more
            at += 1
            here, there = at, star + 1
        else:
            return False
    return not wildcard[there:].strip("*")


def speaks_of(said: str, version: str) -> bool:
    """Return whether a text names a version, and not a longer one that holds it.

    >>> speaks_of("brush 1.4, built today", "1.4"), speaks_of("brush 1.42", "1.4"), speaks_of("brush 11.4", "1.4")
    (True, False, False)
    """
    at = said.find(version)
    while at >= 0:
        before, after = said[max(0, at - 1) : at], said[at + len(version) : at + len(version) + 1]
        if not (before.isdigit() or before == "." or after.isdigit()):
            return True
        at = said.find(version, at + 1)
    return False


def _memory_gb() -> float | None:
    """Return this machine's memory in GiB, None where it does not say."""
    try:
        return float(os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") / 2**30)
    except (AttributeError, ValueError, OSError):
        return None
