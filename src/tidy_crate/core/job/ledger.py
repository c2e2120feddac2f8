"""The ledger: every job, where it was sent, and what became of each product. In SQLite; it survives any crash."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import ForeignKey, UniqueConstraint, func, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.database import open_database
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.job.identity import TaskId


class Base(DeclarativeBase):
    """Declarative base."""


class JobRow(Base):
    """One job: a crate that was sent. packing: its packing list as JSON; into: where its frames were last brought."""

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(primary_key=True)
    created: Mapped[str]
    crate: Mapped[str]
    packing: Mapped[str]
    into: Mapped[str | None]
    estimate_low: Mapped[str | None]
    estimate_likely: Mapped[str | None]
    estimate_high: Mapped[str | None]
    submissions: Mapped[list[SubmissionRow]] = relationship(order_by="SubmissionRow.id")
    products: Mapped[list[ProductRow]] = relationship()

    def packing_list(self) -> PackingList:
        """The crate's packing list as it was sent."""
        return PackingList.model_validate_json(self.packing)


class SubmissionRow(Base):
    """One job at one farm. key: makes repeats of one submission one job; farm_job: None until the farm confirmed."""

    __tablename__ = "submission"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"))
    farm: Mapped[str]
    card: Mapped[str]
    key: Mapped[str]
    order: Mapped[str]
    farm_job: Mapped[str | None]
    state: Mapped[str]
    cost: Mapped[str] = mapped_column(default="0")
    currency: Mapped[str]
    uploaded_bytes: Mapped[int] = mapped_column(default=0)
    reused_bytes: Mapped[int] = mapped_column(default=0)


class ProductRow(Base):
    """One output of one task: which attempt is at home, and how it was judged."""

    __tablename__ = "product"
    __table_args__ = (UniqueConstraint("job_id", "request", "frame", "tile", "share", "output"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"))
    request: Mapped[str]
    frame: Mapped[int]
    # -1 stands for "not split": a NULL would make no two rows alike
    tile: Mapped[int] = mapped_column(default=-1)
    share: Mapped[int] = mapped_column(default=-1)
    output: Mapped[str]
    attempt: Mapped[int] = mapped_column(default=0)
    path: Mapped[str | None]
    blake3: Mapped[str | None]
    bytes: Mapped[int | None]
    verdict: Mapped[str | None]
    reasons: Mapped[str | None]

    def task(self) -> TaskId:
        """The task it belongs to."""
        return TaskId(
            request=self.request,
            frame=self.frame,
            tile=None if self.tile < 0 else self.tile,
            share=None if self.share < 0 else self.share,
        )


class Ledger:
    """Opens the ledger's database, made where it is not there yet. `with ledger.session() as s:` is one transaction."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._engine = open_database(path)
            Base.metadata.create_all(self._engine)
        except (SQLAlchemyError, OSError) as error:
            raise UnreadableInput(f"cannot open the ledger ({str(error).splitlines()[0]})", path) from error

    def session(self) -> Session:
        """A session whose objects stay usable after it is committed."""
        return Session(self._engine, expire_on_commit=False)

    def close(self) -> None:
        """Let go of the file, which Windows would not let anybody remove otherwise."""
        self._engine.dispose()


def new_job(session: Session, crate: Path, content: PackingList) -> JobRow:
    """Enter a job. Its name is the crate's with a running number."""
    number = session.scalar(select(func.count()).select_from(JobRow).where(JobRow.id.like(f"{content.name}-%"))) or 0
    while session.get(JobRow, f"{content.name}-{number + 1}") is not None:
        number += 1
    job = JobRow(
        id=f"{content.name}-{number + 1}",
        created=datetime.now(UTC).isoformat(timespec="seconds"),
        crate=str(crate),
        packing=content.model_dump_json(),
    )
    session.add(job)
    for request in content.requests:
        for frame in request.numbers():
            for output in request.outputs:
                session.add(ProductRow(job_id=job.id, request=request.name, frame=frame, output=output))
    session.flush()
    return job


def new_key() -> str:
    """A key for a submission, which no other has."""
    return secrets.token_hex(12)


def job_named(session: Session, name: str) -> JobRow:
    """A job by its name. Raises WrongUsage when there is none."""
    job = session.get(JobRow, name)
    if job is None:
        raise WrongUsage("no job has that name", name, "jobs lists them")
    return job


def all_jobs(session: Session) -> list[JobRow]:
    """All jobs, the newest first."""
    return list(session.scalars(select(JobRow).order_by(JobRow.created.desc(), JobRow.id.desc())))
