"""Reaching a farm by HTTP with JSON (docs/farm-protocol.md)."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel, ValidationError
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink, Moved, needed
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import (
    OLDEST,
    VERSION,
    Account,
    Action,
    Blob,
    BlobList,
    Capability,
    Changes,
    ControlOrder,
    FarmQuote,
    Hello,
    JobOrder,
    JobSummary,
    Registered,
    Submitted,
    TaskPage,
)
from tidy_crate.core.files import CHUNK
from tidy_crate.core.work.attempt import Product

ATTEMPTS = 5
ASK_ABOUT = 5000
M = TypeVar("M", bound=BaseModel)


# a shorter text is part of too many words to be taken out of a message
SHORTEST_TOKEN = 8


class _Passing(Exception):
    """A failure that may not happen again."""

    def __init__(self, what: str) -> None:
        self.what = what
        super().__init__(what)


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to the farm at a card's http or https address. See registry.Opener."""
    return HttpFarm(card.name, card.url, token()).link()


class HttpFarm:
    """A farm at a URL.

    transport: replaces the network in tests. patience: seconds before a failed request is sent again, doubled each
    time.
    """

    actions = frozenset(Action)

    def __init__(
        self,
        name: str,
        url: str,
        token: str,
        transport: httpx.BaseTransport | None = None,
        patience: float = 0.2,
    ) -> None:
        self.name = name
        self.url = url
        self._token = token
        self._patience = patience
        self._agreed: Hello | None = None
        self._client = httpx.Client(
            base_url=url,
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(60, connect=5),
            transport=transport,
            # a proxy of the environment has no business between this machine and the farm's own address
            trust_env=not url.startswith(("http://127.", "http://localhost", "http://[::1]")),
        )

    def link(self) -> FarmLink:
        """The farm as a link with every capability of the protocol. What it offers is asked when it is used."""
        return FarmLink(self.name, self, self, self, self, self, self, self, self.close)

    def hello(self) -> Hello:
        """Greet the farm once, and agree on a version of the protocol.

        Raises FarmError when the farm and this tool have no version in common.
        """
        if self._agreed is None:
            found = self._model(Hello, "GET", "/hello")
            if not (found.oldest <= VERSION and found.protocol >= OLDEST):
                newer = found.oldest > VERSION
                raise FarmError(
                    f"the farm speaks the protocol in version {found.oldest} to {found.protocol}, "
                    f"this tool in {OLDEST} to {VERSION}",
                    self.name,
                    "install a newer tidy-crate" if newer else "ask the farm for an update",
                )
            self._agreed = found
        return self._agreed

    def account(self) -> Account:
        """See Accounting.account."""
        return self._model(Account, "GET", "/v2/account", of=Capability.ACCOUNT)

    def missing(self, blobs: Iterable[Blob]) -> set[str]:
        """See Delivering.missing."""
        every, lacking = list(blobs), set()
        for at in range(0, len(every), ASK_ABOUT):
            body = BlobList(blobs=tuple(every[at : at + ASK_ABOUT]))
            found = self._model(BlobList, "POST", "/v2/blobs/missing", body, of=Capability.DELIVER)
            lacking |= {blob.blake3 for blob in found.blobs}
        return lacking

    def upload(self, blob: Blob, path: Path, moved: Moved) -> None:
        """See Delivering.upload."""

        def send() -> httpx.Response:
            sent = 0

            def pieces() -> Iterator[bytes]:
                nonlocal sent
                with path.open("rb") as stream:
                    while chunk := stream.read(CHUNK):
                        yield chunk
                        sent += len(chunk)
                        moved(len(chunk))

            try:
                response = self._client.put(f"/v2/blobs/{blob.blake3}", content=pieces(), headers=headers)
                accepted = response.is_success
            except BaseException:
                moved(-sent)
                raise
            if not accepted:
                moved(-sent)
            return response

        headers = {"Content-Length": str(blob.bytes), "Content-Type": "application/octet-stream"}
        self._ask(send)

    def register(self, content: PackingList) -> Registered:
        """See Delivering.register."""
        return self._model(Registered, "POST", "/v2/crates", content, of=Capability.DELIVER)

    def submit(self, order: JobOrder) -> str:
        """See Submitting.submit."""
        return self._model(Submitted, "POST", "/v2/jobs", order, of=Capability.SUBMIT).job

    def quote(self, order: JobOrder) -> FarmQuote:
        """See Quoting.quote."""
        return self._model(FarmQuote, "POST", "/v2/quotes", order, of=Capability.QUOTE)

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary."""
        return self._model(JobSummary, "GET", f"/v2/jobs/{_part(job)}", of=Capability.CHANGES)

    def changes(self, job: str, cursor: str) -> Changes:
        """See Telling.changes."""
        path = f"/v2/jobs/{_part(job)}/changes?since={_part(cursor)}"
        return self._model(Changes, "GET", path, of=Capability.CHANGES)

    def pages(self, job: str) -> Iterator[TaskPage]:
        """Yield all tasks of a job in their order, page by page."""
        at: int | None = 0
        while at is not None:
            page = self._model(TaskPage, "GET", f"/v2/jobs/{_part(job)}/tasks?begin={at}", of=Capability.CHANGES)
            yield page
            if page.next is not None and page.next <= at:
                raise FarmError("the farm's pages of tasks have no end", self.name, "report it to the farm")
            at = page.next

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """See Telling.wait: by the farm's stream of events, or just by time where there is none."""
        began = time.monotonic()
        try:
            url = f"/v2/jobs/{_part(job)}/events?since={_part(cursor)}&limit=1"
            limits = httpx.Timeout(seconds, connect=5)
            with self._client.stream("GET", url, timeout=limits, headers={"Accept": "text/event-stream"}) as events:
                if events.is_success:
                    for line in events.iter_lines():
                        if line.startswith("data:") or time.monotonic() - began >= seconds:
                            return
        except httpx.HTTPError:
            pass  # the next question will tell what is wrong
        time.sleep(max(0.0, min(seconds, began + seconds - time.monotonic())))

    def log(self, job: str, log: str) -> str:
        """See Telling.log."""
        return self._ask(lambda: self._client.get(f"/v2/jobs/{_part(job)}/logs/{_part(log)}")).text

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """See Fetching.fetch. Nothing beyond the promised size is written."""
        headers = {"Range": f"bytes={offset}-"} if offset else {}
        path = f"/v2/jobs/{_part(job)}/products/{_part(product.key)}"
        try:
            with self._client.stream("GET", path, headers=headers) as response:
                self._refused(response)
                # a farm that ignores the range sends all of it again
                resumed = bool(offset) and response.status_code == 206
                left = product.bytes - (offset if resumed else 0)
                with target.open("ab" if resumed else "wb") as stream:
                    for chunk in response.iter_bytes(CHUNK):
                        stream.write(chunk[:left])
                        moved(len(chunk[:left]))
                        left -= len(chunk)
                        if left <= 0:
                            break
        except httpx.HTTPError as error:
            raise FarmError(f"the download broke off ({_plain(error)})", self.name, "run the command again") from error
        except _Passing as error:
            raise FarmError(error.what, self.name, "run the command again") from error

    def control(self, job: str, order: ControlOrder) -> None:
        """See Controlling.control."""
        body = order.model_dump(mode="json")
        self._ask(lambda: self._client.post(f"/v2/jobs/{_part(job)}/control", json=body))

    def _redacted(self, text: str) -> str:
        """A text without the token, which an answer may echo."""
        return text.replace(self._token, "[token]") if len(self._token) >= SHORTEST_TOKEN else text

    def close(self) -> None:
        """Close the connections."""
        self._client.close()

    def _model(
        self,
        kind: type[M],
        method: str,
        path: str,
        body: BaseModel | None = None,
        *,
        of: Capability | None = None,
    ) -> M:
        if of is not None and of.value not in self.hello().offers:
            needed(None, self.link(), of)
        headers = {"Content-Type": "application/json"}
        content = body.model_dump_json().encode() if body is not None else None
        response = self._ask(lambda: self._client.request(method, path, content=content, headers=headers))
        try:
            return kind.model_validate_json(response.content)
        except ValidationError as error:
            found = error.errors(include_url=False)[0]
            at = ".".join(str(part) for part in found["loc"])[:80] or path
            what = f"the farm's answer makes no sense ({found['msg'].lower()[:160]}, at {at})"
            # without the answer: it may hold what was sent
            raise FarmError(self._redacted(what), self.name, "is this really the farm?") from None

    def _ask(self, call: Callable[[], httpx.Response]) -> httpx.Response:
        """One request, tried again while the trouble may pass. Every request of the protocol can be repeated safely."""
        retrying = Retrying(
            stop=stop_after_attempt(ATTEMPTS),
            wait=wait_exponential(self._patience, max=10),
            retry=retry_if_exception_type(_Passing),
            reraise=True,
        )
        try:
            return retrying(self._once, call)
        except _Passing as error:
            remedy = "check that it runs and that the address on its card is right"
            raise FarmError(self._redacted(error.what), f"{self.name} at {self.url}", remedy) from error

    def _once(self, call: Callable[[], httpx.Response]) -> httpx.Response:
        try:
            response = call()
        except httpx.HTTPError as error:
            raise _Passing(f"the farm cannot be reached ({_plain(error)})") from error
        except (httpx.InvalidURL, ValueError) as error:
            what = self._redacted(f"the address of the farm is wrong ({error})")
            raise FarmError(what, self.url, "correct the url on its card") from None
        self._refused(response)
        return response

    def _refused(self, response: httpx.Response) -> None:
        if response.is_success:
            return
        if response.status_code in (401, 403):
            raise FarmError("the farm does not accept the token", self.name, "sign in again, or correct the token")
        response.read()
        detail = self._redacted(_detail(response))
        if response.status_code >= 500 or response.status_code == 429:
            raise _Passing(f"the farm answers with an error ({response.status_code} {detail})")
        raise FarmError(f"the farm refuses ({detail})", self.name)


def _part(text: str) -> str:
    """A name of the farm's as one part of a path or query."""
    return quote(text, safe="")


def _detail(response: httpx.Response) -> str:
    try:
        detail = response.json()["detail"]
    except (ValueError, KeyError, TypeError):
        detail = response.text
    return " ".join(str(detail).split())[:300] or response.reason_phrase


def _plain(error: httpx.HTTPError) -> str:
    text = str(error).lower()
    if "refused" in text or "all connection attempts failed" in text:
        return "nothing answers there"
    return text[:120] or type(error).__name__
