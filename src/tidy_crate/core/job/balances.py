"""Balances of the farms that jobs were sent to."""

from __future__ import annotations

from sqlalchemy import select

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.submission import Links
from tidy_crate.core.job.tables import SubmissionRow
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount


class FarmBalance(Model):
    """The balance at one farm."""

    farm: str
    balance: Amount | None
    """None where it cannot be told."""
    currency: str
    trouble: str = ""
    """Why it cannot be told."""


def balances(ledger: Ledger, links: Links) -> tuple[FarmBalance, ...]:
    """Ask every farm, by the newest submission there. One that does not answer is named with the reason."""
    with ledger.reading() as session:
        newest: dict[tuple[str, str], SubmissionRow] = {}
        for row in session.scalars(select(SubmissionRow).order_by(SubmissionRow.id)):
            session.expunge(row)
            newest[row.farm, row.site] = row
    found = []
    for (farm, _), row in sorted(newest.items(), key=lambda one: one[0]):
        try:
            link = links(row)
            if link.account is None:
                found.append(_unknown(farm, row, "it does not tell its balance"))
                continue
            account = link.account.account()
            found.append(FarmBalance(farm=farm, balance=account.balance, currency=account.currency))
        except TidyCrateError as error:
            found.append(_unknown(farm, row, error.what))
    return tuple(found)


def _unknown(farm: str, row: SubmissionRow, why: str) -> FarmBalance:
    return FarmBalance(farm=farm, balance=None, currency=row.currency, trouble=why)
