"""Attempts at a task, and the products that they leave."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.work.task import TaskState

Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class Verdict(StrEnum):
    """What became of a product under review. suspect: a person should look; bad: to be rendered again."""

    GOOD = "good"
    SUSPECT = "suspect"
    BAD = "bad"
    MISSING = "missing"


class Attempt(Model):
    """One try at a task at one farm."""

    number: int = Field(ge=0)
    """Counted from 1 for each task of a submission; 0 before the first."""
    state: TaskState
    node: str | None = None
    """The machine that took it."""
    began: datetime | None = None
    """UTC."""
    ended: datetime | None = None
    """UTC."""
    billed: float | None = Field(default=None, ge=0, allow_inf_nan=False)
    """Seconds on the bill, None where the farm does not say."""
    cost: Amount
    """Money for this attempt alone, in the currency of the submission."""
    error: str | None = None
    """The last lines of its log, where it failed."""
    log: str = ""
    """The farm's name for the log of this attempt, empty where there is none."""


class Product(Model):
    """A file that an attempt left: one output of one task."""

    output: str
    key: str
    """The farm's name for the file."""
    bytes: int = Field(ge=0, lt=2**63)
    blake3: Digest
