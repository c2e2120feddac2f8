"""Path and file name of a product: the one rule for all stages.

A product's path below the folder of a job is

    [REQUEST/] [VIEW/] OUTPUT/ STEM [.tileNN] [.shareNNN] . FRAME . SUFFIX

REQUEST only where the job has several, VIEW only where the request has views. File names come from our own packing
list, never from a farm.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task

SET_ASIDE = "set-aside"
_PLAIN = set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-. ")


@dataclass(frozen=True)
class OutputNaming:
    """Parts of the name of an output's files."""

    name: str
    """The output's name in the scene."""
    path: str
    """Its path as the scene has it, with a frame token or without; may be empty."""
    format: str | None = None
    """The suffix of its files, without a dot, where the path has none."""


def product_path(
    output: OutputNaming, task: Task, *, by_request: bool = False, tokens: FrameTokens = STANDARD
) -> PurePosixPath:
    """Return where a product is, below the folder of its job.

    by_request: True for a job of several requests: each gets a folder of its own.
    """
    folders = [task.request] if by_request else []
    folders += [task.view] if task.view else []
    return PurePosixPath(*folders, output_folder(output.name), file_name(output, task, tokens))


def file_name(output: OutputNaming, task: Task, tokens: FrameTokens = STANDARD) -> str:
    """Return the file name of one output of a task. Without a frame token the number is put in before the suffix."""
    name = paths.file_name(output.path) or f"{output_folder(output.name)}.####.{output.format or 'exr'}"
    if not tokens.has_frame(name):
        pure = PurePosixPath(name)
        name = f"{pure.stem}.####{pure.suffix}"
    part = "" if task.tile is None else f".tile{task.tile:02d}"
    part += "" if task.share is None else f".share{task.share:03d}"
    if part:
        stem, dot, rest = name.partition(".")
        name = f"{stem}{part}{dot}{rest}"
    return tokens.at_frame(name, task.frame)


def output_folder(name: str) -> str:
    """Return an output's name as a folder's name. Different outputs have different folders, and none leads elsewhere.

    A slash becomes `+`, and what may not stand in a file name everywhere becomes its UTF-8 bytes as `%XX`.

    >>> output_folder("Beauty"), output_folder("/Render/Beauty"), output_folder("..")
    ('Beauty', 'Render+Beauty', '%2E%2E')
    """
    text = "+".join("".join(map(_plain, part)) for part in name.strip("/").split("/"))
    if not text.strip(". ") or text[-1:] in (".", " ") or text[:1] in (".", " "):
        text = "".join(f"%{ord(c):02X}" if c in ". " else c for c in text)
    return text or "%00"


def _plain(character: str) -> str:
    if character in _PLAIN:
        return character
    return "".join(f"%{byte:02X}" for byte in character.encode("utf-8", "surrogatepass"))


def set_aside_path(path: PurePosixPath, delivery: Delivery) -> PurePosixPath:
    """Return where a product is kept that is not the one in use: below `set-aside`, named by farm and attempt.

    path: the product's own path below the folder of its job.
    """
    mark = f"{output_folder(delivery.farm)}-{delivery.submission}.attempt{delivery.attempt}"
    return PurePosixPath(SET_ASIDE, path.parent, f"{path.stem}.{mark}{path.suffix}")


@dataclass(frozen=True)
class Delivery:
    """One file that came home for a task and output: which submission and attempt it is from, and how it was judged."""

    farm: str
    submission: int
    """The submission's number in its job, from 1."""
    attempt: int
    verdict: Verdict | None = None


_STANDING = {Verdict.GOOD: 0, None: 1, Verdict.SUSPECT: 2, Verdict.BAD: 3, Verdict.MISSING: 4}


def in_use(deliveries: Iterable[Delivery]) -> Delivery | None:
    """Return the delivery that counts for a task and output, None for none.

    Of one submission the newest attempt counts, since it was asked for; but not a bad one where an earlier one is
    good, as when only another output of its task was to be rendered again. Of several submissions the better verdict
    counts, then the earlier submission: a second farm's copy of the same frame changes nothing at home.
    """
    newest: dict[int, Delivery] = {}
    for one in sorted(deliveries, key=lambda one: one.attempt):
        last = newest.get(one.submission)
        worse = one.verdict in (Verdict.BAD, Verdict.MISSING) and last is not None and last.verdict is Verdict.GOOD
        if not worse:
            newest[one.submission] = one
    return min(newest.values(), key=lambda one: (_STANDING[one.verdict], one.submission), default=None)


def below(folder: Path, path: PurePosixPath) -> Path:
    """Return a product's path on this disk."""
    return folder.joinpath(*path.parts)
