"""The files of a job that are at home and count."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from tidy_crate.core.database import kept
from tidy_crate.core.job.ledger import Ledger, products_of
from tidy_crate.core.job.tables import TASK_KEY, ProductRow
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import TaskKey


@dataclass(frozen=True, slots=True)
class AtHome:
    """One file."""

    path: Path
    blake3: str | None
    """As it came; None where the farm gave no digest."""
    verdict: Verdict | None
    """None before a review."""


def at_home(ledger: Ledger, job: str) -> dict[tuple[TaskKey, str], AtHome]:
    """Return the files in use, by task and output."""
    columns = (*TASK_KEY, ProductRow.output, ProductRow.path, ProductRow.blake3, ProductRow.verdict)
    found: dict[tuple[TaskKey, str], AtHome] = {}
    with ledger.reading() as session:
        query = products_of(job, *columns).where(ProductRow.home, ProductRow.in_use)
        for request, view, frame, tile, share, output, path, blake3, verdict in session.execute(query):
            own = None if verdict is None else kept(Verdict, verdict, "a verdict")
            found[((request, view, frame, tile, share), output)] = AtHome(Path(path or ""), blake3 or None, own)
    return found
