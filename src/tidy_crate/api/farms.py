"""Farms: cards, links, the ledger, and what is left to spend."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.user import User

if TYPE_CHECKING:
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.farm.links.interface import FarmLink, Trial
    from tidy_crate.core.farm.protocol import Account
    from tidy_crate.core.job.balances import FarmBalance
    from tidy_crate.core.job.ledger import Ledger
    from tidy_crate.core.job.tables import SubmissionRow


def load_card(name: str, *, user: User | None = None) -> tuple[FarmCard, Path]:
    """Return a farm card, by path or name, and its file."""
    from tidy_crate.core.farm.card import find_card, read_card

    path = find_card(name, (user or User.here()).card_folders)
    return read_card(path), path


def farm_moved(farm: str, *, user: User | None = None) -> tuple[FarmCard, str]:
    """Note that a farm's token belongs to the address on its card from now on. Return the card and the address."""
    user = user or User.here()
    card, path = load_card(farm, user=user)
    return card, user.keys.move(card, path)


def agree_to_address(card: FarmCard, path: Path, *, user: User | None = None) -> None:
    """Note that a farm, and the token that its card names, belong to the address on the card: see NewAddress."""
    (user or User.here()).keys.move(card, path)


def try_farm(farm: str, *, user: User | None = None) -> tuple[FarmCard, tuple[Trial, ...], Account | None]:
    """Try the way to a farm out, step by step. Nothing is ordered.

    Return its card, what each step came to, and who is signed in with what is left to spend; None where the farm does
    not tell that, or a step does not work.
    """
    from tidy_crate.core.farm.links.interface import needed, tried
    from tidy_crate.core.farm.protocol import Capability

    card, path = load_card(farm, user=user)
    with FarmLinks(user) as links:
        link = links.to(str(path))
        if link.trial is None:
            # a link of another package: that much can be tried out with any
            known = needed(link.account, link, Capability.ACCOUNT)

            def signed_in() -> str:
                found = known.account()
                return f"as {found.user}, {found.balance} {found.currency} left"

            steps: tuple[Trial, ...] = (tried("sign in", signed_in),)
        else:
            steps = tuple(link.trial())
        if link.account is None or not all(one.works for one in steps):
            return card, steps, None
        return card, steps, link.account.account()


@contextmanager
def ledger(user: User | None = None) -> Iterator[Ledger]:
    """The user's ledger, open for as long as the block runs."""
    from tidy_crate.core.job.ledger import Ledger

    found = Ledger((user or User.here()).ledger)
    try:
        yield found
    finally:
        found.close()


class FarmLinks:
    """One open link per farm, by the card that a submission noted. Use it as a context manager."""

    def __init__(self, user: User | None = None, tell: Callable[[str], None] | None = None) -> None:
        """tell: is told of a line to a farm that is silent."""
        self._user = user or User.here()
        self._tell = tell
        self._open: dict[str, FarmLink] = {}

    def __call__(self, row: SubmissionRow) -> FarmLink:
        """The link to the farm of a submission."""
        return self.to(row.card)

    def to(self, card: str) -> FarmLink:
        """The link to the farm of a card, by path or name."""
        from tidy_crate.core.farm.sign_in import open_link

        if card not in self._open:
            found, path = load_card(card, user=self._user)
            self._open[card] = open_link(found, path, replace(self._user.keys, tell=self._tell))
        return self._open[card]

    def __enter__(self) -> FarmLinks:
        return self

    def __exit__(self, *_: object) -> None:
        for link in self._open.values():
            link.close()


def balances(*, user: User | None = None) -> tuple[FarmBalance, ...]:
    """Ask every farm that jobs were sent to what is left to spend there."""
    from tidy_crate.core.job.balances import balances as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, links)
