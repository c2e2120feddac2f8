"""The colour configuration of a job's scene."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.files import inside
from tidy_crate.core.job.ledger import Ledger, submissions_of


def configuration_of(ledger: Ledger, job: str, output: str) -> tuple[Path | None, str | None]:
    """Return the OpenColorIO configuration in a job's crate, and the colour space of an output.

    None for a scene without one, or a crate that is gone.
    """
    row, _ = submissions_of(ledger, job)
    content = row.packing_list()
    config = next((file.path for file in content.files if file.path.lower().endswith((".ocio", ".ocioz"))), None)
    path = inside(Path(row.crate), config) if config is not None else None
    return (path if path is not None and path.is_file() else None), content.output(output).colour_space
