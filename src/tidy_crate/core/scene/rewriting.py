"""Paths in a file that must be rewritten to lead into the crate."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.asset.resolve import locate
from tidy_crate.core.scene.model import Asset


def new_texts(
    assets: Iterable[Asset],
    place: PurePosixPath,
    places: Mapping[Path, PurePosixPath],
    moved: Mapping[str, PurePosixPath] | None = None,
) -> dict[str, str]:
    """By occurrence id the text that must change; empty when everything in the file holds as it is.

    assets: the occurrences in one file; place: of that file in the crate; places: of every file and set pattern.
    moved: by occurrence id, where what it names is instead.
    """
    changes = {}
    for asset in assets:
        target = (moved or {}).get(asset.id) or place_of(asset, places)
        if not holds(asset, place, target):
            changes[asset.id] = paths.relative(target, place.parent) + _inner(asset.value)
    return changes


def place_of(asset: Asset, places: Mapping[Path, PurePosixPath]) -> PurePosixPath:
    """Return where what an occurrence names is in the crate."""
    if asset.resolved is not None and asset.resolved in places:
        return places[asset.resolved]
    # a path to nothing must not lead out of the crate, where on another machine it might lead to something
    return PurePosixPath(asset.missing_place)


def holds(asset: Asset, place: PurePosixPath, target: PurePosixPath) -> bool:
    """Return whether the path as written, read from its file's place in the crate, already leads to the target."""
    if asset.value == asset.authored == str(target):
        return True  # on shared storage: the very path by which nodes see it
    if paths.dialect(asset.authored) is Dialect.EXPRESSION and not asset.relinked:
        # it has the same value in the crate, whose layers state the same variables
        return not paths.is_absolute(asset.value) and locate(asset.value, Path("/", place.parent)) == Path("/", target)
    if asset.relinked or asset.value != asset.authored or paths.is_absolute(asset.authored) or "\\" in asset.authored:
        return False
    outer = asset.authored.removesuffix(_inner(asset.authored))
    return locate(outer, Path("/", place.parent)) == Path("/", target)


def _inner(text: str) -> str:
    """The part of a path that leads on inside a package (`[file]`), and arguments for its reader."""
    bare, rest = paths.without_arguments(text), paths.arguments(text)
    return (bare[bare.index("[") :] if paths.dialect(bare) is Dialect.PACKAGED else "") + rest
