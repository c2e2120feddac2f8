"""Attempts at a task, and the products that they leave."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

from pydantic import AfterValidator, Field

from tidy_crate.core.model import Name, Wire, printable
from tidy_crate.core.money import Bill
from tidy_crate.core.work.task import TaskState

Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class Verdict(StrEnum):
    """Verdict of a review on a product. suspect: a person should look; bad: to be rendered again."""

    GOOD = "good"
    SUSPECT = "suspect"
    BAD = "bad"
    MISSING = "missing"


class Attempt(Wire):
    """One try at a task at one farm."""

    number: int = Field(ge=0, le=1_000_000)
    """Counted from 1 for each task of a submission; 0 before the first."""
    state: TaskState
    node: Name | None = None
    """The machine that took it."""
    began: datetime | None = None
    """UTC."""
    ended: datetime | None = None
    """UTC."""
    billed: float | None = Field(default=None, ge=0)
    """Seconds on the bill, None where the farm does not say."""
    cost: Bill
    """Money for this attempt alone, in the currency of the submission."""
    error: str | None = None
    """The last lines of its log, where it failed."""
    log: Annotated[str, Field(max_length=200)] = ""
    """The farm's name for the log of this attempt, empty where there is none."""


ProductKey = Annotated[str, Field(min_length=1, max_length=2000), AfterValidator(printable)]


class Product(Wire):
    """A file that an attempt left: one output of one task."""

    output: Name
    key: ProductKey
    """The farm's name for the file."""
    bytes: int = Field(ge=0, lt=2**63)
    blake3: Digest | None = None
    """None where the farm gives none: the file is verified by opening it."""
    version: Annotated[str, Field(max_length=100)] = ""
    """Another text when the file is another one, where the farm gives no digest; empty where nothing tells."""
