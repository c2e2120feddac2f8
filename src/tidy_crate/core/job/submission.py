"""A submission at its farm: how to reach it, and by what name the farm knows it."""

from __future__ import annotations

from collections.abc import Callable

from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import JobOrder, JobState
from tidy_crate.core.job.ledger import SubmissionRow

Links = Callable[[SubmissionRow], FarmLink]
ENDED = {JobState.DONE.value, JobState.FAILED.value, JobState.CANCELLED.value}


def confirm(row: SubmissionRow, link: FarmLink) -> str:
    """The farm's name for a submission, asked again with the same key where a crash kept us from learning it."""
    if row.farm_job is None:
        row.farm_job = link.submit(JobOrder.model_validate_json(row.order))
    return row.farm_job
