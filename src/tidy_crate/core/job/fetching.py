"""Fetching products beside their places at home, and verifying them."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from threading import Lock
from typing import TYPE_CHECKING

from blake3 import blake3
from tenacity import Retrying, retry_if_exception_type, stop_after_attempt

from tidy_crate.core.errors import FarmError, TidyCrateError
from tidy_crate.core.farm.links.interface import Fetching, FetchSmall
from tidy_crate.core.files import hash_file, os_reason
from tidy_crate.core.handles import writable_folder
from tidy_crate.core.transfer.pack import SMALL
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.task import Task

if TYPE_CHECKING:
    from tidy_crate.core.picture.readers import FrameReaders

TRIES = 3
# processes that look into frames without a digest
READERS = 2
# small files in one answer: enough for the round trip to weigh little, few enough for several answers side by side
TOGETHER = 50


@dataclass(frozen=True, slots=True)
class Wanted:
    """One product to be fetched."""

    id: int
    """Number of its row in the ledger."""
    submission: int
    task: Task
    product: Product
    home_path: PurePosixPath
    """Below the folder that it goes to."""

    @property
    def draft(self) -> PurePosixPath:
        """Its path until it is verified, beside its place. What has come stays there after a break."""
        mark = _identity(self.product)[:12] or "unknown"
        return self.home_path.with_name(f".{self.home_path.name}.{mark}.part{self.home_path.suffix}")

    @property
    def is_small(self) -> bool:
        """Return whether it may come together with others."""
        return self.product.blake3 is not None and self.product.bytes <= SMALL


def _identity(product: Product) -> str:
    """Return what is the same for the same file and no other; empty where nothing tells."""
    return product.blake3 or (f"v{product.version}" if product.version else "")


_DRAFT = re.compile(r"\.(.+)\.[^.]+\.part(?:\.[^.]*)?")


def remove_old_drafts(into: Path, home_paths: Iterable[PurePosixPath]) -> None:
    """Remove what an earlier try left of other files under the names of these, which are at home now.

    A draft is named by its file's identity, so that one of a frame that was replaced since is never continued.
    """
    names: dict[PurePosixPath, set[str]] = {}
    for path in home_paths:
        names.setdefault(path.parent, set()).add(path.name)
    for parent, home in names.items():
        with writable_folder(into, parent) as folder:
            for name in os.listdir(folder):  # noqa: PTH208 - there may be very many
                found = _DRAFT.fullmatch(name)
                if found is not None and found[1] in home:
                    with suppress(OSError):
                        (folder / name).unlink()


class Looks:
    """Looks into frames that have no digest, in processes that may break off over one. They start when needed."""

    def __init__(self, stack: ExitStack) -> None:
        self._stack, self._lock = stack, Lock()
        self._readers: FrameReaders | None = None

    def whole(self, path: Path) -> bool:
        """Return whether a frame can be read to its end."""
        from tidy_crate.core.picture.readers import FrameReaders

        with self._lock:
            if self._readers is None:
                self._readers = self._stack.enter_context(FrameReaders(READERS))
        return self._readers.whole(path)


def fetch_pack(fetch_small: FetchSmall, farm_job: str, wanted: Sequence[Wanted], into: Path) -> dict[int, Path]:
    """Fetch small products of one farm together. Return the drafts of those that arrived intact, by id.

    What did not is fetched by itself, which tells what is wrong. Raises TidyCrateError where a file cannot be written.
    """
    by_key = {one.product.key: one for one in wanted}
    found: dict[int, Path] = {}
    folders: dict[PurePosixPath, Path] = {}
    # after a break the farm is asked for the rest one by one, and told of as usual where it stays away
    with ExitStack() as stack, suppress(FarmError):
        for product, data in fetch_small(farm_job, [one.product for one in wanted]):
            if blake3(data).hexdigest() != product.blake3:
                continue
            one = by_key[product.key]
            folder = one.draft.parent
            if folder not in folders:
                folders[folder] = stack.enter_context(writable_folder(into, folder))
            _write(folders[folder] / one.draft.name, data, into / one.home_path)
            found[one.id] = into / one.draft
    return found


def _write(path: Path, data: bytes | memoryview, shown: Path) -> None:
    """Write a draft, safe on the disk. shown: the path for people."""
    try:
        with path.open("wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
    except OSError as error:
        raise _cannot_write(shown, error) from error


def _cannot_write(path: Path, error: OSError) -> TidyCrateError:
    return TidyCrateError(f"cannot write a frame ({os_reason(error)})", path, "make room, then run it again")


class _Damaged(Exception):
    """Raised when a file is not what the farm announced."""


_MAY_PASS = retry_if_exception_type((FarmError, _Damaged))


def fetch(fetching: Fetching, farm_job: str, wanted: Wanted, into: Path, looks: Looks) -> Path | None:
    """Fetch one product beside its place and verify it. Return the draft, or None when it never arrived intact.

    What has come stays after a break, and the next try goes on from there.
    """
    try:
        with writable_folder(into, wanted.draft.parent) as folder:
            draft = folder / wanted.draft.name
            _fetch_into(draft, fetching, farm_job, wanted.product, lambda: looks.whole(into / wanted.draft))
    except _Damaged:
        return None
    except OSError as error:
        raise _cannot_write(into / wanted.home_path, error) from error
    return into / wanted.draft


def _fetch_into(draft: Path, fetching: Fetching, farm_job: str, product: Product, opens: Callable[[], bool]) -> None:
    """opens: says whether the file can be read to its end, by a path that other processes understand."""
    for attempt in Retrying(stop=stop_after_attempt(TRIES), retry=_MAY_PASS, reraise=True):
        with attempt:
            if not _identity(product):
                # what an earlier try left may be of another file of that name: nothing tells
                draft.unlink(missing_ok=True)
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
