"""The part of the farm's service that takes in files (docs/farm-protocol.md)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

from blake3 import blake3
from fastapi import APIRouter, HTTPException, Request, Response

from tidy_crate.core.farm.protocol import (
    BlobList,
    ChunkList,
    Finished,
    Lacking,
    RefusedPiece,
    Taken,
)
from tidy_crate.core.transfer.pack import MOST_BODY, BadPack, Unpacking
from tidy_crate.practice.farm.blobs import Blobs, NoRoom, Refusal

_DIGEST = re.compile(r"[0-9a-f]{64}")
# what is still on its way is not taken in
_CLOSE = {"Connection": "close"}


def upload_routes(blobs: Blobs) -> APIRouter:
    """The routes below `/v3/blobs` and `/v3/packs`."""
    routes = APIRouter(tags=["deliver"])
    # by digest, the size that was announced for a file
    announced: dict[str, int] = {}

    @routes.post("/v3/blobs/missing")
    def missing(asked: BlobList) -> BlobList:
        """Say which of these files the farm does not have complete."""
        lacking = tuple(blob for blob in asked.blobs if not blobs.has(blob.blake3))
        announced.update((blob.blake3, blob.bytes) for blob in lacking)
        return BlobList(blobs=lacking)

    @routes.put("/v3/blobs/{digest}", status_code=201)
    async def put_blob(digest: str, request: Request) -> Response:
        """Take in a whole file, and verify it. Its size is announced by asking whether it is missing."""
        most = announced.get(_digest(digest))
        if most is None:
            raise HTTPException(428, "say how large this blob is first: ask whether it is missing", _CLOSE)
        if not 0 <= _length(request) <= most:
            raise HTTPException(413, f"this blob was announced with {most} bytes", _CLOSE)
        with _answering():
            blobs.need_room(most)
        draft = blobs.draft(digest)
        found, left = blake3(), most
        try:
            with draft.open("wb") as stream:
                async for chunk in request.stream():
                    left -= len(chunk)
                    if left < 0:
                        raise HTTPException(413, f"this blob was announced with {most} bytes", _CLOSE)
                    found.update(chunk)
                    stream.write(chunk)
            if found.hexdigest() != digest:
                raise HTTPException(422, "what arrived is not what was announced")
            blobs.put(digest, draft)
        finally:
            draft.unlink(missing_ok=True)
        return Response(status_code=201)

    @routes.post("/v3/blobs/{digest}/chunks")
    def chunks(digest: str, asked: ChunkList) -> Lacking:
        """Say which chunks of a file have to be sent. Those that are anywhere at the farm are copied into place."""
        with _answering():
            lacking = blobs.lacking(_digest(digest), asked.bytes, asked.chunks, asked.like)
        return Lacking(lacking=tuple(lacking))

    @routes.post("/v3/blobs/{digest}/finish")
    def finish(digest: str) -> Finished:
        """Verify a file that was sent in chunks, all of it."""
        return Finished(complete=blobs.finish(_digest(digest)))

    @routes.post("/v3/packs")
    async def pack(request: Request) -> Taken:
        """Take in many small files and chunks at once. The form of the body is in docs/farm-protocol.md."""
        size = _length(request)
        if not 0 <= size <= MOST_BODY:
            raise HTTPException(413, f"a pack has {MOST_BODY} bytes at most, and says how many", _CLOSE)
        unpacking, left = Unpacking(), size
        with _answering(), blobs.taking(size) as taking:
            async for part in request.stream():
                left -= len(part)
                if left < 0:
                    raise HTTPException(413, "the pack is longer than it says", _CLOSE)
                for one in unpacking.feed(part):
                    taking.feed(one)
            unpacking.end()
        refused = taking.refused
        return Taken(refused=tuple(RefusedPiece(file=head.file, offset=head.offset, why=why) for head, why in refused))

    return routes


@contextmanager
def _answering() -> Iterator[None]:
    """Turn what the store cannot do into the right answer."""
    try:
        yield
    except NoRoom as error:
        raise HTTPException(507, str(error), _CLOSE) from error
    except (Refusal, BadPack) as error:
        raise HTTPException(422, str(error), _CLOSE) from error


def _digest(text: str) -> str:
    if not _DIGEST.fullmatch(text):
        raise HTTPException(422, "not a BLAKE3")
    return text


def _length(request: Request) -> int:
    """The length that a request states; -1 for none."""
    text = request.headers.get("content-length", "")
    return int(text) if text.isascii() and text.isdigit() and len(text) < 19 else -1
