"""The user's own configuration: `config.toml` in the user's folder."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.model import Model
from tidy_crate.core.toml import read_toml

FILE_NAME = "config.toml"


class UserFile(Model):
    """What the file may say."""

    ledger: str | None = None
    """URL of the database that holds the ledger, such as `postgresql://wrangler@db.studio/tidy_crate`.

    Without it the ledger is an SQLite file in the user's folder.
    """
    token_variables: tuple[str, ...] = ()
    """Variables of the environment, beside `TIDY_CRATE_TOKEN_...`, that farm cards may take a token from."""


def read_user_file(path: Path) -> UserFile:
    """The user's configuration; the usual one where there is no file. Raises UnreadableInput on a broken file."""
    return read_toml(UserFile, path, "user's configuration") if path.is_file() else UserFile()
