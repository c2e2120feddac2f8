"""The tables of the ledger. A change here needs a migration in `migrations/versions`."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from decimal import Decimal
from typing import TYPE_CHECKING

from sqlalchemy import BigInteger, ForeignKey, Index, String, Text, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

from tidy_crate.core.database import Money, PathText, kept
from tidy_crate.core.work.attempt import Attempt, Verdict
from tidy_crate.core.work.task import WHOLE, Task, TaskState

if TYPE_CHECKING:
    from tidy_crate.core.crate.packing import PackingList


class Base(DeclarativeBase):
    """Declarative base."""


class JobRow(Base):
    """One job: a crate that was sent."""

    __tablename__ = "job"
    __table_args__ = (UniqueConstraint("name", "number"),)
    id: Mapped[str] = mapped_column(String(200), primary_key=True)
    """`NAME-NUMBER`."""
    name: Mapped[str] = mapped_column(String(180))
    """The crate's name."""
    number: Mapped[int]
    """Counted from 1 for each name; never given twice."""
    created: Mapped[str] = mapped_column(String(40))
    """UTC, ISO 8601."""
    crate: Mapped[str] = mapped_column(PathText)
    packing: Mapped[str] = mapped_column(Text)
    """The packing list as it was sent, as JSON."""
    into: Mapped[str | None] = mapped_column(PathText)
    """The folder that its frames were last brought to."""
    home_folders: Mapped[str | None] = mapped_column(Text)
    """The pattern of the folders below it; None for the crate's own."""
    reviewed: Mapped[str | None] = mapped_column(String(40))
    """When its frames were last reviewed; UTC, ISO 8601."""
    estimate_low: Mapped[Decimal | None] = mapped_column(Money)
    estimate_likely: Mapped[Decimal | None] = mapped_column(Money)
    estimate_high: Mapped[Decimal | None] = mapped_column(Money)
    estimate_currency: Mapped[str | None] = mapped_column(String(3))
    submissions: Mapped[list[SubmissionRow]] = relationship(order_by="SubmissionRow.number", back_populates="job")

    def packing_list(self) -> PackingList:
        """Return the crate's packing list as it was sent, with the folders that its frames are retrieved into."""
        from tidy_crate.core.crate.packing import packing_list_of

        return packing_list_of(self.packing, self.id).with_home_folders(self.home_folders)


class SubmissionRow(Base):
    """One job at one farm."""

    __tablename__ = "submission"
    __table_args__ = (UniqueConstraint("job_id", "number"), UniqueConstraint("key"))
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id"), index=True)
    number: Mapped[int]
    """Counted from 1 in its job."""
    farm: Mapped[str] = mapped_column(String(60))
    card: Mapped[str] = mapped_column(Text)
    """Path of the farm's card."""
    site: Mapped[str] = mapped_column(Text, default="")
    """The mark or address that tells this farm from others, see `FarmCard.site`; empty for a submission of before."""
    account: Mapped[str] = mapped_column(String(200), default="")
    """Who was signed in there; empty where the farm does not say."""
    key: Mapped[str] = mapped_column(String(80))
    """Makes repeats of one submission one job at the farm."""
    order: Mapped[str] = mapped_column(Text)
    """The order as JSON; empty for one that was made before orders named their tasks."""
    farm_job: Mapped[str | None] = mapped_column(String(200))
    """The farm's name for it, None until the farm confirmed."""
    state: Mapped[str] = mapped_column(String(20))
    cost: Mapped[Decimal] = mapped_column(Money, default=Decimal(0))
    currency: Mapped[str] = mapped_column(String(3))
    tasks: Mapped[int] = mapped_column(default=0)
    """Number of tasks that were ordered."""
    products: Mapped[int] = mapped_column(default=0)
    """Number of files that they will leave."""
    uploaded_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    reused_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    cursor: Mapped[str] = mapped_column(String(200), default="")
    """Up to where the farm's changes are known here."""
    began: Mapped[str | None] = mapped_column(String(40))
    """When the farm took it, by the farm's clock; UTC, ISO 8601."""
    cap: Mapped[Decimal | None] = mapped_column(Money)
    """The limit on its cost; None for no limit."""
    refunded: Mapped[Decimal] = mapped_column(Money, default=Decimal(0))
    """Taken off the bill again; `cost` is what is left."""
    why: Mapped[str] = mapped_column(Text, default="")
    """Why it is paused, where that was not asked for."""
    offer: Mapped[str | None] = mapped_column(Text)
    """The farm's own quote for it, as JSON."""
    given_up: Mapped[bool] = mapped_column(default=False)
    """True if its tasks were handed over to other farms."""
    billing: Mapped[bool] = mapped_column(default=False)
    """True if machines that were rented for it are still paid for."""
    seen: Mapped[str | None] = mapped_column(String(40))
    """When the farm was last heard, by the farm's clock; UTC, ISO 8601."""
    heard: Mapped[str | None] = mapped_column(String(40))
    """The same by our own clock, to half a minute."""
    told: Mapped[str] = mapped_column(String(40), default="")
    """The state that was last told by mail or web hook."""
    estimate: Mapped[str | None] = mapped_column(Text)
    """The quote that it was sent with, as JSON; None where there was none."""
    to_tell: Mapped[str] = mapped_column(Text, default="")
    """Orders that the farm is still to be told, as JSON lines: it did not answer when they were made."""
    job: Mapped[JobRow] = relationship(back_populates="submissions")


class AttemptRow(Base):
    """One try at a task. A task without a row is waiting."""

    __tablename__ = "attempt"
    __table_args__ = (
        UniqueConstraint("submission_id", "request", "view", "frame", "tile", "share", "number"),
        Index("attempt_by_state", "submission_id", "state"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    submission_id: Mapped[int] = mapped_column(ForeignKey("submission.id"))
    request: Mapped[str] = mapped_column(String(40))
    view: Mapped[str] = mapped_column(String(40), default="")
    frame: Mapped[int]
    tile: Mapped[int] = mapped_column(default=WHOLE)
    share: Mapped[int] = mapped_column(default=WHOLE)
    number: Mapped[int]
    latest: Mapped[bool] = mapped_column(default=True)
    """True if no later attempt at this task is known."""
    state: Mapped[str] = mapped_column(String(20))
    node: Mapped[str | None] = mapped_column(String(200))
    began: Mapped[str | None] = mapped_column(String(40))
    ended: Mapped[str | None] = mapped_column(String(40))
    billed: Mapped[float | None]
    cost: Mapped[Decimal] = mapped_column(Money, default=Decimal(0))
    error: Mapped[str | None] = mapped_column(Text)
    log: Mapped[str] = mapped_column(String(200), default="")

    def task(self) -> Task:
        """The task it is a try at."""
        return Task.of_key(self.request, self.view, self.frame, self.tile, self.share)

    def attempt(self) -> Attempt:
        """The same as a model."""
        return Attempt(
            number=self.number,
            state=kept(TaskState, self.state, "a state"),
            node=self.node,
            began=from_text(self.began),
            ended=from_text(self.ended),
            billed=self.billed,
            cost=self.cost,
            error=self.error,
            log=self.log,
        )


# the columns that are the key of an attempt's task, in its order
TASK_KEY = (AttemptRow.request, AttemptRow.view, AttemptRow.frame, AttemptRow.tile, AttemptRow.share)


class ProductRow(Base):
    """One output of one attempt."""

    __tablename__ = "product"
    __table_args__ = (UniqueConstraint("attempt_id", "output"), Index("product_by_home", "home"))
    id: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"))
    output: Mapped[str] = mapped_column(String(200))
    key: Mapped[str] = mapped_column(Text)
    """The farm's name for the file."""
    bytes: Mapped[int] = mapped_column(BigInteger)
    blake3: Mapped[str] = mapped_column(String(64))
    version: Mapped[str] = mapped_column(String(100), default="", server_default="")
    """Another text for another file, where the farm gives no digest."""
    home: Mapped[bool] = mapped_column(default=False)
    """True if it is on this side, verified."""
    path: Mapped[str | None] = mapped_column(PathText)
    """Its path on this side."""
    mark: Mapped[str | None] = mapped_column(String(120))
    """Its size, time and inode when it was verified: while they hold it is not read again."""
    in_use: Mapped[bool] = mapped_column(default=False)
    """True if it is the one that counts for its task and output; others are set aside."""
    verdict: Mapped[str | None] = mapped_column(String(20))
    reasons: Mapped[str | None] = mapped_column(Text)
    """JSON, a list of sentences."""
    decision: Mapped[str | None] = mapped_column(String(20))
    """The verdict that a person decided on, which no review changes; None without a decision."""
    because: Mapped[str | None] = mapped_column(Text)
    """Why it was decided so."""
    attempt: Mapped[AttemptRow] = relationship()

    def judged(self) -> Verdict | None:
        """Its verdict, None before a review."""
        return None if self.verdict is None else kept(Verdict, self.verdict, "a verdict")


class AcceptanceRow(Base):
    """A frame that was accepted although it is unlike its neighbours: for all jobs of a crate's name."""

    __tablename__ = "acceptance"
    __table_args__ = (UniqueConstraint("name", "view", "output", "frame"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(180))
    """The crate's name."""
    view: Mapped[str] = mapped_column(String(40), default="")
    output: Mapped[str] = mapped_column(String(200))
    frame: Mapped[int]
    because: Mapped[str] = mapped_column(Text)
    accepted: Mapped[str] = mapped_column(String(40))
    """UTC, ISO 8601."""


class NodeRow(Base):
    """A machine's time on a submission, from start-up until it was let go: one that comes again has another row."""

    __tablename__ = "node"
    __table_args__ = (UniqueConstraint("submission_id", "name", "began"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    submission_id: Mapped[int] = mapped_column(ForeignKey("submission.id"))
    name: Mapped[str] = mapped_column(String(200))
    began: Mapped[str] = mapped_column(String(40))
    until: Mapped[str] = mapped_column(String(40))
    tasks: Mapped[int]
    cost: Mapped[Decimal] = mapped_column(Money)
    gone: Mapped[bool] = mapped_column(default=False)
    """True if it is off the clock."""


def sentences(text: str | None) -> tuple[str, ...]:
    """The reasons of a verdict, from how they are stored; none for None."""
    return tuple(kept(json.loads, text, "reasons")) if text else ()


def to_text(time: datetime | None) -> str | None:
    """A point in time as it is stored: UTC, ISO 8601."""
    return None if time is None else time.astimezone(UTC).isoformat()


def seconds_between(begin: str | None, end: str | None) -> float:
    """Return the seconds between two points in time as they are stored; 0 where one is not known, or they go back."""
    first, last = from_text(begin or None), from_text(end or None)
    return max(0.0, (last - first).total_seconds()) if first and last else 0.0


def from_text(text: str | None) -> datetime | None:
    """The inverse of `to_text`."""
    return None if text is None else kept(datetime.fromisoformat, text, "a time")
