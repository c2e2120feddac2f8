"""The user: folders, configuration, tokens and trust."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tidy_crate.core.context.user import NotifySettings, OwnMachine, UserFile
    from tidy_crate.core.exchange import ExchangeRate
    from tidy_crate.core.farm.links.cluster.dask import Certificates
    from tidy_crate.core.farm.sign_in import Keys
    from tidy_crate.core.work.options import FarmOptions
    from tidy_crate.core.work.trust import Trust


HOME = "TIDY_CRATE_HOME"


LEDGER = "TIDY_CRATE_LEDGER"


MOST_REMEMBERED = 40


USUAL_BATCH = 4


SCORE_HERE = 100.0


# seconds after which a job that is followed is shown, though not all of its changes were read
AT_ONCE = 0.5


@dataclass(frozen=True)
class User:
    """Paths of a user's ledger, farm cards and notes."""

    home: Path
    """The folder for the ledger, cards and configuration."""
    cache: Path
    """The folder for what can be worked out again."""
    cwd: Path
    """Cards are looked for in `farms` below it too."""
    environment: Mapping[str, str] = field(repr=False)
    """Tokens for farms, and the environment of the proof."""

    @classmethod
    def here(cls, environment: Mapping[str, str] | None = None) -> User:
        """The user of this process: TIDY_CRATE_HOME, or the system's usual folders."""
        environment = os.environ if environment is None else environment
        if environment.get(HOME):
            home = Path(environment[HOME]).absolute()
            return cls(home, home / "cache", Path.cwd(), environment)
        import platformdirs

        home = Path(platformdirs.user_data_dir("tidy-crate", appauthor=False))
        cache = Path(platformdirs.user_cache_dir("tidy-crate", appauthor=False), "scenes")
        return cls(home, cache, Path.cwd(), environment)

    @property
    def ledger(self) -> Path | str:
        """The ledger: TIDY_CRATE_LEDGER, or the user's configuration, or an SQLite file in the user's folder."""
        named = self.environment.get(LEDGER) or self._configuration.ledger
        return named or self.home / "ledger.sqlite"

    @property
    def card_folders(self) -> list[Path]:
        """Return where a card is looked for by name."""
        return [self.home / "farms", self.cwd / "farms"]

    @property
    def keys(self) -> Keys:
        """Return what the user has to sign in to farms with."""
        from tidy_crate.core.farm.sign_in import Keys

        return Keys(
            self.environment,
            self.home / "token-addresses.json",
            self._configuration.token_variables,
            self.home / "farms",
            self.certificates,
        )

    @property
    def certificates(self) -> Certificates | None:
        """Return what encrypted connections to schedulers need, as far as the user's configuration says."""
        from tidy_crate.core.farm.links.cluster.dask import Certificates

        known = self._configuration.scheduler
        return Certificates(known.ca_file, known.certificate, known.key) if known is not None else None

    @property
    def trust(self) -> Trust:
        """The commands of projects that the user lets run."""
        from tidy_crate.core.work.trust import Trust

        return Trust(self.home / "trusted.json")

    @property
    def own_machine(self) -> OwnMachine:
        """Return what this machine is and costs, as far as the user's configuration says."""
        return self._configuration.here

    @property
    def notify(self) -> NotifySettings:
        """Return who is told when a job is done or in trouble."""
        return self._configuration.notify

    @property
    def send_options(self) -> FarmOptions:
        """Wishes for submissions in the user's configuration."""
        return self._configuration.send

    @property
    def exchange(self) -> tuple[ExchangeRate, ...]:
        """Rates of exchange in the user's configuration."""
        return self._configuration.exchange

    def for_programs(self) -> dict[str, str]:
        """Return the environment for programs of a project, without tokens."""
        from tidy_crate.core.process import without_tokens

        return without_tokens(self.environment, self._configuration.token_variables)

    @property
    def _configuration(self) -> UserFile:
        from tidy_crate.core.context.user import FILE_NAME, read_user_file

        return read_user_file(self.home / FILE_NAME)

    def survey_cache_of(self, scene: Path) -> Path:
        """The file in which a scene's format keeps results. Those of scenes not opened for long make room."""
        kept = sorted(self.cache.glob("*.json"), key=lambda path: path.stat().st_mtime) if self.cache.is_dir() else []
        for path in kept[:-MOST_REMEMBERED]:
            path.unlink(missing_ok=True)
            for survey in self.cache.glob(f"{path.stem}-*"):
                survey.unlink(missing_ok=True)
        return self.cache / f"{_mark(scene)}.json"

    def origin_of(self, crate: Path) -> Path:
        """Return where this machine notes what a crate was made from."""
        return self.home / "crates" / f"{_mark(crate)}.json"

    def proof_of(self, crate: Path) -> Path:
        """Return where this machine notes what the last proof of a crate came to."""
        return self.home / "crates" / f"{_mark(crate)}.proof.json"

    @property
    def name(self) -> str:
        """Return who uses this machine, for the record of a waiver; empty where the system does not say."""
        import getpass

        try:
            return getpass.getuser()
        except (OSError, KeyError, ImportError):
            return ""


def _mark(path: Path) -> str:
    return hashlib.sha256(str(path.absolute()).encode(errors="surrogatepass")).hexdigest()[:24]
