"""Messages between the tool and a farm (docs/farm-protocol.md).

Other links translate into the same words.
"""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field

from tidy_crate.core.model import FrameNumber, Name, Wire
from tidy_crate.core.money import Amount, Bill, Currency
from tidy_crate.core.transfer.pack import MOST_PIECES
from tidy_crate.core.work.attempt import Attempt, Digest, Product, ProductKey
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskRange

VERSION = 3
OLDEST = 3
# tasks in one answer
PAGE = 1000
Key = Annotated[str, Field(min_length=8, max_length=80)]


Cursor = Annotated[str, Field(max_length=200)]
Count = Annotated[int, Field(ge=0, lt=2**31)]


class Capability(StrEnum):
    """Ability of a farm, or of the link to it."""

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


# offered by a farm that gives out small products many at a time
FETCH_PACKS = "fetch-packs"


class Hello(Wire):
    """The farm's answer to a first call."""

    protocol: int = Field(ge=1)
    """The newest version that it speaks."""
    oldest: int = Field(ge=1)
    """The oldest version that it speaks."""
    farm: Name
    offers: tuple[str, ...]
    """Its capabilities; one that is unknown here is left alone."""


class ProductKeys(Wire):
    """Products of a job that are asked for together."""

    keys: tuple[ProductKey, ...] = Field(min_length=1, max_length=MOST_PIECES)


class Blob(Wire):
    """The contents of a file, whatever it is called."""

    blake3: Digest
    bytes: int = Field(ge=0, lt=2**63)


class BlobList(Wire):
    """Blobs that are asked about."""

    blobs: tuple[Blob, ...]


class ChunkPlace(Wire):
    """A piece of a file, and where in it it is."""

    offset: int = Field(ge=0, lt=2**63)
    bytes: int = Field(ge=1, le=16 << 20)
    blake3: Digest


class ChunkList(Wire):
    """Pieces of one file that are asked about."""

    bytes: int = Field(ge=1, lt=2**63)
    """Size of the whole file."""
    chunks: tuple[ChunkPlace, ...] = Field(max_length=4096)
    like: Digest | None = None
    """An earlier state of the file, which the farm may have: most chunks are expected to be in it. None where they are
    plain stretches of a file that is new."""


class Lacking(Wire):
    """Pieces that have to be sent, by their position in the question, from 0."""

    lacking: tuple[Annotated[int, Field(ge=0, lt=4096)], ...]


class RefusedPiece(Wire):
    """A piece of a pack that was not taken."""

    file: Digest
    offset: int = Field(ge=0, lt=2**63)
    why: str


class Taken(Wire):
    """Result for a pack: everything not named here is stored at the farm."""

    refused: tuple[RefusedPiece, ...] = ()


class Finished(Wire):
    """Result for a file that was sent in pieces: complete or not, by its BLAKE3."""

    complete: bool


class Account(Wire):
    """The signed-in user and the balance."""

    user: Name
    balance: Amount
    currency: Currency


class Reading(Wire):
    """The farm's own reading of a crate."""

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


class Start(StrEnum):
    """Time at which a job starts."""

    AT_ONCE = "at-once"
    HELD = "held"
    """Not before `resume`."""
    TESTED = "tested"
    """The test frames at once; the rest not before `resume`."""


class FileForm(Wire):
    """In which form the files of an output are to be written, where another one is wanted than the scene says."""

    format: Annotated[str, Field(pattern=r"^[a-z0-9]{1,8}$")] | None = None
    compression: Annotated[str, Field(pattern=r"^[a-z0-9]{1,12}$")] | None = None


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
    forms: dict[str, FileForm] = Field(default_factory=dict)
    """By output, another file format or compression than the scene's."""
    retries: int = Field(default=2, ge=0, le=20)
    """Number of times that the farm tries a failed task again."""
    priority: Annotated[str, Field(max_length=60)] = ""
    """By the farm's own name; empty for the usual one."""
    reclaimable: bool = False
    """True if machines will do that the farm may take back at any moment."""
    gpus: int | None = Field(default=None, ge=1, le=1024)
    """GPUs that a node uses; None for all that it has."""
    devices: tuple[Literal["cpu", "gpu"], ...] = ()
    """Kinds of device that may be used; empty for any."""
    memory_gb: float | None = Field(default=None, gt=0, le=32768)
    """Least main memory of a node, in GiB."""
    programs: dict[Name, Name] = Field(default_factory=dict)
    """Exact versions, by program."""
    start: Start = Start.AT_ONCE
    tests: tuple[TaskRange, ...] = ()
    """The test frames of a job that starts `tested`. They are among `tasks`."""
    cap: Amount | None = Field(default=None, ge=0)
    """The farm pauses the job before it costs more."""


class FarmQuote(Wire):
    """A farm's own quote for an order. Not binding unless it says so."""

    cost: Amount = Field(ge=0)
    currency: Currency
    seconds: float = Field(ge=0)
    binding: bool = False


class JobState(StrEnum):
    """State of a job."""

    WAITING = "waiting"
    RENDERING = "rendering"
    PAUSED = "paused"
    HELD = "held"
    """Waits for `resume`: ordered so, or its test frames are done."""
    QUOTING = "quoting"
    """The farm is making its own quote."""
    OFFERED = "offered"
    """The farm's quote waits to be accepted, by `resume`."""
    UNPAID = "unpaid"
    """Waits for money on the account."""
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Return whether nothing more happens to it by itself."""
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
    cost: Bill
    """Billed so far."""
    currency: Currency
    counts: Counts
    cursor: Cursor
    """The last change that there is."""
    refunded: Bill = Decimal(0)
    """Taken off the bill again; `cost` is what is left."""
    offer: FarmQuote | None = None
    """The farm's own quote, where the job waits for it to be accepted, or was accepted for it."""
    billing: bool = False
    """True if machines that were rented for it are still paid for."""
    why: Annotated[str, Field(max_length=500)] = ""
    """Why it is paused, where the farm itself did that."""


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
    """Number of tasks that it has finished."""
    cost: Bill
    gone: bool = False
    """True if it is off the clock."""


class Changes(Wire):
    """Changes since a cursor: at most one page, oldest first."""

    cursor: Cursor
    """Ask with this one for what comes after."""
    more: bool
    """True if there is more already."""
    tasks: tuple[TaskChange, ...] = ()
    nodes: tuple[NodeChange, ...] = ()


class TaskPage(Wire):
    """All tasks of a job in their order, a page of them. A task that nothing happened to yet has attempt number 0."""

    tasks: tuple[TaskChange, ...]
    next: Count | None
    """Start of the next page; None after the last."""


class Submitted(Wire):
    """A submission that was taken."""

    job: Name


class Action(StrEnum):
    """Action on a submitted job."""

    PAUSE = "pause"
    RESUME = "resume"
    CANCEL = "cancel"
    PRIORITY = "priority"
    RERENDER = "rerender"
    ACCEPT = "accept"
    """Frames were looked at and are taken. A farm whose bill depends on that offers it, and `reject`."""
    REJECT = "reject"
    """Frames were looked at and are not taken, nor paid."""
    RELEASE = "release"
    """Rented machines are shut down: their time is over."""


class ControlOrder(Wire):
    """One action on a job."""

    key: Key
    """The same for every repeat, so that it is carried out once."""
    action: Action
    tasks: tuple[TaskRange, ...] = ()
    """For `rerender`, `accept` and `reject`: the tasks, on their own numbers.

    A task that has not ended is left alone.
    """
    priority: int | None = Field(default=None, ge=0, le=100)
    """For `priority`: 50 is usual, more is sooner."""
    cap: Annotated[Amount, Field(gt=0)] | None = None
    """For `resume`: another limit on the job's cost, from now on, in the farm's currency; as it was where not said."""
