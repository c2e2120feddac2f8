"""The farm's HTTP service (docs/farm-protocol.md)."""

from __future__ import annotations

import asyncio
import hmac
import os
import re
import secrets
import shutil
from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any

from fastapi import Depends, FastAPI, Header, HTTPException, Query, Request, Response
from fastapi import Path as PathParameter
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, PlainTextResponse, StreamingResponse
from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload, selectinload

from tidy_crate import __version__
from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.farm.protocol import (
    FETCH_PACKS,
    OLDEST,
    PAGE,
    VERSION,
    Account,
    Action,
    Capability,
    Changes,
    ControlOrder,
    FarmQuote,
    Hello,
    JobOrder,
    JobState,
    JobSummary,
    NodeChange,
    Registered,
    Start,
    Submitted,
    TaskChange,
    TaskPage,
)
from tidy_crate.core.files import inside, os_reason, write_bytes
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.task import Task, TaskState, tasks_of
from tidy_crate.practice.farm.blobs import Blobs
from tidy_crate.practice.farm.line import Bounded, Faulty, Line
from tidy_crate.practice.farm.products import product_routes
from tidy_crate.practice.farm.reading import program_for
from tidy_crate.practice.farm.scheduler import NODE_LOST, Scheduler
from tidy_crate.practice.farm.settings import FarmPriority, FarmSettings
from tidy_crate.practice.farm.store import (
    AttemptRow,
    FarmJobRow,
    KeyRow,
    PaymentRow,
    ShiftRow,
    Store,
    TaskRow,
    add_job,
    call_off,
    job_cost,
    move,
    paid_in,
    shift_cost,
    shifts_of,
)
from tidy_crate.practice.farm.terms import own_quote, price_factor, refusal
from tidy_crate.practice.farm.uploads import upload_routes

_WITH = (joinedload(AttemptRow.task), selectinload(AttemptRow.products))
_CRATE = re.compile(r"[0-9a-f]{24}")
OFFERS = (*(capability.value for capability in Capability), FETCH_PACKS)
# seconds between two looks for changes while a client listens
LISTEN = 0.1
# seconds after which a listener is sent a sign of life
ALIVE = 15.0


class Refusal(Model):
    """The body of an answer that refuses."""

    detail: str
    """The trouble, in plain words."""


REFUSALS: dict[int | str, dict[str, Any]] = {
    400: {"model": Refusal, "description": "The body is not what the path takes."},
    401: {"model": Refusal, "description": "The token is not accepted."},
    404: {"model": Refusal, "description": "There is no such job, log, product or file."},
    409: {"model": Refusal, "description": "It does not fit the state that it meets."},
    422: {"model": Refusal, "description": "A value is wrong: the detail says which."},
    429: {"model": Refusal, "description": "Too many requests: `Retry-After` says when to come back."},
    503: {"model": Refusal, "description": "The farm is busy: the same request may be repeated."},
}

TEXT: dict[int | str, dict[str, Any]] = {
    200: {"content": {"text/plain": {"schema": {"type": "string"}}}, "description": "The text."}
}


def make_app(
    folder: Path,
    settings: FarmSettings,
    store: Store,
    scheduler: Scheduler,
    token: str,
    stop: Callable[[], None],
) -> FastAPI:
    """The service. `stop` ends the program."""

    line = Line(folder, settings)

    def signed_in(authorization: Annotated[str, Header()] = "") -> None:
        accepted = line.token(token)
        if not hmac.compare_digest(authorization.encode(), f"Bearer {accepted}".encode()):
            raise HTTPException(401, "the token is not accepted")

    app = FastAPI(
        title="Farm protocol", version=str(VERSION), dependencies=[Depends(signed_in)], docs_url=None, redoc_url=None,
        openapi_url=None, responses=REFUSALS, description="Messages between the tool and a farm over HTTP.",
    )  # fmt: skip
    app.add_middleware(Faulty, line=line)
    app.add_middleware(Bounded)
    blobs = Blobs(folder / "blobs", lambda: line.room)
    price, increment = settings.price_per_hour, settings.billing_increment_seconds
    hostile = frozenset(fault.frame for fault in settings.faults if fault.kind == "hostile")

    def jump() -> Decimal:
        return Decimal(str(line.on.get("jump", 1.0)))

    def job_of(session: Session, name: str) -> FarmJobRow:
        job = session.get(FarmJobRow, name)
        if job is None:
            raise HTTPException(404, "there is no such job")
        return job

    @app.exception_handler(RequestValidationError)
    def _wrong(_: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        return JSONResponse({"detail": f"{where}: {first['msg']}"[:500]}, 422)

    @app.exception_handler(TidyCrateError)
    def _plain(_: Request, error: TidyCrateError) -> Response:
        return JSONResponse({"detail": str(error)}, 422)

    @app.get("/hello", tags=["all"])
    def hello() -> Hello:
        """Say which versions of the protocol the farm speaks, and what it can do."""
        return Hello(protocol=VERSION, oldest=OLDEST, farm=f"practice farm {__version__}", offers=OFFERS)

    @app.get("/v3/account", tags=["account"])
    def account() -> Account:
        """Say who is signed in, and what is left to spend."""
        with store.reading() as session:
            jobs = session.scalars(select(FarmJobRow))
            spent = sum((job_cost(session, job, price * jump(), increment) for job in jobs), Decimal(0))
            balance = settings.balance + paid_in(session) - spent
        return Account(user="wrangler", balance=balance.quantize(Decimal("0.01")), currency="EUR")

    app.include_router(upload_routes(blobs))

    @app.post("/v3/crates", status_code=201, tags=["deliver"])
    def register(content: PackingList) -> Registered:
        """Assemble a crate from blobs that are there, and read its scene."""
        name = content.digest[:24]
        target = scheduler.crate_folder(name)
        if not (target / ".scene").is_file():
            _assemble(content, target, blobs.path)
        blobs.sync()
        return Registered(crate=name, reading=scheduler.read(target, content.scene))

    def checked(order: JobOrder) -> None:
        if not _CRATE.fullmatch(order.crate) or not (scheduler.crate_folder(order.crate) / ".scene").is_file():
            raise HTTPException(404, "there is no such crate")
        if trouble := refusal(order, settings):
            raise HTTPException(422, trouble)
        folder = scheduler.crate_folder(order.crate)
        # raises, as plain words, for a scene that none of its programs renders
        program_for(folder / (folder / ".scene").read_text(encoding="utf-8"), settings)

    @app.post("/v3/jobs", status_code=201, tags=["submit"])
    def submit(order: JobOrder) -> Submitted:
        """Take an order. The same key twice makes one job."""
        checked(order)
        with store.writing() as session:
            known = session.scalar(select(FarmJobRow).where(FarmJobRow.key == order.key))
            if known is not None:
                return Submitted(job=known.id)
            job = add_job(session, order, _in_order(order))
            job.factor = price_factor(order, settings)
            job.priority = (settings.priority(order.priority) or FarmPriority(name="usual")).rank
            job.tests = sum(1 for _ in tasks_of(order.tests, order.requests)) if order.start is Start.TESTED else 0
            job.begins = (JobState.HELD if order.start is Start.HELD else JobState.WAITING).value
            waits = {"quote": JobState.QUOTING, "payment": JobState.UNPAID}
            job.state = next((waits[one].value for one in settings.waits_for), job.begins)
            name = job.id
        scheduler.wake()
        return Submitted(job=name)

    @app.post("/v3/quotes", tags=["quote"])
    def quote(order: JobOrder) -> FarmQuote:
        """Say what an order would cost. A synthetic farm knows its own law; a real one says what it would guess."""
        checked(order)
        return own_quote(order, settings)

    @app.get("/v3/jobs/{name}", tags=["changes"])
    def summary(name: str) -> JobSummary:
        """Say how a job stands, in short."""
        with store.reading() as session:
            job = job_of(session, name)
            latest = max((shift.free_at for shift in shifts_of(session, job)), default=0.0)
            return JobSummary(
                job=job.id,
                state=JobState(job.state),
                submitted=job.moment(0),
                now=job.moment(latest),
                cost=job_cost(session, job, price * jump(), increment).quantize(Decimal("0.0001")),
                currency="EUR",
                counts=job.counts(),
                cursor=str(job.cursor),
                refunded=job.refunded.quantize(Decimal("0.0001")),
                offer=FarmQuote.model_validate_json(job.offer) if job.offer else None,
                why=job.why,
            )

    @app.get("/v3/jobs/{name}/tasks", tags=["changes"])
    def tasks(
        name: str,
        begin: Annotated[int, Query(ge=0, lt=2**63)] = 0,
        limit: Annotated[int, Query(ge=1, le=PAGE)] = PAGE,
    ) -> TaskPage:
        """List all tasks in their order, a page of them."""
        with store.reading() as session:
            job = job_of(session, name)
            query = select(TaskRow).where(TaskRow.job_id == job.id, TaskRow.position >= begin)
            rows = list(session.scalars(query.order_by(TaskRow.position).limit(limit + 1)))
            ids = [row.id for row in rows[:limit] if row.attempts]
            attempts = session.scalars(select(AttemptRow).where(AttemptRow.task_id.in_(ids)).options(*_WITH))
            latest: dict[int, AttemptRow] = {}
            for attempt in attempts:
                if attempt.task_id not in latest or latest[attempt.task_id].number < attempt.number:
                    latest[attempt.task_id] = attempt
            number = _numbering(job, settings)
            found = [
                _change(job, latest[row.id], number, hostile)
                if row.id in latest
                else TaskChange(task=row.task(), attempt=Attempt(number=0, state=TaskState(row.state), cost=Decimal(0)))
                for row in rows[:limit]
            ]
        return TaskPage(tasks=tuple(found), next=rows[limit].position if len(rows) > limit else None)

    def changes_since(name: str, since: str, limit: int = PAGE) -> Changes:
        if since and not (since.isascii() and since.isdigit() and len(since) < 19):
            raise HTTPException(422, "not a cursor of this farm")
        last = int(since or 0)
        with store.reading() as session:
            job = job_of(session, name)
            if last > job.cursor:
                raise HTTPException(422, "a cursor from the future: the farm has lost its state")
            attempts = select(AttemptRow).where(AttemptRow.job_id == job.id, AttemptRow.changed > last)
            changed = list(session.scalars(attempts.options(*_WITH).order_by(AttemptRow.changed).limit(limit + 1)))
            more = len(changed) > limit
            upto = changed[limit - 1].changed if more else job.cursor
            number = _numbering(job, settings)
            shifts = select(ShiftRow).where(
                ShiftRow.job_id == job.id, ShiftRow.changed > last, ShiftRow.changed <= upto
            )
            return Changes(
                cursor=str(upto),
                more=more,
                tasks=tuple(_change(job, attempt, number, hostile) for attempt in changed[:limit]),
                nodes=tuple(_node(job, shift, price * jump(), increment) for shift in session.scalars(shifts)),
            )

    @app.get("/v3/jobs/{name}/changes", tags=["changes"], response_model=Changes)
    def changes(name: str, since: str = "", limit: Annotated[int, Query(ge=1, le=PAGE)] = PAGE) -> Response:
        """List what has changed since a cursor, the oldest first."""
        # written here: the framework would check each of a thousand changes once more
        return Response(changes_since(name, since, limit).model_dump_json(), media_type="application/json")

    @app.get("/v3/jobs/{name}/events", tags=["changes"], response_class=StreamingResponse)
    def events(
        name: str,
        since: str = "",
        limit: Annotated[int, Query(ge=1, le=PAGE)] = PAGE,
        last_event_id: Annotated[str, Header()] = "",
    ) -> StreamingResponse:
        """Stream the same changes as server-sent events. The id of an event is the cursor after it."""
        cursor = last_event_id or since
        changes_since(name, cursor, 1)

        async def stream() -> AsyncIterator[str]:
            nonlocal cursor
            quiet = 0.0
            while True:
                found = await asyncio.to_thread(changes_since, name, cursor, limit)
                if found.cursor != (cursor or "0"):
                    cursor, quiet = found.cursor, 0.0
                    yield f"id: {cursor}\ndata: {found.model_dump_json()}\n\n"
                if not found.more:
                    await asyncio.sleep(LISTEN)
                    quiet += LISTEN
                    if quiet >= ALIVE:
                        quiet = 0.0
                        yield ": still here\n\n"

        return StreamingResponse(stream(), media_type="text/event-stream")

    @app.get("/v3/jobs/{name}/logs/{log}", tags=["changes"], responses=TEXT)
    def log(name: str, log: Annotated[int, PathParameter(ge=0, lt=2**63)]) -> Response:
        """Give out the log of an attempt."""
        with store.reading() as session:
            row = session.get(AttemptRow, log)
            if row is None or row.job_id != name:
                raise HTTPException(404, "there is no such log")
            return PlainTextResponse(row.log or "")

    @app.post("/v3/jobs/{name}/control", tags=["control"])
    def control(name: str, order: ControlOrder) -> Response:
        """Carry out one action on a job. The same key twice is carried out once."""
        with store.writing() as session:
            job = job_of(session, name)
            if session.get(KeyRow, order.key) is None:
                session.add(KeyRow(key=order.key))
                _carry_out(session, job, order, price, increment)
        scheduler.wake()
        return Response(status_code=204)

    app.include_router(product_routes(store, settings))

    @app.post("/faults", include_in_schema=False)
    def faults(switched: dict[str, Annotated[float, Field(allow_inf_nan=False)]]) -> Response:
        """Switch faults of the line on and off."""
        line.switch(switched)
        return Response(status_code=204)

    @app.get("/repeated", include_in_schema=False)
    def repeated() -> dict[str, int]:
        """Say how many bytes arrived that were here already."""
        return {"bytes": blobs.repeated}

    @app.post("/pay", include_in_schema=False)
    def pay(amount: Annotated[Amount, Query(ge=0)]) -> Response:
        """Pay money in."""
        with store.writing() as session:
            session.add(PaymentRow(amount=amount))
        scheduler.wake()
        return Response(status_code=204)

    @app.get("/openapi.json", include_in_schema=False)
    def described() -> dict[str, Any]:
        return app.openapi()

    @app.post("/shutdown", include_in_schema=False)
    def shutdown() -> Response:
        stop()
        return Response(status_code=204)

    return app


def _carry_out(session: Session, job: FarmJobRow, order: ControlOrder, price: Decimal, increment: int) -> None:
    under_way = job.state in (JobState.WAITING.value, JobState.RENDERING.value)
    match order.action:
        case Action.PAUSE if under_way:
            job.state = JobState.PAUSED.value
        case Action.RESUME if job.state == JobState.OFFERED.value:
            # the offer is accepted
            job.state = JobState.UNPAID.value
        case Action.RESUME if job.state in (JobState.PAUSED.value, JobState.HELD.value):
            job.state, job.why = JobState.RENDERING.value, ""
            if order.cap is not None:
                job.order = job.job_order().model_copy(update={"cap": order.cap}).model_dump_json()
        case Action.CANCEL if not JobState(job.state).ended:
            _refund(session, job, price, increment)
            job.state = JobState.CANCELLED.value
            call_off(session, job)
            for shift in shifts_of(session, job):
                shift.over, shift.changed = True, job.next_change()
        case Action.PRIORITY:
            job.priority = 50 if order.priority is None else order.priority
        case Action.RERENDER:
            _rerender(session, job, order)
        case Action.REJECT:
            _take_off(session, job, order)


def _row_of(session: Session, job: FarmJobRow, task: Task) -> TaskRow | None:
    columns = (TaskRow.request, TaskRow.view, TaskRow.frame, TaskRow.tile, TaskRow.share)
    is_task = (column == value for column, value in zip(columns, task.key, strict=True))
    return session.scalar(select(TaskRow).where(TaskRow.job_id == job.id, *is_task))


def _take_off(session: Session, job: FarmJobRow, order: ControlOrder) -> None:
    """Refund the cost of the last attempt of each rejected task, once."""
    for task in tasks_of(order.tasks, job.job_order().requests):
        row = _row_of(session, job, task)
        if row is None:
            continue
        attempt = session.scalar(
            select(AttemptRow).where(AttemptRow.task_id == row.id, AttemptRow.number == row.attempts)
        )
        if attempt is not None and not attempt.rejected and TaskState(attempt.state) is TaskState.DONE:
            attempt.rejected = True
            job.refunded += attempt.cost


def _refund(session: Session, job: FarmJobRow, price: Decimal, increment: int) -> None:
    """Refund what was paid in advance by progress; all of it where the farm itself lost a node of the job."""
    lost = select(AttemptRow.id).where(AttemptRow.job_id == job.id, AttemptRow.error == NODE_LOST).limit(1)
    spent = job_cost(session, job, price, increment)
    if session.scalar(lost) is not None:
        job.refunded += spent
        # and what a node finishes after this is not billed either
        job.fixed = job.refunded
    elif job.fixed is not None:
        counts = job.counts()
        job.refunded += (job.fixed * (counts.total - counts.done) / max(1, counts.total)).quantize(Decimal("0.01"))


def _in_order(order: JobOrder) -> Iterator[Task]:
    """The tasks of an order, test frames first."""
    first = dict.fromkeys(tasks_of(order.tests, order.requests)) if order.start is Start.TESTED else {}
    yield from first
    yield from (task for task in tasks_of(order.tasks, order.requests) if task not in first)


def _numbering(job: FarmJobRow, settings: FarmSettings) -> Callable[[Task], Task]:
    """Return how this farm names a task: by its own number, or by the frame's place in the order, from zero."""
    if not settings.from_zero:
        return lambda task: task
    order = job.job_order()
    places: dict[str, dict[int, int]] = {}
    for request in order.requests:
        frames = {frame for one in order.tasks if one.request == request.name for frame in parse_frames(one.frames)}
        places[request.name] = {frame: place for place, frame in enumerate(sorted(frames))}
    return lambda task: replace(task, frame=places[task.request][task.frame])


def _rerender(session: Session, job: FarmJobRow, order: ControlOrder) -> None:
    for task in tasks_of(order.tasks, job.job_order().requests):
        row = _row_of(session, job, task)
        if row is None or not TaskState(row.state).ended:
            continue
        row.attempts += 1
        attempt = AttemptRow(
            job_id=job.id, task_id=row.id, number=row.attempts, state=TaskState.WAITING.value, cost=Decimal(0),
            changed=job.next_change(),
        )  # fmt: skip
        session.add(attempt)
        move(job, row, TaskState.WAITING)
        job.state = JobState.RENDERING.value


def _assemble(content: PackingList, target: Path, blob_path: Callable[[str], Path]) -> None:
    """Build the crate's folder from its blobs: a hard link each, a copy where links do not work."""
    if trouble := _impossible(content):
        raise HTTPException(422, trouble)
    lacking = [file.path for file in content.files if not blob_path(file.blake3).is_file()]
    if lacking:
        raise HTTPException(409, f"blobs are missing, first of {lacking[0]}")
    draft = target.with_name(f"{target.name}.{secrets.token_hex(4)}.part")
    try:
        made: set[str] = set()
        for file in content.files:
            path, blob = inside(draft, file.path), blob_path(file.blake3)
            parent = file.path.rpartition("/")[0]
            if parent not in made:
                path.parent.mkdir(parents=True, exist_ok=True)
                made.add(parent)
            try:
                os.link(blob, path)
            except OSError:
                shutil.copyfile(blob, path)
        write_bytes(draft / ".scene", content.scene.encode())
        if target.exists():
            shutil.rmtree(target)
        draft.replace(target)
    except OSError as error:
        raise HTTPException(422, f"the crate cannot be unpacked here ({os_reason(error)})") from error
    finally:
        shutil.rmtree(draft, ignore_errors=True)


# characters of a path in a crate, and bytes of one name in it
MOST_PATH, MOST_NAME = 1000, 255


def _impossible(content: PackingList) -> str | None:
    """Return why no folder can hold these files, None where one can."""
    places = [file.path for file in content.files]
    if not places:
        return "the crate holds no files"
    if content.scene not in places:
        return "the crate's scene is not among its files"
    known = set(places)
    if len(known) != len(places):
        return "the crate lists a file twice"
    for place in places:
        parts = place.split("/")
        if len(place) > MOST_PATH or any(len(part.encode("utf-8", "replace")) > MOST_NAME for part in parts):
            return f"a path is too long: {place[:80]}"
        if any("/".join(parts[:at]) in known for at in range(1, len(parts))):
            return f"a file is below another file: {place[:80]}"
        inside(Path(), place)
    return None


def _change(job: FarmJobRow, row: AttemptRow, number: Callable[[Task], Task], hostile: frozenset[int]) -> TaskChange:
    """hostile: frames whose node has a name that leads elsewhere."""
    node = row.node if row.task.frame not in hostile or row.node is None else f"../../{row.node}"
    return TaskChange(
        task=number(row.task.task()),
        attempt=Attempt(
            number=row.number,
            state=TaskState(row.state),
            node=node,
            began=None if row.began is None else job.moment(row.began),
            ended=None if row.ended is None else job.moment(row.ended),
            billed=row.seconds,
            cost=row.cost,
            error=row.error,
            log=str(row.id) if row.log else "",
        ),
        products=tuple(Product(output=p.output, key=p.key, blake3=p.blake3, bytes=p.bytes) for p in row.products),
    )


def _node(job: FarmJobRow, shift: ShiftRow, price: Decimal, increment: int) -> NodeChange:
    return NodeChange(
        name=shift.node,
        began=job.moment(shift.began),
        until=job.moment(shift.free_at),
        tasks=shift.frames,
        gone=shift.over,
        cost=shift_cost(shift, price * job.factor, increment).quantize(Decimal("0.0001")),
    )
