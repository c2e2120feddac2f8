"""Finding the link for a card: by the scheme of its address, among those that packages bring."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.plugins import names, plugin

GROUP = "tidy_crate.farm_links"
# gives the token when it is asked for, and raises FarmError when there is none
Token = Callable[[], str]
# a link for a card: what an entry point of the group names, under the scheme
Opener = Callable[[FarmCard, Token], FarmLink]


def link_to(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to the farm of a card. Nothing is asked of the farm yet.

    Raises FarmError when the card has no address, or nothing is installed for its scheme.
    """
    if not card.url:
        raise FarmError("its card has no address, so it cannot be reached from here", card.name, "add url = '...'")
    try:
        scheme = urlsplit(card.url).scheme.lower()
    except ValueError as error:
        raise FarmError(
            f"the address of the farm is wrong ({error})", card.name, "correct the url on its card"
        ) from error
    opener = plugin(GROUP, scheme)
    if opener is None:
        known = ", ".join(f"{name}:" for name in sorted(names(GROUP)))
        what = "nothing is installed that reaches a farm this way"
        raise FarmError(what, card.url, f"install a package that brings it; known here: {known}")
    return opener(card, token)  # type: ignore[no-any-return]
