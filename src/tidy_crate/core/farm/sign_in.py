"""Finding the token for a farm, which never stands in its card, and opening the link.

A token goes to one address only: the one that it was first used with. A card from others can name any
address, so that is noted in the user's own folder, and not on the card.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError, UnreadableInput
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.links.registry import is_loopback, link_to
from tidy_crate.core.files import inside, read_json, write_json

SERVICE = "tidy-crate"
# variables of the environment that a card may name unasked
OWN_VARIABLES = "TIDY_CRATE_TOKEN_"
MOST_CHARACTERS = 4096


@dataclass(frozen=True)
class Keys:
    """The user's means of signing in."""

    environment: Mapping[str, str]
    book: Path
    """The file that notes which address each token belongs to."""
    variables: tuple[str, ...] = ()
    """Other variables of the environment that cards may name, by the user's configuration."""

    def token_for(self, card: FarmCard, path: Path) -> str:
        """Return the token: from the environment, the file the card names, or the system's keyring, in this order.

        path: of the card. Raises FarmError when there is none, when it cannot be one, and when it belongs to another
        address than the card's. No error holds the token.
        """
        token = self._found(card, path)
        address = origin(card.url)
        known = self._book().get(_mark(token))
        if known is None:
            self._note(token, address)
        elif known != address:
            what = f"this token belongs to {known}, and the card would send it to {address}"
            raise FarmError(what, card.name, f"if the farm has moved, run: tidy-crate farm moved {card.name}")
        return token

    def secret(self, purpose: str) -> str:
        """Return a secret of the user's own, such as the password for mail: from the environment or the keyring.

        Raises FarmError when there is none.
        """
        variable = f"{OWN_VARIABLES}{purpose.upper()}"
        if self.environment.get(variable, "").strip():
            return _usable(self.environment[variable], variable)
        kept = _from_keyring(purpose)
        if kept:
            return _usable(kept, "the keyring")
        raise FarmError(f"there is no secret for {purpose}", None, f"set {variable}, or put it into the keyring")

    def move(self, card: FarmCard, path: Path) -> str:
        """Note that a card's token belongs to the card's address from now on. Return the address."""
        address = origin(card.url)
        self._note(self._found(card, path), address)
        return address

    def _found(self, card: FarmCard, path: Path) -> str:
        variable = card.sign_in.token_env or f"{OWN_VARIABLES}{card.name.upper().replace('-', '_')}"
        if not variable.startswith(OWN_VARIABLES) and variable not in self.variables:
            what = f"the card asks for the environment variable {variable}, which may hold anything"
            remedy = f'name it {OWN_VARIABLES}..., or allow it in your config.toml: token_variables = ["{variable}"]'
            raise FarmError(what, path, remedy)
        if self.environment.get(variable, "").strip():
            return _usable(self.environment[variable], variable)
        if card.sign_in.token_file:
            held = _in_file(path.parent, card.sign_in.token_file)
            if held is not None:
                return held
        if card.sign_in.keyring:
            kept = _from_keyring(card.name)
            if kept:
                return _usable(kept, "the keyring")
        raise FarmError("there is no token to sign in with", card.name, f"set {variable}, or put it into the keyring")

    def _book(self) -> dict[str, str]:
        if not self.book.is_file():
            return {}
        found = read_json(self.book, "list of tokens and addresses")
        if not isinstance(found, dict):
            raise UnreadableInput("the list of tokens and addresses is broken", self.book, "remove it")
        return {str(mark): str(address) for mark, address in found.items()}

    def _note(self, token: str, address: str) -> None:
        self.book.parent.mkdir(parents=True, exist_ok=True)
        write_json(self.book, self._book() | {_mark(token): address})


def origin(url: str) -> str:
    """Return the part of an address that a token belongs to: scheme, host and port.

    This machine is one address, whatever the port: no other user answers there.
    """
    parts = urlsplit(url)
    host = (parts.hostname or "").lower()
    if is_loopback(host):
        return "this machine"
    port = f":{parts.port}" if parts.port else ""
    return f"{parts.scheme.lower()}://{host}{port}"


def _mark(token: str) -> str:
    """A digest that tells tokens apart and gives none away: they are long and random."""
    return hashlib.blake2b(token.encode(), digest_size=16, person=b"tidy-crate token").hexdigest()


def _usable(text: str, where: object) -> str:
    """Return a token without blanks around it. Raises FarmError for a text that can be none."""
    token = text.strip()
    if not token or len(token) > MOST_CHARACTERS or not all("!" <= character <= "~" for character in token):
        what = "what is there is no token: one word of letters, digits and signs"
        raise FarmError(what, where, "copy the token again from the farm's page")
    return token


def _in_file(folder: Path, name: str) -> str | None:
    """The token in a file beside a card, None where there is no file. Raises FarmError for one that is elsewhere."""
    file = inside(folder, name)
    if not Path(os.path.realpath(file)).is_relative_to(os.path.realpath(folder)):
        raise FarmError("the card's token file leads out of the card's folder", file, "put the file beside the card")
    try:
        with file.open("rb") as stream:
            if not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
                return None
            return _usable(stream.read(MOST_CHARACTERS + 1).decode("utf-8", "replace"), file)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise FarmError(f"the token file cannot be read ({error.strerror})", file) from error


def _from_keyring(name: str) -> str | None:
    import keyring
    from keyring.errors import KeyringError

    try:
        return keyring.get_password(SERVICE, name)
    except (KeyringError, RuntimeError):
        # a machine without a keyring is as good as an empty one
        return None


def open_link(card: FarmCard, path: Path, keys: Keys) -> FarmLink:
    """Open the link to the farm of a card. Nothing is asked of the farm yet. See registry.link_to."""
    return link_to(card, lambda: keys.token_for(card, path))
