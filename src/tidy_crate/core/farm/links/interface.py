"""Interface of a farm link, by capability. A new way to reach farms is a sibling of `http`.

A link offers the capabilities that it has and None for the others. A stage asks for what it needs with `needed`, which
says plainly what a farm without it cannot do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Protocol, TypeVar

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError, TidyCrateError
from tidy_crate.core.farm.protocol import (
    Account,
    Action,
    Capability,
    Changes,
    ControlOrder,
    FarmQuote,
    JobOrder,
    JobSummary,
    Reading,
)
from tidy_crate.core.progress import Progress
from tidy_crate.core.work.attempt import Product

# is told the bytes that have just gone or come
Moved = Callable[[int], None]
NOTHING: Mapping[str, str] = MappingProxyType({})


@dataclass(frozen=True)
class Delivered:
    """A crate that a farm has complete."""

    crate: str
    """The farm's name for it."""
    uploaded_bytes: int
    reused_bytes: int
    reading: Reading | None
    """The farm's own reading of it; None where nothing there reads it."""


class Delivering(Protocol):
    """Takes a crate. Every call raises FarmError when the farm cannot be reached or refuses; so below."""

    def to_send(self, crate: Path, content: PackingList) -> int:
        """Return how many bytes the farm does not have, as far as can be told before anything is sent."""

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        """Send what the farm lacks of a crate and verify it there; after a break, what is still lacking.

        earlier: by path in the crate, the BLAKE3 of what was delivered there before: a changed file is mostly like it.
        Raises Blocked for a file that is not as it was packed. One such file keeps no other away.
        """


class Submitting(Protocol):
    """Takes orders."""

    def submit(self, order: JobOrder) -> str:
        """Start a job and return the farm's name for it. The same key twice makes one job."""


class Telling(Protocol):
    """Tells how a job stands. What one call costs goes with what has changed, not with the size of the job."""

    def summary(self, job: str) -> JobSummary:
        """Return the job in short."""

    def changes(self, job: str, cursor: str) -> Changes:
        """Return what has changed since a cursor; an empty one stands for the beginning."""

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """Wait until something may have changed since a cursor, at the latest after so many seconds."""

    def log(self, job: str, log: str) -> str:
        """Return the log of an attempt."""


class Fetching(Protocol):
    """Gives out products."""

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """Append a product's bytes from `offset` on to the file `target`."""


class FetchSmall(Protocol):
    """Gives out small products many at a time."""

    def __call__(self, job: str, products: Sequence[Product]) -> Iterator[tuple[Product, bytes | memoryview]]:
        """Yield products with their contents, each as it arrives. What is left out is fetched by itself.

        The products have digests; what is yielded was not compared with them.
        """


class Controlling(Protocol):
    """Changes a job that was submitted."""

    actions: frozenset[Action]
    """Actions that it can do; others are never asked for."""

    def control(self, job: str, order: ControlOrder) -> None:
        """Carry out one action. The same key twice is carried out once."""


class Quoting(Protocol):
    """Says what an order will cost."""

    def quote(self, order: JobOrder) -> FarmQuote:
        """Return the farm's own quote. Nothing is ordered."""


class Accounting(Protocol):
    """Knows the account."""

    def account(self) -> Account:
        """Sign in, and return who that is and what is left to spend."""


@dataclass(frozen=True)
class Trial:
    """One step of trying a farm out."""

    step: str
    works: bool
    said: str
    """Result, or the trouble and what to do."""


def tried(step: str, work: Callable[[], str]) -> Trial:
    """Do one step of a trial. work: returns what was found."""
    try:
        return Trial(step, True, work())
    except TidyCrateError as error:
        return Trial(step, False, f"{error.what}; {error.remedy}" if error.remedy else error.what)


@dataclass(frozen=True)
class FarmLink:
    """A farm within reach: what it can do, a capability each."""

    farm: str
    """The farm's name, for messages."""
    deliver: Delivering | None = None
    submit: Submitting | None = None
    changes: Telling | None = None
    fetch: Fetching | None = None
    control: Controlling | None = None
    quote: Quoting | None = None
    account: Accounting | None = None
    from_zero: bool = False
    """True if it numbers the frames of every order from zero: the first one is 0, whatever its own number."""
    close: Callable[[], None] = lambda: None
    fetch_small: FetchSmall | None = None
    """Gives out small products many at a time, where the farm can."""
    trial: Callable[[], Iterator[Trial]] | None = None
    """Tries the way to the farm out, step by step; nothing is ordered."""

    def offers(self) -> tuple[Capability, ...]:
        """The capabilities that it has."""
        return tuple(one for one in Capability if getattr(self, one.value) is not None)


# what cannot be done without a capability, and what to do then
_WITHOUT = {
    Capability.DELIVER: ("cannot take a crate from here", "make an archive with archive and take it there by hand"),
    Capability.SUBMIT: ("cannot take an order from here", "order at the farm by hand"),
    Capability.CHANGES: ("cannot say how a job stands", "look at the farm itself"),
    Capability.FETCH: ("cannot give out frames from here", "fetch them by hand and judge them with review FOLDER"),
    Capability.CONTROL: ("cannot change a job that it has taken", "change it at the farm by hand"),
    Capability.QUOTE: ("makes no quotes of its own", "use estimate"),
    Capability.ACCOUNT: ("does not tell its balance", "look at the farm itself"),
}
T = TypeVar("T")


def needed(capability: T | None, link: FarmLink, what: Capability) -> T:
    """Return a capability of a link. Raises FarmError that says what a farm without it cannot do."""
    if capability is None:
        cannot, remedy = _WITHOUT[what]
        raise FarmError(f"this farm {cannot}", link.farm, remedy)
    return capability


def controlling(link: FarmLink, action: Action) -> Controlling:
    """Return what carries out an action. Raises FarmError where the farm cannot do that."""
    control = needed(link.control, link, Capability.CONTROL)
    if action not in control.actions:
        known = ", ".join(sorted(control.actions)) or "nothing"
        raise FarmError(f"this farm cannot {action.value} a job", link.farm, f"it can do this: {known}")
    return control
