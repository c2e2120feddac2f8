"""The farm's HTTP service (docs/farm-protocol.md)."""

from __future__ import annotations

import hmac
import os
import re
import secrets
import shutil
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Annotated

from blake3 import blake3
from fastapi import Depends, FastAPI, Header, HTTPException, Request, Response
from fastapi.responses import FileResponse, JSONResponse
from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_crate import __version__
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.farm.protocol import (
    Account,
    BlobList,
    FarmJob,
    JobOrder,
    JobState,
    Node,
    Product,
    Registered,
    RerenderOrder,
    Submitted,
    Task,
    TaskState,
)
from tidy_crate.core.files import inside, write_bytes
from tidy_crate.practice.farm.scheduler import Scheduler
from tidy_crate.practice.farm.settings import FarmSettings, takes_path
from tidy_crate.practice.farm.store import (
    FarmJobRow,
    KeyRow,
    ProductRow,
    Store,
    TaskRow,
    job_cost,
    shift_cost,
)

_DIGEST = re.compile(r"[0-9a-f]{64}")


def make_app(
    folder: Path,
    settings: FarmSettings,
    store: Store,
    scheduler: Scheduler,
    token: str,
    stop: Callable[[], None],
) -> FastAPI:
    """The service. `stop` ends the program."""

    def signed_in(authorization: Annotated[str, Header()] = "") -> None:
        if not hmac.compare_digest(authorization.encode(), f"Bearer {token}".encode()):
            raise HTTPException(401, "the token is not accepted")

    app = FastAPI(
        title="Practice farm", version=__version__, dependencies=[Depends(signed_in)], docs_url=None, redoc_url=None
    )
    blobs = folder / "blobs"
    blobs.mkdir(parents=True, exist_ok=True)

    def cost_of(job: FarmJobRow) -> Decimal:
        return job_cost(job, settings.price_per_hour, settings.billing_increment_seconds)

    def job_of(session: Session, name: str) -> FarmJobRow:
        job = session.get(FarmJobRow, name)
        if job is None:
            raise HTTPException(404, "there is no such job")
        return job

    def blob_path(digest: str) -> Path:
        if not _DIGEST.fullmatch(digest):
            raise HTTPException(422, "not a BLAKE3")
        return blobs / digest[:2] / digest

    @app.exception_handler(TidyCrateError)
    def _plain(_: Request, error: TidyCrateError) -> Response:
        return JSONResponse({"detail": str(error)}, 422)

    @app.get("/v1/account")
    def account() -> Account:
        with store.session() as session:
            spent = sum((cost_of(job) for job in session.scalars(select(FarmJobRow))), Decimal(0))
        return Account(user="wrangler", balance=(settings.balance - spent).quantize(Decimal("0.01")), currency="EUR")

    @app.post("/v1/blobs/missing")
    def missing(asked: BlobList) -> BlobList:
        return BlobList(blobs=tuple(blob for blob in asked.blobs if not blob_path(blob.blake3).is_file()))

    @app.put("/v1/blobs/{digest}", status_code=201)
    async def put_blob(digest: str, request: Request) -> Response:
        path = blob_path(digest)
        path.parent.mkdir(exist_ok=True)
        draft = path.with_name(f".{digest[:16]}.{secrets.token_hex(4)}.part")
        found = blake3()
        try:
            with draft.open("wb") as stream:
                async for chunk in request.stream():
                    found.update(chunk)
                    stream.write(chunk)
            if found.hexdigest() != digest:
                raise HTTPException(422, "what arrived is not what was announced")
            draft.replace(path)
        finally:
            draft.unlink(missing_ok=True)
        return Response(status_code=201)

    @app.post("/v1/crates", status_code=201)
    def register(content: PackingList) -> Registered:
        name = blake3(content.model_dump_json().encode()).hexdigest()[:24]
        target = scheduler.crate_folder(name)
        if not (target / ".scene").is_file():
            _assemble(content, target, blob_path)
        return Registered(crate=name, reading=scheduler.read(target, content.scene))

    @app.post("/v1/jobs", status_code=201)
    def submit(order: JobOrder) -> Submitted:
        if not (scheduler.crate_folder(Path(order.crate).name) / ".scene").is_file():
            raise HTTPException(404, "there is no such crate")
        for output, path in order.outputs.items():
            if not takes_path(settings.output_path, path):
                raise HTTPException(422, f"the path of {output} is not {settings.output_path}: {path}")
        with store.session() as session:
            known = session.scalar(select(FarmJobRow).where(FarmJobRow.key == order.key))
            if known is not None:
                return Submitted(job=known.id)
            number = len(list(session.scalars(select(FarmJobRow.id)))) + 1
            job = FarmJobRow(
                id=f"{number:06d}", key=order.key, order=order.model_dump_json(), state=JobState.WAITING.value
            )
            position = 0
            for request in order.requests:
                for frame in request.numbers():
                    job.tasks.append(
                        TaskRow(position=position, request=request.name, frame=frame, state=TaskState.WAITING.value,
                                attempt=0, cost="0")
                    )  # fmt: skip
                    position += 1
            session.add(job)
            session.commit()
            scheduler.wake()
            return Submitted(job=job.id)

    @app.get("/v1/jobs/{name}")
    def show(name: str) -> FarmJob:
        with store.session() as session:
            job = job_of(session, name)
            return _farm_job(job, settings, cost_of(job))

    @app.post("/v1/jobs/{name}/rerender")
    def rerender(name: str, order: RerenderOrder) -> Response:
        with store.session() as session:
            job = job_of(session, name)
            if session.get(KeyRow, order.key) is None:
                session.add(KeyRow(key=order.key))
                wanted = {(task.request, task.frame) for task in order.tasks}
                for row in job.tasks:
                    ended = row.state in (TaskState.DONE.value, TaskState.FAILED.value)
                    if (row.request, row.frame) in wanted and ended:
                        row.state = TaskState.WAITING.value
                        job.state = JobState.RENDERING.value
            session.commit()
        scheduler.wake()
        return Response(status_code=204)

    @app.post("/v1/jobs/{name}/cancel")
    def cancel(name: str) -> Response:
        with store.session() as session:
            job = job_of(session, name)
            if job.state in (JobState.WAITING.value, JobState.RENDERING.value):
                job.state = JobState.CANCELLED.value
                for shift in job.shifts:
                    shift.over = True
            session.commit()
        return Response(status_code=204)

    @app.get("/v1/jobs/{name}/products/{key}")
    def product(name: str, key: str) -> Response:
        with store.session() as session:
            row = session.get(ProductRow, key)
            task = session.get(TaskRow, row.task_id) if row else None
            if row is None or task is None or task.job_id != name:
                raise HTTPException(404, "there is no such product")
            row.served += 1
            first = row.served == 1
            session.commit()
        damaged = first and any(
            f.kind == "damaged" and f.frame == task.frame and f.output in (None, row.output) for f in settings.faults
        )
        if damaged:
            data = bytearray(Path(row.path).read_bytes())
            data[len(data) // 2] ^= 0xFF
            return Response(bytes(data), media_type="application/octet-stream")
        return FileResponse(row.path, media_type="application/octet-stream", headers={"ETag": f'"{row.blake3}"'})

    @app.post("/v1/shutdown")
    def shutdown() -> Response:
        stop()
        return Response(status_code=204)

    return app


def _assemble(content: PackingList, target: Path, blob_path: Callable[[str], Path]) -> None:
    """Build the crate's folder from its contents: a hard link each, a copy where links do not work."""
    lacking = [file.path for file in content.files if not blob_path(file.blake3).is_file()]
    if lacking:
        raise HTTPException(409, f"contents are missing, first of {lacking[0]}")
    draft = target.with_name(f"{target.name}.{secrets.token_hex(4)}.part")
    for file in content.files:
        path = inside(draft, file.path)
        path.parent.mkdir(parents=True, exist_ok=True)
        try:
            os.link(blob_path(file.blake3), path)
        except OSError:
            shutil.copyfile(blob_path(file.blake3), path)
    inside(draft, content.scene)
    write_bytes(draft / ".scene", content.scene.encode())
    if target.exists():
        shutil.rmtree(target)
    draft.replace(target)


def _farm_job(job: FarmJobRow, settings: FarmSettings, cost: Decimal) -> FarmJob:
    price, increment = settings.price_per_hour, settings.billing_increment_seconds
    return FarmJob(
        job=job.id,
        state=JobState(job.state),
        clock=max((shift.free_at for shift in job.shifts), default=0.0),
        cost=cost.quantize(Decimal("0.0001")),
        currency="EUR",
        tasks=tuple(
            Task(
                id=task.task_id(),
                state=TaskState(task.state),
                attempt=task.attempt,
                node=task.node,
                seconds=task.seconds,
                cost=Decimal(task.cost),
                error=task.error,
                products=tuple(
                    Product(output=p.output, key=p.key, blake3=p.blake3, bytes=p.bytes) for p in task.products
                ),
            )
            for task in job.tasks
        ),
        nodes=tuple(
            Node(
                name=shift.node,
                began=shift.began,
                free_at=shift.free_at,
                frames=shift.frames,
                cost=shift_cost(shift, price, increment).quantize(Decimal("0.0001")),
            )
            for shift in job.shifts
        ),
    )
