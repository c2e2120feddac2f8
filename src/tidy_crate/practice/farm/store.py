"""The farm's state, in SQLite, so that it survives a kill."""

from __future__ import annotations

from decimal import ROUND_CEILING, Decimal
from pathlib import Path

from sqlalchemy import ForeignKey, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship

from tidy_crate.core.database import open_database
from tidy_crate.core.farm.protocol import JobOrder, JobState, TaskState
from tidy_crate.core.job.identity import TaskId


class Base(DeclarativeBase):
    """Declarative base."""


class FarmJobRow(Base):
    """A job. key: of the submission, so that a repeat makes no second job."""

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    order: Mapped[str]
    state: Mapped[str]
    tasks: Mapped[list[TaskRow]] = relationship(order_by="TaskRow.position", back_populates="job")
    shifts: Mapped[list[ShiftRow]] = relationship(order_by="ShiftRow.id")

    def job_order(self) -> JobOrder:
        """What was ordered."""
        return JobOrder.model_validate_json(self.order)


class TaskRow(Base):
    """A task and its latest attempt. cpu_seconds: of that attempt; cost: of all."""

    __tablename__ = "task"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"), index=True)
    position: Mapped[int]
    request: Mapped[str]
    frame: Mapped[int]
    state: Mapped[str]
    attempt: Mapped[int] = mapped_column(default=0)
    node: Mapped[str | None]
    seconds: Mapped[float | None]
    cost: Mapped[str] = mapped_column(default="0")
    error: Mapped[str | None]
    job: Mapped[FarmJobRow] = relationship(back_populates="tasks")
    products: Mapped[list[ProductRow]] = relationship(cascade="all, delete-orphan")

    def task_id(self) -> TaskId:
        """Its identity."""
        return TaskId(request=self.request, frame=self.frame)


class ProductRow(Base):
    """A file that a task left. served: how often it was asked for."""

    __tablename__ = "product"
    key: Mapped[str] = mapped_column(primary_key=True)
    task_id: Mapped[int] = mapped_column(ForeignKey("task.id"), index=True)
    output: Mapped[str]
    path: Mapped[str]
    blake3: Mapped[str]
    bytes: Mapped[int]
    served: Mapped[int] = mapped_column(default=0)


class ShiftRow(Base):
    """A node's time on one job, from start-up until it is let go, in seconds of farm time since submission."""

    __tablename__ = "shift"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"), index=True)
    node: Mapped[str]
    began: Mapped[float]
    free_at: Mapped[float]
    frames: Mapped[int] = mapped_column(default=0)
    busy: Mapped[bool] = mapped_column(default=False)
    over: Mapped[bool] = mapped_column(default=False)


class KeyRow(Base):
    """Keys of orders that were carried out, so that a repeat is not carried out twice."""

    __tablename__ = "done_key"
    key: Mapped[str] = mapped_column(primary_key=True)


class Store:
    """Opens the state. What was under way when the farm last stopped waits to be rendered again."""

    def __init__(self, path: Path) -> None:
        self._engine = open_database(path, synchronous="NORMAL")
        Base.metadata.create_all(self._engine)
        with self.session() as session:
            for task in session.scalars(select(TaskRow).where(TaskRow.state == TaskState.RENDERING.value)):
                task.state = TaskState.WAITING.value
            for shift in session.scalars(select(ShiftRow).where(ShiftRow.busy)):
                shift.busy = False
            session.commit()

    def session(self) -> Session:
        """One transaction."""
        return Session(self._engine, expire_on_commit=False)

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()


def open_jobs(session: Session) -> list[FarmJobRow]:
    """Jobs with work left, the oldest first."""
    states = (JobState.WAITING.value, JobState.RENDERING.value)
    return list(session.scalars(select(FarmJobRow).where(FarmJobRow.state.in_(states)).order_by(FarmJobRow.id)))


def job_cost(job: FarmJobRow, price_per_hour: Decimal, increment: int) -> Decimal:
    """What a job has cost: every shift in whole billing increments."""
    return sum((shift_cost(shift, price_per_hour, increment) for shift in job.shifts), Decimal(0))


def shift_cost(shift: ShiftRow, price_per_hour: Decimal, increment: int) -> Decimal:
    """What one node's shift has cost, start-up included. Farm time is counted in whole increments, begun ones too."""
    lasted = Decimal(str(round(shift.free_at - shift.began, 6)))
    whole = (lasted / increment).to_integral_value(ROUND_CEILING) * increment
    return whole * price_per_hour / Decimal(3600)
