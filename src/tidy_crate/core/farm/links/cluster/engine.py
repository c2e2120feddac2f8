"""The scheduler and its workers: meeting them, letting them show what they can, and handing batches over."""

from __future__ import annotations

import socket
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmBusy, FarmError

if TYPE_CHECKING:
    from distributed import Client

SECONDS = 20.0
# pieces for each thread of a worker that are handed out before their turn
AHEAD = 3
# workers that may be lost over one piece
RETRIES = 3


class Engine:
    """The Dask scheduler at an address."""

    def __init__(self, url: str) -> None:
        self._url = url

    def meet(self) -> str:
        """Meet scheduler and workers. Return how many there are, and as which accounts they render."""
        from tidy_crate.core.farm.links.cluster import on_worker

        with self._client() as client:
            accounts: dict[str, str] = client.run(on_worker.who)
            self._need_workers(accounts)
            names = ", ".join(sorted(set(accounts.values())))
            return f"{len(accounts)} workers of the same versions; they render as {names}"

    def show(self, given: dict[str, Any]) -> None:
        """Let every worker show that it can do an order. Raises FarmError where none can, with what each one says."""
        with self._client() as client:
            self._shown(client, given)

    def begin(self, given: dict[str, Any], batches: Sequence[dict[str, Any]], job: str, first: int, rank: int) -> None:
        """Hand batches to the scheduler, which keeps them when we go. first: number of the attempt. rank: of the job.

        Raises FarmError where no worker can do it.
        """
        from distributed import fire_and_forget

        from tidy_crate.core.farm.links.cluster import on_worker

        with self._client() as client:
            self._shown(client, given)
            for number, batch in enumerate(batches):
                future = client.submit(
                    on_worker.run_batch, given, batch, key=f"{job}/{batch['name']}/{first}", pure=False,
                    retries=given["retries"], priority=1000 * rank - number,
                )  # fmt: skip
                fire_and_forget(future)  # type: ignore[no-untyped-call]
            # what was submitted must be there before we go
            client.run_on_scheduler(on_worker.worker_name)  # type: ignore[no-untyped-call]

    def judge(self, version: str, pieces: Iterable[list[dict[str, Any]]]) -> Iterator[dict[str, Any]]:
        """Let workers judge pieces of a review. Yield an answer for each, in order: see `on_worker.judge`.

        No more are handed out than keep every worker busy. The engine itself repeats what a lost worker had.
        """
        from tidy_crate.core.farm.links.cluster import on_worker

        with self._client() as client:
            threads: dict[str, int] = client.nthreads()  # type: ignore[no-untyped-call]
            self._need_workers(threads)
            most = AHEAD * sum(threads.values())
            waiting: deque[Any] = deque()
            for piece in pieces:
                waiting.append(client.submit(on_worker.judge, version, piece, pure=False, retries=RETRIES))
                if len(waiting) >= most:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()

    def under_way(self, job: str) -> int:
        """Return how many batches of a job the scheduler still means to run."""
        from tidy_crate.core.farm.links.cluster import on_worker

        with self._client() as client:
            return int(client.run_on_scheduler(on_worker.batches_under_way, job))  # type: ignore[no-untyped-call]

    def _shown(self, client: Client, given: dict[str, Any]) -> None:
        from tidy_crate.core.farm.links.cluster import on_worker

        answers: dict[str, Any] = client.run(on_worker.show, given, on_error="return")
        self._need_workers(answers)
        trouble = []
        for address, one in answers.items():
            said = one.get("trouble") if isinstance(one, dict) else f"{type(one).__name__}: {one}"
            if not said:
                return
            trouble.append(f"{address}: {said}"[:300])
        raise FarmError("no worker can render it: " + "; ".join(trouble[:5]), self._url, "see what each of them says")

    def _need_workers(self, answers: Mapping[str, object]) -> None:
        if not answers:
            raise FarmError("the scheduler has no workers", self._url, "start some, then send again")

    @contextmanager
    def _client(self) -> Iterator[Client]:
        """A connection to the scheduler. Raises FarmError for one of another version, FarmBusy where none answers."""
        try:
            import cloudpickle
            from distributed import Client

            from tidy_crate.core.farm.links.cluster import on_worker
        except ModuleNotFoundError as error:
            what = f"what reaches a Dask scheduler is not installed ({error.name})"
            raise FarmError(what, self._url, "install it: pip install distributed") from error
        # workers need nothing of this package
        cloudpickle.register_pickle_by_value(on_worker)
        parts = urlsplit(self._url)
        address = f"tcp://{parts.hostname}:{parts.port or 8786}"
        try:
            # the engine itself tries again and again where nothing listens
            socket.create_connection((parts.hostname, parts.port or 8786), SECONDS).close()
            client = Client(address, timeout=SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, TimeoutError) as error:
            what = f"the scheduler cannot be reached ({' '.join(str(error).split())[:160]})"
            raise FarmBusy(what, self._url, "check that it runs and that the address is right") from error
        try:
            self._need_versions(client)
            yield client
        except (OSError, TimeoutError) as error:
            what = f"the scheduler has gone away ({' '.join(str(error).split())[:160]})"
            raise FarmBusy(what, self._url, "run the command again") from error
        finally:
            client.close(timeout=SECONDS)  # type: ignore[no-untyped-call]

    def _need_versions(self, client: Client) -> None:
        """Raise FarmError where workers or scheduler have another version of the engine, or of Python, than we."""
        found: Any = client.get_versions()
        own = versions(found["client"])
        others = {"the scheduler": versions(found["scheduler"])}
        others |= {f"worker {name}": versions(one) for name, one in found["workers"].items()}
        for name, theirs in others.items():
            if theirs != own:
                what = f"{name} has {theirs}, this machine has {own}"
                raise FarmError(what, self._url, "install the same versions everywhere")


def versions(found: dict[str, Any]) -> str:
    """Return the versions that have to agree, as text. found: of one machine, as the engine tells them."""
    host = dict(found.get("host") or {})
    packages = dict(found.get("packages") or {})
    python = ".".join(str(host.get("python", packages.get("python", "?"))).split(".")[:2])
    return f"Python {python}, distributed {packages.get('distributed', '?')}"
