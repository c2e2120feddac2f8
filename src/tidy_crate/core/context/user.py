"""The user's own configuration: `config.toml` in the user's folder."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field

from tidy_crate.core.exchange import ExchangeRate
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Currency
from tidy_crate.core.toml import read_toml
from tidy_crate.core.work.options import FarmOptions

FILE_NAME = "config.toml"


class OwnMachine(Model):
    """What one's own machine is and costs."""

    score: float | None = Field(default=None, ge=1e-6, le=1e9)
    """By the benchmark that the farm cards use; 100 where it is not said."""
    price_per_hour: Amount | None = Field(default=None, ge=0)
    """For electricity and wear; None where rendering here costs nothing."""
    currency: Currency = "EUR"
    upload_mbit: float | None = Field(default=None, ge=1e-6, le=1e9)
    """Measured speed of the line to the farms, where it is slower than theirs."""


class UserFile(Model):
    """What the file may say."""

    ledger: str | None = None
    """URL of the database that holds the ledger, such as `postgresql://wrangler@db.studio/tidy_crate`.

    Without it the ledger is an SQLite file in the user's folder.
    """
    exchange: tuple[ExchangeRate, ...] = ()
    """Rates of exchange, for comparing farms that bill in several currencies."""
    here: OwnMachine = OwnMachine()
    """This machine, for comparing farms with rendering here."""
    send: FarmOptions = FarmOptions()
    """What is wished of submissions where neither project nor command line say so."""
    token_variables: tuple[str, ...] = ()
    """Variables of the environment, beside `TIDY_CRATE_TOKEN_...`, that farm cards may take a token from."""


def read_user_file(path: Path) -> UserFile:
    """The user's configuration; the usual one where there is no file. Raises UnreadableInput on a broken file."""
    return read_toml(UserFile, path, "user's configuration") if path.is_file() else UserFile()
