"""Reaching a farm by HTTP with JSON (docs/farm-protocol.md)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError, UnreadableInput
from tidy_crate.core.farm.links.interface import Received
from tidy_crate.core.farm.protocol import (
    Account,
    Blob,
    BlobList,
    FarmJob,
    JobOrder,
    Registered,
    RerenderOrder,
    Submitted,
)
from tidy_crate.core.files import CHUNK
from tidy_crate.core.model import validated

ATTEMPTS = 5
ASK_ABOUT = 5000
M = TypeVar("M", bound=BaseModel)


class _Passing(Exception):
    """A failure that may not happen again."""

    def __init__(self, what: str) -> None:
        self.what = what
        super().__init__(what)


class HttpLink:
    """A farm at a URL. transport: replaces the network in tests."""

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
        self._patience = patience
        self._client = httpx.Client(
            base_url=url,
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(60, connect=5),
            transport=transport,
            # a proxy of the environment has no business between this machine and the farm's own address
            trust_env=not url.startswith(("http://127.", "http://localhost", "http://[::1]")),
        )

    def account(self) -> Account:
        """See FarmLink."""
        return self._model(Account, "GET", "/v1/account")

    def missing(self, blobs: Iterable[Blob]) -> set[str]:
        """See FarmLink."""
        every, lacking = list(blobs), set()
        for at in range(0, len(every), ASK_ABOUT):
            body = BlobList(blobs=tuple(every[at : at + ASK_ABOUT]))
            found = self._model(BlobList, "POST", "/v1/blobs/missing", json=body.model_dump(mode="json"))
            lacking |= {blob.blake3 for blob in found.blobs}
        return lacking

    def upload(self, blob: Blob, path: Path, sent: Received) -> None:
        """See FarmLink."""

        def pieces() -> Iterator[bytes]:
            with path.open("rb") as stream:
                while chunk := stream.read(CHUNK):
                    yield chunk

        headers = {"Content-Length": str(blob.bytes), "Content-Type": "application/octet-stream"}
        self._ask(lambda: self._client.put(f"/v1/blobs/{blob.blake3}", content=pieces(), headers=headers))
        sent(blob.bytes)

    def register(self, content: PackingList) -> Registered:
        """See FarmLink."""
        return self._model(Registered, "POST", "/v1/crates", json=content.model_dump(mode="json"))

    def submit(self, order: JobOrder) -> str:
        """See FarmLink."""
        return self._model(Submitted, "POST", "/v1/jobs", json=order.model_dump(mode="json")).job

    def job(self, job: str) -> FarmJob:
        """See FarmLink."""
        return self._model(FarmJob, "GET", f"/v1/jobs/{job}")

    def download(self, job: str, key: str, target: Path, offset: int, received: Received) -> None:
        """See FarmLink."""
        headers = {"Range": f"bytes={offset}-"} if offset else {}
        try:
            with self._client.stream("GET", f"/v1/jobs/{job}/products/{key}", headers=headers) as response:
                self._refused(response)
                # a farm that ignores the range sends all of it again
                mode = "ab" if offset and response.status_code == 206 else "wb"
                with target.open(mode) as stream:
                    for chunk in response.iter_bytes(CHUNK):
                        stream.write(chunk)
                        received(len(chunk))
        except httpx.HTTPError as error:
            raise FarmError(f"the download broke off ({_plain(error)})", self.name, "run the command again") from error
        except _Passing as error:
            raise FarmError(error.what, self.name, "run the command again") from error

    def rerender(self, job: str, order: RerenderOrder) -> None:
        """See FarmLink."""
        self._ask(lambda: self._client.post(f"/v1/jobs/{job}/rerender", json=order.model_dump(mode="json")))

    def cancel(self, job: str) -> None:
        """See FarmLink."""
        self._ask(lambda: self._client.post(f"/v1/jobs/{job}/cancel"))

    def close(self) -> None:
        """See FarmLink."""
        self._client.close()

    def _model(self, kind: type[M], method: str, path: str, json: Any = None) -> M:
        response = self._ask(lambda: self._client.request(method, path, json=json))
        try:
            return validated(kind, response.json(), "farm's answer", f"{self.name} {path}")
        except (ValueError, UnreadableInput) as error:
            raise FarmError(
                f"the farm's answer makes no sense ({error})", self.name, "is this really the farm?"
            ) from error

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
            raise FarmError(error.what, f"{self.name} at {self.url}", remedy) from error

    def _once(self, call: Callable[[], httpx.Response]) -> httpx.Response:
        try:
            response = call()
        except httpx.HTTPError as error:
            raise _Passing(f"the farm cannot be reached ({_plain(error)})") from error
        except (httpx.InvalidURL, ValueError) as error:
            raise FarmError(
                f"the address of the farm is wrong ({error})", self.url, "correct the url on its card"
            ) from error
        self._refused(response)
        return response

    def _refused(self, response: httpx.Response) -> None:
        if response.is_success:
            return
        if response.status_code in (401, 403):
            raise FarmError("the farm does not accept the token", self.name, "sign in again, or correct the token")
        response.read()
        detail = _detail(response)
        if response.status_code >= 500 or response.status_code == 429:
            raise _Passing(f"the farm answers with an error ({response.status_code} {detail})")
        raise FarmError(f"the farm refuses ({detail})", self.name)


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
