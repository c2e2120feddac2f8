"""The shared storage of one's own machines: crates, orders, and what belongs to a job."""

from __future__ import annotations

import json
import secrets
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import Any

from blake3 import blake3
from pydantic import Field, ValidationError

from tidy_crate.core.crate.packing import FILE_NAME, PackedFile, PackingList, last_packing_list
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, UnreadableInput
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.files import hash_file, inside, read_input, write_bytes, write_json
from tidy_crate.core.model import Wire
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.work.task import Task, TaskRange, tasks_of

COPIES = 4
# what a system calls a full disk, and a used-up quota
_FULL = (28, 122)


class RenderedAgain(Wire):
    """Tasks that were ordered once more."""

    tasks: tuple[TaskRange, ...]
    first: int = Field(ge=1, le=1_000_000)
    """Number of the attempt that this is the order for: what is older counts no more."""
    mark: str = Field(default="", max_length=40)
    """Tells this order for a task from earlier ones."""


class ClusterOrder(Wire):
    """The contents of `order.json`."""

    order: JobOrder
    submitted: datetime
    sent: bool = False
    """True once the scheduler has all of its batches."""
    tests_sent: bool = False
    """True once the scheduler has its test frames, or it waits for `resume` without any."""
    cancelled: bool = False
    paused: bool = False
    turn: int = Field(default=0, ge=0, le=1_000_000)
    """Of handing out: a batch of an earlier one does nothing any more."""
    handed: datetime | None = None
    """When batches were last handed out."""
    idle: int = Field(default=0, ge=0, le=1_000_000)
    """Times in a row that what was left was handed out again and no frame came of it."""
    done_then: int = Field(default=0, ge=0)
    """Tasks that were done when that was last done."""
    keys: tuple[str, ...] = ()
    """Keys of orders that were carried out."""
    again: tuple[RenderedAgain, ...] = ()

    def generation(self) -> dict[Task, str]:
        """By task that was ordered again, the mark of its last order."""
        return {task: one.mark for one in self.again for task in tasks_of(one.tasks, self.order.requests)}

    def least(self) -> dict[Task, int]:
        """By task that was ordered again, the number of the first attempt that counts."""
        return {task: one.first for one in self.again for task in tasks_of(one.tasks, self.order.requests)}


class Storage:
    """A folder that all machines see.

    on_nodes: where the nodes see it; as here when None. own: whether it is a folder of this machine alone, which is
    made where there is none.
    """

    def __init__(self, shared: Path, on_nodes: str | None, *, own: bool = False) -> None:
        self.shared, self._on_nodes, self._own = shared, on_nodes, own

    def seen_by_nodes(self, path: Path) -> PurePosixPath | Path:
        """Return a path on the storage as the nodes see it."""
        if self._on_nodes is None:
            return path
        return PurePosixPath(self._on_nodes, path.relative_to(self.shared).as_posix())

    # ---- crates

    def crate(self, name: str) -> Path:
        """Return the folder of a crate."""
        return self.shared / "crates" / name

    def content(self, name: str) -> PackingList:
        """Return a crate's packing list."""
        return last_packing_list(self.crate(name))

    def has(self, name: str, content: PackingList) -> bool:
        """Return whether a crate is there, complete."""
        try:
            return self.content(name).digest == content.digest
        except (UnreadableInput, OSError):
            return False

    def take(self, crate: Path, name: str, content: PackingList, progress: Progress) -> int:
        """Copy a crate and verify it; files that an earlier try has brought are not copied again.

        Return the bytes that were copied. One bad file keeps no other away; the first error is raised at the end.
        """
        draft = self.shared / "crates" / f".{name}.part"
        with told(self._there()):
            draft.mkdir(parents=True, exist_ok=True)
        errors: list[Exception] = []
        copied = done = 0
        with ThreadPoolExecutor(COPIES) as pool:
            blobs = self.shared / "files"
            runs = [(file, pool.submit(_copy, file, crate, draft, blobs)) for file in content.files]
            for file, run in runs:
                try:
                    copied += run.result()
                except (Blocked, FarmError) as error:
                    errors.append(error)
                    continue
                done += file.bytes
                progress(Step("upload", done, content.bytes, "bytes", file.path))
        if errors:
            raise errors[0]
        with told(draft):
            write_bytes(draft / FILE_NAME, content.model_dump_json(indent=1).encode() + b"\n")
            target = self.crate(name)
            shutil.rmtree(target, ignore_errors=True)
            draft.replace(target)
        return copied

    # ---- jobs

    def job(self, name: str) -> Path:
        """Return the folder of a job. Raises FarmError for a name that leads elsewhere."""
        if not name or "/" in name or "\\" in name or name.startswith("."):
            raise FarmError("this is no name of a job there", name)
        return self.shared / "jobs" / name

    def knows(self, job: str) -> bool:
        """Return whether a job was ordered."""
        return (self.job(job) / "order.json").is_file()

    def _there(self, job: str = "") -> Path:
        """Return the storage, or the folder of a job. Raises FarmBusy where it is gone.

        Nothing is made below a mount point that is not mounted: the share would hide it.
        """
        folder = self.job(job) if job else self.shared
        if self._own and not job:
            with told(folder):
                folder.mkdir(parents=True, exist_ok=True)
        if not folder.is_dir():
            raise FarmBusy("the shared storage is not there", folder, "check that it is mounted here")
        return folder

    def make(self, job: str) -> None:
        """Make the folders of a job."""
        self._there()
        with told(self.job(job)):
            for name in ("frames", "records", "logs", "work", "batches", "claims", "done", "rows", "engine", "spent"):
                (self.job(job) / name).mkdir(parents=True, exist_ok=True)

    def keep(self, job: str, placed: ClusterOrder) -> None:
        """Write down an order, and for the nodes whether it goes on."""
        with told(self._there(job)):
            write_bytes(self.job(job) / "order.json", placed.model_dump_json(indent=1).encode())
            told_nodes = {"cancelled": placed.cancelled, "paused": placed.paused, "turn": placed.turn}
            write_json(self.job(job) / "control.json", told_nodes)

    def write_batches(self, job: str, given: Mapping[str, Any], batches: Iterable[Mapping[str, Any]]) -> list[str]:
        """Write what every batch of a job needs, and the tasks of each. Return the batches' names."""
        names = []
        with told(self._there(job)):
            write_json(self.job(job) / "node-order.json", given)
            for one in batches:
                write_json(self.job(job) / "batches" / f"{one['name']}.json", one)
                names.append(str(one["name"]))
        return names

    def write_rows(self, job: str, rows: Sequence[Sequence[str]]) -> Path:
        """Write a table of batches for an engine that counts. Return its path."""
        path = self.job(job) / "rows" / f"{secrets.token_hex(6)}.json"
        with told(self._there(job)):
            path.parent.mkdir(exist_ok=True)
            (self.job(job) / "engine").mkdir(exist_ok=True)
            write_json(path, rows)
        return path

    def capped(self, job: str, turn: int) -> str:
        """Return why nodes have stopped at a job's cap; empty where they have not."""
        try:
            return read_input(self.job(job) / f"capped-{turn}", 1000).decode("utf-8", "replace")
        except OSError:
            return ""

    def program(self) -> Path:
        """Put the program that runs on nodes there, once for each version of it. Return its path."""
        from tidy_crate.core import supervise
        from tidy_crate.core.farm.links.cluster import node_job, on_here, on_node

        modules = (on_node, node_job, on_here, supervise)
        files = {path.name: path for path in (Path(module.__file__ or "") for module in modules)}
        texts = {name: path.read_bytes() for name, path in files.items()}
        digest = blake3(b"\0".join(texts.values())).hexdigest()[:16]
        folder = self.shared / "program" / digest
        with told(self._there()):
            for name, text in texts.items():
                if not (folder / name).is_file():
                    write_bytes(folder / name, text)
        return folder / "on_node.py"

    def note_lost(self, job: str, lines: Sequence[Mapping[str, Any]]) -> None:
        """Note tasks that no node will render any more, for everybody who looks at the job."""
        text = b"".join(json.dumps(line).encode() + b"\n" for line in lines)
        with told(self._there(job)):
            write_bytes(self.job(job) / "records" / f"lost-{secrets.token_hex(6)}.jsonl", text)

    def left_out(self, job: str) -> list[str]:
        """Return the nodes that take no more batches of a job, each with the reason."""
        with told(self.job(job)):
            found = sorted((self.job(job) / "unfit").glob("*.txt"))
            return [f"{path.stem}: {read_input(path, 4096).decode('utf-8', 'replace')}" for path in found]

    def placed(self, job: str) -> ClusterOrder:
        """Read an order. Raises FarmBusy where the storage cannot be read, FarmError where the order is damaged."""
        path = self.job(job) / "order.json"
        try:
            return ClusterOrder.model_validate_json(read_input(path))
        except OSError as error:
            what = f"the shared storage cannot be read ({error.strerror})"
            raise FarmBusy(what, path, "check that it is mounted here") from error
        except ValidationError as error:
            raise FarmError("the order on the shared storage is damaged", path, "send the job again") from error


def _copy(file: PackedFile, crate: Path, draft: Path, blobs: Path) -> int:
    """Bring one file of a crate there, and return the bytes that were copied; 0 where it is there already.

    A file is kept by its contents, and a crate has a hard link to it, so that another crate with it copies nothing.
    """
    source, target = inside(crate, file.path), inside(draft, file.path)
    if _is(target, file):
        return 0
    if not _is(source, file):
        raise Blocked("a file of the crate is not as it was packed", source, "collect again")
    blob = blobs / file.blake3[:2] / file.blake3
    with told(target):
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        if _is(blob, file) and _linked(blob, target):
            return 0
        shutil.copyfile(source, target)
        # what renders must not change a file that other crates have too
        target.chmod(0o444)
        if hash_file(target) != file.blake3:
            raise FarmBusy("what arrived is not what was copied", target, "run the command again")
        blob.parent.mkdir(parents=True, exist_ok=True)
        blob.unlink(missing_ok=True)
        _linked(target, blob)
    return file.bytes


def _is(path: Path, file: PackedFile) -> bool:
    try:
        return path.stat().st_size == file.bytes and hash_file(path) == file.blake3
    except OSError:
        return False


def _linked(path: Path, link: Path) -> bool:
    """Make a hard link. Return whether the storage can do that."""
    try:
        link.hardlink_to(path)
    except FileExistsError:
        # another crate with the same file arrives at this moment
        return True
    except OSError:
        return False
    return True


@contextmanager
def told(where: Path) -> Iterator[None]:
    """Turn what the shared storage does into one error in plain words."""
    try:
        yield
    except OSError as error:
        if error.errno in _FULL:
            remedy = "make room there, then run the command again: it goes on where it was"
            raise FarmError("the shared storage is full", where, remedy) from error
        what = f"the shared storage cannot be used ({error.strerror})"
        raise FarmError(what, where, "check that it is mounted here and may be written") from error
