"""Layers inside packages: a `.usdz` is a zip archive whose files are found in it, stored as they are.

A layer inside one is known by the path `PACKAGE[FILE]`, as the format writes it; one in a package inside a package by
`PACKAGE[INNER.usdz[FILE]]`. Source: the OpenUSD "usdz file
format specification".
"""

from __future__ import annotations

import posixpath
import zipfile
import zlib
from contextlib import ExitStack
from functools import lru_cache
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.resolve import Disk, Member, Resolution, resolve
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.files import open_input

SUFFIX = ".usdz"
MOST_NESTED = 8


def split(path: Path) -> tuple[Path, str] | None:
    """The package that a path leads into and the file in it, None for a path that leads into none.

    The package itself stands for the first file in it.
    """
    text = str(path)
    inside = text.endswith("]")
    if not inside and text[-len(SUFFIX) :].lower() != SUFFIX:
        return None  # asked of every file of a scene
    if (found := paths.split_package(path.as_posix())) is not None:
        return Path(found[0]), found[1]
    if path.suffix.lower() == SUFFIX:
        held = names(path)
        return path, held[0] if held else ""
    return None


def joined(package: Path, inner: str) -> Path:
    """The inverse of `split`."""
    return Path(f"{package.as_posix()}[{inner}]")


def identifier(path: Path) -> str:
    """Return how the library names a layer: inside a package slashes are slashes on every system."""
    text = str(path)
    if not text.endswith("]"):
        return text
    found = paths.split_package(text)
    return text if found is None else found[0] + text[len(found[0]) :].replace("\\", "/")


def names(package: Path, nested: tuple[str, ...] = ()) -> tuple[str, ...]:
    """The files in a package, in its order; none when it cannot be read.

    nested: packages inside it, each in the one before: the files of the last.
    """
    try:
        found = package.stat()
    except OSError:
        return ()
    return _names(package, nested, found.st_size, found.st_mtime_ns)


@lru_cache(256)
def _names(package: Path, nested: tuple[str, ...], _size: int, _changed: int) -> tuple[str, ...]:
    try:
        with ExitStack() as stack:
            archive = stack.enter_context(zipfile.ZipFile(stack.enter_context(open_input(package))))
            for name in nested[:MOST_NESTED]:
                inside = stack.enter_context(archive.open(name))
                archive = stack.enter_context(zipfile.ZipFile(inside))
            return tuple(archive.namelist())
    except (OSError, ValueError, KeyError, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError):
        return ()


def _nest(inner: str) -> tuple[tuple[str, ...], str]:
    """The packages on the way to a file in a package, and its path in the innermost; empty for a package itself."""
    chain: list[str] = []
    while (found := paths.split_package(inner)) is not None:
        head, inner = found
        chain.append(head)
    return ((*chain, inner), "") if inner.lower().endswith(SUFFIX) else (tuple(chain), inner)


def _bracketed(chain: tuple[str, ...], name: str) -> str:
    """The inverse of `_nest`."""
    for package in reversed(chain):
        name = f"{package}[{name}]" if name else package
    return name


def holds(package: Path, inner: str) -> bool:
    """Return whether a file, or a package, is in a package or in one inside it."""
    chain, name = _nest(inner)
    if not name:
        chain, name = chain[:-1], chain[-1]
    return name in names(package, chain)


def resolve_outside(value: str, folder: Path, disk: Disk) -> Resolution:
    """Return what a path of the form `PACKAGE[FILE]` in a plain layer stands for: the package, if the file is in it."""
    outer, inner = paths.split_package(value) or (value, "")
    found = resolve(outer, folder, disk)
    if found.location is None or not found.members or holds(found.location, inner):
        return found
    return Resolution(found.location, (), f"the package holds no {inner}")


def resolve_inside(value: str, layer: Path, tokens: FrameTokens) -> Resolution:
    """Return what a path in a layer of a package stands for: a file beside it, else one from the package's own root.

    A package cannot be rewritten here, so what leads out of it leads nowhere on another machine.
    """
    place = split(layer)
    assert place is not None
    package, own = place
    chain, own = _nest(own)
    held = names(package, chain)
    own = own or next(iter(held), "")
    kind = paths.dialect(value)
    further = ""
    if kind is Dialect.PACKAGED:
        value, further = paths.split_package(value) or (value, "")
        kind = paths.dialect(value)
    if kind not in (Dialect.RELATIVE, Dialect.SEARCH):
        what = "the path is empty" if kind is Dialect.EMPTY else "it leads out of its package, which is not rewritten"
        return Resolution(joined(package, value) if value else None, (), what)
    plain = paths.forward_slashes(value)
    beside = posixpath.normpath(posixpath.join(posixpath.dirname(own), plain))
    for inner in dict.fromkeys((beside, posixpath.normpath(plain))):
        matching = tokens.members(posixpath.basename(inner), _in_folder(held, posixpath.dirname(inner)))
        if inner in held or matching:
            whole = _bracketed((*chain, inner), further) if further else _bracketed(chain, inner)
            if further and not holds(package, whole):
                break
            size = package.stat()
            return Resolution(joined(package, whole), (Member(package, None, size.st_size, size.st_mtime_ns),))
    missing = _bracketed((*chain, beside), further) if further else _bracketed(chain, beside)
    return Resolution(joined(package, missing), (), "the package does not hold it")


def _in_folder(held: tuple[str, ...], folder: str) -> list[str]:
    return [posixpath.basename(name) for name in held if posixpath.dirname(name) == folder]
