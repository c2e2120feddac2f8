"""Times as people write them down: `80`, `80s`, `1.5m`, `2h`."""

from __future__ import annotations

import re

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.prices import MOST_SECONDS

UNITS = {"": 1.0, "s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0, "d": 86400.0}
_TIME = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*(s|m|min|h|d)?", re.IGNORECASE)
_COMMA = re.compile(r"[0-9]+,[0-9]+\s*(s|m|min|h|d)?", re.IGNORECASE)


def parse_share(text: str, what: str = "a share") -> float:
    """Read a share such as `50%` or `0.5`. Raises WrongUsage for what is none, or not above zero.

    >>> parse_share("50%")
    0.5
    """
    number = text.strip().removesuffix("%").strip()
    try:
        found = float(number) / (100 if text.strip().endswith("%") else 1)
    except ValueError as error:
        raise WrongUsage(f"{what} is not a share", repr(text[:40]), "write 50% or 0.5") from error
    if not 0 < found <= 100:
        raise WrongUsage(f"{what} is not above zero", repr(text[:40]), "write 50% or 0.5")
    return found


def parse_seconds(text: str, what: str = "a time") -> float:
    """Read a time in seconds; a bare number is seconds. Raises WrongUsage for what is none, or not above zero.

    >>> parse_seconds("1.5m")
    90.0
    """
    text = text.strip()
    if _COMMA.fullmatch(text):
        raise WrongUsage(f"{what} has a decimal comma", repr(text), f"write {text.replace(',', '.')}")
    match = _TIME.fullmatch(text)
    if match is None:
        what_else = "is not above zero" if text.startswith("-") else "is no time"
        raise WrongUsage(f"{what} {what_else}", repr(text[:40]), "write 80s, 1.5m or 2h; a bare number is seconds")
    found = float(match[1]) * UNITS[(match[2] or "").lower()]
    if not 0 < found <= MOST_SECONDS:
        raise WrongUsage(f"{what} is not above zero, or longer than ten years", repr(text[:40]))
    return found
