"""The user's own configuration: `config.toml` in the user's folder."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from pydantic import Field

from tidy_crate.core.exchange import ExchangeRate
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Currency
from tidy_crate.core.toml import read_toml
from tidy_crate.core.work.options import FarmOptions

FILE_NAME = "config.toml"


class OwnMachine(Model):
    """Description and price of the user's own machine."""

    score: float | None = Field(default=None, ge=1e-6, le=1e9)
    """By the benchmark that the farm cards use; 100 where it is not said."""
    price_per_hour: Amount | None = Field(default=None, ge=0)
    """For electricity and wear; None where rendering here costs nothing."""
    currency: Currency = "EUR"
    upload_mbit: float | None = Field(default=None, ge=1e-6, le=1e9)
    """Measured speed of the line to the farms, where it is slower than theirs."""


class MailSettings(Model):
    """A mail server, and who gets the news. The password is a secret, never here."""

    to: tuple[str, ...] = Field(min_length=1)
    sender: str
    server: str
    port: int = Field(default=587, ge=1, le=65535)
    security: Literal["starttls", "tls", "none"] = "starttls"
    """`none` only for a server on this machine."""
    user: str = ""
    """Name to sign in with; the password is in TIDY_CRATE_TOKEN_MAIL or in the keyring."""


class SchedulerAccess(Model):
    """Files for encrypted connections to schedulers of one's own machines (`dasks://`). Paths from the root."""

    ca_file: Path
    """Certificates of the authority that scheduler and workers have theirs from."""
    certificate: Path
    """The user's own certificate."""
    key: Path
    """Its private key."""


class NotifySettings(Model):
    """Recipients of messages when a job is done or in trouble."""

    mail: MailSettings | None = None
    web_hook: str | None = None
    """Address that gets the news as JSON, signed with the secret in TIDY_CRATE_TOKEN_HOOK or in the keyring."""

    @property
    def is_set(self) -> bool:
        """Return whether any recipient is set."""
        return self.mail is not None or self.web_hook is not None


class UserFile(Model):
    """Contents of the user's configuration file."""

    ledger: str | None = None
    """URL of the database that holds the ledger, such as `postgresql://wrangler@db.studio/tidy_crate`.

    Without it the ledger is an SQLite file in the user's folder.
    """
    exchange: tuple[ExchangeRate, ...] = ()
    """Rates of exchange, for comparing farms that bill in several currencies."""
    here: OwnMachine = OwnMachine()
    """This machine, for comparing farms with rendering here."""
    send: FarmOptions = FarmOptions()
    """Options of submissions where neither project nor command line say so."""
    notify: NotifySettings = NotifySettings()
    """Recipients of news when a job is done or in trouble."""
    scheduler: SchedulerAccess | None = None
    """Certificates for schedulers at `dasks://`."""
    token_variables: tuple[str, ...] = ()
    """Variables of the environment, beside `TIDY_CRATE_TOKEN_...`, that farm cards may take a token from."""


def read_user_file(path: Path) -> UserFile:
    """The user's configuration; the usual one where there is no file. Raises UnreadableInput on a broken file."""
    return read_toml(UserFile, path, "user's configuration") if path.is_file() else UserFile()
