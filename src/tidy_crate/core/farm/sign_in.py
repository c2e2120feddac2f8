"""Finding the token for a farm, which never stands in its card, and opening the link."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.links.registry import link_to

SERVICE = "tidy-crate"


def token_for(card: FarmCard, path: Path, environment: Mapping[str, str]) -> str:
    """The token: from the environment, the file the card names, or the system's keyring, in this order."""
    variable = card.sign_in.token_env or f"TIDY_CRATE_TOKEN_{card.name.upper().replace('-', '_')}"
    if environment.get(variable):
        return environment[variable]
    if card.sign_in.token_file:
        file = path.parent / card.sign_in.token_file
        if file.is_file():
            return file.read_text(encoding="utf-8").strip()
    if card.sign_in.keyring:
        found = _from_keyring(card.name)
        if found:
            return found
    raise FarmError("there is no token to sign in with", card.name, f"set {variable}, or put it into the keyring")


def _from_keyring(name: str) -> str | None:
    import keyring
    from keyring.errors import KeyringError

    try:
        return keyring.get_password(SERVICE, name)
    except (KeyringError, RuntimeError):
        # a machine without a keyring is as good as an empty one
        return None


def open_link(card: FarmCard, path: Path, environment: Mapping[str, str]) -> FarmLink:
    """Open the link to the farm of a card. Nothing is asked of the farm yet. See registry.link_to."""
    return link_to(card, lambda: token_for(card, path, environment))
