"""Farm card: a TOML file that describes one farm."""

from __future__ import annotations

import difflib
import tomllib
from collections.abc import Iterable
from datetime import date
from pathlib import Path

from pydantic import Field

from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.files import os_reason
from tidy_crate.core.model import Model, validated
from tidy_crate.core.money import Amount, Currency

SUFFIX = ".farm.toml"


class SignIn(Model):
    """Where the token is: never in the card itself. token_file: relative to the card. keyring: in the system's."""

    token_env: str | None = None
    token_file: str | None = None
    keyring: bool = True


class Machine(Model):
    """One machine class. score: speed by the same benchmark as one's own machine's; price per machine and hour."""

    name: str
    nodes: int = Field(ge=1)
    score: float = Field(gt=0)
    memory_gb: float = Field(gt=0)
    price_per_hour: Amount = Field(ge=0)
    billing_increment_seconds: int = Field(default=1, ge=1)
    minimum_seconds: int = Field(default=0, ge=0)
    startup_seconds: float = Field(default=0, ge=0)


class Transfer(Model):
    """Speeds to and from the farm in megabits a second, and what it does with a crate before it starts, in seconds."""

    upload_mbit: float = Field(default=50, gt=0)
    download_mbit: float = Field(default=50, gt=0)
    processing_seconds: float = Field(default=0, ge=0)


class FarmCard(Model):
    """One farm. practice: a simulated one, for which timings of the practice renderer will do."""

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")
    title: str = ""
    url: str
    currency: Currency
    rates_from: date
    practice: bool = False
    sign_in: SignIn = SignIn()
    transfer: Transfer = Transfer()
    machine: tuple[Machine, ...] = Field(min_length=1)

    def machine_named(self, name: str | None) -> Machine:
        """A machine class by name, the first when None. Raises WrongUsage on an unknown name."""
        if name is None:
            return self.machine[0]
        found = next((one for one in self.machine if one.name == name), None)
        if found is None:
            raise WrongUsage(
                "the farm has no such machine class",
                name,
                "it has " + ", ".join(m.name for m in self.machine),
            )
        return found


def read_card(path: Path) -> FarmCard:
    """Read a card. Raises UnreadableInput that names a wrong key and the nearest right one."""
    try:
        content = tomllib.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise UnreadableInput(f"cannot read the farm card ({os_reason(error)})", path) from error
    except ValueError as error:
        raise UnreadableInput(f"the farm card is not valid TOML ({error})", path) from error
    for key in content:
        if key not in FarmCard.model_fields:
            near = difflib.get_close_matches(key, FarmCard.model_fields, 1)
            raise UnreadableInput(
                f"the farm card has an unknown key '{key}'",
                path,
                f"did you mean '{near[0]}'?" if near else None,
            )
    return validated(FarmCard, content, "farm card", path)


def find_card(name: str, folders: Iterable[Path]) -> Path:
    """A card by its path, or by its name in one of the folders. Raises UnreadableInput when there is none."""
    path = Path(name)
    if path.suffix == ".toml" or path.is_file():
        if not path.is_file():
            raise UnreadableInput("there is no such farm card", path, "check the path")
        return path.absolute()
    for folder in folders:
        candidate = folder / f"{name}{SUFFIX}"
        if candidate.is_file():
            return candidate
    known = sorted({card.name.removesuffix(SUFFIX) for folder in folders for card in folder.glob(f"*{SUFFIX}")})
    remedy = "known farms: " + ", ".join(known) if known else "name a card's file, or add one with farm add"
    raise UnreadableInput("no farm of that name is known", name, remedy)
