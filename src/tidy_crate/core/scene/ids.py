"""Ids of occurrences: the same in the next version of a scene, and on another machine."""

from __future__ import annotations

import hashlib
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths


def stem_of(scene: Path, file: Path) -> str:
    """A file's place as seen from the scene's folder, without version tokens."""
    place = paths.relative(PurePosixPath(file.as_posix()), PurePosixPath(scene.parent.as_posix()))
    head, _, name = place.rpartition("/")
    return f"{head}/{paths.without_version(Path(name).stem)}{Path(name).suffix}"


class Ids:
    """Gives out ids, and tells apart places that are alike by their order."""

    def __init__(self) -> None:
        self._given: dict[str, int] = {}

    def of(self, *parts: str) -> str:
        """An id for a place that these parts describe."""
        digest = hashlib.blake2b("\0".join(parts).encode("utf-8", "surrogatepass"), digest_size=5).hexdigest()
        count = self._given[digest] = self._given.get(digest, 0) + 1
        return digest if count == 1 else f"{digest}-{count}"
