"""Finding the link for a card: by the scheme of its address, among those that packages bring."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError, NoAddress
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.plugins import names, plugin

GROUP = "tidy_crate.farm_links"
# gives the token when it is asked for, and raises FarmError when there is none
Token = Callable[[], str]
# a link for a card: what an entry point of the group names, under the scheme
Opener = Callable[[FarmCard, Token], FarmLink]


def is_loopback(host: str) -> bool:
    """Return whether a host is this machine."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


# the schemes that links of this tool know, and whether what goes over them is encrypted; s3 by its endpoint
ENCRYPTED = {"https": True, "http": False, "sftp": True, "file": True, "s3": True, "dask": False, "dasks": True}


def travels_open(scheme: str, host: str) -> bool:
    """Return whether what goes to an address can be read and changed on the way. This machine is no way."""
    return not (ENCRYPTED.get(scheme, True) or is_loopback(host))


def _need_encrypted(card: FarmCard, scheme: str, host: str) -> None:
    """Raise FarmError for an address at which tokens and commands would travel in the open."""
    if scheme == "s3" and card.place.endpoint:
        try:
            endpoint = urlsplit(card.place.endpoint)
            scheme, host, _ = endpoint.scheme.lower(), (endpoint.hostname or "").lower(), endpoint.port
        except ValueError as error:
            raise FarmError("the endpoint of the bucket is wrong", card.name, "correct it on the card") from error
        if scheme not in ("http", "https") or not host or "@" in endpoint.netloc:
            what = "the endpoint of the bucket is no address of an S3 service"
            raise FarmError(what, card.name, "write it as endpoint = 'https://HOST' on the card")
    if card.insecure or not travels_open(scheme, host):
        return
    what = f"the address {scheme}://{host} is not encrypted, so anybody on the way can read and change what is sent"
    safe = {"http": "https", "dask": "dasks"}[scheme]
    raise FarmError(what, card.name, f"use {safe}://, or say insecure = true on the card for a network that is safe")


def link_to(card: FarmCard, token: Token) -> FarmLink:
    """Open the link to the farm of a card. Nothing is asked of the farm yet.

    Raises NoAddress when the card has none, FarmError when it is wrong, or nothing is installed for its scheme.
    """
    if not card.url:
        what = "its card has no address, so it cannot be reached from here"
        raise NoAddress(what, card.name, "add url = '...' to the card; for a farm without an interface: file:///FOLDER")
    try:
        parts = urlsplit(card.url)
        scheme, host, _ = parts.scheme.lower(), (parts.hostname or "").lower(), parts.port
    except ValueError as error:
        # the address may hold a password
        raise FarmError("the address of the farm is wrong", card.name, "correct the url on its card") from error
    if parts.username is not None or parts.password is not None:
        what = "the address on the card holds a name or a password, which everybody reads who reads the card"
        raise FarmError(what, card.name, "take it out of the url; tokens come from the environment or the keyring")
    _need_encrypted(card, scheme, host)
    opener = plugin(GROUP, scheme)
    if opener is None:
        known = ", ".join(f"{name}:" for name in sorted(names(GROUP)))
        what = "nothing is installed that reaches a farm this way"
        raise FarmError(what, card.url, f"install a package that brings it; known here: {known}")
    return opener(card, token)  # type: ignore[no-any-return]
