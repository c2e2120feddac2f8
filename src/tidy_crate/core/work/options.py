"""Wishes for a submission, each with its origin: card, user, project, command line."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated, Any, Literal

from pydantic import Field

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount

USUAL_BATCH = 4
USUAL_RETRIES = 2
# every n-th frame first, where the order is `spread` and nothing else is said
USUAL_SPREAD = 8


class FrameOrder(StrEnum):
    """In which order frames are rendered."""

    SEQUENCE = "sequence"
    SPREAD = "spread"
    """Every n-th frame first, for early pictures of the whole shot."""
    TESTS_FIRST = "tests-first"
    """The frames that were tested here first, then in sequence."""


class SendOptions(Model):
    """Wishes for a submission. None means: as the crate, the farm or this tool has it by default."""

    machine: str | None = None
    """Machine class, by the card's name."""
    nodes: Annotated[int, Field(ge=1, le=10_000)] | None = None
    batch: Annotated[int, Field(ge=1, le=100_000)] | None = None
    """Frames that a node takes at a time."""
    order: FrameOrder | None = None
    spread: Annotated[int, Field(ge=1, le=10_000)] | None = None
    """For the order `spread`: every n-th frame first."""
    retries: Annotated[int, Field(ge=0, le=20)] | None = None
    priority: str | None = None
    """By the card's name."""
    reclaimable: bool | None = None
    """True to use machines that the farm may take back."""
    gpus: Annotated[int, Field(ge=1, le=1024)] | None = None
    """GPUs that a node uses."""
    devices: tuple[Literal["cpu", "gpu"], ...] | None = None
    """Kinds of device that may be used."""
    memory_gb: Annotated[float, Field(gt=0, le=32768)] | None = None
    """Least main memory of a node, in GiB."""
    programs: dict[str, str] | None = None
    """Exact versions, by program."""
    start: Literal["at-once", "held", "tested"] | None = None
    test_frames: str | None = None
    """A frame list, for the start `tested`; the frames that were tested here where nothing is said."""
    cap: Annotated[Amount, Field(gt=0)] | None = None
    """Most that the job may cost at this farm, in its currency."""
    frames: str | None = None
    """A frame list, within or beyond the crate's range."""
    cameras: tuple[str, ...] | None = None
    """Paths or names of cameras; several make several views of one job."""
    variants: tuple[str, ...] | None = None
    """Views, each a choice `PRIM:SET=CHOICE`, or several joined by commas; `*` stands for every choice of a set."""
    size: str | None = None
    """`WIDTHxHEIGHT` in pixels, or a share such as `50%`."""
    samples: Annotated[int, Field(ge=1, le=10_000_000)] | None = None
    outputs: tuple[str, ...] | None = None
    """Names of the outputs that are written."""
    format: str | None = None
    """File format of the outputs."""
    compression: str | None = None
    """Compression of the outputs' files."""
    tiles: str | None = None
    """`COLUMNSxROWS`."""
    shares: Annotated[int, Field(ge=1, le=4096)] | None = None
    """Into how many parts the samples of each picture are split."""

    def said(self) -> dict[str, Any]:
        """The wishes that there are, by name."""
        return {name: value for name, value in self if value is not None}


class FarmOptions(SendOptions):
    """Wishes for all farms, and for single ones."""

    farm: dict[str, SendOptions] = Field(default_factory=dict)
    """For single farms, by the card's name; they count before those for all farms."""

    def at(self, farm: str) -> SendOptions:
        """The wishes for one farm."""
        own = {name: value for name, value in self.said().items() if name != "farm"}
        return SendOptions.model_construct(**own | self.farm.get(farm, SendOptions()).said())


class Wish(Model):
    """One wish, and where it comes from."""

    name: str
    value: Any
    origin: str


# in effect where nothing else is said
BUILT_IN = SendOptions(batch=USUAL_BATCH, order=FrameOrder.SEQUENCE, retries=USUAL_RETRIES, start="at-once")


def layered(layers: Sequence[tuple[str, SendOptions]]) -> tuple[SendOptions, tuple[Wish, ...]]:
    """Put wishes over one another, the last one counts. Return the result, and for each wish where it comes from.

    layers: from the one that counts least on, each with the name of its origin.
    """
    found: dict[str, Wish] = {}
    for origin, options in layers:
        for name, value in options.said().items():
            found[name] = Wish(name=name, value=value, origin=origin)
    merged = SendOptions.model_validate({name: wish.value for name, wish in found.items()})
    return merged, tuple(found[name] for name in SendOptions.model_fields if name in found)
