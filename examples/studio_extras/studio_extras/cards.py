"""A resolver: `card:chair` is what the studio's card index says, a line per asset: name, version, path."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from tidy_crate.core.asset.resolvers import Found

INDEX = "STUDIO_CARD_INDEX"


class CardIndex:
    """Reads the index that the variable names. Any database or web service would be asked in the same place."""

    def is_active(self) -> bool:
        """Return whether this machine has an index."""
        return bool(os.environ.get(INDEX))

    def knows(self, identifier: str) -> bool:
        """Return whether an identifier is one of ours."""
        return identifier.startswith("card:")

    def resolve(self, identifiers: Sequence[str], scene: Path) -> Mapping[str, Found | str]:
        """Return what each stands for, or why it stands for nothing."""
        index = Path(os.environ[INDEX])
        lines = (line.split(maxsplit=2) for line in index.read_text(encoding="utf-8").splitlines() if line.strip())
        cards = {name: Found(index.parent / path, version) for name, version, path in lines}
        return {one: cards.get(one.removeprefix("card:"), "it is not in the card index") for one in identifiers}
