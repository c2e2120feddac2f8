"""What the tool asks of a farm, whatever way it is reached. A new way is a sibling of `http`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Protocol

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.farm.protocol import Account, Blob, FarmJob, JobOrder, Registered, RerenderOrder

Received = Callable[[int], None]


class FarmLink(Protocol):
    """Every call raises FarmError when the farm cannot be reached or refuses, with what to do about it."""

    def account(self) -> Account:
        """Sign in; who that is and what is left to spend."""

    def missing(self, blobs: Iterable[Blob]) -> set[str]:
        """The BLAKE3 of those contents that the farm does not have whole."""

    def upload(self, blob: Blob, path: Path, sent: Received) -> None:
        """Send one content, which the farm verifies. `sent` is told of bytes as they go."""

    def register(self, content: PackingList) -> Registered:
        """Tell the farm of a crate whose contents it has; it reads the scene and says what it understood."""

    def submit(self, order: JobOrder) -> str:
        """Start a job; the same key twice makes one job. Returns the farm's name for it."""

    def job(self, job: str) -> FarmJob:
        """How a job stands."""

    def download(self, job: str, key: str, target: Path, offset: int, received: Received) -> None:
        """Append a product's bytes from `offset` on to the file `target`."""

    def rerender(self, job: str, order: RerenderOrder) -> None:
        """Render tasks again, on their own numbers."""

    def cancel(self, job: str) -> None:
        """Stop a job; what has rendered stays."""

    def close(self) -> None:
        """Let go of connections."""
