"""The part of the farm's service that gives out products (docs/farm-protocol.md)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Header, HTTPException, Response
from fastapi.responses import FileResponse
from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from tidy_crate.core.farm.protocol import ProductKeys
from tidy_crate.core.transfer.pack import MOST_BYTES, SMALL, Piece, packed
from tidy_crate.core.work.task import Task
from tidy_crate.practice.farm.node import synthetic_product
from tidy_crate.practice.farm.settings import FarmSettings
from tidy_crate.practice.farm.store import AttemptRow, ProductRow, Store

_BYTES = "application/octet-stream"
_SCHEMA = {"schema": {"type": "string", "format": "binary"}}
_FILE: dict[int | str, dict[str, Any]] = {
    200: {"content": {_BYTES: _SCHEMA}, "description": "The file."},
    206: {"content": {_BYTES: _SCHEMA}, "description": "The rest of the file."},
}
_PACK: dict[int | str, dict[str, Any]] = {200: {"content": {_BYTES: _SCHEMA}, "description": "The pack."}}


@dataclass(frozen=True)
class _Product:
    """A product as it is given out."""

    task: Task
    output: str
    attempt: int
    path: Path | None
    """None for one that a synthetic node makes when it is asked for."""
    blake3: str | None
    size: int
    """Bytes."""
    damaged: bool
    """True if it is damaged on its way this time."""

    def contents(self) -> bytes:
        """Return all of it. Raises OSError."""
        if self.path is None:
            return synthetic_product(self.task, self.output, self.attempt)
        data = self.path.read_bytes()
        if not self.damaged:
            return data
        spoilt = bytearray(data)
        spoilt[len(spoilt) // 2] ^= 0xFF
        return bytes(spoilt)


def product_routes(store: Store, settings: FarmSettings) -> APIRouter:
    """The routes below `/v3/jobs/{job}/products`."""
    routes = APIRouter(tags=["fetch"])
    damages = [fault for fault in settings.faults if fault.kind == "damaged"]

    def given_out(session: Session, job: str, keys: tuple[str, ...]) -> Iterator[_Product]:
        """Yield those products of a job that there are, in the order of the keys."""
        query = select(ProductRow).options(joinedload(ProductRow.attempt).joinedload(AttemptRow.task))
        rows = {row.key: row for row in session.scalars(query.where(ProductRow.key.in_(keys)))}
        for key in keys:
            row = rows.get(key)
            if row is None or row.attempt is None or row.attempt.job_id != job:
                continue
            task, first = row.attempt.task.task(), row.served == 0
            if damages:
                # how often it was asked for matters to faults in transit alone
                row.served += 1
            damaged = first and any(one.frame == task.frame and one.output in (None, row.output) for one in damages)
            path = Path(row.path) if row.path is not None else None
            yield _Product(task, row.output, row.attempt.number, path, row.blake3, row.bytes, damaged)

    @routes.get("/v3/jobs/{name}/products/{key:path}", response_class=Response, responses=_FILE)
    def product(name: str, key: str, range_header: Annotated[str, Header(alias="range")] = "") -> Response:
        """Give out a product. Byte ranges are understood."""
        with store.writing() if damages else store.reading() as session:
            found = next(given_out(session, name, (key,)), None)
        if found is None:
            raise HTTPException(404, "there is no such product")
        if found.path is not None and not found.damaged:
            return FileResponse(found.path, media_type=_BYTES, headers={"ETag": f'"{found.blake3}"'})
        data = found.contents()
        at = re.fullmatch(r"bytes=(\d+)-", range_header)
        if at is None or found.damaged:
            return Response(data, media_type=_BYTES)
        return Response(data[int(at[1]) :], 206, media_type=_BYTES)

    @routes.post("/v3/jobs/{name}/products", response_class=Response, responses=_PACK)
    def products(name: str, asked: ProductKeys) -> Response:
        """Give out small products, many in one pack. What it leaves out is asked for by itself."""
        pieces: dict[str, Piece] = {}
        room = MOST_BYTES
        with store.writing() if damages else store.reading() as session:
            small = [
                one
                for one in given_out(session, name, tuple(dict.fromkeys(asked.keys)))
                if one.blake3 is not None and one.size <= SMALL
            ]
        for one in small:
            assert one.blake3 is not None
            if one.blake3 in pieces:
                continue
            if one.size > room:
                break
            room -= one.size
            pieces[one.blake3] = Piece(one.blake3, 0, one.blake3, one.contents())
        return Response(b"".join(packed(pieces.values())), media_type=_BYTES)

    return routes
