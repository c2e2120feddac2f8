"""A copy of a layer for each set of expression variables under which its paths mean something else.

An expression such as `"/store/${SHOT}.png"` that cannot stay as it is becomes a plain path in the crate. Where one
layer is read under two sets of variables, one file cannot hold both paths, so each set gets a copy of its own; and so
do the layers that lead to it, as far as they differ.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from tidy_crate.core.scene.formats.usd.slots import ARCS
from tidy_crate.core.scene.model import Asset
from tidy_crate.core.scene.rewriting import new_texts


@dataclass
class Copies:
    """Paths of the copies of a layer in the crate, by file and set of variables.

    Layers with one copy are not in it.
    """

    crate_paths: dict[tuple[Path, str], PurePosixPath] = field(default_factory=dict)

    def moved(self, assets: Iterable[Asset]) -> dict[str, PurePosixPath]:
        """Return, by occurrence id, the copy that an arc must lead to."""
        if not self.crate_paths:
            return {}
        return {asset.id: crate_path for asset in assets if (crate_path := self._target(asset)) is not None}

    def of(
        self, path: Path, crate_path: PurePosixPath, assets: list[Asset]
    ) -> Iterator[tuple[PurePosixPath, list[Asset]]]:
        """Yield each copy of a layer with the occurrences that count in it."""
        own = {context: at for (file, context), at in self.crate_paths.items() if file == path}
        if not own:
            yield crate_path, assets
        for context, at in own.items():
            yield at, [asset for asset in assets if asset.within == context]

    def _target(self, asset: Asset) -> PurePosixPath | None:
        if asset.field not in ARCS or asset.resolved is None:
            return None
        return self.crate_paths.get((asset.resolved, asset.leads))


def copies_by_context(by_layer: Mapping[Path, list[Asset]], crate_paths: Mapping[Path, PurePosixPath]) -> Copies:
    """Find the layers that need a copy for each set of variables, until no more of them do."""
    found = Copies()
    several = {
        path: contexts
        for path, assets in by_layer.items()
        if path in crate_paths and len(contexts := list(dict.fromkeys(asset.within for asset in assets))) > 1
    }
    taken = set(crate_paths.values())
    while True:
        moved = found.moved(asset for assets in by_layer.values() for asset in assets)
        fresh = [
            path
            for path, contexts in several.items()
            if (path, contexts[0]) not in found.crate_paths
            and len({_signature(by_layer[path], one, crate_paths[path], crate_paths, moved) for one in contexts}) > 1
        ]
        if not fresh:
            return found
        for path in fresh:
            for number, context in enumerate(several[path]):
                crate_path = crate_paths[path] if number == 0 else _free(crate_paths[path], context, taken)
                found.crate_paths[path, context] = crate_path
                taken.add(crate_path)


def _signature(
    assets: list[Asset],
    context: str,
    crate_path: PurePosixPath,
    crate_paths: Mapping[Path, PurePosixPath],
    moved: Mapping[str, PurePosixPath],
) -> tuple[tuple[object, ...], ...]:
    own = [asset for asset in assets if asset.within == context]
    texts = new_texts(own, crate_path, crate_paths, moved)
    return tuple((asset.owner, asset.field, asset.authored, asset.time, texts.get(asset.id)) for asset in own)


def _free(crate_path: PurePosixPath, context: str, taken: set[PurePosixPath]) -> PurePosixPath:
    for number in range(1, 1000):
        mark = context if number == 1 else f"{context}-{number}"
        name = crate_path.with_name(f"{crate_path.stem}.{mark or 'plain'}{crate_path.suffix}")
        if name not in taken:
            return name
    return crate_path
