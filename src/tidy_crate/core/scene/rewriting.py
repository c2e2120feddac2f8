"""Paths in a file that must be rewritten to lead into the crate."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.resolve import located
from tidy_crate.core.scene.model import Asset


def new_texts(
    assets: Iterable[Asset],
    crate_path: PurePosixPath,
    crate_paths: Mapping[Path, PurePosixPath],
    moved: Mapping[str, PurePosixPath] | None = None,
) -> dict[str, str]:
    """By occurrence id the text that must change; empty when everything in the file holds as it is.

    assets: the occurrences in one file; crate_path: of that file. crate_paths: of every file and set
    pattern. moved: by occurrence id, the crate path of what it names instead.
    """
    changes = {}
    for asset in assets:
        target = (moved or {}).get(asset.id) or crate_path_of(asset, crate_paths)
        if not holds(asset, crate_path, target):
            changes[asset.id] = paths.relative(target, crate_path.parent) + _inner(asset.value)
    return changes


def crate_path_of(asset: Asset, crate_paths: Mapping[Path, PurePosixPath]) -> PurePosixPath:
    """Return where what an occurrence names is in the crate."""
    if asset.resolved is not None and asset.resolved in crate_paths:
        return crate_paths[asset.resolved]
    # a path to nothing must not lead out of the crate, where on another machine it might lead to something
    return PurePosixPath(asset.missing_path)


def holds(asset: Asset, crate_path: PurePosixPath, target: PurePosixPath) -> bool:
    """Return whether the path as written, read from its file's place in the crate, already leads to the target."""
    if asset.value == asset.authored == str(target):
        return True  # on shared storage: the very path by which nodes see it
    if paths.dialect(asset.authored) is Dialect.EXPRESSION and not asset.relinked:
        # it has the same value in the crate, whose layers state the same variables
        return not paths.is_absolute(asset.value) and _leads(asset.value, crate_path, target)
    if asset.relinked or asset.value != asset.authored or paths.is_absolute(asset.authored) or "\\" in asset.authored:
        return False
    outer = asset.authored.removesuffix(_inner(asset.authored))
    return _leads(outer, crate_path, target)


def _leads(text: str, crate_path: PurePosixPath, target: PurePosixPath) -> bool:
    """Return whether a path, read from the folder of a file of the crate, leads to a place in it."""
    # by text: asked of every path of a scene
    found = located(text, _from_root(str(crate_path.parent)))
    if found is not None and os.sep != "/":
        found = found.replace(os.sep, "/")
    return found == _from_root(str(target))


def _from_root(crate_path: str) -> str:
    """Return a place of the crate as if the crate were the root of a disk; one on a share is from a root already."""
    if crate_path.startswith("/"):
        return crate_path
    return "/" if crate_path == "." else f"/{crate_path}"


def _inner(text: str) -> str:
    """The part of a path that leads on inside a package (`[file]`), and arguments for its reader."""
    if not text.endswith("]") and paths.ARGUMENTS not in text:
        return ""  # nearly all of very many
    bare, rest = paths.without_arguments(text), paths.arguments(text)
    packaged = paths.split_package(bare)
    return (bare[len(packaged[0]) :] if packaged is not None else "") + rest
