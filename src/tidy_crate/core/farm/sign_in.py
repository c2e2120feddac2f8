"""Finding the token for a farm, which never stands in its card, and opening the link.

A token goes to one address only: that of a farm that the user has added or agreed to. A card from others can name any
address and any farm, so that is noted in the user's own folder, and not on the card.
"""

from __future__ import annotations

import hashlib
import json
import os
import stat
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError, UnreadableInput, WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.dask import Certificates
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.links.registry import is_loopback, link_to
from tidy_crate.core.files import inside, only_one, read_json, write_json

SERVICE = "tidy-crate"
# variables of the environment that a card may name unasked
OWN_VARIABLES = "TIDY_CRATE_TOKEN_"
MOST_CHARACTERS = 4096
THIS_MACHINE, USUAL_S3 = "this machine", "the usual S3 service"
# seconds to wait for another command that notes an address
PATIENCE = 10.0


class NewAddress(WrongUsage):
    """A token would go to an address that the user has not agreed to."""

    def __init__(self, card: FarmCard, path: Path, source: str, address: str, what: str = "", remedy: str = "") -> None:
        super().__init__(
            what or f"{source} would go to {address} for the first time, and you have not agreed to that",
            path,
            remedy or f"if this is the address of your farm, run: tidy-crate farm add {path}",
        )
        self.card, self.path, self.source, self.address = card, path, source, address
        self.commands: tuple[tuple[str, ...], ...] = ()


class NewCommands(NewAddress):
    """A card that is not the user's own names commands that the user has not agreed to."""

    def __init__(self, card: FarmCard, path: Path) -> None:
        what = "this card names commands that would run on this machine or on nodes, and you have not agreed to them"
        remedy = f"look at them: tidy-crate farm show {path}; if they are yours, run: tidy-crate farm add {path}"
        super().__init__(card, path, "your jobs", f"the commands of {card.name}", what, remedy)
        self.commands = commands_of(card)


@dataclass
class _Book:
    """The book of addresses."""

    tokens: dict[str, str] = field(default_factory=dict)
    """By digest of a token, the address that it belongs to."""
    sources: dict[str, str] = field(default_factory=dict)
    """By farm (`farm harbour`) and by place of a token (`variable NAME`), the address that it belongs to."""


@dataclass(frozen=True)
class _Held:
    """A token that was found."""

    token: str
    source: str
    """`variable NAME` or `keyring NAME`; empty for a file beside the card, which is whose the card is."""


@dataclass(frozen=True)
class Keys:
    """The user's means of signing in."""

    environment: Mapping[str, str]
    book: Path
    """The file that notes which address each token, farm and place of a token belongs to."""
    variables: tuple[str, ...] = ()
    """Other variables of the environment that cards may name, by the user's configuration."""
    own_cards: Path | None = None
    """The user's own folder of cards. A card in it is one that the user has added."""
    certificates: Certificates | None = None
    """For encrypted connections to schedulers."""
    tell: Callable[[str], None] | None = None
    """Is told of lines that are silent."""

    def token_for(self, card: FarmCard, path: Path) -> str:
        """Return the token: from the environment, the file the card names, or the system's keyring, in this order.

        path: of the card. Raises FarmError when there is none, when it cannot be one, and when it, the farm of this
        name, or the place of the token belongs to another address than the card's. Raises NewAddress where nothing says
        that this address is the farm's. No error holds the token.
        """
        held = self._found(card, path)
        address, book = origin(card), self._book()
        self._need_same(card, held.source, address, book, book.tokens.get(_mark(held.token)))
        if book.tokens.get(_mark(held.token)) == address:
            return held.token
        known = not held.source or any(one in book.sources for one in _sources(card, held.source))
        if not (known or address == THIS_MACHINE or self._is_own(path)):
            raise NewAddress(card, path, _shown(held.source), address)
        self._note(card, held, address)
        return held.token

    def need_agreed(self, card: FarmCard, path: Path) -> None:
        """Raise NewAddress unless the user has agreed to the address of a card, which asks for no token.

        Raises FarmError where the farm of this name belongs to another address.
        """
        source, address, book = f"farm {card.name}", origin(card), self._book()
        bound = book.sources.get(source)
        if bound is None and not (address == THIS_MACHINE or self._is_own(path)):
            raise NewAddress(card, path, "your crates and render commands", address)
        if commands_of(card) and not self._is_own(path) and book.sources.get(_commands_of_farm(card)) != _all(card):
            raise NewCommands(card, path)
        if bound != address:
            self._need_same(card, source, address, book, None)
            self._note(card, _Held("", source), address)

    def bind(self, card: FarmCard, path: Path) -> None:
        """Note that the farm of a card, and the token that it names, belong to the card's address from now on.

        Raises FarmError where they belong to another one.
        """
        source = self._source(card, path)
        self._need_same(card, source, origin(card), self._book(), None)
        self._note(card, _Held("", source), origin(card), commands=True)

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
        """Note that a card's farm and token belong to the card's address from now on. Return the address."""
        scheduler = urlsplit(card.url).scheme.lower() in _AGREED_TO
        held = _Held("", f"farm {card.name}") if scheduler else self._found(card, path)
        self._note(card, held, origin(card), commands=True)
        return origin(card)

    def _need_same(self, card: FarmCard, source: str, address: str, book: _Book, known: str | None) -> None:
        """Raise FarmError where a token, its place or its farm belongs to another address."""
        if known is not None and known != address:
            what = f"this token belongs to {known}, and the card would send it to {address}"
            raise FarmError(what, card.name, f"if the farm has moved, run: tidy-crate farm moved {card.name}")
        for one in _sources(card, source) if source else ():
            bound = book.sources.get(one)
            if bound is not None and bound != address:
                whose = f"the farm {card.name}" if one.startswith("farm ") else _shown(one)
                what = f"{whose} belongs to {bound}, and this card would send the token to {address}"
                raise FarmError(what, card.name, f"if the farm has moved, run: tidy-crate farm moved {card.name}")

    def _is_own(self, path: Path) -> bool:
        own = self.own_cards
        return own is not None and os.path.realpath(path.parent) == os.path.realpath(own)

    def _variable(self, card: FarmCard, path: Path) -> str:
        variable = card.sign_in.token_env or f"{OWN_VARIABLES}{card.name.upper().replace('-', '_')}"
        if not variable.startswith(OWN_VARIABLES) and variable not in self.variables:
            what = f"the card asks for the environment variable {variable}, which may hold anything"
            remedy = f'name it {OWN_VARIABLES}..., or allow it in your config.toml: token_variables = ["{variable}"]'
            raise FarmError(what, path, remedy)
        return variable

    def _source(self, card: FarmCard, path: Path) -> str:
        """Return the place that a card's token is looked for in first."""
        return f"variable {self._variable(card, path)}"

    def _found(self, card: FarmCard, path: Path) -> _Held:
        variable = self._variable(card, path)
        if self.environment.get(variable, "").strip():
            return _Held(_usable(self.environment[variable], variable), f"variable {variable}")
        if card.sign_in.token_file:
            held = _in_file(path.parent, card.sign_in.token_file)
            if held is not None:
                return _Held(held, "")
        if card.sign_in.keyring:
            kept = _from_keyring(card.name)
            if kept:
                return _Held(_usable(kept, "the keyring"), f"keyring {card.name}")
        raise FarmError("there is no token to sign in with", card.name, f"set {variable}, or put it into the keyring")

    def _book(self) -> _Book:
        if not self.book.is_file():
            return _Book()
        found = read_json(self.book, "list of tokens and addresses")
        # an earlier version kept the tokens alone
        parts = found if isinstance(found, dict) and "tokens" in found else {"tokens": found}
        tokens, sources = parts.get("tokens"), parts.get("sources", {})
        if not isinstance(tokens, dict) or not isinstance(sources, dict):
            raise UnreadableInput("the list of tokens and addresses is broken", self.book, "remove it")
        return _Book(
            {str(mark): str(address) for mark, address in tokens.items()},
            {str(one): str(address) for one, address in sources.items()},
        )

    def _note(self, card: FarmCard, held: _Held, address: str, *, commands: bool = False) -> None:
        """Note what belongs to an address. commands: note those of the card as agreed to."""
        # two commands that sign in at the same time keep both notes
        with only_one(self.book.with_name(f".{self.book.name}.lock"), "signs in", self.book, PATIENCE):
            book = self._book()
            if held.token:
                book.tokens[_mark(held.token)] = address
            if held.source:
                book.sources |= dict.fromkeys(_sources(card, held.source), address)
            if commands and commands_of(card):
                book.sources[_commands_of_farm(card)] = _all(card)
            self.book.parent.mkdir(parents=True, exist_ok=True)
            write_json(self.book, {"tokens": book.tokens, "sources": book.sources})


def _sources(card: FarmCard, source: str) -> tuple[str, ...]:
    return (f"farm {card.name}", source)


def _shown(source: str) -> str:
    kind, _, name = source.partition(" ")
    return f"the token in {name}" if kind == "variable" else f"the token of {name} in the keyring"


def commands_of(card: FarmCard) -> tuple[tuple[str, ...], ...]:
    """Return the command lines of a card for one's own machines: those that nodes run, and those that run here."""
    if card.cluster.shared is None:
        return ()
    own = card.cluster.commands
    lines = [line for one in card.program for line in (one.command, one.version_command)]
    lines += [own.submit, own.state, own.cancel, own.log] if own is not None else []
    lines += [(card.cluster.python,)] if card.cluster.python != "python3" else []
    return tuple(line for line in lines if line)


def _commands_of_farm(card: FarmCard) -> str:
    return f"commands {card.name}"


def _all(card: FarmCard) -> str:
    """A digest of a card's command lines and of where they lead."""
    words = json.dumps([commands_of(card), card.cluster.shared, card.cluster.shared_on_nodes])
    return hashlib.blake2b(words.encode(), digest_size=16, person=b"tidy-crate cmds").hexdigest()


def origin(card: FarmCard) -> str:
    """Return the part of a card's address that a token belongs to: scheme, host and port.

    This machine is one address, whatever the port: no other user answers there. A bucket is at its service.
    """
    parts = urlsplit(card.url)
    if parts.scheme.lower() == "s3":
        if not card.place.endpoint:
            return USUAL_S3
        parts = urlsplit(card.place.endpoint)
    host = (parts.hostname or "").lower()
    if is_loopback(host) or (not host and parts.scheme.lower() in _AGREED_TO):
        return THIS_MACHINE
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
    """The entry of the system's keyring; None where there is none, or no keyring that answers."""
    import keyring

    try:
        found = keyring.get_password(SERVICE, name)
    except Exception:  # noqa: BLE001 - back ends raise what their systems raise: a bus that is gone, a lock, a denial
        # a machine without a keyring is as good as an empty one
        return None
    return found if isinstance(found, str) else None


@dataclass(frozen=True)
class _SigningIn:
    """The means of signing in that a link is given."""

    card: FarmCard
    path: Path
    keys: Keys

    def __call__(self) -> str:
        return self.keys.token_for(self.card, self.path)

    @property
    def certificates(self) -> Certificates | None:
        """Return the user's certificates for schedulers."""
        return self.keys.certificates

    @property
    def tell(self) -> Callable[[str], None] | None:
        """Return who is told of a line that is silent."""
        return self.keys.tell


# a scheduler hands what it is given to its workers, which run it: it is agreed to before anything is sent
_AGREED_TO = ("dask", "dasks", "slurm", "commands", "here")


def open_link(card: FarmCard, path: Path, keys: Keys) -> FarmLink:
    """Open the link to the farm of a card. Nothing is asked of the farm yet. See registry.link_to.

    Raises NewAddress for a scheduler that the user has not agreed to.
    """
    link = link_to(card, _SigningIn(card, path, keys))
    if urlsplit(card.url).scheme.lower() in _AGREED_TO:
        keys.need_agreed(card, path)
    return link
