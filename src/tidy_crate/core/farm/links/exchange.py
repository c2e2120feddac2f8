"""Requests to a farm, with a limit on all that it answers: size, time, pace, and how often it is asked again."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import TypeVar, cast

import httpcore
import httpx
from pydantic_core import from_json
from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.links.watch import Watch, waiting

ATTEMPTS = 5
# bytes of an answer, and of one that says what went wrong
MOST_ANSWER = 64 << 20
MOST_REFUSAL = 64 << 10
# seconds for a whole answer
SECONDS_ANSWER = 300.0
# seconds to wait at most because the farm says so; a longer wait is told and left to the user
LONGEST_WAIT = 60.0
# bytes a second that must come at least, after a while in which anything may be slow
SLOWEST = 64.0
PATIENCE_WITH_SLOW = 30.0
# a shorter text is part of too many words to be taken out of a message
SHORTEST_TOKEN = 8
# bytes that are read from a connection at once
AT_ONCE = 512 << 10
# of a request, or what makes it for each try
Body = Callable[[], Iterable["bytes | memoryview"]] | bytes
T = TypeVar("T")


class Passing(Exception):
    """A failure that may not happen again. after: seconds to wait first, where the farm says so."""

    def __init__(self, what: str, after: float | None = None) -> None:
        self.what = what
        self.after = after
        super().__init__(what)


class Exchange:
    """A farm at a URL, by plain requests.

    token: or what gives it; asked again when the farm refuses the one that it gave. transport: replaces the network in
    tests. patience: seconds before a failed request is sent again, doubled each time. watch: of connections that are
    silent.
    """

    def __init__(
        self,
        name: str,
        url: str,
        token: str | Callable[[], str],
        transport: httpx.BaseTransport | None = None,
        patience: float = 0.2,
        watch: Watch | None = None,
    ) -> None:
        self.name, self.url = name, url
        self._renew = token if callable(token) else lambda: token
        self._tokens, self._patience = [self._renew()], patience
        self._client = httpx.Client(
            base_url=url,
            # what is not compressed cannot unfold without end
            headers={"Accept-Encoding": "identity"},
            timeout=httpx.Timeout(60, connect=5),
            transport=transport or _paced(watch),
            # a proxy of the environment has no business between this machine and the farm's own address
            trust_env=not url.startswith(("http://127.", "http://localhost", "http://[::1]")),
        )

    def close(self) -> None:
        """Close the connections."""
        self._client.close()

    def ask(
        self,
        method: str,
        path: str,
        content: Body | None = None,
        headers: Mapping[str, str] | None = None,
        *,
        cut: int | None = None,
    ) -> bytes:
        """Send a request and return the body of the answer; again while the trouble may pass.

        Every request of the protocol can be repeated safely. content: the body, or what makes it for each try.
        cut: bytes of the answer that are enough. Raises FarmError, FarmBusy where the trouble may pass later.
        """

        return self.patiently(
            lambda: self.once(method, path, content() if callable(content) else content, headers, cut)
        )

    def once(
        self,
        method: str,
        path: str,
        content: Iterable[bytes | memoryview] | bytes | None,
        headers: Mapping[str, str] | None = None,
        cut: int | None = None,
    ) -> bytes:
        """Send a request once. See `ask`. Raises Passing where the trouble may pass, for `patiently`."""
        with self._open(method, path, content, headers) as response:
            return self._body(response, cut)

    def patiently(self, once: Callable[[], T]) -> T:
        """Do something that may fail and be repeated. Raises FarmBusy when it goes on failing."""
        retrying = Retrying(
            stop=lambda state: stop_after_attempt(ATTEMPTS)(state) or _asks_too_long(state),
            wait=self._pause,
            retry=retry_if_exception_type(Passing),
            reraise=True,
        )
        try:
            return retrying(once)
        except Passing as error:
            remedy = "check that it runs and that the address on its card is right"
            if error.after is not None:
                remedy = f"it asks to be left alone for {error.after:.0f} s; run the command again then"
            where = f"{self.name} at {self.url}"
            raise FarmBusy(self.redacted(error.what), where, remedy, after=error.after) from error

    @contextmanager
    def stream(
        self,
        path: str,
        headers: Mapping[str, str],
        timeout: httpx.Timeout | None = None,
        *,
        method: str = "GET",
        content: bytes | None = None,
    ) -> Iterator[httpx.Response]:
        """Open an answer that is read piece by piece, by `pieces`. Raises Passing and FarmError."""
        with self._open(method, path, content, headers, timeout) as response:
            yield response

    @contextmanager
    def _open(
        self,
        method: str,
        path: str,
        content: Iterable[bytes | memoryview] | bytes | None,
        headers: Mapping[str, str] | None,
        timeout: httpx.Timeout | None = None,
    ) -> Iterator[httpx.Response]:
        limits = timeout or self._client.timeout
        try:
            try:
                token = self._tokens[-1]
                signed = {**(headers or {}), "Authorization": f"Bearer {token}"}
                body = cast("Iterable[bytes] | bytes | None", content)
                request = self._client.build_request(method, path, content=body, headers=signed, timeout=limits)
                response = self._client.send(request, stream=True)
            except (httpx.InvalidURL, ValueError) as error:
                what = self.redacted(f"the address of the farm is wrong ({error})")
                raise FarmError(what, self.url, "correct the url on its card") from None
            try:
                self._refused(response, token)
                yield response
            finally:
                response.close()
        except httpx.HTTPError as error:
            if "certificate verify failed" in str(error).lower():
                remedy = "check the address on its card; a farm with an authority of its own needs SSL_CERT_FILE"
                raise FarmError("the farm's certificate is not valid for this address", self.url, remedy) from error
            raise Passing(f"the farm cannot be reached ({plain(error)})") from error

    def _body(self, response: httpx.Response, cut: int | None) -> bytes:
        began, found = time.monotonic(), bytearray()
        for piece in pieces(response):
            found += piece
            if cut is not None and len(found) >= cut:
                return bytes(found[:cut])
            if len(found) > MOST_ANSWER:
                raise FarmError(f"the farm's answer is larger than {MOST_ANSWER >> 20} MiB", self.name, _STRANGE)
            if time.monotonic() - began > SECONDS_ANSWER:
                raise Passing(f"the farm's answer takes longer than {SECONDS_ANSWER:.0f} s")
        return bytes(found)

    def _refused(self, response: httpx.Response, token: str) -> None:
        if response.is_success:
            if response.headers.get("Content-Encoding", "identity").lower() not in ("", "identity"):
                raise FarmError("the farm compresses what was asked for as it is", self.name, _STRANGE)
            return
        if response.is_redirect:
            raise FarmError("the farm sends to another address, which is not followed", self.name, _STRANGE)
        if response.status_code in (401, 403):
            if response.status_code == 401 and self._renewed(token):
                raise Passing("the token has expired", 0.0)
            remedy = "sign in again, or correct the token; then run the command again, it goes on where it was"
            raise FarmError("the farm does not accept the token", self.name, remedy)
        detail = self.redacted(_detail(response))
        if response.status_code == 507:
            remedy = "ask the farm for more room, then run the command again: it goes on where it was"
            raise FarmError(f"the farm has no room left ({detail})", self.name, remedy)
        if response.status_code >= 500 or response.status_code == 429:
            after = _retry_after(response.headers.get("Retry-After"))
            raise Passing(f"the farm answers with an error ({response.status_code} {detail})", after)
        raise FarmError(f"the farm refuses ({detail})", self.name)

    def _renewed(self, refused: str) -> bool:
        """Return whether there is another token than the one that was refused, which is used from now on."""
        if self._tokens[-1] == refused:
            fresh = self._renew()
            if fresh == refused or fresh in self._tokens:
                return False
            self._tokens.append(fresh)
        return True

    def redacted(self, text: str) -> str:
        """Return a text without the tokens, which an answer may echo."""
        for token in self._tokens:
            text = text.replace(token, "[token]") if len(token) >= SHORTEST_TOKEN else text
        return text

    def _pause(self, state: RetryCallState) -> float:
        error = state.outcome.exception() if state.outcome is not None else None
        if isinstance(error, Passing) and error.after is not None:
            return error.after
        return float(min(10.0, self._patience * 2 ** (state.attempt_number - 1)))


_STRANGE = "is this really the farm?"


def pieces(response: httpx.Response) -> Iterator[bytes]:
    """Yield what arrives, as it arrives. The whole is not kept, and nothing is unpacked."""
    if response.is_stream_consumed:
        yield response.content  # a transport that answers from memory
    else:
        yield from response.iter_raw()


def plain(error: httpx.HTTPError) -> str:
    """Return what went wrong in plain words."""
    text = str(error).lower()
    if "refused" in text or "all connection attempts failed" in text:
        return "nothing answers there"
    return text[:120] or type(error).__name__


def _asks_too_long(state: RetryCallState) -> bool:
    error = state.outcome.exception() if state.outcome is not None else None
    return isinstance(error, Passing) and (error.after or 0.0) > LONGEST_WAIT


def _retry_after(text: str | None) -> float | None:
    """Seconds, from a number or a date (RFC 9110, 10.2.3)."""
    if text is None:
        return None
    if text.strip().isascii() and text.strip().isdigit():
        return float(min(int(text.strip()[:9]), 86_400))
    try:
        at = parsedate_to_datetime(text)
        at = at if at.tzinfo is not None else at.replace(tzinfo=UTC)
        return min(max(0.0, (at - datetime.now(UTC)).total_seconds()), 86_400.0)
    except (ValueError, TypeError, OverflowError):
        return None


def _detail(response: httpx.Response) -> str:
    """Return what an answer says went wrong; of a long one the beginning."""
    found = bytearray()
    began = time.monotonic()
    try:
        for piece in pieces(response):
            found += piece
            if len(found) >= MOST_REFUSAL or time.monotonic() - began > PATIENCE_WITH_SLOW:
                break
    except httpx.HTTPError:
        pass
    text = bytes(found[:MOST_REFUSAL])
    try:
        detail = str(from_json(text)["detail"])
    except (ValueError, KeyError, TypeError):
        detail = text.decode("utf-8", "replace")
    return " ".join(detail.split())[:300] or response.reason_phrase


class _PacedStream(httpcore.NetworkStream):
    """A connection over which an answer must not trickle in for ever."""

    def __init__(self, stream: httpcore.NetworkStream, watch: Watch | None) -> None:
        self._stream, self._watch = stream, watch
        self._since = time.monotonic()
        self._got = 0

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        """See httpcore.NetworkStream."""
        with waiting(self._watch):
            data = self._stream.read(max(max_bytes, AT_ONCE), timeout)
        self._got += len(data)
        seconds = time.monotonic() - self._since
        if data and seconds > PATIENCE_WITH_SLOW and self._got < SLOWEST * seconds:
            raise httpcore.ReadTimeout(f"it answers with less than {SLOWEST:.0f} bytes a second")
        return data

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        """See httpcore.NetworkStream. A new request starts the clock again."""
        with waiting(self._watch):
            self._stream.write(buffer, timeout)
        self._since, self._got = time.monotonic(), 0

    def close(self) -> None:
        """See httpcore.NetworkStream."""
        self._stream.close()

    def start_tls(self, *words: object, **named: object) -> httpcore.NetworkStream:
        """See httpcore.NetworkStream."""
        return _PacedStream(self._stream.start_tls(*words, **named), self._watch)  # type: ignore[arg-type]

    def get_extra_info(self, info: str) -> object:
        """See httpcore.NetworkStream."""
        return self._stream.get_extra_info(info)


class _PacedBackend(httpcore.NetworkBackend):
    def __init__(self, backend: httpcore.NetworkBackend, watch: Watch | None) -> None:
        self._backend, self._watch = backend, watch

    def connect_tcp(self, *words: object, **named: object) -> httpcore.NetworkStream:
        return _PacedStream(self._backend.connect_tcp(*words, **named), self._watch)  # type: ignore[arg-type]

    def connect_unix_socket(self, *words: object, **named: object) -> httpcore.NetworkStream:
        return _PacedStream(self._backend.connect_unix_socket(*words, **named), self._watch)  # type: ignore[arg-type]


def _paced(watch: Watch | None) -> httpx.HTTPTransport:
    """The usual transport over paced connections: no public setting takes another way to the network."""
    transport = httpx.HTTPTransport()
    pool = transport._pool
    pool._network_backend = _PacedBackend(pool._network_backend, watch)
    return transport
