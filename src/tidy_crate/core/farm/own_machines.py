"""The part of a farm card that describes one's own machines: their shared storage and their scheduler."""

from __future__ import annotations

from pydantic import Field

from tidy_crate.core.farm.prices import CardPart, Submit, Words


class SchedulerCommands(CardPart):
    """The commands of a scheduler, for `commands:` addresses. They run on this machine, without a shell.

    Placeholders in `submit`: `{job}`, `{nodes}`, `{cores}`, `{memory_gb}`, `{gpus}`, `{minutes}`, `{rank}`, `{program}`
    (the file that a node runs, without words), and the keys of the card's other `submit` tables. In all others: `{id}`.
    A word with a placeholder that the order leaves open is left out.
    """

    submit: tuple[str, ...] = Field(min_length=1)
    """Hands one batch over and prints its id."""
    id: str | None = None
    """Expression (RE2) whose first group is the id in what `submit` prints; the last word where it is not said."""
    state: tuple[str, ...] = Field(min_length=1)
    """Prints the state of one batch."""
    under_way: str | None = None
    """Expression (RE2) that matches what `state` prints while the batch waits or renders. Where it is not said, a batch
    is under way while `state` ends with 0 and prints something.
    """
    cancel: tuple[str, ...] = ()
    """Takes one batch back. Where it is not said, batches end by themselves when nodes begin them."""
    log: tuple[str, ...] = ()
    """Prints what the scheduler knows of a batch that was lost."""


class ClusterAccess(CardPart):
    """One's own machines under a distributed engine: the storage that all of them see."""

    shared: str | None = None
    """Folder for crates and frames, as this machine sees it."""
    shared_on_nodes: str | None = None
    """The same folder as the nodes see it; as here where nothing is said."""
    python: str = Field(default="python3", min_length=1, max_length=400)
    """Python on the nodes, 3.9 or newer, for schedulers that run commands."""
    submit: Submit = Field(default_factory=Words)
    """Options for the scheduler with every order, as in `account = "film"`."""
    commands: SchedulerCommands | None = None
