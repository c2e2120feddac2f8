"""The process that talks to a Dask scheduler: `python -m tidy_crate.core.farm.links.cluster.scheduler_client`.

The engine's protocol hands Python objects around, and unpacking such an object can run any code. Whoever answers at a
scheduler's port would run code here. So this process alone talks to it: it takes plain data only, it can read nothing
of the user and write nothing, and it is ended when it takes too long. It reads an order as JSON from each line of its
input, and writes an answer as JSON for each.
"""

from __future__ import annotations

import builtins
import importlib
import io
import json
import pickle
import re
import socket
import sys
from collections import deque
from collections.abc import Iterator, Mapping
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from tidy_crate.core.farm.links.cluster import on_worker
from tidy_crate.core.process import end_with_caller

# seconds for reaching a scheduler
SECONDS = 20.0
# pieces for each thread of a worker that are handed out before their turn
AHEAD = 3
# workers that may be lost over one piece
RETRIES = 3
# bytes that this process may take: a length that a stranger sends would else be asked of the machine
MOST_MEMORY = 8 << 30
# characters of one worker's answer, and of an answer about frames
MOST_TEXT, MOST_JUDGED = 1 << 16, 64 << 20


class Trouble(Exception):
    """An order that could not be carried out. kind: `busy` where trying again may help, else `farm`."""

    def __init__(self, kind: str, what: str, remedy: str) -> None:
        super().__init__(what)
        self.kind, self.what, self.remedy = kind, what, remedy


class _Inert:
    """Stands for every object that is no plain data: it takes whatever is done to it, and does nothing."""

    def __new__(cls, *_: object, **__: object) -> _Inert:
        return super().__new__(cls)

    def __init__(self, *_: object, **__: object) -> None:
        pass

    def __call__(self, *_: object, **__: object) -> None:
        return None

    def __setstate__(self, _: object) -> None:
        pass

    def __setitem__(self, _: object, __: object) -> None:
        pass

    def append(self, _: object) -> None:
        """Take an element."""

    def extend(self, _: object) -> None:
        """Take elements."""


class ForeignError(Exception):
    """Stands for an error of a class that is not Python's own."""

    def __init__(self, *words: object, **_: object) -> None:
        super().__init__(*words)

    def __setstate__(self, _: object) -> None:
        pass


def _error(kind: object, words: object, *_: object) -> Exception:
    """Make an error as `tblib` packs it, with its words and without its traceback and other attributes.

    words: or attributes, of which `args` are the words.
    """
    words = words.get("args") if isinstance(words, dict) else words
    known = kind if isinstance(kind, type) and issubclass(kind, Exception) else ForeignError
    try:
        return known(*words) if isinstance(words, tuple) else known()
    except Exception:  # noqa: BLE001 - words that its kind does not take
        return ForeignError(words)


class _PlainData(pickle.Unpickler):
    """Unpacks plain data, and errors of Python's own; everything else becomes inert."""

    def find_class(self, module: str, name: str) -> Any:
        """See pickle.Unpickler: it decides what may be made or called."""
        if module == "builtins" and name.isidentifier():
            found = getattr(builtins, name, None)
            if isinstance(found, type) and issubclass(found, Exception):
                return found
        if module == "tblib.pickling_support" and name.startswith("unpickle_exception"):
            return _error
        if name.endswith(("Error", "Exception")):
            return ForeignError
        # a traceback is called for and taken as none
        return _Inert() if "traceback" in name else _Inert

    def persistent_load(self, _: object) -> Any:
        """See pickle.Unpickler."""
        return _Inert()


def plain(data: Any, *, buffers: Any = ()) -> Any:
    """Unpack a pickle without running anything of it."""
    return _PlainData(io.BytesIO(data), buffers=buffers or ()).load()


def take_plain_data_only() -> None:
    """Let the engine's library unpack plain data only, everywhere in this process."""
    client = _library("distributed.client")
    _library("distributed.protocol.pickle").loads = client.loads = plain
    # it has the module itself too
    client.pickle = SimpleNamespace(loads=plain, dumps=pickle.dumps)


def _library(name: str) -> Any:
    """A module of the engine, which has no types."""
    return importlib.import_module(name)


class Conversation:
    """An open connection to a scheduler."""

    def __init__(self, order: Mapping[str, Any]) -> None:
        host, port, tls = order["host"], order["port"], order["tls"]
        try:
            # the engine itself tries again and again where nothing listens
            socket.create_connection((host, port), SECONDS).close()
            security = _library("distributed.security").Security(
                require_encryption=True, tls_ca_file=tls["ca_file"], tls_client_cert=tls["certificate"],
                tls_client_key=tls["key"],
            ) if tls else None  # fmt: skip
            address = f"{'tls' if tls else 'tcp'}://{f'[{host}]' if ':' in host else host}:{port}"
            self.client: Any = _library("distributed").Client(
                address, timeout=SECONDS, set_as_default=False, security=security
            )
        except (OSError, TimeoutError, ValueError) as error:
            remedy = "check that it runs, and that address and certificates are right"
            raise Trouble("busy", f"the scheduler cannot be reached ({_short(error)})", remedy) from error
        self._need_versions(self.client)

    def meet(self, _: Mapping[str, Any]) -> Any:
        """Return the account of each worker, by its address."""
        return self._ask_workers("who", [])

    def show(self, order: Mapping[str, Any]) -> Any:
        """Return what each worker says about an order, by its address: empty where it can do it."""
        return {address: one["trouble"] for address, one in self._ask_workers("show", [order["line"]]).items()}

    def begin(self, order: Mapping[str, Any]) -> Any:
        """Hand batches to the scheduler, which keeps them when we go. Only workers that can do it get them."""
        job, able = order["job"], order["able"]
        for number, name in enumerate(order["batches"]):
            future = self.client.submit(
                on_worker.run_batch, [*order["line"], name], key=f"{job}/{name}", pure=False,
                workers=able, retries=RETRIES, priority=1000 * order["rank"] - number,
            )  # fmt: skip
            _library("distributed").fire_and_forget(future)
        # what was submitted must be there before we go
        self.client.run_on_scheduler(on_worker.batches_under_way, job)
        return len(order["batches"])

    def under_way(self, order: Mapping[str, Any]) -> Any:
        """Return how many batches of a job the scheduler still means to run."""
        return _number(self.client.run_on_scheduler(on_worker.batches_under_way, order["job"]))

    def judge(self, order: Mapping[str, Any], pieces: Iterator[Any]) -> Iterator[Any]:
        """Let workers judge pieces of a review. Yield what is handed out at once, then an answer for each, in order."""
        threads = self.client.nthreads()
        most = AHEAD * sum(map(_number, threads.values()))
        if not threads:
            raise Trouble("farm", "the scheduler has no workers", "start some, then review again")
        yield most
        waiting: deque[Any] = deque()
        for piece in pieces:
            words = json.dumps([order["version"], piece])
            waiting.append(self.client.submit(on_worker.in_words, "judge", words, pure=False, retries=RETRIES))
            if len(waiting) >= most:
                yield _words(waiting.popleft().result(), MOST_JUDGED)
        while waiting:
            yield _words(waiting.popleft().result(), MOST_JUDGED)

    def _ask_workers(self, do: str, given: list[Any]) -> dict[str, Any]:
        answers: Any = self.client.run(on_worker.in_words, do, json.dumps(given), on_error="return")
        if not isinstance(answers, dict) or not answers:
            # after a restart, they take a while to find it
            raise Trouble("busy", "the scheduler has no workers", "start some; then it goes on")
        found = {}
        for address, one in answers.items():
            if isinstance(one, BaseException):
                if do != "show":
                    raise Trouble("farm", f"worker {address} failed ({_short(one)})", "look at its log")
                found[str(address)[:200]] = {"trouble": _short(one)}
                continue
            found[str(address)[:200]] = _words(one, MOST_TEXT)
        return found

    @staticmethod
    def _need_versions(client: Any) -> None:
        """Raise Trouble where workers or scheduler have another version of the engine, or of Python, than we."""
        found: Any = client.get_versions()
        own = versions(found["client"])
        others = {"the scheduler": versions(found["scheduler"])}
        others |= {f"worker {name}": versions(one) for name, one in found["workers"].items()}
        for name, theirs in others.items():
            if theirs != own:
                raise Trouble(
                    "farm", f"{name} has {theirs}, this machine has {own}", "install the same versions everywhere"
                )


def versions(found: dict[str, Any]) -> str:
    """Return the versions that have to agree, as text. found: of one machine, as the engine tells them."""
    host = dict(found.get("host") or {})
    packages = dict(found.get("packages") or {})
    python = ".".join(str(host.get("python", packages.get("python", "?"))).split(".")[:2])
    return f"Python {python}, distributed {packages.get('distributed', '?')}"[:200]


def _words(text: object, most: int) -> Any:
    """Return what a worker said as JSON. Raises Trouble for anything else."""
    if isinstance(text, str) and len(text) <= most:
        try:
            return json.loads(text)
        except (ValueError, RecursionError):
            pass
    what = "a worker answers something else than plain text, so what runs there is not what was handed out"
    raise Trouble("farm", what, "start its workers anew, from an installation that you trust")


def _number(found: object) -> int:
    if isinstance(found, int) and 0 <= found < 1 << 31:
        return found
    raise Trouble("farm", "the scheduler answers something else than a number", "check what runs at this address")


def _short(error: BaseException) -> str:
    return re.sub(r"\s+", " ", f"{type(error).__name__}: {error}")[:160]


def sandbox(tls: Mapping[str, str] | None) -> None:
    """Read the system's libraries and the certificates only, and write nothing, where the kernel can enforce it."""
    from tidy_crate.core.crate.confine import confine, runtime_folders
    from tidy_crate.core.crate.isolate import HARMLESS

    try:
        import resource

        hard = resource.getrlimit(resource.RLIMIT_AS)[1]
        most = MOST_MEMORY if hard == resource.RLIM_INFINITY else min(MOST_MEMORY, hard)
        resource.setrlimit(resource.RLIMIT_AS, (most, hard))
    except (ImportError, ValueError, OSError):
        pass
    confine([*runtime_folders(sees_processes=True), *map(Path, (tls or {}).values())], HARMLESS, tcp=True)


def answers(order: Mapping[str, Any]) -> Iterator[Any]:
    """Carry out an order. Yield its answers: one, except for `judge`."""
    talk = Conversation(order)
    if order["do"] == "judge":
        pieces = iter(lambda: json.loads(sys.stdin.readline() or "null"), None)
        yield from talk.judge(order, pieces)
        return
    found = getattr(talk, order["do"])(order)
    # what was handed over is on its way until the connection is closed; this process ends with its answer
    talk.client.close(timeout=SECONDS)
    yield found


def main() -> None:
    """Carry out the order on the first line of the input."""
    end_with_caller()
    out = sys.stdout
    sys.stdout = sys.stderr
    order = json.loads(sys.stdin.readline())

    def tell(said: object) -> None:
        out.write(json.dumps(said) + "\n")
        out.flush()

    try:
        cloudpickle = _library("cloudpickle")
        _library("distributed")
    except ModuleNotFoundError as error:
        what = f"what reaches a Dask scheduler is not installed ({error.name})"
        tell({"error": ["farm", what, "install it: pip install distributed"]})
        return
    take_plain_data_only()
    sandbox(order["tls"])
    # workers need nothing of this package
    cloudpickle.register_pickle_by_value(on_worker)
    try:
        for one in answers(order):
            tell({"answer": one})
    except Trouble as error:
        tell({"error": [error.kind, error.what, error.remedy]})
    except (OSError, TimeoutError) as error:
        tell({"error": ["busy", f"the scheduler has gone away ({_short(error)})", "run the command again"]})
    except Exception as error:  # noqa: BLE001 - whatever a stranger's answer makes the library do
        what = f"what answers at this address is no scheduler of this version ({_short(error)})"
        tell({"error": ["farm", what, "check the address, and that the same versions are installed everywhere"]})


if __name__ == "__main__":
    main()
