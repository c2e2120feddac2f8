"""The seam between a job on shared storage and what starts work on nodes: an engine."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol


@dataclass(frozen=True)
class Batches:
    """Batches of one job that are handed to an engine."""

    job: str
    """Name of the job, by which the engine knows what belongs to it."""
    names: tuple[str, ...]
    line: tuple[str, ...]
    """Program for nodes and the job's folder, as nodes see them. With a batch's name after it, it renders that."""
    most: int
    """Nodes that may render the job at a time."""
    rank: int = 0
    """Of the job's priority; a higher one comes first."""
    memory_gb: float | None = None
    """Least main memory of a node, in GiB."""
    cores: int | None = None
    """Processor cores that a batch uses; None for the whole node."""
    gpus: int | None = None
    minutes: float | None = None
    """Most minutes that a batch takes; None for no limit."""
    options: Mapping[str, str] = field(default_factory=dict)
    """The card's `submit` entries for this order, of class, priority and reclaimable nodes together."""


class Engine(Protocol):
    """An engine starts work on nodes. It keeps what it was handed when the command has ended.

    Every call raises FarmBusy where the engine cannot be reached for now, and FarmError for what stays wrong.
    """

    fulfils: frozenset[str]
    """Those of the wishes `orders.WISHES` that it is told: others are refused before anything is sent. Nodes, memory,
    priority and machine class are told to every engine.
    """

    def meet(self) -> str:
        """Meet the engine. Return what there is, in one sentence."""
        ...

    def show(self, line: Sequence[str]) -> list[str]:
        """Let nodes show that they can do an order, as far as the engine can ask. Return those that can."""
        ...

    def begin(self, batches: Batches) -> None:
        """Hand batches over. Handing the same ones over twice does no harm: nodes claim frames."""
        ...

    def under_way(self, job: str) -> int:
        """Return how many batches of a job wait or render."""
        ...

    def cancel(self, job: str) -> None:
        """Take back what waits or renders of a job."""
        ...

    def why(self, job: str) -> str:
        """Return what the engine says of a job that does not render: why it waits, or how it ended. Empty: nothing."""
        ...
