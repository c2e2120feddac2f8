"""The scheduler and its workers: meeting them, letting them show what they can, and handing batches over.

All talk with the scheduler is in a process of its own, see `scheduler_client`. From there comes plain JSON.
"""

from __future__ import annotations

import json
import subprocess
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.links.cluster.interface import Batches
from tidy_crate.core.process import own_helper

PORT = 8786
# seconds after which an order to the scheduler is given up
LIMIT = 60.0
# the same where workers run the renderer once, to show its version
SHOWING = 200.0
_LONGEST = 128 << 20


@dataclass(frozen=True)
class Certificates:
    """Files for an encrypted connection to a scheduler."""

    ca_file: Path
    """Certificates of the authority that scheduler and workers have theirs from."""
    certificate: Path
    """The user's own."""
    key: Path
    """Its private key."""


class Dask:
    """The Dask scheduler at an address: `dask://HOST:PORT`, or `dasks://HOST:PORT` where it is encrypted."""

    fulfils: frozenset[str] = frozenset()

    def __init__(self, url: str, certificates: Certificates | None = None, limit: float | None = None) -> None:
        """limit: seconds for an order, in place of the usual ones."""
        self._url = url
        self._certificates = certificates
        self._limit = limit

    def meet(self) -> str:
        """Meet scheduler and workers. Return how many there are, and as which accounts they render."""
        accounts = _texts(self._ask("meet"), self._url)
        names = ", ".join(sorted(set(accounts.values())))
        return f"{len(accounts)} workers of the same versions; they render as {names}"

    def show(self, line: Sequence[str]) -> list[str]:
        """Let every worker show that it can do an order. line: runs `on_node` for its job. Return those that can.

        Raises FarmError where none can, with what each one says.
        """
        said = _texts(self._ask("show", {"line": [*line, "--show"]}, SHOWING), self._url)
        able = [address for address, trouble in said.items() if not trouble]
        if able:
            return able
        trouble = [f"{address}: {one}"[:300] for address, one in said.items()]
        raise FarmError("no worker can render it: " + "; ".join(trouble[:5]), self._url, "see what each of them says")

    def begin(self, batches: Batches) -> None:
        """Hand batches to the scheduler, which keeps them when we go.

        Raises FarmError where no worker can do it.
        """
        able = self.show(batches.line)[: batches.most]
        words = {
            "line": list(batches.line), "batches": list(batches.names), "job": batches.job, "rank": batches.rank,
            "able": able,
        }  # fmt: skip
        self._ask("begin", words)

    def judge(self, version: str, pieces: Iterable[list[dict[str, Any]]]) -> Iterator[dict[str, Any]]:
        """Let workers judge pieces of a review. Yield an answer for each, in order: see `on_worker.judge`.

        No more are handed out than keep every worker busy. The engine itself repeats what a lost worker had.
        """
        with self._talking("judge", {"version": version}) as talk:
            most = talk.answer(self._limit or LIMIT)
            if not isinstance(most, int):
                raise _strange(self._url)
            waiting = 0
            for piece in pieces:
                talk.say(piece)
                waiting += 1
                if waiting >= most:
                    yield _judged(talk.answer(None), self._url)
                    waiting -= 1
            talk.end()
            for _ in range(waiting):
                yield _judged(talk.answer(None), self._url)

    def under_way(self, job: str) -> int:
        """Return how many batches of a job the scheduler still means to run."""
        found = self._ask("under_way", {"job": job})
        if not isinstance(found, int):
            raise _strange(self._url)
        return found

    def cancel(self, job: str) -> None:
        """See Engine.cancel. Batches end by themselves: nodes look at the job's control file before each frame."""

    def why(self, job: str) -> str:
        """See Engine.why: workers note on the shared storage what they find."""
        return ""

    def _ask(self, do: str, order: Mapping[str, Any] | None = None, limit: float = LIMIT) -> Any:
        with self._talking(do, order or {}) as talk:
            talk.end()
            return talk.answer(self._limit or limit)

    @contextmanager
    def _talking(self, do: str, order: Mapping[str, Any]) -> Iterator[_Talk]:
        """A process that carries out an order. Raises FarmError without the certificates that the address needs."""
        parts = urlsplit(self._url)
        known = self._certificates
        if parts.scheme == "dasks" and known is None:
            remedy = "add [scheduler] with ca_file, certificate and key to your config.toml"
            raise FarmError("the scheduler is reached by certificates, and none are known", self._url, remedy)
        tls = None
        if known is not None and parts.scheme == "dasks":
            tls = {"ca_file": str(known.ca_file), "certificate": str(known.certificate), "key": str(known.key)}
            for path in (known.ca_file, known.certificate, known.key):
                if not path.is_file():
                    remedy = "correct [scheduler] in your config.toml"
                    raise FarmError("there is no such file for signing in to the scheduler", path, remedy)
        line, environment = own_helper("tidy_crate.core.farm.links.cluster.scheduler_client")
        process = subprocess.Popen(
            line, env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )
        talk = _Talk(process, self._url)
        try:
            talk.say({"do": do, "host": parts.hostname, "port": parts.port or PORT, "tls": tls, **order})
            yield talk
        finally:
            process.kill()
            talk.end()
            process.wait()
            assert process.stdout is not None
            process.stdout.close()


class _Talk:
    """Lines to and from the process."""

    def __init__(self, process: subprocess.Popen[bytes], url: str) -> None:
        self._process = process
        self._url = url

    def say(self, what: object) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(what).encode() + b"\n")
            self._process.stdin.flush()
        except OSError:
            return  # it has ended, and its last line says why

    def end(self) -> None:
        """Say no more."""
        assert self._process.stdin is not None
        try:
            self._process.stdin.close()
        except OSError:
            return

    def answer(self, limit: float | None) -> Any:
        """Return the next answer. limit: in seconds, None for the time that workers take. Raises FarmError."""
        assert self._process.stdout is not None
        late = threading.Event()

        def give_up() -> None:
            late.set()
            self._process.kill()

        timer = threading.Timer(limit, give_up) if limit is not None else None
        if timer is not None:
            timer.start()
        try:
            line = self._process.stdout.readline(_LONGEST)
        finally:
            if timer is not None:
                timer.cancel()
        if not line.endswith(b"\n"):
            if late.is_set():
                what = f"the scheduler does not answer within {limit:g} s"
                raise FarmBusy(what, self._url, "check what runs at this address; run the command again")
            raise _strange(self._url)
        said = json.loads(line)
        if "error" in said:
            kind, what, remedy = said["error"]
            raise (FarmBusy if kind == "busy" else FarmError)(what, self._url, remedy)
        return said["answer"]


def _strange(url: str) -> FarmError:
    what = "what answers at this address made the process that talks to it end"
    return FarmError(what, url, "check that it is a scheduler that you trust")


def _texts(found: object, url: str) -> dict[str, str]:
    if isinstance(found, dict) and all(isinstance(one, str) for one in found.values()):
        return found
    raise FarmError("a worker answers something else than it was asked", url, "start the workers anew")


def _judged(found: object, url: str) -> dict[str, Any]:
    if isinstance(found, dict) and {"worker", "trouble"} <= found.keys():
        return found
    raise FarmError("a worker answers something else than it was asked", url, "start the workers anew")
