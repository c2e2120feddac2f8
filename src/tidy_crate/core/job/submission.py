"""A submission at its farm: which tasks it has, by what name the farm knows it, and what has become of them."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from itertools import islice

from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.database import kept
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.links.interface import FarmLink, needed
from tidy_crate.core.farm.protocol import (
    Capability,
    Changes,
    ControlOrder,
    JobOrder,
    JobState,
    JobSummary,
    NodeChange,
    TaskChange,
)
from tidy_crate.core.job.ledger import Ledger, in_pages, submissions_of
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, NodeRow, ProductRow, SubmissionRow, from_text, to_text
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskKey, TaskRange, tasks_of, whole

# opens the link to the farm of a submission
Links = Callable[[SubmissionRow], FarmLink]
# a page of changes is never empty while there is more, so many pages have no end
MOST_PAGES = 1_000_000
# seconds after which it is noted again when a farm was last heard
HEARD = 30.0


@dataclass(frozen=True)
class Ordered:
    """Order of a submission, without a list of its tasks: there may be a hundred thousand."""

    ranges: tuple[TaskRange, ...]
    requests: tuple[RenderRequest, ...]
    batch: int = 1
    """Frames that a node takes at a time."""
    compressions: Mapping[str, str] = field(default_factory=dict)
    """By output, another compression than the scene's."""

    @classmethod
    def of(cls, row: SubmissionRow, requests: tuple[RenderRequest, ...]) -> Ordered:
        """Return what a submission ordered. requests: of its job, for one from before orders named their tasks."""
        if not row.order:
            return cls(whole(requests), requests)
        order = kept(JobOrder.model_validate_json, row.order, "an order")
        forms = {output: form.compression for output, form in order.forms.items() if form.compression}
        return cls(order.tasks, order.requests, order.batch, forms)

    def batches(self) -> Iterator[TaskKey]:
        """Yield the first task of each batch, as it was ordered."""
        if self.batch > 1:
            yield from (task.key for task in islice(tasks_of(self.ranges, self.requests), 0, None, self.batch))

    def checker(self) -> Callable[[Task], bool]:
        """Return a function that says whether a task was ordered."""
        by_name = {request.name: request for request in self.requests}
        kinds = []
        for one in self.ranges:
            request = by_name[one.request]
            views = set(one.views or request.view_names)
            tiles = _numbers(one.tiles, request.tile_count)
            shares = _numbers(one.shares, request.shares)
            kinds.append((one.request, views, set(parse_frames(one.frames)), tiles, shares))

        def ordered(task: Task) -> bool:
            return any(
                task.request == request
                and task.view in views
                and task.frame in frames
                and task.tile in tiles
                and task.share in shares
                for request, views, frames, tiles, shares in kinds
            )

        return ordered

    def own_numbers(self) -> dict[str, list[int]]:
        """The frames of each request in order: a farm that numbers from zero means their places."""
        found: dict[str, set[int]] = {}
        for one in self.ranges:
            found.setdefault(one.request, set()).update(parse_frames(one.frames))
        return {request: sorted(frames) for request, frames in found.items()}

    def outputs(self) -> dict[str, tuple[str, ...]]:
        """The outputs of each request."""
        return {request.name: request.outputs for request in self.requests}


def _numbers(text: str, count: int) -> set[int | None]:
    if count == 1:
        return {None}
    return set(parse_frames(text)) if text else set(range(count))


def confirm(ledger: Ledger, row: SubmissionRow, link: FarmLink) -> str:
    """Return the farm's name for a submission, asked again with the same key where a crash kept us from learning it."""
    if row.farm_job is None:
        if not row.order:
            raise FarmError("this submission was never confirmed, and cannot be repeated", row.farm, "send it again")
        submit = needed(link.submit, link, Capability.SUBMIT)
        name = submit.submit(kept(JobOrder.model_validate_json, row.order, "an order"))
        with ledger.writing() as session:
            session.get_one(SubmissionRow, row.id).farm_job = name
        row.farm_job = name
    return row.farm_job


def note_to_tell(ledger: Ledger, submission: int, order: ControlOrder) -> None:
    """Note an order for a farm that does not answer now. It is told with the next news of the job."""
    with ledger.writing() as session:
        row = session.get_one(SubmissionRow, submission)
        row.to_tell += order.model_dump_json() + "\n"


def _tell(ledger: Ledger, row: SubmissionRow, link: FarmLink, farm_job: str) -> None:
    """Tell a farm what it was not told before. An order that it is told twice is carried out once, by its key."""
    if not row.to_tell or link.control is None:
        return
    for line in row.to_tell.splitlines():
        link.control.control(farm_job, kept(ControlOrder.model_validate_json, line, "an order"))
    with ledger.writing() as session:
        found = session.get_one(SubmissionRow, row.id)
        # what was noted meanwhile stays
        found.to_tell = found.to_tell.removeprefix(row.to_tell)
    row.to_tell = ""


def catch_up(
    ledger: Ledger,
    row: SubmissionRow,
    requests: tuple[RenderRequest, ...],
    link: FarmLink,
    *,
    seconds: float | None = None,
    progress: Progress = silent,
) -> JobSummary:
    """Bring the ledger up to date with one farm, page by page. Costs what has changed.

    requests: of the job. seconds: after which no further page is read; the cursor of `row` is then not that of the
    result. Raises FarmError when the farm reports what was never ordered, or bills in another currency.
    """
    telling = needed(link.changes, link, Capability.CHANGES)
    farm_job = confirm(ledger, row, link)
    _tell(ledger, row, link, farm_job)
    summary = telling.summary(farm_job)
    if summary.currency != row.currency:
        what = f"the farm bills in {summary.currency}, its card says {row.currency}"
        raise FarmError(what, row.farm, "correct the currency on its card")
    ordered: Callable[[Task], bool] | None = None
    own_number: dict[str, list[int]] | None = None
    outputs: dict[str, tuple[str, ...]] = {}
    read, began = 0, time.monotonic()
    for number in range(MOST_PAGES):
        if row.cursor == summary.cursor or (number and seconds is not None and time.monotonic() - began > seconds):
            break
        page = telling.changes(farm_job, row.cursor)
        if ordered is None:
            found = Ordered.of(row, requests)
            ordered, outputs = found.checker(), found.outputs()
            own_number = found.own_numbers() if link.from_zero else None
        if own_number is not None:
            page = page.model_copy(update={"tasks": tuple(_renumbered(one, own_number, row) for one in page.tasks)})
        _check(page, row, ordered, outputs)
        if page.more and page.cursor == row.cursor:
            raise FarmError("the farm's changes have no end", row.farm, "report it to the farm")
        with ledger.writing() as session:
            _note_tasks(session, row.id, page.tasks)
            _note_nodes(session, row.id, page.nodes)
            session.get_one(SubmissionRow, row.id).cursor = page.cursor
        row.cursor = page.cursor
        read += len(page.tasks)
        if page.more:
            progress(Step("track", read, 0, "changes", row.farm))
        else:
            if number > 0:
                # the job went on while many pages were read: what is counted must be of the same moment
                summary = telling.summary(farm_job)
            break
    offer = summary.offer.model_dump_json() if summary.offer is not None else None
    # a reason of our own for a pause stays until it goes on
    why = summary.why or (row.why if summary.state is JobState.PAUSED else "")
    fresh = {
        "state": summary.state.value, "cost": summary.cost, "began": to_text(summary.submitted),
        "refunded": summary.refunded, "offer": offer, "why": why, "billing": summary.billing,
        "seen": to_text(summary.now),
    }  # fmt: skip
    heard = from_text(row.heard) if row.heard else None
    if heard is None or abs((datetime.now(UTC) - heard).total_seconds()) > HEARD:
        fresh["heard"] = to_text(datetime.now(UTC))
    if any(getattr(row, name) != value for name, value in fresh.items()):
        with ledger.writing() as session:
            now = session.get_one(SubmissionRow, row.id)
            for name, value in fresh.items():
                setattr(now, name, value)
                setattr(row, name, value)
    return summary


def _renumbered(change: TaskChange, own: dict[str, list[int]], row: SubmissionRow) -> TaskChange:
    """A change with the frame's own number in place of its place in the order."""
    frames, place = own.get(change.task.request, []), change.task.frame
    if not 0 <= place < len(frames):
        raise FarmError(f"the farm reports a task that was not ordered: {change.task}", row.farm)
    return change.model_copy(update={"task": replace(change.task, frame=frames[place])})


def _check(
    page: Changes, row: SubmissionRow, ordered: Callable[[Task], bool], outputs: dict[str, tuple[str, ...]]
) -> None:
    for change in page.tasks:
        if not ordered(change.task):
            raise FarmError(f"the farm reports a task that was not ordered: {change.task}", row.farm)
        if change.attempt.number < 1:
            raise FarmError(f"the farm reports an attempt without a number: {change.task}", row.farm)
        names = [product.output for product in change.products]
        if len(set(names)) != len(names) or not set(names) <= set(outputs[change.task.request]):
            raise FarmError(
                f"the farm reports outputs that were not ordered: {change.task} {', '.join(names)}", row.farm
            )


# what tells attempts of one submission apart
_Key = tuple[str, str, int, int, int, int]


def _note_tasks(session: Session, submission: int, changes: Iterable[TaskChange]) -> None:
    """Write a page of changes, in a few statements for all of it: a job may have a hundred thousand frames."""
    # of several changes of one attempt in a page the last one counts
    fresh: dict[_Key, TaskChange] = {(*change.task.key, change.attempt.number): change for change in changes}
    if not fresh:
        return
    known = _attempts(session, submission, fresh)
    numbers: dict[TaskKey, list[int]] = {}
    for key in {**known, **fresh}:
        numbers.setdefault(key[:5], []).append(key[5])
    newest = {task: max(own) for task, own in numbers.items()}
    added = [key for key in fresh if key not in known]
    again = {key[:5] for key in added if len(numbers[key[:5]]) > 1}
    if earlier := [number for key, number in known.items() if key[:5] in again and key[5] != newest[key[:5]]]:
        for ids in in_pages(earlier):
            session.execute(update(AttemptRow).where(AttemptRow.id.in_(ids)).values(latest=False))
    if added:
        session.execute(
            insert(AttemptRow),
            [
                dict(zip(_NAMES, key, strict=True)) | _of_attempt(fresh[key])
                | {"submission_id": submission, "latest": key[5] == newest[key[:5]]}
                for key in added
            ],
        )  # fmt: skip
    if changed := [{"id": known[key]} | _of_attempt(change) for key, change in fresh.items() if key in known]:
        session.execute(update(AttemptRow), changed)
    if any(change.products for change in fresh.values()):
        by_key = _attempts(session, submission, fresh) if added else known
        _note_products(session, {by_key[key]: change for key, change in fresh.items() if change.products})


_NAMES = ("request", "view", "frame", "tile", "share", "number")


def _attempts(session: Session, submission: int, keys: Iterable[_Key]) -> dict[_Key, int]:
    """Return the ids of all known attempts at the frames of some keys."""
    found: dict[_Key, int] = {}
    # by request and view, as the index has them: else all attempts of the submission would be looked through
    wanted: dict[tuple[str, str], set[int]] = {}
    for key in keys:
        wanted.setdefault(key[:2], set()).add(key[2])
    for (request, view), numbers in wanted.items():
        for frames in in_pages(sorted(numbers)):
            query = select(AttemptRow.id, *TASK_KEY, AttemptRow.number).where(
                AttemptRow.submission_id == submission, AttemptRow.request == request, AttemptRow.view == view,
                AttemptRow.frame.in_(frames),
            )  # fmt: skip
            for number, *own in session.execute(query):
                found[tuple(own)] = number  # type: ignore[index]
    return found


def _of_attempt(change: TaskChange) -> dict[str, object]:
    attempt = change.attempt
    return {
        "state": attempt.state.value, "node": attempt.node, "billed": attempt.billed, "cost": attempt.cost,
        "began": to_text(attempt.began), "ended": to_text(attempt.ended), "error": attempt.error, "log": attempt.log,
    }  # fmt: skip


def _note_products(session: Session, changes: Mapping[int, TaskChange]) -> None:
    """Write the products of attempts, which are given by their ids."""
    columns = (
        ProductRow.attempt_id,
        ProductRow.output,
        ProductRow.id,
        ProductRow.key,
        ProductRow.blake3,
        ProductRow.bytes,
        ProductRow.version,
    )
    known: dict[tuple[int, str], tuple[int, str, str, int, str]] = {}
    for ids in in_pages(changes):
        query = select(*columns).where(ProductRow.attempt_id.in_(ids))
        for attempt, output, number, key, digest, size, version in session.execute(query):
            known[attempt, output] = (number, key, digest, size, version)
    added, renamed, replaced = [], [], []
    for attempt, change in changes.items():
        for one in change.products:
            found = known.get((attempt, one.output))
            if found is None:
                added.append({"attempt_id": attempt, "output": one.output} | _facts(one))
                continue
            number, key, digest, size, version = found
            # one that was noted before there were versions is the one that is there
            other = size != one.bytes or (version != "" and version != one.version)
            if digest != (one.blake3 or "") or (not one.blake3 and other):
                # the farm has other bytes now than those that came home
                fresh = {"key": one.key, "bytes": one.bytes, "blake3": one.blake3 or "", "home": False}
                replaced.append({"id": number, "version": one.version} | fresh)
            elif key != one.key or version != one.version:
                renamed.append({"id": number, "key": one.key, "version": one.version})
    if added:
        session.execute(insert(ProductRow), added)
    for rows in (renamed, replaced):
        if rows:
            session.execute(update(ProductRow), rows)


def _facts(product: Product) -> dict[str, object]:
    return {
        "key": product.key, "bytes": product.bytes, "blake3": product.blake3 or "", "version": product.version,
        "home": False, "in_use": False,
    }  # fmt: skip


def _note_nodes(session: Session, submission: int, changes: Iterable[NodeChange]) -> None:
    fresh = {(change.name, to_text(change.began) or ""): change for change in changes}
    if not fresh:
        return
    known = {
        (row.name, row.began): row
        for row in session.scalars(select(NodeRow).where(NodeRow.submission_id == submission))
        if (row.name, row.began) in fresh
    }
    for (name, began), change in fresh.items():
        row = known.get((name, began))
        if row is None:
            row = NodeRow(submission_id=submission, name=name, began=began)
            session.add(row)
        row.until = to_text(change.until) or ""
        row.tasks, row.cost, row.gone = change.tasks, change.cost, change.gone


def wait_for_changes(ledger: Ledger, name: str, links: Links, seconds: float) -> None:
    """Wait until something may have changed at a farm that is not done, at most so many seconds."""
    _, submissions = submissions_of(ledger, name)
    open_rows = [row for row in submissions if row.farm_job and not JobState(row.state).ended]
    for row in open_rows:
        telling = links(row).changes
        if telling is not None:
            telling.wait(row.farm_job or "", row.cursor, seconds / len(open_rows))
