"""Choice among several deliveries of a frame after a review: the good one is in its place."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import os_reason
from tidy_crate.core.handles import writable
from tidy_crate.core.job.ledger import Ledger, in_pages, products_of, submissions_of
from tidy_crate.core.job.tables import AttemptRow, ProductRow
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.product import Delivery, below, in_use, set_aside_path
from tidy_crate.core.work.task import TaskKey


def put_better_in_place(ledger: Ledger, name: str) -> int:
    """Put a good earlier delivery back where a bad later one stands. Return how many files changed places.

    The bad one is kept aside. Raises TidyCrateError when a file cannot be moved; what was moved before stays noted.
    """
    job, submissions = submissions_of(ledger, name)
    if job.into is None:
        return 0
    into, content = Path(job.into), job.packing_list()
    farms = {row.id: (row.farm, row.number) for row in submissions}

    def delivery(row: ProductRow) -> Delivery:
        farm, number = farms[row.attempt.submission_id]
        return Delivery(farm, number, row.attempt.number, row.judged())

    groups: dict[tuple[TaskKey, str], list[ProductRow]] = {}
    moved = 0
    with ledger.writing() as session:
        # hardly ever is there a good one aside, and a job has a hundred thousand products
        aside_good = (ProductRow.home, ~ProductRow.in_use, ProductRow.verdict == Verdict.GOOD.value)
        frames = sorted(set(session.scalars(products_of(name, AttemptRow.frame).where(*aside_good))))
        rows_of = (products_of(name).where(ProductRow.home, AttemptRow.frame.in_(page)) for page in in_pages(frames))
        for row in (row for query in rows_of for row in session.scalars(query)):
            groups.setdefault((row.attempt.task().key, row.output), []).append(row)
        for (_, output), rows in groups.items():
            standing = next((row for row in rows if row.in_use), None)
            best = in_use(map(delivery, rows))
            if standing is None or best is None or best.verdict is not Verdict.GOOD or delivery(standing) == best:
                continue
            better = next(row for row in rows if delivery(row) == best)
            place = content.product_path(output, standing.attempt.task())
            aside = set_aside_path(place, delivery(standing))
            try:
                with writable(into, aside) as target:
                    Path(standing.path or "").replace(target)
                with writable(into, place) as target:
                    Path(better.path or "").replace(target)
            except OSError as error:
                raise TidyCrateError(f"cannot move a frame ({os_reason(error)})", below(into, aside)) from error
            standing.path, standing.in_use = str(below(into, aside)), False
            better.path, better.in_use = str(below(into, place)), True
            moved += 1
    return moved
