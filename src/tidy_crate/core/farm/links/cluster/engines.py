"""Choosing the engine of a card, by the scheme of its address."""

from __future__ import annotations

from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.dask import Certificates
from tidy_crate.core.farm.links.cluster.interface import Engine
from tidy_crate.core.farm.links.cluster.shell import Shell
from tidy_crate.core.farm.links.cluster.storage import Storage


def engine_of(card: FarmCard, storage: Storage, certificates: Certificates | None) -> Engine:
    """Return the engine of a card. Raises FarmError for an address that names none."""
    parts = urlsplit(card.url)
    match parts.scheme.lower():
        case "here":
            from tidy_crate.core.farm.links.cluster.here import Here

            return Here(storage, card.machine[0].nodes)
        case "dask" | "dasks":
            from tidy_crate.core.farm.links.cluster.dask import Dask

            return Dask(card.url, certificates)
        case "slurm":
            from tidy_crate.core.farm.links.cluster.slurm import Slurm

            return Slurm(card, storage, shell_of(card))
        case "commands":
            from tidy_crate.core.farm.links.cluster.commands import Commands

            return Commands(card, storage, shell_of(card))
    raise FarmError("the address of the card names no engine", card.url, "use here:, dasks:, slurm: or commands:")


def shell_of(card: FarmCard) -> Shell:
    """Return where the programs of a card's scheduler are run: here, or on the login node in its address."""
    parts, place = urlsplit(card.url), card.place
    return Shell(parts.hostname or "", parts.port, place.user, place.key_file, place.known_hosts)
