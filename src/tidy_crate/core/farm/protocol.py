"""What the tool and a farm say to each other (docs/farm-protocol.md). Other links translate into the same words."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from tidy_crate.core.model import FrameNumber, Name, Wire
from tidy_crate.core.money import Amount, Currency
from tidy_crate.core.work.attempt import Attempt, Digest, Product
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskRange

VERSION = 2
OLDEST = 2
# tasks in one answer
PAGE = 1000
Key = Annotated[str, Field(min_length=8, max_length=80)]


Cursor = Annotated[str, Field(max_length=200)]
Count = Annotated[int, Field(ge=0, lt=2**31)]


class Capability(StrEnum):
    """What a farm, or the way to reach it, can do."""

    DELIVER = "deliver"
    """Take in a crate, file by file, and say what it understood."""
    SUBMIT = "submit"
    """Take an order for tasks."""
    CHANGES = "changes"
    """Say how a job stands, and what has changed since."""
    FETCH = "fetch"
    """Give out products."""
    CONTROL = "control"
    """Pause, resume, cancel, raise the priority, render again."""
    QUOTE = "quote"
    """Say what an order will cost."""
    ACCOUNT = "account"
    """Say who is signed in and what is left to spend."""


class Hello(Wire):
    """The farm's answer to a first call."""

    protocol: int = Field(ge=1)
    """The newest version that it speaks."""
    oldest: int = Field(ge=1)
    """The oldest version that it speaks."""
    farm: Name
    offers: tuple[str, ...]
    """Its capabilities; one that is unknown here is left alone."""


class Blob(Wire):
    """The contents of a file, whatever it is called."""

    blake3: Digest
    bytes: int = Field(ge=0, lt=2**63)


class BlobList(Wire):
    """Blobs that are asked about."""

    blobs: tuple[Blob, ...]


class Account(Wire):
    """Who is signed in, and what is left to spend."""

    user: Name
    balance: Amount
    currency: Currency


class Reading(Wire):
    """What the farm itself understood of a crate."""

    start: FrameNumber | None
    end: FrameNumber | None
    fps: float
    outputs: dict[str, tuple[str, ...]]
    """Passes by output."""
    resolution: tuple[int, int] | None
    """Pixels of the first output."""
    camera: str | None
    """Camera of the first output."""
    missing: tuple[str, ...]
    """Paths that it cannot find."""


class Registered(Wire):
    """A crate that the farm has complete."""

    crate: Name
    """The farm's name for it."""
    reading: Reading


class JobOrder(Wire):
    """A submission: the tasks that this farm is to render."""

    key: Key
    """The same for every repeat of one submission, so that it is made once."""
    crate: Name
    requests: tuple[RenderRequest, ...] = Field(min_length=1)
    tasks: tuple[TaskRange, ...] = Field(min_length=1)
    batch: int = Field(ge=1, le=100_000)
    """Tasks that a node takes at a time."""
    nodes: int = Field(ge=1, le=10_000)
    machine: Name
    outputs: dict[str, str] = Field(default_factory=dict)
    """By output, the path that the farm writes, in the form that its rules want; others as the scene says."""


class JobState(StrEnum):
    """How far a job is."""

    WAITING = "waiting"
    RENDERING = "rendering"
    PAUSED = "paused"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Whether nothing more happens to it by itself."""
        return self in (JobState.DONE, JobState.FAILED, JobState.CANCELLED)


class Counts(Wire):
    """Tasks of a job by state."""

    waiting: Count = 0
    rendering: Count = 0
    done: Count = 0
    failed: Count = 0
    cancelled: Count = 0

    @property
    def total(self) -> int:
        """All of them."""
        return self.waiting + self.rendering + self.done + self.failed + self.cancelled


class JobSummary(Wire):
    """A job in short, whatever its size."""

    job: Name
    state: JobState
    submitted: datetime
    """UTC, by the farm's clock."""
    now: datetime
    """UTC, by the farm's clock."""
    cost: Amount
    """Billed so far."""
    currency: Currency
    counts: Counts
    cursor: Cursor
    """The last change that there is."""


class TaskChange(Wire):
    """An attempt as it is now, with the files that it has left so far."""

    task: Task
    attempt: Attempt
    products: tuple[Product, ...] = ()


class NodeChange(Wire):
    """A machine that works on a job, as it is now."""

    name: Name
    began: datetime
    """UTC; when it went on the clock."""
    until: datetime
    """UTC; up to when its time is known to be billed."""
    tasks: Count
    """How many it has finished."""
    cost: Amount


class Changes(Wire):
    """What has changed since a cursor: at most a page, the oldest first."""

    cursor: Cursor
    """Ask with this one for what comes after."""
    more: bool
    """Whether there is more already."""
    tasks: tuple[TaskChange, ...] = ()
    nodes: tuple[NodeChange, ...] = ()


class TaskPage(Wire):
    """All tasks of a job in their order, a page of them. A task that nothing happened to yet has attempt number 0."""

    tasks: tuple[TaskChange, ...]
    next: Count | None
    """Where the next page begins, None after the last."""


class Submitted(Wire):
    """A submission that was taken."""

    job: Name


class Action(StrEnum):
    """What can be done about a job that was submitted."""

    PAUSE = "pause"
    RESUME = "resume"
    CANCEL = "cancel"
    PRIORITY = "priority"
    RERENDER = "rerender"


class ControlOrder(Wire):
    """One action on a job."""

    key: Key
    """The same for every repeat, so that it is carried out once."""
    action: Action
    tasks: tuple[TaskRange, ...] = ()
    """For `rerender`: the tasks, on their own numbers. A task that has not ended is left alone."""
    priority: int | None = Field(default=None, ge=0, le=100)
    """For `priority`: 50 is usual, more is sooner."""


class FarmQuote(Wire):
    """What a farm says that an order will cost and take. Not binding unless it says so."""

    cost: Amount
    currency: Currency
    seconds: float = Field(ge=0)
    binding: bool = False
