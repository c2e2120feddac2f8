"""Reaching a farm by HTTP with JSON (docs/farm-protocol.md)."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TypeVar
from urllib.parse import quote

import httpx
from blake3 import blake3
from pydantic import BaseModel, ValidationError

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.exchange import Exchange, Passing, pieces
from tidy_crate.core.farm.links.interface import NOTHING, Delivered, FarmLink, Moved, Trial, needed, tried
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.links.watch import watch_for
from tidy_crate.core.farm.protocol import (
    FETCH_PACKS,
    OLDEST,
    VERSION,
    Account,
    Action,
    Blob,
    BlobList,
    Capability,
    Changes,
    ChunkList,
    ChunkPlace,
    ControlOrder,
    FarmQuote,
    Finished,
    Hello,
    JobOrder,
    JobSummary,
    Lacking,
    ProductKeys,
    Registered,
    Submitted,
    Taken,
    TaskPage,
)
from tidy_crate.core.files import inside
from tidy_crate.core.progress import Progress
from tidy_crate.core.transfer.chunks import Chunk
from tidy_crate.core.transfer.pack import BadPack, Head, Piece, Unpacking, packed, size_of
from tidy_crate.core.transfer.upload import Refused, Source, Upload
from tidy_crate.core.work.attempt import Product

ASK_ABOUT = 5000
# bytes of a log that are shown
MOST_LOG = 4 << 20
M = TypeVar("M", bound=BaseModel)


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to the farm at a card's http or https address. See registry.Opener."""
    return replace(HttpFarm(card.name, card.url, token).link(), from_zero=card.outputs.from_zero)


class HttpFarm:
    """A farm at a URL. transport, patience: see Exchange."""

    actions = frozenset(Action)

    def __init__(
        self,
        name: str,
        url: str,
        token: str | Token,
        transport: httpx.BaseTransport | None = None,
        patience: float = 0.2,
    ) -> None:
        self.name = name
        self._exchange = Exchange(name, url, token, transport, patience, watch_for(name, token))
        self._agreed: Hello | None = None

    def link(self) -> FarmLink:
        """The farm as a link with every capability of the protocol. What it offers is asked when it is used."""
        return FarmLink(
            self.name, self, self, self, self, self, self, self,
            close=self.close, fetch_small=self.fetch_small, trial=self.trial,
        )  # fmt: skip

    def trial(self) -> Iterator[Trial]:
        """See FarmLink.trial."""
        yield (first := tried("reach it, and agree on a version", self._greeted))
        if not first.works:
            return
        offers = self.hello().offers

        def signed_in() -> str:
            account = self.account()
            return f"as {account.user}, {account.balance} {account.currency} left"

        if Capability.ACCOUNT.value in offers:
            yield tried("sign in", signed_in)
        if Capability.DELIVER.value in offers:
            yield tried("send a file, and have it verified", self._small_file)

    def _greeted(self) -> str:
        found = self.hello()
        return f"{found.farm}, version {min(found.protocol, VERSION)}; it can {', '.join(found.offers)}"

    def _small_file(self) -> str:
        data = b"tidy-crate tries the way out\n"
        digest = blake3(data).hexdigest()
        refused = self.take([Piece(digest, 0, digest, data)])
        if refused or self.missing([Source(digest, len(data), Path())]):
            raise FarmError("the farm does not keep what it is sent", self.name, "report it to the farm")
        return f"{len(data)} bytes arrived"

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
        return self._model(Account, "GET", "/v3/account", of=Capability.ACCOUNT)

    def to_send(self, crate: Path, content: PackingList) -> int:
        """See Delivering.to_send. Of a large file that the farm has a part of, all of it counts."""
        lacking = self.missing(_sources(crate, content))
        return sum(source.bytes for source in _sources(crate, content) if source.blake3 in lacking)

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        """See Delivering.deliver."""
        done = Upload(self, progress).run(_sources(crate, content, earlier))
        registered = self.register(content)
        return Delivered(registered.crate, done.sent, done.had, registered.reading)

    def register(self, content: PackingList) -> Registered:
        """Tell the farm of a crate whose files it has; it reads the scene and says what it understood."""
        return self._model(Registered, "POST", "/v3/crates", content, of=Capability.DELIVER)

    def missing(self, sources: Sequence[Source]) -> set[str]:
        """See transfer.upload.Receiver.missing."""
        return self._missing([(one.blake3, one.bytes) for one in sources])

    def _missing(self, files: Sequence[tuple[str, int]]) -> set[str]:
        """Return the digests of files, of digest and bytes each, that the farm does not have."""
        lacking = set()
        for at in range(0, len(files), ASK_ABOUT):
            blobs = tuple(Blob(blake3=digest, bytes=size) for digest, size in files[at : at + ASK_ABOUT])
            found = self._model(BlobList, "POST", "/v3/blobs/missing", BlobList(blobs=blobs), of=Capability.DELIVER)
            lacking |= {blob.blake3 for blob in found.blobs}
        return lacking

    def lacking(self, source: Source, pieces: Sequence[Chunk]) -> list[Chunk]:
        """See transfer.upload.Receiver.lacking."""
        return self._lacking(source.blake3, source.bytes, pieces, source.like)

    def _lacking(self, file: str, size: int, pieces: Sequence[Chunk], like: str | None) -> list[Chunk]:
        places = tuple(ChunkPlace.model_construct(offset=p.offset, bytes=p.bytes, blake3=p.blake3) for p in pieces)
        body = ChunkList.model_construct(bytes=size, chunks=places, like=like)
        found = self._model(Lacking, "POST", f"/v3/blobs/{file}/chunks", body)
        if any(number >= len(pieces) for number in found.lacking):
            raise FarmError("the farm asks for a part of a file that it was not told of", self.name, _STRANGE)
        return [pieces[number] for number in sorted(set(found.lacking))]

    def take(self, pieces: Sequence[Piece]) -> list[Refused]:
        """See transfer.upload.Receiver.take. After a break, only what did not arrive is sent again."""
        left, tries = list(pieces), 0

        def once() -> bytes | None:
            nonlocal left, tries
            left = self._not_there(left) if tries else left
            tries += 1
            headers = {"Content-Length": str(size_of(left)), "Content-Type": "application/octet-stream"}
            return self._exchange.once("POST", "/v3/packs", packed(left), headers) if left else None

        answer = self._exchange.patiently(once)
        if answer is None:
            return []
        found = self._read(Taken, answer, "/v3/packs")
        return [Refused(one.file, one.offset, one.why) for one in found.refused]

    def _not_there(self, pieces: Sequence[Piece]) -> list[Piece]:
        """Return the pieces that the farm does not have."""
        small = {one.file: one.whole for one in pieces if one.file == one.blake3 and one.offset == 0 and one.whole}
        missing = self._missing(list(small.items()))
        left = [one for one in pieces if one.file not in small or one.file in missing]
        for file in {one.file for one in left if one.whole} - small.keys():
            own = [one for one in left if one.file == file]
            told = [Chunk(one.offset, len(one.data), one.blake3) for one in own]
            lacking = {one.offset for one in self._lacking(file, own[0].whole, told, None)}
            left = [one for one in left if one.file != file or one.offset in lacking]
        return left

    def finish(self, source: Source) -> bool:
        """See transfer.upload.Receiver.finish."""
        return self._model(Finished, "POST", f"/v3/blobs/{source.blake3}/finish").complete

    def submit(self, order: JobOrder) -> str:
        """See Submitting.submit."""
        return self._model(Submitted, "POST", "/v3/jobs", order, of=Capability.SUBMIT).job

    def quote(self, order: JobOrder) -> FarmQuote:
        """See Quoting.quote."""
        return self._model(FarmQuote, "POST", "/v3/quotes", order, of=Capability.QUOTE)

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary."""
        return self._model(JobSummary, "GET", f"/v3/jobs/{_part(job)}", of=Capability.CHANGES)

    def changes(self, job: str, cursor: str) -> Changes:
        """See Telling.changes."""
        path = f"/v3/jobs/{_part(job)}/changes?since={_part(cursor)}"
        return self._model(Changes, "GET", path, of=Capability.CHANGES)

    def pages(self, job: str) -> Iterator[TaskPage]:
        """Yield all tasks of a job in their order, page by page."""
        at: int | None = 0
        while at is not None:
            page = self._model(TaskPage, "GET", f"/v3/jobs/{_part(job)}/tasks?begin={at}", of=Capability.CHANGES)
            yield page
            if page.next is not None and page.next <= at:
                raise FarmError("the farm's pages of tasks have no end", self.name, "report it to the farm")
            at = page.next

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """See Telling.wait: by the farm's stream of events, or just by time where there is none."""
        began = time.monotonic()
        url = f"/v3/jobs/{_part(job)}/events?since={_part(cursor)}&limit=1"
        limits = httpx.Timeout(max(0.05, seconds), connect=5)
        last = b""
        with (
            contextlib.suppress(Passing, FarmError),  # the next question will tell what is wrong
            self._exchange.stream(url, {"Accept": "text/event-stream"}, limits) as events,
        ):
            for piece in pieces(events):
                last = last[-_CARRY:] + piece
                if b"data:" in last or time.monotonic() - began >= seconds:
                    return
        time.sleep(max(0.0, min(seconds, began + seconds - time.monotonic())))

    def log(self, job: str, log: str) -> str:
        """See Telling.log."""
        path = f"/v3/jobs/{_part(job)}/logs/{_part(log)}"
        return self._exchange.ask("GET", path, cut=MOST_LOG).decode("utf-8", "replace")

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """See Fetching.fetch. Nothing beyond the promised size is written."""
        headers = {"Range": f"bytes={offset}-"} if offset else {}
        path = f"/v3/jobs/{_part(job)}/products/{_part(product.key)}"
        try:
            with self._exchange.stream(path, headers) as response:
                # a farm that ignores the range sends all of it again
                resumed = bool(offset) and response.status_code == 206
                left = product.bytes - (offset if resumed else 0)
                with target.open("ab" if resumed else "wb") as stream:
                    for chunk in pieces(response) if left > 0 else ():
                        stream.write(chunk[:left])
                        moved(len(chunk[:left]))
                        left -= len(chunk)
                        if left <= 0:
                            break
        except Passing as error:
            raise self._broke_off(error) from error

    def fetch_small(self, job: str, products: Sequence[Product]) -> Iterator[tuple[Product, bytes | memoryview]]:
        """See FetchSmall. A farm that gives out single files only is not asked."""
        if FETCH_PACKS not in self.hello().offers:
            return
        wanted: dict[str | None, list[Product]] = {}
        for product in products:
            wanted.setdefault(product.blake3, []).append(product)
        body = ProductKeys(keys=tuple(product.key for product in products)).model_dump_json().encode()
        path = f"/v3/jobs/{_part(job)}/products"
        try:
            with self._exchange.stream(path, _JSON, method="POST", content=body) as response:
                unpacking = Unpacking()
                for chunk in pieces(response):
                    for piece in unpacking.whole(chunk, lambda head: self._need_asked_for(head, wanted)):
                        for product in wanted.pop(piece.file):
                            yield product, piece.data
                unpacking.end()
        except BadPack as error:
            raise FarmError(f"the farm's answer makes no sense ({error})", self.name, _STRANGE) from error
        except Passing as error:
            raise self._broke_off(error) from error

    def _need_asked_for(self, head: Head, wanted: Mapping[str | None, Sequence[Product]]) -> None:
        """Raise FarmError for a file that was not asked for, before any of it is read."""
        found = wanted.get(head.file)
        if found is None or head.offset or head.bytes != found[0].bytes:
            raise FarmError("the farm sends a file that it was not asked for", self.name, _STRANGE)

    def _broke_off(self, error: Passing) -> FarmBusy:
        what = self._exchange.redacted(f"the download broke off ({error.what})")
        return FarmBusy(what, self.name, "run the command again", after=error.after)

    def control(self, job: str, order: ControlOrder) -> None:
        """See Controlling.control."""
        # a farm of before knows no other cap
        body = order.model_dump_json(exclude={"cap"} if order.cap is None else None).encode()
        self._exchange.ask("POST", f"/v3/jobs/{_part(job)}/control", body, _JSON)

    def close(self) -> None:
        """Close the connections."""
        self._exchange.close()

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
        content = body.model_dump_json().encode() if body is not None else None
        return self._read(kind, self._exchange.ask(method, path, content, _JSON), path)

    def _read(self, kind: type[M], answer: bytes, path: str) -> M:
        try:
            return kind.model_validate_json(answer)
        except ValidationError as error:
            found = error.errors(include_url=False)[0]
            at = ".".join(str(part) for part in found["loc"])[:80] or path
            what = f"the farm's answer makes no sense ({found['msg'].lower()[:160]}, at {at})"
            # without the answer: it may hold what was sent
            raise FarmError(self._exchange.redacted(what), self.name, _STRANGE) from None


_STRANGE = "is this really the farm?"
_JSON = {"Content-Type": "application/json"}
# bytes of a piece that a word may have begun in
_CARRY = 4


def _sources(crate: Path, content: PackingList, earlier: Mapping[str, str] = NOTHING) -> list[Source]:
    """The files of a crate, each contents once."""
    found = {
        file.blake3: Source(file.blake3, file.bytes, inside(crate, file.path), earlier.get(file.path))
        for file in content.files
    }
    return list(found.values())


def _part(text: str) -> str:
    """A name of the farm's as one part of a path or query."""
    return quote(text, safe="")
