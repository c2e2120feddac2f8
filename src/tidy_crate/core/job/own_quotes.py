"""Quotes of the farms themselves, beside our own."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from sqlalchemy import select

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.database import kept
from tidy_crate.core.errors import FarmError
from tidy_crate.core.estimate.model import Estimate, OwnQuote, least_by
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.job.ledger import Ledger, new_key
from tidy_crate.core.job.repeats import at_site
from tidy_crate.core.job.tables import JobRow, SubmissionRow
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import whole

# opens the link to a farm, by name
ByName = Callable[[str], FarmLink]


def with_own_quotes(
    estimate: Estimate,
    content: PackingList,
    requests: tuple[RenderRequest, ...],
    ledger: Ledger,
    cards: Iterable[FarmCard],
    links: ByName,
) -> Estimate:
    """Return the estimate with the quotes of those farms that make any, each for the best way that we know there.

    cards: of the farms in the estimate.

    A farm quotes what it has: of a crate that was never sent there, it is noted that nothing could be asked.
    """
    had = _delivered(ledger, content, cards)
    found, notes = [], []
    quotes = estimate.quotes
    able = [at for at, quote in enumerate(quotes) if quote.eligible and not quote.shares]
    for farm, at in least_by(quotes, able, lambda quote: quote.farm).items():
        quote = quotes[at]
        if farm not in had:
            notes.append(f"{farm} was not asked for a quote of its own: it does not have the crate")
            continue
        order = JobOrder(
            key=new_key(), crate=had[farm], requests=requests, tasks=whole(requests), batch=quote.batch,
            nodes=quote.nodes, machine=quote.machine,
        )  # fmt: skip
        try:
            link = links(farm)
            if link.quote is None:
                notes.append(f"{farm} makes no quotes of its own")
                continue
            own = link.quote.quote(order)
        except FarmError as error:
            notes.append(f"{farm} could not be asked for a quote: {error.what}")
            continue
        found.append(
            OwnQuote(
                farm=farm, machine=quote.machine, nodes=quote.nodes, batch=quote.batch, cost=own.cost,
                currency=own.currency, seconds=own.seconds, binding=own.binding,
            )
        )  # fmt: skip
    return estimate.model_copy(update={"own_quotes": tuple(found), "notes": (*estimate.notes, *notes)})


def _delivered(ledger: Ledger, content: PackingList, cards: Iterable[FarmCard]) -> dict[str, str]:
    """Return by farm the name that the crate has there, where it was sent before."""
    same = select(SubmissionRow).join(JobRow).where(JobRow.packing == content.model_dump_json())
    with ledger.reading() as session:
        return {
            card.name: kept(JobOrder.model_validate_json, row.order, "an order").crate
            for card in cards
            for row in session.scalars(same.where(at_site(card)).order_by(SubmissionRow.id))
            if row.order
        }
