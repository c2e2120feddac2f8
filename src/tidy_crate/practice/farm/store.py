"""The farm's state, in SQLite, so that it survives a kill."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from decimal import ROUND_CEILING, Decimal
from pathlib import Path

from sqlalchemy import ForeignKey, Index, Text, UniqueConstraint, func, insert, select, update
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship

from tidy_crate.core.database import Database, Money
from tidy_crate.core.farm.protocol import Counts, JobOrder, JobState
from tidy_crate.core.work.task import Task, TaskState

AT_ONCE = 5000


class Base(DeclarativeBase):
    """Declarative base."""


class FarmJobRow(Base):
    """A job. waiting … cancelled: its tasks by state, kept by `move`, so that they need not be counted."""

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    order: Mapped[str] = mapped_column(Text)
    state: Mapped[str]
    submitted: Mapped[str]
    """UTC, ISO 8601."""
    priority: Mapped[int] = mapped_column(default=50)
    cursor: Mapped[int] = mapped_column(default=0)
    """Number of the last change."""
    factor: Mapped[Decimal] = mapped_column(Money, default=Decimal(1))
    """On every price: of its priority, and of reclaimable machines."""
    tests: Mapped[int] = mapped_column(default=0)
    """Number of its first tasks that are test frames, after which it is held; 0 for none."""
    begins: Mapped[str] = mapped_column(default="")
    """The state in which it goes on once its quote is accepted and it is paid."""
    offer: Mapped[str | None] = mapped_column(Text)
    """The farm's own quote, as JSON."""
    fixed: Mapped[Decimal | None] = mapped_column(Money)
    """Amount that was paid in advance; None where its time is billed."""
    refunded: Mapped[Decimal] = mapped_column(Money, default=Decimal(0))
    why: Mapped[str] = mapped_column(Text, default="")
    """Why the farm paused it."""
    waiting: Mapped[int] = mapped_column(default=0)
    rendering: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    failed: Mapped[int] = mapped_column(default=0)
    cancelled: Mapped[int] = mapped_column(default=0)

    def job_order(self) -> JobOrder:
        """Return what was ordered."""
        return JobOrder.model_validate_json(self.order)

    def counts(self) -> Counts:
        """Its tasks by state."""
        return Counts(
            waiting=self.waiting,
            rendering=self.rendering,
            done=self.done,
            failed=self.failed,
            cancelled=self.cancelled,
        )

    def moment(self, seconds: float) -> datetime:
        """A point on the event clock, which counts seconds of farm time since submission."""
        return datetime.fromisoformat(self.submitted) + timedelta(seconds=seconds)

    def next_change(self) -> int:
        """The number of a new change."""
        self.cursor += 1
        return self.cursor


class TaskRow(Base):
    """A task."""

    __tablename__ = "task"
    __table_args__ = (
        UniqueConstraint("job_id", "position"),
        Index("task_by_state", "job_id", "state", "position"),
        Index("task_by_name", "job_id", "request", "view", "frame", "tile", "share"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"))
    position: Mapped[int]
    request: Mapped[str]
    view: Mapped[str]
    frame: Mapped[int]
    tile: Mapped[int]
    share: Mapped[int]
    state: Mapped[str]
    attempts: Mapped[int] = mapped_column(default=0)
    """Number of attempts."""

    def task(self) -> Task:
        """Its identity."""
        return Task.of_key(self.request, self.view, self.frame, self.tile, self.share)


class AttemptRow(Base):
    """A try at a task."""

    __tablename__ = "attempt"
    __table_args__ = (UniqueConstraint("task_id", "number"), Index("attempt_by_change", "job_id", "changed"))
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"))
    task_id: Mapped[int] = mapped_column(ForeignKey("task.id"))
    number: Mapped[int]
    state: Mapped[str]
    node: Mapped[str | None]
    began: Mapped[float | None]
    """Farm time."""
    ended: Mapped[float | None]
    """Farm time."""
    seconds: Mapped[float | None]
    """Farm time."""
    cost: Mapped[Decimal] = mapped_column(Money, default=Decimal(0))
    error: Mapped[str | None] = mapped_column(Text)
    log: Mapped[str | None] = mapped_column(Text)
    """Output of the node."""
    rejected: Mapped[bool] = mapped_column(default=False)
    """True if its frames were not taken, so that they are not paid."""
    changed: Mapped[int]
    """Number of the job's change that it was last part of."""
    task: Mapped[TaskRow] = relationship()
    products: Mapped[list[ProductRow]] = relationship(order_by="ProductRow.output", back_populates="attempt")


class ProductRow(Base):
    """A file that an attempt left."""

    __tablename__ = "product"
    key: Mapped[str] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"), index=True)
    output: Mapped[str]
    path: Mapped[str | None]
    """None for one that a synthetic node makes when it is asked for."""
    blake3: Mapped[str]
    bytes: Mapped[int]
    served: Mapped[int] = mapped_column(default=0)
    """Number of times that it was asked for."""
    attempt: Mapped[AttemptRow] = relationship(back_populates="products")


class ShiftRow(Base):
    """A node's time on one job, from start-up until it is let go, in seconds of farm time since submission."""

    __tablename__ = "shift"
    __table_args__ = (Index("shift_by_change", "job_id", "changed"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"), index=True)
    node: Mapped[str]
    began: Mapped[float]
    free_at: Mapped[float]
    frames: Mapped[int] = mapped_column(default=0)
    busy: Mapped[bool] = mapped_column(default=False)
    over: Mapped[bool] = mapped_column(default=False)
    speed: Mapped[float] = mapped_column(default=1.0)
    """Factor on the speed of the farm's nodes."""
    lost_at: Mapped[float | None]
    """When it is taken back; None where it stays."""
    changed: Mapped[int] = mapped_column(default=0)


class PaymentRow(Base):
    """Money that was paid in."""

    __tablename__ = "payment"
    id: Mapped[int] = mapped_column(primary_key=True)
    amount: Mapped[Decimal] = mapped_column(Money)


class KeyRow(Base):
    """Keys of orders that were carried out, so that a repeat is not carried out twice."""

    __tablename__ = "done_key"
    key: Mapped[str] = mapped_column(primary_key=True)


class Store(Database):
    """Opens the state. What was under way when the farm last stopped waits to be rendered again."""

    def __init__(self, path: Path) -> None:
        super().__init__(path, "state of the practice farm", synchronous="NORMAL")
        with self.connection() as connection:
            Base.metadata.create_all(connection)
        with self.writing() as session:
            for attempt in session.scalars(select(AttemptRow).where(AttemptRow.state == TaskState.RENDERING.value)):
                job = session.get_one(FarmJobRow, attempt.job_id)
                move(job, session.get_one(TaskRow, attempt.task_id), TaskState.WAITING)
                attempt.state, attempt.node, attempt.changed = TaskState.WAITING.value, None, job.next_change()
            for shift in session.scalars(select(ShiftRow).where(ShiftRow.busy)):
                shift.busy = False


def add_job(session: Session, order: JobOrder, tasks: Iterable[Task]) -> FarmJobRow:
    """Enter a job and its tasks."""
    number = (session.scalar(select(func.count()).select_from(FarmJobRow)) or 0) + 1
    submitted = datetime.now(UTC).isoformat(timespec="milliseconds")
    job = FarmJobRow(
        id=f"{number:06d}", key=order.key, order=order.model_dump_json(), state=JobState.WAITING.value,
        submitted=submitted, cursor=0, waiting=0, rendering=0, done=0, failed=0, cancelled=0, factor=Decimal(1),
        tests=0, begins="", refunded=Decimal(0), why="",
    )  # fmt: skip
    session.add(job)
    session.flush()
    rows: list[dict[str, object]] = []
    for position, task in enumerate(tasks):
        request, view, frame, tile, share = task.key
        rows.append(
            {
                "job_id": job.id, "position": position, "request": request, "view": view, "frame": frame, "tile": tile,
                "share": share, "state": TaskState.WAITING.value, "attempts": 0,
            }
        )  # fmt: skip
        if len(rows) == AT_ONCE:
            session.execute(insert(TaskRow), rows)
            job.waiting += len(rows)
            rows = []
    if rows:
        session.execute(insert(TaskRow), rows)
        job.waiting += len(rows)
    return job


def move(job: FarmJobRow, task: TaskRow, state: TaskState) -> None:
    """Give a task another state, and keep the job's counts."""
    if task.state != state.value:
        setattr(job, task.state, getattr(job, task.state) - 1)
        setattr(job, state.value, getattr(job, state.value) + 1)
        task.state = state.value


def call_off(session: Session, job: FarmJobRow) -> None:
    """Cancel all tasks that wait. Those that nothing happened to need no change of their own."""
    waiting = (TaskRow.job_id == job.id, TaskRow.state == TaskState.WAITING.value)
    for attempt in session.scalars(
        select(AttemptRow).where(AttemptRow.job_id == job.id, AttemptRow.state == TaskState.WAITING.value)
    ):
        attempt.state, attempt.changed = TaskState.CANCELLED.value, job.next_change()
    session.execute(update(TaskRow).where(*waiting).values(state=TaskState.CANCELLED.value))
    job.cancelled, job.waiting = job.cancelled + job.waiting, 0


def open_jobs(session: Session) -> list[FarmJobRow]:
    """Jobs with work left, by priority, then the oldest first."""
    states = (JobState.WAITING.value, JobState.RENDERING.value)
    query = select(FarmJobRow).where(FarmJobRow.state.in_(states)).order_by(FarmJobRow.priority.desc(), FarmJobRow.id)
    return list(session.scalars(query))


def every_job(session: Session) -> list[FarmJobRow]:
    """All jobs, the oldest first."""
    return list(session.scalars(select(FarmJobRow).order_by(FarmJobRow.id)))


def jobs_to_price(session: Session) -> list[FarmJobRow]:
    """Jobs that wait for the farm's quote, or for money."""
    states = (JobState.QUOTING.value, JobState.UNPAID.value)
    return list(session.scalars(select(FarmJobRow).where(FarmJobRow.state.in_(states)).order_by(FarmJobRow.id)))


def shifts_of(session: Session, job: FarmJobRow) -> list[ShiftRow]:
    """The shifts of a job, in the order in which they began."""
    return list(session.scalars(select(ShiftRow).where(ShiftRow.job_id == job.id).order_by(ShiftRow.id)))


def job_cost(session: Session, job: FarmJobRow, price_per_hour: Decimal, increment: int) -> Decimal:
    """Return what a job has cost: what was paid in advance, else every shift in whole billing increments. Refunds
    are off it.

    price_per_hour: of a machine, before the job's own factor.
    """
    if job.fixed is not None:
        return job.fixed - job.refunded
    price = price_per_hour * job.factor
    spent = sum((shift_cost(shift, price, increment) for shift in shifts_of(session, job)), Decimal(0))
    return max(Decimal(0), spent - job.refunded)


def paid_in(session: Session) -> Decimal:
    """Return what was paid in since the farm began."""
    return sum(session.scalars(select(PaymentRow.amount)), Decimal(0))


def shift_cost(shift: ShiftRow, price_per_hour: Decimal, increment: int) -> Decimal:
    """Return what one node's shift has cost, start-up included.

    Farm time is counted in whole increments, begun ones too.
    """
    lasted = Decimal(str(round(shift.free_at - shift.began, 6)))
    whole = (lasted / increment).to_integral_value(ROUND_CEILING) * increment
    return whole * price_per_hour / Decimal(3600)
