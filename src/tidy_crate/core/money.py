"""Money and other quantities that are estimated as a range."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator, Field

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import Model

Currency = Annotated[str, Field(pattern=r"^[A-Z]{3}$")]
CENT = Decimal("0.01")


def _decimal(value: Any) -> Any:
    # a TOML number is a binary float: its shortest text is what was meant
    return Decimal(str(value)) if isinstance(value, int | float) and not isinstance(value, bool) else value


def _sane(amount: Decimal) -> Decimal:
    digits = amount.as_tuple()
    if not isinstance(digits.exponent, int) or digits.exponent < -MOST_DECIMALS or amount.adjusted() > MOST_DIGITS:
        raise ValueError("it is no amount of money")
    return amount


MOST_DIGITS, MOST_DECIMALS = 15, 60
Amount = Annotated[Decimal, BeforeValidator(_decimal), AfterValidator(_sane)]
# on a bill: an amount of money that is paid, never one that is given
Bill = Annotated[Amount, Field(ge=0)]


class Range(Model):
    """Seconds: low, likely and high."""

    low: float
    likely: float
    high: float


class Cost(Model):
    """Money, with its ISO 4217 currency: low, likely and high."""

    currency: Currency
    low: Amount
    likely: Amount
    high: Amount

    def holds(self, amount: Decimal) -> bool:
        """Return whether an amount is within the range, all to the cent: what is billed and shown is compared."""
        return rounded(self.low) <= rounded(amount) <= rounded(self.high)


def by_currency(amounts: Iterable[tuple[Decimal, str]]) -> dict[str, Decimal]:
    """Add up amounts, each currency for itself: amounts of two currencies have no sum."""
    found: dict[str, Decimal] = {}
    for amount, currency in amounts:
        found[currency] = found.get(currency, Decimal(0)) + amount
    return found


def rounded(amount: Decimal) -> Decimal:
    """To whole cents."""
    return amount.quantize(CENT, ROUND_HALF_UP)


def parse_money(text: str, currency: str) -> tuple[Decimal, str]:
    """Read an amount such as `120 EUR`, `EUR 120` or `120`. Raises WrongUsage for what is none, or not above zero."""
    words = text.replace("\u00a0", " ").split()
    names = [word for word in words if word.isalpha()]
    amounts = [word for word in words if not word.isalpha()]
    remedy = "write an amount and a currency, such as '120 EUR'"
    if len(amounts) != 1 or len(names) > 1 or (names and not (len(names[0]) == 3 and names[0].isascii())):
        raise WrongUsage("not an amount of money", repr(text[:40]), remedy)
    if "," in amounts[0]:
        raise WrongUsage("the amount has a comma", repr(text[:40]), "write 1200.50 with a point, and no other marks")
    try:
        found = Decimal(amounts[0])
    except InvalidOperation as error:
        raise WrongUsage("not an amount of money", repr(text[:40]), remedy) from error
    if not found.is_finite() or not 0 < found < Decimal(10) ** 12:
        raise WrongUsage("a budget is an amount above zero", repr(text[:40]), remedy)
    return found, names[0].upper() if names else currency
