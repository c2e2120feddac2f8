"""The link to a farm that is a place for files: an archive and a job sheet go there, frames appear and come home.

At the place:

    crates/NAME-DIGEST.zip          the crate, with its packing list beside it
    jobs/NAME-KEY/order.json        what was ordered
    jobs/NAME-KEY/job-sheet.md, .html
    jobs/NAME-KEY/frames/           where the farm puts frames; `frames-again-1` and so on for later orders
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path, PurePosixPath

from tidy_crate.core.crate.archive import write_archive
from tidy_crate.core.crate.packing import PackedFile, PackingList, packing_list_of
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.drop.bundles import MARK, Bundles, is_bundle
from tidy_crate.core.farm.links.drop.job_sheet import as_html, as_markdown, job_sheet
from tidy_crate.core.farm.links.drop.place import Found, Place, open_place
from tidy_crate.core.farm.links.drop.placed import AGAIN, FRAMES, Again, PlacedJob, PlacedOrder, placed_job
from tidy_crate.core.farm.links.interface import NOTHING, Delivered, FarmLink, Moved, Trial, tried
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import (
    PAGE,
    Action,
    Changes,
    ControlOrder,
    Counts,
    JobOrder,
    JobSummary,
    NodeChange,
    TaskChange,
)
from tidy_crate.core.farm.rental import running_bill
from tidy_crate.core.files import hash_both, hash_file, inside
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.task import Task, TaskRange, TaskState, tasks_of

# seconds between two looks: a file that has not changed in between is taken for complete
SETTLES = 1.0
# endings of files that are still on their way
_UNFINISHED = (".part", ".tmp", ".filepart", ".partial")


class DropFarm:
    """A farm behind a place. open_: connects; sleep, now: replace the clock in tests."""

    actions = frozenset({Action.CANCEL, Action.RERENDER, Action.RESUME, Action.RELEASE})

    def __init__(
        self,
        card: FarmCard,
        open_: Callable[[], Place],
        sleep: Callable[[float], None] = time.sleep,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._card, self._open, self._sleep, self._now = card, open_, sleep, now
        self._opened: Place | None = None
        self._jobs: dict[str, PlacedJob] = {}
        self._bundles: dict[str, Bundles] = {}

    def link(self) -> FarmLink:
        """The farm as a link."""
        return FarmLink(
            self._card.name, deliver=self, submit=self, changes=self, fetch=self, control=self, close=self.close,
            trial=self.trial,
        )  # fmt: skip

    def trial(self) -> Iterator[Trial]:
        """See FarmLink.trial."""
        yield (first := tried("reach it, and sign in", lambda: type(self._place).__name__.lower()))
        if not first.works:
            return

        def written() -> str:
            self._place.check()
            return f"{self._card.url} can be written"

        yield tried("write and remove a file", written)

        def listed() -> str:
            return f"{len(self._place.find('jobs'))} files of earlier jobs"

        yield tried("list what is there", listed)

    def close(self) -> None:
        """Close the connection."""
        for bundles in self._bundles.values():
            bundles.close()
        if self._opened is not None:
            self._opened.close()

    @property
    def _place(self) -> Place:
        if self._opened is None:
            self._opened = self._open()
        return self._opened

    # ---- delivering

    def to_send(self, crate: Path, content: PackingList) -> int:
        """See Delivering.to_send. Before it is packed, an archive counts as large as its files."""
        name = f"crates/{_crate_name(content)}{self._suffix}"
        return 0 if self._place.size(name) is not None else content.bytes

    def deliver(
        self, crate: Path, content: PackingList, progress: Progress, earlier: Mapping[str, str] = NOTHING
    ) -> Delivered:
        """See Delivering.deliver. The archive is kept in `NAME.outbox` beside the crate until it has arrived."""
        self._place.check()
        name = _crate_name(content)
        path = f"crates/{name}{self._suffix}"
        listed = content.model_dump_json().encode()
        there_size = self._place.size(path)
        # the list goes last, so that where it is the archive is complete
        if there_size is not None and self._place.read(f"crates/{name}.packing-list.json") == listed:
            return Delivered(name, 0, there_size, None)
        _need_as_packed(crate, content)
        archive = crate.parent / f"{crate.name.removesuffix('.crate')}.outbox" / f"{name}{self._suffix}"
        if not archive.is_file():
            write_archive(crate, archive, progress)
        size, (digest, sha256) = archive.stat().st_size, hash_both(archive)
        done = 0

        def moved(count: int) -> None:
            nonlocal done
            done += count
            progress(Step("upload", min(done, size), size, "bytes", archive.name))

        kept = self._place.send(archive, path, digest, moved)
        self._place.write(f"{path}.blake3", _line(digest, path))
        self._place.write(f"{path}.sha256", _line(sha256, path))
        self._place.write(f"crates/{name}.packing-list.json", listed)
        archive.unlink()
        return Delivered(name, size - kept, kept, None)

    @property
    def _suffix(self) -> str:
        return f".{self._card.place.archive}"

    # ---- orders

    def submit(self, order: JobOrder) -> str:
        """See Submitting.submit."""
        job = f"{order.crate.rpartition('-')[0]}-{hashlib.blake2b(order.key.encode(), digest_size=5).hexdigest()}"
        if self._place.size(f"jobs/{job}/order.json") is None:
            placed = PlacedOrder(order=order, submitted=self._now())
            self._write_sheet(job, placed, order.tasks, FRAMES, "job-sheet")
            self._place.make(f"jobs/{job}/{FRAMES}")
            # last, since it makes the job
            self._note(job, placed)
        return job

    def _note(self, job: str, placed: PlacedOrder) -> None:
        self._place.write(f"jobs/{job}/order.json", placed.model_dump_json(indent=1).encode())

    def _write_sheet(
        self, job: str, placed: PlacedOrder, tasks: tuple[TaskRange, ...], frames: str, name: str, again: str = ""
    ) -> None:
        order = placed.order
        content = self._content(order.crate)
        path = f"crates/{order.crate}{self._suffix}"
        lines = [
            (self._place.read(f"{path}.{kind}") or b"").decode("utf-8", "replace") for kind in ("blake3", "sha256")
        ]
        digests = [line.partition(" ")[0] for line in lines]
        archive = (path, self._place.size(path) or 0, digests[0], digests[1])
        sheet = job_sheet(job, self._card, content, order, tasks, archive, f"jobs/{job}/{frames}", again)
        self._place.write(f"jobs/{job}/{name}.md", as_markdown(sheet).encode())
        self._place.write(f"jobs/{job}/{name}.html", as_html(sheet).encode())

    def _content(self, crate: str) -> PackingList:
        path = f"crates/{crate}.packing-list.json"
        text = self._place.read(path)
        if text is None:
            raise FarmError("the packing list of the crate is gone from the place", path, "send the crate again")
        return packing_list_of(text, path)

    def control(self, job: str, order: ControlOrder) -> None:
        """See Controlling.control."""
        found = self._job(job)
        placed = found.placed
        if order.key in placed.keys:
            return
        update: dict[str, object] = {"keys": (*placed.keys, order.key)}
        match order.action:
            case Action.CANCEL:
                update["cancelled"] = True
                text = f"{job} is cancelled: stop it, and shut down what is rented for it.\n"
                self._place.write(f"jobs/{job}/CANCELLED.txt", text.encode())
            case Action.RESUME:
                update["started"] = True
                most = f" Stop before it costs more than {order.cap} {self._card.currency}." if order.cap else ""
                self._place.write(f"jobs/{job}/START.txt", f"{job}: start all of it now.{most}\n".encode())
            case Action.RELEASE:
                update["released"] = self._now()
            case Action.RERENDER:
                number = len(placed.again) + 1
                again = Again(key=order.key, tasks=order.tasks)
                update["again"] = (*placed.again, again)
                self._place.make(f"jobs/{job}/{AGAIN}{number}")
                why = f"Order {number + 1}: these frames once more."
                self._write_sheet(job, placed, order.tasks, f"{AGAIN}{number}", f"job-sheet-again-{number}", why)
            case _:
                return
        found.placed = placed.model_copy(update=update)
        self._note(job, found.placed)

    # ---- how it stands

    def _job(self, job: str) -> PlacedJob:
        if job not in self._jobs:
            placed = self._placed(job)
            content = self._content(placed.order.crate)
            try:
                self._jobs[job] = placed_job(placed, content, self._card.outputs.from_zero)
            except WrongUsage as error:
                what = f"the order at the place is damaged ({error.what})"
                raise FarmError(what, job, "send the job again") from error
        return self._jobs[job]

    def _placed(self, job: str) -> PlacedOrder:
        path = f"jobs/{_part(job)}/order.json"
        text = self._place.read(path)
        if text is None:
            raise FarmError("there is no such job at the place", job, "was its folder removed?")
        try:
            return PlacedOrder.model_validate_json(text)
        except ValueError as error:
            raise FarmError("the order at the place is damaged", path, "send the job again") from error

    def summary(self, job: str) -> JobSummary:
        """See Telling.summary. Looks at the place, and waits a moment where files are new."""
        found = self._job(job)
        # another process may have told it something
        found.placed = self._placed(job)
        self._look(job, found)
        order, now = found.placed.order, self._now()
        attempts = found.attempts()
        total = sum(1 for _ in tasks_of(order.tasks, order.requests))
        latest: dict[Task, TaskChange] = {}
        for (task, number), change in attempts.items():
            if task not in latest or latest[task].attempt.number < number:
                latest[task] = change
        done = sum(1 for change in latest.values() if change.attempt.state is TaskState.DONE)
        end = found.placed.released or now
        billing = self._card.place.rented and found.placed.released is None
        seconds = (end - found.placed.submitted).total_seconds()
        return JobSummary(
            job=job,
            state=found.state(done, total),
            submitted=found.placed.submitted,
            now=now,
            cost=running_bill(self._card, order, seconds if self._card.place.rented else 0.0, done),
            currency=self._card.currency,
            counts=Counts(done=done, cancelled=total - done)
            if found.placed.cancelled
            else Counts(done=done, waiting=max(0, total - done)),
            cursor=found.mark(),
            billing=billing,
            why="; ".join(
                [*(f"{path}: {why}" for path, why in self._bundles_of(job, found).broken.items()), *found.unexpected()]
            )[:500],
        )

    def _bundles_of(self, job: str, found: PlacedJob) -> Bundles:
        if job not in self._bundles:
            self._bundles[job] = Bundles(found.most_bytes)
        return self._bundles[job]

    def _look(self, job: str, found: PlacedJob) -> None:
        """List the place. Files that are new count once they have not changed between two looks."""
        first = self._listed(job)
        known = found.known | found.archives
        if all(known.get(path) == one for path, one in first.items()):
            return
        self._sleep(SETTLES)
        second = self._listed(job)
        settled = {path: one for path, one in second.items() if first.get(path) == one and one.bytes}
        found.archives = {path: one for path, one in settled.items() if is_bundle(path)}
        kept = {path: one for path, one in found.known.items() if path in second}
        bundles = self._bundles_of(job, found)
        inside = {
            one.path: one
            for path, archive in found.archives.items()
            for one in bundles.members(self._place, f"jobs/{job}/{path}", archive)
        }
        found.known = {path: one for path, one in (kept | settled | inside).items() if path not in found.archives}

    def _listed(self, job: str) -> dict[str, Found]:
        listed = self._place.find(f"jobs/{_part(job)}")
        return {
            one.path: one
            for one in listed
            if one.path.startswith((f"{FRAMES}/", AGAIN))
            and not one.path.rpartition("/")[2].startswith(".")
            and not one.path.lower().endswith(_UNFINISHED)
        }

    def changes(self, job: str, cursor: str) -> Changes:
        """See Telling.changes. The place keeps no history: what this process has not told yet counts as new."""
        found = self._job(job)
        mark = found.mark()
        every = list(found.attempts().items())
        begun = not cursor or ":" not in cursor
        at = 0 if begun else int(cursor.partition(":")[2]) if cursor.partition(":")[2].isdigit() else 0
        page = [change for _, change in every[at : at + PAGE]]
        more = at + PAGE < len(every)
        now = self._now()
        node = NodeChange(
            name=found.placed.order.machine, began=found.placed.submitted,
            until=max(found.placed.submitted, found.placed.released or now), tasks=len(every),
            cost=Decimal(0), gone=not self._card.place.rented or found.placed.released is not None,
        )  # fmt: skip
        return Changes(
            cursor=f"{mark}:{at + PAGE}" if more else mark,
            more=more,
            tasks=tuple(page),
            nodes=(node,) if self._card.place.rented else (),
        )

    def wait(self, job: str, cursor: str, seconds: float) -> None:
        """See Telling.wait."""
        self._sleep(max(seconds, SETTLES))

    def log(self, job: str, log: str) -> str:
        """See Telling.log."""
        raise FarmError("this farm gives out no logs", self._card.name, "ask the people there")

    def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
        """See Fetching.fetch."""
        if MARK in product.key:
            moved(self._bundles_of(job, self._job(job)).fetch(product.key, target, offset, product.bytes))
            return
        key = PurePosixPath(product.key)
        if key.is_absolute() or ".." in key.parts:
            raise FarmError("the place names a file that is elsewhere", product.key)
        path = f"jobs/{_part(job)}/{product.key}"
        self._place.fetch(path, target, offset, product.bytes, moved)
        now = self._place.look(path)
        if product.version and (now is None or now.version != product.version):
            # what has come may be parts of two files, and none of it is kept: the next look finds the new one
            target.unlink(missing_ok=True)
            raise FarmBusy("a frame changed at the place while it was fetched", product.key, "run the command again")


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to the place at a card's address. See registry.Opener."""
    return DropFarm(card, lambda: open_place(card, token)).link()


def _need_as_packed(crate: Path, content: PackingList) -> None:
    """Raise Blocked for a file that is not as it was packed."""

    def same(file: PackedFile) -> bool:
        path = inside(crate, file.path)
        return path.is_file() and path.stat().st_size == file.bytes and hash_file(path) == file.blake3

    with ThreadPoolExecutor() as pool:
        for file, right in zip(content.files, pool.map(same, content.files), strict=True):
            if not right:
                raise Blocked("a file of the crate is not as it was packed", inside(crate, file.path), "collect again")


def _crate_name(content: PackingList) -> str:
    return f"{content.name[:120]}-{content.digest[:12]}"


def _line(digest: str, path: str) -> bytes:
    """The line that the usual program for it checks."""
    return f"{digest}  {path.rpartition('/')[2]}\n".encode()


def _part(job: str) -> str:
    """A name of a job as one folder's name. Raises FarmError for one that leads elsewhere."""
    if not job or "/" in job or "\\" in job or job.startswith("."):
        raise FarmError("this is no name of a job at the place", job)
    return job
