"""Rates of exchange, from the user's own configuration: nothing is looked up."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from pydantic import Field

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Cost, Currency, rounded


class ExchangeRate(Model):
    """Value of one unit of a currency in another on a day."""

    of: Currency
    to: Currency
    rate: Amount = Field(gt=0)
    on: date


@dataclass(frozen=True)
class Exchange:
    """Known rates. The latest of a pair counts, in either direction."""

    rates: tuple[ExchangeRate, ...] = ()

    @classmethod
    def of(cls, rates: Iterable[ExchangeRate]) -> Exchange:
        """Return the rates, the latest first."""
        return cls(tuple(sorted(rates, key=lambda one: one.on, reverse=True)))

    def rate(self, of: str, to: str) -> tuple[Decimal, date | None] | None:
        """Return the rate from one currency to another and its day; None where it is not known."""
        if of == to:
            return Decimal(1), None
        for one in self.rates:
            if (one.of, one.to) == (of, to):
                return one.rate, one.on
            if (one.of, one.to) == (to, of):
                return 1 / one.rate, one.on
        return None

    def converted(self, cost: Cost, to: str) -> Cost | None:
        """Return a cost in another currency; None where no rate is known."""
        found = self.rate(cost.currency, to)
        if found is None:
            return None
        low, likely, high = (rounded(amount * found[0]) for amount in (cost.low, cost.likely, cost.high))
        return Cost(currency=to, low=low, likely=likely, high=high)
