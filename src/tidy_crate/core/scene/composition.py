"""Composition of a scene as digests: equal at the source and in the crate, or the crate renders another picture."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from tidy_crate.core.model import Model

# digests that are kept apart, so that a difference can be named; more are joined by what holds them
MOST_PARTS = 2000
MOST_NAMED = 10
COMPOSES = "composes to something else"


# what is compared, and how: digests of another number cannot be compared with these
BY_PRIM = 2
BY_LAYER = 3
BY_ENTRY = 4
METHODS = (BY_PRIM, BY_LAYER, BY_ENTRY)


class Packed(NamedTuple):
    """A file of the scene as it is in the crate."""

    path: str
    """In the crate."""
    identity: str
    """The digest of its contents, or its path where staging rewrote it. The same at the source and in the crate."""

    @property
    def rewritten(self) -> bool:
        """Return whether staging wrote its own version of the file."""
        return self.path == self.identity


class Composition(Model):
    """The digest of a composed scene."""

    method: int = 1
    """`BY_PRIM`, `BY_LAYER` or `BY_ENTRY`."""

    prims: int
    """Number of prims or entries that were compared, or of prims composed from the layers that were."""
    layers: int | None = None
    """Number of layers that were compared; None where prims were."""
    times: tuple[float, ...]
    """Time codes at which values were compared, beside the first and last samples of each attribute."""
    sampled: tuple[str, ...] = ()
    """Parts that were left out because the scene is huge, in words."""
    digest: str
    """Digest of everything."""
    parts: dict[str, str]
    """By path, the digest of a prim or layer, or of all below a path where there are very many."""

    @classmethod
    def of(cls, prims: Mapping[str, str], times: Iterable[float], sampled: Iterable[str]) -> Composition:
        """Join digests by prim path, in the order of the paths."""
        ordered = dict(sorted(prims.items()))
        return cls(
            method=BY_PRIM,
            prims=len(ordered),
            times=tuple(times),
            sampled=tuple(sampled),
            digest=_joined(ordered.items()),
            parts=_parts(ordered),
        )

    @classmethod
    def of_layers(cls, layers: Mapping[str, str], prims: int) -> Composition:
        """Join digests by the path of a layer in the crate. `/` is what the root says of the whole scene."""
        ordered = dict(sorted(layers.items()))
        digest, parts = _joined([*ordered.items(), ("prims", str(prims))]), _parts(ordered)
        return cls(method=BY_LAYER, prims=prims, layers=len(ordered) - 1, times=(), digest=digest, parts=parts)

    @classmethod
    def of_entries(cls, entries: Mapping[str, str]) -> Composition:
        """Join digests of the entries of one file, by their place in it."""
        ordered = dict(sorted(entries.items()))
        digest, parts = _joined(ordered.items()), _parts(ordered)
        return cls(method=BY_ENTRY, prims=len(ordered), times=(), digest=digest, parts=parts)

    def differences(self, other: Composition) -> list[str]:
        """Return what differs in the other one, in words; nothing where the two compose to the same."""
        if self.digest == other.digest:
            return []
        named = sorted(
            path for path in self.parts.keys() | other.parts.keys() if self.parts.get(path) != other.parts.get(path)
        )
        # what is deepest is the cause, what holds it the consequence
        deepest = [path for path in named if not any(_holds(path, other) for other in named)]
        shown = [f"{path} ({_how(path, self, other)})" for path in deepest[:MOST_NAMED]]
        more = f" and {len(deepest) - MOST_NAMED} more" if len(deepest) > MOST_NAMED else ""
        return [f"{COMPOSES}: {', '.join(shown)}{more}"]


def _holds(path: str, other: str) -> bool:
    """Return whether another path is below this one."""
    return other != path and other.startswith(path.rstrip("/") + "/")


def _how(path: str, one: Composition, other: Composition) -> str:
    if path not in other.parts:
        return "not there"
    return "not at the source" if path not in one.parts else "other contents"


def _joined(parts: Iterable[tuple[str, str]]) -> str:
    digest = hashlib.blake2b(digest_size=16)
    for path, part in parts:
        digest.update(f"{path} {part}\n".encode("utf-8", "surrogatepass"))
    return digest.hexdigest()


def _parts(prims: Mapping[str, str]) -> dict[str, str]:
    """The digests, joined by ever higher prims until there are few enough."""
    if len(prims) <= MOST_PARTS:
        return {path: part[:12] for path, part in prims.items()}
    depth = max(path.count("/") for path in prims)
    while depth > 1:
        groups: dict[str, list[tuple[str, str]]] = {}
        for path, part in prims.items():
            groups.setdefault("/".join(path.split("/")[: depth + 1]), []).append((path, part))
        if len(groups) <= MOST_PARTS:
            return {path: _joined(group)[:12] for path, group in groups.items()}
        depth -= 1
    return {"/": _joined(prims.items())[:12]}
