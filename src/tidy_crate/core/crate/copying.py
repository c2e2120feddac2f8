"""Copying the files of a crate: each source read once, hashed on the way, several at a time."""

from __future__ import annotations

import contextlib
import itertools
import os
import secrets
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path, PurePosixPath

from tidy_crate.core.crate.collect_cache import CollectCache
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import hash_file, open_input, os_reason
from tidy_crate.core.handles import writable_folder
from tidy_crate.core.progress import Progress, Step

WORKERS = 4
# bytes of a file below which taking turns costs threads more than they gain
WORTH_A_THREAD = 256 << 10
# a file this small costs less to store twice than to link
WORTH_A_LINK = 4096
_FICLONE = 0x40049409  # linux/fs.h: share the blocks of another file


class Way(StrEnum):
    """Method by which a file is put into the crate.

    reflink: shares its blocks with the original where the file system can, and is a copy to everybody; hard-link: is
    the original under another name, so what writes into the crate writes into the original. Each falls back to
    a copy where the disk cannot do it.
    """

    COPY = "copy"
    REFLINK = "reflink"
    HARD_LINK = "hard-link"


@dataclass(frozen=True)
class Copied:
    """One file in the crate."""

    source: Path
    crate_path: PurePosixPath
    blake3: str
    bytes: int
    new: bool
    """True if it was brought in now."""


@dataclass
class Copier:
    """Brings files into one crate."""

    crate: Path
    cache: CollectCache
    way: Way = Way.COPY
    _by_content: dict[str, Path] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def bring(self, wanted: Mapping[Path, PurePosixPath], progress: Progress) -> list[Copied]:
        """Bring all files in. What fails does not keep the rest from coming.

        Raises UnreadableInput at the end when some could not be read, or changed while they were.
        """
        sizes = {path: _size(path) for path in wanted}
        total = sum(sizes.values())
        done, found = 0, []
        failed: list[UnreadableInput] = []
        large = [(path, crate_path) for path, crate_path in wanted.items() if sizes[path] >= WORTH_A_THREAD]
        small = [(path, crate_path) for path, crate_path in wanted.items() if sizes[path] < WORTH_A_THREAD]
        with ThreadPoolExecutor(WORKERS) as pool:
            jobs = [pool.submit(self._alone, path, crate_path) for path, crate_path in large]
            try:
                for one in itertools.chain(self._one_by_one(small), (job.result() for job in jobs)):
                    if isinstance(one, UnreadableInput):
                        failed.append(one)
                        continue
                    found.append(one)
                    done += one.bytes
                    self.cache.save_now_and_then()
                    progress(Step("copy", done, total, "bytes", str(one.crate_path)))
            except BaseException:
                pool.shutdown(wait=True, cancel_futures=True)
                self.cache.save(finished=False)
                raise
        if failed:
            self.cache.save(finished=False)
            if len(failed) == 1:
                raise failed[0]
            raise UnreadableInput(
                f"{len(failed)} files could not be copied, the first: {failed[0].what}",
                failed[0].where,
                "the rest is in the crate; fix these files and run collect again",
            )
        return found

    def _one_by_one(self, wanted: Iterable[tuple[Path, PurePosixPath]]) -> Iterator[Copied | UnreadableInput]:
        """Bring small files in, folder by folder, each folder opened once."""
        by_folder: dict[PurePosixPath, list[tuple[Path, PurePosixPath]]] = {}
        for path, crate_path in wanted:
            by_folder.setdefault(crate_path.parent, []).append((path, crate_path))
        for folder, inside in by_folder.items():
            with writable_folder(self.crate, folder) as held:
                for path, crate_path in inside:
                    yield self._one(path, crate_path, held)

    def _alone(self, source: Path, crate_path: PurePosixPath) -> Copied | UnreadableInput:
        with writable_folder(self.crate, crate_path.parent) as held:
            return self._one(source, crate_path, held)

    def _one(self, source: Path, crate_path: PurePosixPath, folder: Path) -> Copied | UnreadableInput:
        """Bring one file in, or return why not. folder: that of its place, held open."""
        target = self.crate / crate_path
        try:
            known = self.cache.known(source, target)
            if known is not None:
                self._first_of(known.blake3, target)
                return Copied(source, crate_path, known.blake3, known.bytes, False)
            held = folder / crate_path.name
            digest, size = self._fetch_unchanged(source, held)
            self._store_once(target, held, digest, size)
            self.cache.remember(source, target, digest)
        except UnreadableInput as error:
            return error
        except OSError as error:
            return UnreadableInput(f"cannot read a file of the scene ({os_reason(error)})", source)
        return Copied(source, crate_path, digest, size, True)

    def _fetch_unchanged(self, source: Path, target: Path) -> tuple[str, int]:
        """As `_fetch`. Raises UnreadableInput where the file changed meanwhile."""
        before = source.stat()
        digest, size = self._fetch(source, target)
        after = source.stat()
        if (before.st_size, before.st_mtime_ns) != (after.st_size, after.st_mtime_ns) or size != after.st_size:
            target.unlink(missing_ok=True)
            raise UnreadableInput(
                "a file changed while it was copied", source, "wait until it is saved, then run collect again"
            )
        return digest, size

    def _fetch(self, source: Path, target: Path) -> tuple[str, int]:
        """Returns (BLAKE3, bytes)."""
        if self.way is Way.HARD_LINK and _in_place(target, lambda draft: os.link(_real(source), draft)):
            return hash_file(target), target.stat().st_size
        if self.way is Way.REFLINK and _in_place(target, lambda draft: _clone(source, draft)):
            return hash_file(target), target.stat().st_size
        return self.cache.system.copy(source, target)

    def _store_once(self, target: Path, held: Path, digest: str, size: int) -> None:
        """Store files with the same contents once on the disk, under all their names.

        held: the target, to be written.
        """
        if size < WORTH_A_LINK or self.way is not Way.COPY:
            return
        first = self._first_of(digest, target)
        if first != target:
            # a link that stands there by now is not followed
            _in_place(held, lambda draft: os.link(first, draft, follow_symlinks=False))

    def _first_of(self, digest: str, target: Path) -> Path:
        with self._lock:
            return self._by_content.setdefault(digest, target)


def _in_place(target: Path, make: Callable[[Path], None]) -> bool:
    """Let `make` bring about a file beside `target`, then put it in its place. False when the disk cannot do that."""
    draft = target.with_name(f".{target.name[:100]}.{secrets.token_hex(4)}.part")
    try:
        make(draft)
        draft.replace(target)
    except OSError:
        return False
    finally:
        # two names of one file: renaming one onto the other does nothing and leaves both
        draft.unlink(missing_ok=True)
    return True


def _clone(source: Path, target: Path) -> None:
    if sys.platform != "linux":
        raise OSError("no reflinks by this interface here")
    import fcntl

    with open_input(source) as stream, target.open("wb") as out:
        fcntl.ioctl(out.fileno(), _FICLONE, stream.fileno())


def _real(path: Path) -> Path:
    # a link to a symbolic link would be one more symbolic link
    return Path(os.path.realpath(path))


def _size(path: Path) -> int:
    with contextlib.suppress(OSError):
        return path.stat().st_size
    return 0
