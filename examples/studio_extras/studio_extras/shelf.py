"""A farm link: a card whose address is `shelf:NAME` reaches a farm that only tells an account and makes quotes."""

from __future__ import annotations

from decimal import Decimal

from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.protocol import Account, FarmQuote, JobOrder
from tidy_crate.core.work.task import tasks_of

SECONDS, PRICE = 60.0, Decimal("0.05")


class Shelf:
    """Quotes a fixed price for each frame. What it cannot do, it does not offer: the tool says so by name."""

    def __init__(self, card: FarmCard, token: Token) -> None:
        self._card, self._token = card, token

    def account(self) -> Account:
        """See Accounting.account."""
        return Account(user="studio", balance=Decimal(100), currency=self._card.currency)

    def quote(self, order: JobOrder) -> FarmQuote:
        """See Quoting.quote."""
        count = sum(1 for _ in tasks_of(order.tasks, order.requests))
        return FarmQuote(cost=PRICE * count, currency=self._card.currency, seconds=SECONDS * count)


def open_link(card: FarmCard, token: Token) -> FarmLink:
    """Open the link of a card. Nothing is asked of the farm yet."""
    shelf = Shelf(card, token)
    return FarmLink(card.name, account=shelf, quote=shelf)
