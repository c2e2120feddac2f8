"""Retrieving: every product home as it is done, resumed where it broke off, verified, on its own number."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from threading import Lock
from typing import Any

from sqlalchemy import Row, select
from sqlalchemy.orm import Session
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, TidyCrateError, WrongUsage
from tidy_crate.core.farm.links.interface import FarmLink, Fetching, needed
from tidy_crate.core.farm.protocol import Capability, JobState
from tidy_crate.core.files import file_mark, hash_file, only_one, os_reason, refuse_links
from tidy_crate.core.handles import writable
from tidy_crate.core.job.ledger import Ledger, in_pages, products_at_home, products_of, submissions_of
from tidy_crate.core.job.outage import Outage, say_nothing
from tidy_crate.core.job.submission import Links, Ordered, catch_up, wait_for_changes
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, JobRow, ProductRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.picture.readers import FrameReaders
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.work.attempt import Product, Verdict
from tidy_crate.core.work.folders import FolderPattern
from tidy_crate.core.work.product import SET_ASIDE, Delivery, below, in_use, set_aside_path
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput, TaskState, tasks_of

CONNECTIONS = 4
TRIES = 3
# processes that look into frames without a digest
READERS = 2
# products between two commits
BATCH = 200
# seconds between two looks at a job that is followed
POLL = 0.5
# bytes that are left free on the disk
SPARE = 64 << 20
DAMAGED = "it arrived damaged each time"


class ProductFile(TaskOutput):
    """A product and its path on disk."""

    farm: str = ""
    attempt: int
    path: Path


class Unavailable(TaskOutput):
    """A product that is not at home, and why."""

    why: str


class Retrieved(Model):
    """Result of retrieving: files of this run, files still to come, and damaged files that were thrown away."""

    job: str
    into: Path
    retrieved: tuple[ProductFile, ...]
    at_home: int
    """Number of products at home now, this run's and earlier ones."""
    missing: tuple[Unavailable, ...]
    damaged: tuple[Unavailable, ...]
    ended: bool
    """True if every farm is done, so that waiting longer brings nothing."""


@dataclass(frozen=True, slots=True)
class _Wanted:
    """One product to be fetched."""

    id: int
    submission: int
    task: Task
    product: Product
    home_path: PurePosixPath
    """Below the folder that it goes to."""


@dataclass(frozen=True)
class _Farm:
    link: FarmLink
    fetching: Fetching
    row: SubmissionRow


def retrieve(
    ledger: Ledger,
    name: str,
    into: Path,
    links: Links,
    progress: Progress = silent,
    *,
    follow: bool = False,
    verify_home: bool = False,
    folders: FolderPattern | None = None,
    tell: Callable[[str], None] = say_nothing,
) -> Retrieved:
    """Bring home what is done and not yet here. What is here already is not fetched again.

    folders: pattern of the folders below `into`, in place of the project's. It holds for the job from then on.
    tell: is told of outages of a farm while it is followed.

    A file at home that was touched since it came is read again; one that is not as the farm made it is set aside, and
    fetched again. verify_home: all are read again. follow: stay until every farm is done.
    One product that cannot be fetched keeps no other away.
    """
    into = into.absolute()
    job, submissions = submissions_of(ledger, name)
    with only_one(into / ".retrieve.lock", "brings frames into this folder", into), ExitStack() as stack:
        content = _with_folders(ledger, job, folders)
        with ledger.writing() as session:
            session.get_one(JobRow, job.id).into = str(into)
        rounds = _Rounds(ledger, job.id, content, into, progress, Looks(stack), patient=follow)
        rounds.look_again(verify_home)
        return _in_rounds(rounds, ledger, job, submissions, links, Outage(tell), follow)


def _with_folders(ledger: Ledger, job: JobRow, folders: FolderPattern | None) -> PackingList:
    """Return a job's packing list, with other folders for its frames where they are asked for.

    Raises WrongUsage for others than those in which frames are already.
    """
    content = job.packing_list()
    before = content.rules.home_folders
    if folders is None or folders == before:
        return content
    content = content.with_home_folders(folders)
    content.need_paths_apart()
    with ledger.writing() as session:
        if session.scalar(products_of(job.id, ProductRow.id).where(ProductRow.home).limit(1)) is not None:
            what = f"frames of this job are home already, in other folders: {before or 'the usual ones'}"
            raise WrongUsage(what, job.id, "leave --folders out; deliver can name the frames as the brief says")
        session.get_one(JobRow, job.id).home_folders = folders
    return content


def _in_rounds(
    rounds: _Rounds,
    ledger: Ledger,
    job: JobRow,
    submissions: tuple[SubmissionRow, ...],
    links: Links,
    outage: Outage,
    follow: bool,
) -> Retrieved:
    content = rounds.content
    while True:
        states = []
        try:
            for row in submissions:
                try:
                    link = links(row)
                    state = catch_up(ledger, row, content.requests, link).state
                except FarmError:
                    if not row.given_up:
                        raise
                    # its frames are with other farms by now
                    continue
                if not row.given_up:
                    states.append(state)
                rounds.farms[row.id] = _Farm(link, needed(link.fetch, link, Capability.FETCH), row)
            rounds.fetch_all()
        except FarmBusy as error:
            if not follow:
                raise
            outage.wait(error)
            continue
        outage.over()
        if not follow or all(state.ended for state in states):
            break
        wait_for_changes(ledger, job.id, links, POLL)
    return Retrieved(
        job=job.id,
        into=rounds.into,
        retrieved=tuple(rounds.retrieved),
        at_home=rounds.at_home(),
        missing=tuple(_missing(ledger, job.id, content, submissions)),
        damaged=tuple(rounds.damaged),
        ended=all(JobState(row.state).ended for row in submissions if not row.given_up),
    )


class Looks:
    """Looks into frames that have no digest, in processes that may break off over one. They start when needed."""

    def __init__(self, stack: ExitStack) -> None:
        self._stack, self._lock = stack, Lock()
        self._readers: FrameReaders | None = None

    def whole(self, path: Path) -> bool:
        """Return whether a frame can be read to its end."""
        with self._lock:
            if self._readers is None:
                self._readers = self._stack.enter_context(FrameReaders(READERS))
        return self._readers.whole(path)


class _Rounds:
    """Fetches what is done, round after round."""

    def __init__(
        self,
        ledger: Ledger,
        job: str,
        content: PackingList,
        into: Path,
        progress: Progress,
        looks: Looks,
        *,
        patient: bool,
    ) -> None:
        """patient: what does not come because the farm is away is tried again in the next round."""
        self._patient, self._looks = patient, looks
        self._ledger, self._job, self.content, self.into = ledger, job, content, into
        self._progress = progress
        self._given_up: set[int] = set()
        self.farms: dict[int, _Farm] = {}
        self.retrieved: list[ProductFile] = []
        self.damaged: list[Unavailable] = []

    def at_home(self) -> int:
        """Return how many products are at home."""
        with self._ledger.reading() as session:
            return products_at_home(session, self._job)

    def look_again(self, everything: bool) -> None:
        """Forget what the ledger knows of files that are gone or not what they were. everything: read all of them."""
        columns = (ProductRow.id, ProductRow.path, ProductRow.bytes, ProductRow.blake3, ProductRow.mark)
        with self._ledger.reading() as session:
            home = list(session.execute(products_of(self._job, *columns).where(ProductRow.home)))
        gone: list[int] = []
        marks: dict[int, str] = {}
        with ThreadPoolExecutor(CONNECTIONS) as pool:
            known = [None if everything else row.mark for row in home]
            looked = pool.map(self._mark_at_home, home, known)
            for row, mark in zip(home, looked, strict=True):
                if mark is None:
                    gone.append(row.id)
                elif mark != row.mark:
                    marks[row.id] = mark
        for ids in in_pages(list(marks)):
            with self._ledger.writing() as session:
                for product in session.scalars(select(ProductRow).where(ProductRow.id.in_(ids))):
                    product.mark = marks[product.id]
        for ids in in_pages(gone):
            with self._ledger.writing() as session:
                for product in session.scalars(select(ProductRow).where(ProductRow.id.in_(ids))):
                    product.home = product.in_use = False
                    product.path = product.verdict = product.reasons = product.mark = None

    def _mark_at_home(self, row: Row[Any], known: str | None) -> str | None:
        """The mark of a file that is here and as the farm made it, else None. known: its mark when it was verified."""
        path = Path(row.path or "")
        # a file below another folder is not in the one that is asked for
        try:
            if not path.is_relative_to(self.into) or path.stat().st_size != row.bytes:
                return None
            mark = file_mark(path)
            return mark if mark == known or hash_file(path) == row.blake3 else None
        except OSError:
            return None

    def fetch_all(self) -> None:
        """Fetch everything that is done and not at home."""
        wanted = self._wanted()
        folders = dict.fromkeys(one.home_path.parent for one in wanted)
        refuse_links(self.into, [*folders, *(PurePosixPath(SET_ASIDE) / home_path for home_path in folders)])
        done = 0
        with ThreadPoolExecutor(CONNECTIONS) as pool:
            for at in range(0, len(wanted), BATCH):
                batch = wanted[at : at + BATCH]
                self._need_room(sum(one.product.bytes for one in (wanted if at == 0 else batch)))
                runs = [(one, pool.submit(self._fetch, one)) for one in batch]
                good: list[tuple[_Wanted, Path]] = []
                damaged: list[_Wanted] = []
                failed: list[FarmError] = []
                for one, run in runs:
                    try:
                        draft = run.result()
                    except FarmError as error:
                        failed.append(error)
                        if self._patient and isinstance(error, FarmBusy):
                            continue
                        self._given_up.add(one.id)
                        self.damaged.append(Unavailable.of(one.task, one.product.output, why=error.what))
                        continue
                    if draft is None:
                        damaged.append(one)
                    else:
                        good.append((one, draft))
                    done += 1
                    self._progress(Step("retrieve", done, len(wanted), "frames", one.home_path.name))
                self._settle(good, damaged)
                if len(failed) == len(batch):
                    # nothing at all comes: it is the farm and not the frame
                    raise failed[0]

    def _need_room(self, bytes_: int) -> None:
        """Raise Blocked where the disk has less room than so many bytes: before the first frame, and again later."""
        try:
            free = shutil.disk_usage(self.into).free
        except OSError:
            # a disk that does not say is found out by writing to it
            return
        if free < bytes_ + SPARE:
            what = f"the disk has {free >> 20} MiB left, the frames to come take {bytes_ >> 20} MiB"
            raise Blocked(what, self.into, "make room, or name a folder on another disk; what is home stays")

    def _wanted(self) -> list[_Wanted]:
        product = (ProductRow.id, ProductRow.output, ProductRow.key, ProductRow.bytes, ProductRow.blake3)
        query = (
            select(AttemptRow.submission_id, *product, *TASK_KEY)
            .join(ProductRow)
            .where(
                AttemptRow.submission_id.in_(list(self.farms)),
                AttemptRow.latest,
                AttemptRow.state == TaskState.DONE.value,
                ~ProductRow.home,
            )
            .order_by(ProductRow.id)
        )
        found = []
        with self._ledger.reading() as session:
            for submission, number, output, key, size, blake3, *identity in session.execute(query):
                if number in self._given_up:
                    continue
                task = Task.of_key(*identity)
                home_path = self.content.product_path(output, task)
                one = Product.model_construct(output=output, key=key, bytes=size, blake3=blake3)
                found.append(_Wanted(number, submission, task, one, home_path))
        return found

    def _fetch(self, one: _Wanted) -> Path | None:
        farm = self.farms[one.submission]
        return fetch(farm.fetching, farm.row.farm_job or "", one.product, self.into, one.home_path, self._looks)

    def _settle(self, good: list[tuple[_Wanted, Path]], damaged: list[_Wanted]) -> None:
        """Put verified files where they belong, and note all of them in one transaction."""
        if not good and not damaged:
            return
        by_id = {one.id: (one, draft) for one, draft in good}
        with self._ledger.writing() as session:
            ids = [*by_id, *(one.id for one in damaged)]
            rows = {row.id: row for row in session.scalars(products_of(self._job).where(ProductRow.id.in_(ids)))}
            others = self._at_home_for(session, [one.task for one, _ in good])
            for number, (one, draft) in by_id.items():
                row = rows[number]
                row.verdict = row.reasons = None
                row.home = True
                rivals = others.setdefault((one.task.key, one.product.output), [])
                _put_home(row, draft, one.home_path, self.into, rivals, self._delivery)
                rivals.append(row)
                self.retrieved.append(
                    ProductFile.of(
                        one.task,
                        row.output,
                        farm=self.farms[one.submission].row.farm,
                        attempt=row.attempt.number,
                        path=Path(row.path or below(self.into, one.home_path)),
                    )
                )
            for one in damaged:
                row = rows[one.id]
                row.verdict, row.reasons = Verdict.BAD.value, json.dumps([DAMAGED])
                self._given_up.add(one.id)
                self.damaged.append(Unavailable.of(one.task, one.product.output, why=DAMAGED))

    def _at_home_for(self, session: Session, tasks: list[Task]) -> dict[tuple[TaskKey, str], list[ProductRow]]:
        """Return what is at home already for these tasks, of any submission and attempt."""
        found: dict[tuple[TaskKey, str], list[ProductRow]] = {}
        wanted = {task.key for task in tasks}
        for frames in in_pages(sorted({task.frame for task in tasks})):
            for row in session.scalars(products_of(self._job).where(ProductRow.home, AttemptRow.frame.in_(frames))):
                key = row.attempt.task().key
                if key in wanted:
                    found.setdefault((key, row.output), []).append(row)
        return found

    def _delivery(self, row: ProductRow) -> Delivery:
        submission = self.farms[row.attempt.submission_id].row
        return Delivery(submission.farm, submission.number, row.attempt.number, row.judged())


def _put_home(row, draft, inside, into, rivals, delivery) -> None:  # type: ignore[no-untyped-def]
    """Put a verified file at its path, or aside where another one counts. Nothing at home is ever overwritten."""
    own = delivery(row)
    standing = in_use([own, *map(delivery, rivals)])
    row.mark = file_mark(draft)
    path = below(into, inside)
    if standing != own:
        aside = set_aside_path(inside, own)
        target = below(into, aside)
        _move(draft, into, aside)
        row.path, row.in_use = str(target), False
        return
    for rival in rivals:
        if rival.in_use:
            aside = set_aside_path(inside, delivery(rival))
            _move(Path(rival.path), into, aside)
            rival.path, rival.in_use = str(below(into, aside)), False
    if path.exists() and not _same(path, row):
        # something that no ledger knows of: it is not ours to overwrite
        found = PurePosixPath(SET_ASIDE, inside.parent, f"{inside.stem}.found-there{inside.suffix}")
        _move(path, into, found.with_name(_free(below(into, found)).name))
    _move(draft, into, inside)
    row.path, row.in_use = str(path), True


def _same(path: Path, row: ProductRow) -> bool:
    return path.is_file() and path.stat().st_size == row.bytes and hash_file(path) == row.blake3


def _move(path: Path, into: Path, home_path: PurePosixPath) -> None:
    if path.exists():
        with writable(into, home_path) as target:
            path.replace(target)


def _free(path: Path) -> Path:
    number, found = 2, path
    while found.exists():
        found, number = path.with_name(f"{path.stem}-{number}{path.suffix}"), number + 1
    return found


class _Damaged(Exception):
    """Raised when a file is not what the farm announced."""


_MAY_PASS = retry_if_exception_type((FarmError, _Damaged))


def fetch(
    fetching: Fetching, farm_job: str, product: Product, into: Path, home_path: PurePosixPath, looks: Looks
) -> Path | None:
    """Fetch one product beside its place and verify it. Returns the draft, or None when it never arrived intact.

    What has come stays after a break, and the next try goes on from there.
    """
    mark = product.blake3[:12] if product.blake3 else "unsigned"
    beside = home_path.with_name(f".{home_path.name}.{mark}.part{home_path.suffix}")
    try:
        with writable(into, beside) as draft:
            _fetch_into(draft, fetching, farm_job, product, lambda: looks.whole(into / beside))
    except _Damaged:
        return None
    except OSError as error:
        what = f"cannot write a frame ({os_reason(error)})"
        raise TidyCrateError(what, into / home_path, "make room, then run it again") from error
    return into / beside


def _fetch_into(draft: Path, fetching: Fetching, farm_job: str, product: Product, opens: Callable[[], bool]) -> None:
    """opens: says whether the file can be read to its end, by a path that other processes understand."""
    for attempt in Retrying(stop=stop_after_attempt(TRIES), retry=_MAY_PASS, reraise=True):
        with attempt:
            offset = draft.stat().st_size if draft.exists() else 0
            if offset < product.bytes or not draft.exists():
                fetching.fetch(farm_job, product, draft, offset, lambda _: None)
            if draft.stat().st_size != product.bytes or not (
                hash_file(draft) == product.blake3 if product.blake3 else opens()
            ):
                draft.unlink()
                raise _Damaged
            # a farm that is told a frame is home may throw its own away
            with draft.open("rb+") as stream:
                os.fsync(stream.fileno())


def _missing(
    ledger: Ledger, job: str, content: PackingList, submissions: tuple[SubmissionRow, ...]
) -> Iterator[Unavailable]:
    """Yield what is not at home of all that was ordered, each task and output once, with the reason."""
    with ledger.reading() as session:
        products = products_of(job, *TASK_KEY, ProductRow.output).where(ProductRow.home)
        home = {(tuple(key), output) for *key, output in session.execute(products)}
        attempts = (
            select(*TASK_KEY, AttemptRow.state, AttemptRow.error)
            .join(SubmissionRow, SubmissionRow.id == AttemptRow.submission_id)
            .where(SubmissionRow.job_id == job, AttemptRow.latest)
        )
        states: dict[TaskKey, tuple[str, str | None]] = {}
        for *key, state, error in session.execute(attempts):
            # of several submissions the one that is not done explains more
            if state != TaskState.DONE.value or tuple(key) not in states:
                states[tuple(key)] = (state, error)  # type: ignore[index]
    seen: set[Task] = set()
    for submission in submissions:
        ordered = Ordered.of(submission, content.requests)
        outputs = ordered.outputs()
        for task in tasks_of(ordered.ranges, ordered.requests):
            if task in seen:
                continue
            seen.add(task)
            for output in outputs[task.request]:
                if (task.key, output) not in home:
                    yield Unavailable.of(task, output, why=_why(states.get(task.key), submission))


def _why(attempt: tuple[str, str | None] | None, submission: SubmissionRow) -> str:
    """attempt: state and error of the last one."""
    if attempt is None:
        cancelled = submission.state == JobState.CANCELLED.value
        return TaskState.CANCELLED.value if cancelled else TaskState.WAITING.value
    state, error = attempt
    return error or ("the farm left no such output" if state == TaskState.DONE.value else state)
