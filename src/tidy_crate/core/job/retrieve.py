"""Retrieving: every product home as it is done, resumed where it broke off, verified, on its own number."""

from __future__ import annotations

import json
import shutil
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from sqlalchemy import Row, select
from sqlalchemy.orm import Session

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.farm.links.interface import FarmLink, Fetching, FetchSmall, needed
from tidy_crate.core.farm.protocol import Capability, JobState
from tidy_crate.core.files import file_mark, hash_file, only_one, refuse_links
from tidy_crate.core.job.fetching import TOGETHER, Looks, Wanted, fetch, fetch_pack, remove_old_drafts
from tidy_crate.core.job.ledger import Ledger, in_pages, products_at_home, products_of, submissions_of
from tidy_crate.core.job.missing import Unavailable, missing_products
from tidy_crate.core.job.outage import Outage, say_nothing
from tidy_crate.core.job.placing import put_home
from tidy_crate.core.job.submission import Links, catch_up, wait_for_changes
from tidy_crate.core.job.tables import TASK_KEY, AttemptRow, JobRow, ProductRow, SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.transfer.pack import in_packs
from tidy_crate.core.work.attempt import Product, Verdict
from tidy_crate.core.work.folders import FolderPattern
from tidy_crate.core.work.product import SET_ASIDE, Delivery, below
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput, TaskState

CONNECTIONS = 4
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


@dataclass(frozen=True)
class _Farm:
    link: FarmLink
    fetching: Fetching
    row: SubmissionRow

    @property
    def job(self) -> str:
        """The farm's name for the job."""
        return self.row.farm_job or ""


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
    remove_old_drafts(rounds.into, rounds.home_paths())
    return Retrieved(
        job=job.id,
        into=rounds.into,
        retrieved=tuple(rounds.retrieved),
        at_home=rounds.at_home(),
        missing=tuple(missing_products(ledger, job.id, content, submissions)),
        damaged=tuple(rounds.damaged),
        ended=all(JobState(row.state).ended for row in submissions if not row.given_up),
    )


@dataclass(frozen=True)
class _Batch:
    """Products that are on their way."""

    wanted: Sequence[Wanted]
    packs: list[Future[dict[int, Path]]]
    """Small ones, many at a time, by id."""
    alone: dict[int, Future[Path | None]]
    """The others, by id."""


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

    def home_paths(self) -> Iterator[PurePosixPath]:
        """Yield where the products of this run are, below the folder."""
        for one in self.retrieved:
            if one.path.is_relative_to(self.into):
                yield PurePosixPath(one.path.relative_to(self.into).as_posix())

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
        batches = [wanted[at : at + BATCH] for at in range(0, len(wanted), BATCH)]
        done = 0
        pool = ThreadPoolExecutor(CONNECTIONS)
        try:
            coming: deque[_Batch] = deque()
            for number, batch in enumerate(batches):
                ahead = coming[0].wanted if coming else ()
                self._need_room(sum(one.product.bytes for one in ((*ahead, *batch) if number else wanted)))
                coming.append(self._begin(pool, batch))
                if len(coming) > 1:
                    # the next one is on its way while this one is put in its place
                    done = self._finish(pool, coming.popleft(), done, len(wanted))
            while coming:
                done = self._finish(pool, coming.popleft(), done, len(wanted))
        finally:
            pool.shutdown(cancel_futures=True)

    def _begin(self, pool: ThreadPoolExecutor, batch: Sequence[Wanted]) -> _Batch:
        """Begin to fetch products: small ones many at a time."""
        together: dict[int, tuple[FetchSmall, list[Wanted]]] = {}
        alone: dict[int, Future[Path | None]] = {}
        for one in batch:
            many = self.farms[one.submission].link.fetch_small
            if one.is_small and many is not None:
                together.setdefault(one.submission, (many, []))[1].append(one)
            else:
                alone[one.id] = pool.submit(self._fetch, one)
        packs = [
            pool.submit(fetch_pack, many, self.farms[submission].job, pack, self.into)
            for submission, (many, small) in together.items()
            for pack in in_packs(small, lambda one: one.product.bytes, TOGETHER)
        ]
        return _Batch(batch, packs, alone)

    def _finish(self, pool: ThreadPoolExecutor, batch: _Batch, done: int, total: int) -> int:
        """Wait for products, put them in their places, and note what did not come.

        done: how many came before, of how many in all. Return how many have come with these.
        Raises FarmError where nothing at all came: then it is the farm and not the frame.
        """
        here: dict[int, Path] = {}
        for pack in batch.packs:
            here.update(pack.result())
        left = [one for one in batch.wanted if one.id not in here and one.id not in batch.alone]
        batch.alone.update((one.id, pool.submit(self._fetch, one)) for one in left)
        good: list[tuple[Wanted, Path]] = []
        damaged: list[Wanted] = []
        failed: list[FarmError] = []
        for one in batch.wanted:
            try:
                draft = here.get(one.id) or batch.alone[one.id].result()
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
            self._progress(Step("retrieve", done, total, "frames", one.home_path.name))
        self._settle(good, damaged)
        if len(failed) == len(batch.wanted):
            raise failed[0]
        return done

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

    def _wanted(self) -> list[Wanted]:
        product = (
            ProductRow.id,
            ProductRow.output,
            ProductRow.key,
            ProductRow.bytes,
            ProductRow.blake3,
            ProductRow.version,
        )
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
            for submission, number, output, key, size, blake3, version, *identity in session.execute(query):
                if number in self._given_up:
                    continue
                task = Task.of_key(*identity)
                home_path = self.content.product_path(output, task)
                one = Product.model_construct(output=output, key=key, bytes=size, blake3=blake3, version=version)
                found.append(Wanted(number, submission, task, one, home_path))
        return found

    def _fetch(self, one: Wanted) -> Path | None:
        farm = self.farms[one.submission]
        return fetch(farm.fetching, farm.job, one, self.into, self._looks)

    def _settle(self, good: list[tuple[Wanted, Path]], damaged: list[Wanted]) -> None:
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
                put_home(row, draft, one.home_path, self.into, rivals, self._delivery)
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
