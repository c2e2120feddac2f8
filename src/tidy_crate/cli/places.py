"""Where this user's ledger and farm cards lie: the only place that asks the environment for them."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.farm.links.interface import FarmLink
    from tidy_crate.core.job.ledger import Ledger, SubmissionRow
    from tidy_crate.core.scene.context import SceneContext

HOME = "TIDY_CRATE_HOME"
MOST_REMEMBERED = 40


def home() -> Path:
    """The folder for this user's ledger and cards: TIDY_CRATE_HOME, or the system's usual place."""
    if os.environ.get(HOME):
        return Path(os.environ[HOME]).absolute()
    import platformdirs

    return Path(platformdirs.user_data_dir("tidy-crate", appauthor=False))


def memory_of(scene: Path) -> Path:
    """The file in which a scene's format keeps what it worked out. Those of scenes long not looked at make room."""
    if os.environ.get(HOME):
        folder = home() / "memory"
    else:
        import platformdirs

        folder = Path(platformdirs.user_cache_dir("tidy-crate", appauthor=False), "scenes")
    kept = sorted(folder.glob("*.json"), key=lambda path: path.stat().st_mtime) if folder.is_dir() else []
    for path in kept[:-MOST_REMEMBERED]:
        path.unlink(missing_ok=True)
    return folder / f"{hashlib.sha256(str(scene.absolute()).encode(errors='surrogatepass')).hexdigest()[:24]}.json"


def origin_of(crate: Path) -> Path:
    """Where this machine notes what a crate was made from."""
    name = hashlib.sha256(str(crate.absolute()).encode(errors="surrogatepass")).hexdigest()[:24]
    return home() / "crates" / f"{name}.json"


def user_name() -> str:
    """Who sits at this machine, for the record of a waiver; empty where the system does not say."""
    import getpass

    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return ""


def open_scene(scene: Path, tidy_dir: Path | None = None) -> SceneContext:
    """A scene with its decisions and caches, and with this user's memory of it."""
    from tidy_crate.core.scene.context import open_scene as core_open_scene

    return core_open_scene(scene, tidy_dir, memory_of(scene))


def open_ledger() -> Ledger:
    """This user's ledger."""
    from tidy_crate.core.job.ledger import Ledger

    return Ledger(home() / "ledger.sqlite")


def card_folders() -> list[Path]:
    """Where a card is looked for by name."""
    return [Path.cwd() / "farms", home() / "farms"]


def load_card(name: str) -> tuple[FarmCard, Path]:
    """A card by path or name."""
    from tidy_crate.core.farm.card import find_card, read_card

    path = find_card(name, card_folders())
    return read_card(path), path


class Links:
    """One open link per farm, by the card that a submission noted. Use it as a context manager."""

    def __init__(self) -> None:
        self._open: dict[str, FarmLink] = {}

    def __call__(self, row: SubmissionRow) -> FarmLink:
        if row.card not in self._open:
            card, path = load_card(row.card)
            self._open[row.card] = self.to(card, path)
        return self._open[row.card]

    @staticmethod
    def to(card: FarmCard, path: Path) -> FarmLink:
        """A link to the farm of a card."""
        from tidy_crate.core.farm.sign_in import open_link

        return open_link(card, path, os.environ)

    def __enter__(self) -> Links:
        return self

    def __exit__(self, *_: object) -> None:
        for link in self._open.values():
            link.close()
