"""What goes over the wire between the tool and a farm (docs/farm-protocol.md)."""

from __future__ import annotations

from enum import StrEnum

from pydantic import Field

from tidy_crate.core.job.identity import TaskId
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Currency
from tidy_crate.core.scene.request import RenderRequest

VERSION = 1


class Blob(Model):
    """A content: BLAKE3 and size in bytes."""

    blake3: str = Field(pattern=r"^[0-9a-f]{64}$")
    bytes: int = Field(ge=0)


class BlobList(Model):
    """Contents that are asked about."""

    blobs: tuple[Blob, ...]


class Account(Model):
    """Who is signed in, and what is left to spend."""

    user: str
    balance: Amount
    currency: Currency


class Reading(Model):
    """What the farm itself understood of a crate. resolution, camera: of the outputs; missing: paths it cannot find."""

    start: int | None
    end: int | None
    fps: float
    outputs: dict[str, tuple[str, ...]]
    resolution: tuple[int, int] | None
    camera: str | None
    missing: tuple[str, ...]


class Registered(Model):
    """A crate that the farm has whole. crate: the farm's name for it."""

    crate: str
    reading: Reading


class JobOrder(Model):
    """A submission. key: the same for every repeat of one submission, so that it is made once.

    outputs: by name, the path that the farm writes, in the form that its rules want; those left out as the scene says.
    """

    key: str = Field(min_length=8, max_length=80)
    crate: str
    requests: tuple[RenderRequest, ...] = Field(min_length=1)
    batch: int = Field(ge=1, le=100_000)
    nodes: int = Field(ge=1, le=10_000)
    machine: str
    outputs: dict[str, str] = Field(default_factory=dict)


class TaskState(StrEnum):
    """How far a task is."""

    WAITING = "waiting"
    RENDERING = "rendering"
    DONE = "done"
    FAILED = "failed"


class JobState(StrEnum):
    """How far a job is."""

    WAITING = "waiting"
    RENDERING = "rendering"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class Product(Model):
    """A file that a task left. key: the farm's name for it."""

    output: str
    key: str
    blake3: str = Field(pattern=r"^[0-9a-f]{64}$")
    bytes: int = Field(ge=0)


class Task(Model):
    """A task and its latest attempt. seconds: billed; cost: of all attempts; error: the end of the node's log."""

    id: TaskId
    state: TaskState
    attempt: int
    node: str | None = None
    seconds: float | None = None
    cost: Amount
    error: str | None = None
    products: tuple[Product, ...] = ()


class Node(Model):
    """A node's clock for this job, in seconds of farm time: when it began, and when it is free."""

    name: str
    began: float
    free_at: float
    frames: int
    cost: Amount


class FarmJob(Model):
    """A job as the farm sees it. clock: seconds of farm time since submission; cost: billed so far."""

    job: str
    state: JobState
    clock: float
    cost: Amount
    currency: Currency
    tasks: tuple[Task, ...]
    nodes: tuple[Node, ...]


class Submitted(Model):
    """A submission that was taken."""

    job: str


class RerenderOrder(Model):
    """Tasks to be rendered again, on their own numbers."""

    key: str = Field(min_length=8, max_length=80)
    tasks: tuple[TaskId, ...] = Field(min_length=1)
