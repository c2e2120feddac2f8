"""Putting verified products at their paths at home. Nothing that is there is ever overwritten."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path, PurePosixPath

from tidy_crate.core.files import file_mark, hash_file
from tidy_crate.core.handles import writable
from tidy_crate.core.job.tables import ProductRow
from tidy_crate.core.work.product import SET_ASIDE, Delivery, below, in_use, set_aside_path


def put_home(
    row: ProductRow,
    draft: Path,
    home_path: PurePosixPath,
    into: Path,
    rivals: Sequence[ProductRow],
    delivery: Callable[[ProductRow], Delivery],
) -> None:
    """Move a verified file to its path, or aside where another one counts, and note it in its row.

    rivals: what is at home of the same output of the same task.
    """
    own = delivery(row)
    standing = in_use([own, *map(delivery, rivals)])
    row.mark = file_mark(draft)
    path = below(into, home_path)
    if standing != own:
        aside = set_aside_path(home_path, own)
        _move(draft, into, aside)
        row.path, row.in_use = str(below(into, aside)), False
        return
    for rival in rivals:
        if rival.in_use and rival.path is not None:
            aside = set_aside_path(home_path, delivery(rival))
            _move(Path(rival.path), into, aside)
            rival.path, rival.in_use = str(below(into, aside)), False
    if path.exists() and not _same(path, row):
        # something that no ledger knows of: it is not ours to overwrite
        found = PurePosixPath(SET_ASIDE, home_path.parent, f"{home_path.stem}.found-there{home_path.suffix}")
        _move(path, into, found.with_name(_free(below(into, found)).name))
    _move(draft, into, home_path)
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
