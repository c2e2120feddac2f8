"""Delivering: the accepted frames as the brief orders them, with a list of digests; nothing while any is missing."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from tidy_crate.core.context.brief import name_by
from tidy_crate.core.crate.archive import ENDINGS, write_files
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import Blocked, TidyCrateError, WrongUsage
from tidy_crate.core.files import copy_and_hash, hash_file, os_reason, read_input, refuse_links, write_bytes
from tidy_crate.core.handles import writable
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.missing import Unavailable
from tidy_crate.core.job.submission import Ordered
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.review.at_home import AtHome, at_home
from tidy_crate.core.review.stitch import whole_tasks
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.folders import first_twice
from tidy_crate.core.work.product import below
from tidy_crate.core.work.task import Task, TaskKey, TaskOutput

# a line for each file, as `b3sum --check` reads it
DIGESTS = "digests.txt"
_NOT_TAKEN = {
    None: "it was not reviewed",
    Verdict.SUSPECT: "it is suspect: accept or reject it",
    Verdict.BAD: "it is bad: rerender it",
    Verdict.MISSING: "it is missing",
}


class DeliveredFrame(TaskOutput):
    """One frame of one output, delivered."""

    path: str
    """In the delivery, forward slashes."""
    bytes: int
    blake3: str


class Delivered(Model):
    """A delivery."""

    job: str
    to: Path
    delivered: tuple[DeliveredFrame, ...]
    missing: tuple[Unavailable, ...]
    """Frames that cannot be delivered, with the reason. While there is any, nothing is written."""

    @property
    def bytes(self) -> int:
        """Size of all frames."""
        return sum(one.bytes for one in self.delivered)


@dataclass(frozen=True)
class _Source:
    task: Task
    output: str
    path: Path
    name: PurePosixPath
    blake3: str | None
    """As it came; None for one that was put together here."""


def deliver(ledger: Ledger, name: str, target: Path, progress: Progress = silent) -> Delivered:
    """Write all frames of a job into a folder or an archive (`.zip`, `.tar.zst`), named as the brief says.

    Every frame must be good by the review or accepted by a person, and of the format that the brief orders: otherwise
    nothing is written and what is missing is returned. Raises Blocked when a file at home is not what was verified.
    """
    job, submissions = submissions_of(ledger, name)
    if job.into is None or job.reviewed is None:
        what = "the frames of this job were not " + ("fetched yet" if job.into is None else "reviewed yet")
        remedy = f"tidy-crate retrieve {name} --into DIR" if job.into is None else f"tidy-crate review {name}"
        raise WrongUsage(what, name, remedy)
    content, into = job.packing_list(), Path(job.into)
    home = at_home(ledger, name)
    sources: dict[tuple[TaskKey, str], _Source] = {}
    missing: list[Unavailable] = []
    for row in submissions:
        for request, task, parts in whole_tasks(Ordered.of(row, content.requests)):
            for output in request.outputs:
                if (task.key, output) not in sources:
                    found = _source(content, task, output, home, into, split=parts != [task])
                    if isinstance(found, str):
                        missing.append(Unavailable.of(task, output, why=found))
                    else:
                        sources[(task.key, output)] = found
    # another submission may have what one lacks
    missing = [one for one in missing if (one.task().key, one.output) not in sources]
    twice = first_twice(one.name for one in sources.values())
    if twice is not None:
        raise WrongUsage("the brief's naming gives two frames one name", str(twice), "put {output} or the view into it")
    if missing:
        return Delivered(job=name, to=target, delivered=(), missing=tuple(missing))
    done = _write(target, list(sources.values()), progress)
    return Delivered(job=name, to=target, delivered=tuple(done), missing=())


def _source(
    content: PackingList,
    task: Task,
    output: str,
    home: dict[tuple[TaskKey, str], AtHome],
    into: Path,
    *,
    split: bool,
) -> _Source | str:
    """Return the source of a frame; or the reason why it cannot be delivered."""
    own = content.product_path(output, task)
    if split:
        found = AtHome(below(into, own), None, Verdict.GOOD)
        if not found.path.is_file():
            return "its parts were not put together: tidy-crate stitch"
    elif (task.key, output) not in home:
        return "it is not at home"
    else:
        found = home[(task.key, output)]
    if found.verdict is not Verdict.GOOD:
        return _NOT_TAKEN[found.verdict]
    ordered = content.rules.brief.ordered(output, "format") if content.rules.brief is not None else None
    ending = own.suffix.lower().lstrip(".")
    if ordered is not None and ordered != ending:
        return f"it is {ending}, and the brief orders {ordered}"
    return _Source(task, output, found.path, _name(content, task, output, own), found.blake3)


def _name(content: PackingList, task: Task, output: str, own: PurePosixPath) -> PurePosixPath:
    """The frame's path in the delivery: by the brief's naming, below a folder for the view; else as it is at home."""
    naming = content.rules.brief.naming if content.rules.brief is not None else None
    if naming is None or "*" in naming:
        return own
    pattern = name_by(naming, content.original or content.scene, output, own.suffix.lstrip("."))
    named = PurePosixPath(content.tokens.at_frame(pattern, task.frame))
    folders = [task.request] if len(content.requests) > 1 else []
    return PurePosixPath(
        *folders, *([task.view] if task.view else []), *(p for p in named.parts if p not in ("..", "/"))
    )


def _write(target: Path, sources: list[_Source], progress: Progress) -> list[DeliveredFrame]:
    if not target.name.lower().endswith(ENDINGS):
        return _copy(target, sources, progress)
    done = []
    for number, one in enumerate(sources, 1):
        done.append(_checked(one, hash_file(one.path), one.path.stat().st_size))
        progress(Step("deliver", number, 2 * len(sources), "frames", str(one.name)))
    with tempfile.TemporaryDirectory(prefix="tidy-crate-deliver-") as scratch:
        digests = Path(scratch, DIGESTS)
        digests.write_bytes(_digests(done))
        write_files(target, [(DIGESTS, digests), *((str(one.name), one.path) for one in sources)])
    progress(Step("deliver", 2 * len(sources), 2 * len(sources), "frames", target.name))
    return done


def _copy(target: Path, sources: list[_Source], progress: Progress) -> list[DeliveredFrame]:
    """Write the frames beside the folder, verify them, and only then move them into it.

    Frames of an earlier delivery that are not part of this one go. Raises WrongUsage for a folder that holds a file of
    a name that no delivery wrote.
    """
    target.parent.mkdir(parents=True, exist_ok=True)
    earlier = _delivered_before(target)
    names = {str(one.name) for one in sources}
    for name in names - earlier:
        if (target / name).exists():
            what = "this file was not delivered by tidy-crate, and is not written over"
            raise WrongUsage(what, target / name, "deliver to another folder")
    with tempfile.TemporaryDirectory(prefix=f".{target.name}-", dir=target.parent) as beside:
        draft = Path(beside)
        done = []
        for number, one in enumerate(sources, 1):
            try:
                with writable(draft, one.name) as path:
                    digest, size = copy_and_hash(one.path, path)
            except OSError as error:
                what = f"cannot write a frame ({os_reason(error)})"
                raise TidyCrateError(what, target / one.name, "make room, then run it again") from error
            done.append(_checked(one, digest, size))
            progress(Step("deliver", number, len(sources), "frames", str(one.name)))
        target.mkdir(exist_ok=True)
        refuse_links(target, dict.fromkeys(PurePosixPath(name).parent for name in names | earlier))
        if earlier - names or not earlier:
            # until the new list is there, it names all that is ours
            _write_list(target, done, earlier - names)
        for one in sources:
            place = target / one.name
            place.parent.mkdir(parents=True, exist_ok=True)
            (draft / one.name).replace(place)
        for name in earlier - names:
            (target / name).unlink(missing_ok=True)
            for folder in PurePosixPath(name).parents[:-1]:
                with contextlib.suppress(OSError):
                    (target / folder).rmdir()
        _write_list(target, done)
    return done


def _delivered_before(target: Path) -> set[str]:
    """Return the files in a folder that an earlier delivery wrote, by the list that it left."""
    found = set()
    with contextlib.suppress(OSError, UnicodeDecodeError):
        for line in read_input(target / DIGESTS).decode().splitlines():
            digest, gap, name = line.partition("  ")
            path = PurePosixPath(name)
            if gap and len(digest) == 64 and not path.is_absolute() and ".." not in path.parts:
                found.add(str(path))
    return found


def _write_list(target: Path, done: list[DeliveredFrame], leaving: Iterable[str] = ()) -> None:
    more = "".join(f"{'0' * 64}  {name}\n" for name in sorted(leaving))
    with writable(target, PurePosixPath(DIGESTS)) as path:
        write_bytes(path, _digests(done) + more.encode())


def _checked(one: _Source, digest: str, size: int) -> DeliveredFrame:
    if one.blake3 is not None and digest != one.blake3:
        raise Blocked("a frame was changed since it came home", one.path, "run retrieve with --verify-home")
    return DeliveredFrame.of(one.task, one.output, path=str(one.name), bytes=size, blake3=digest)


def _digests(done: list[DeliveredFrame]) -> bytes:
    return "".join(f"{one.blake3}  {one.path}\n" for one in done).encode()
