"""Digests by prim of what plain USD composes.

Uses no code of the survey, which it judges. Nothing of the survey's code is used here: this is its judge.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from pxr import Sdf, Usd

from tidy_crate.core.scene.composition import Composition

# says which file a layer's text means, in words that hold at the source and in the crate
Identity = Callable[[Sdf.Layer | None, str, str], str]
# says the same of a plain text in a layer, None for one that names no file
TextIdentity = Callable[[Sdf.Layer, str], str | None]
# prims of a scene that are all compared; of more, every n-th
MOST_PRIMS = 300_000
# samples of one attribute that are always compared, spread over its range
MOST_SAMPLES = 6
# of single values all samples are compared, up to so many of one attribute and so many in all; of files always
MOST_SINGLE = 1000
MOST_READS = 500_000
# elements of an array that are all compared; of more, so many spread over it
MOST_ELEMENTS = 1 << 20
# metadata that says how a prim came about, not what it is; what composes from it is compared
_HOW = {
    "references", "payload", "inheritPaths", "specializes", "variantSetNames", "clips", "clipSets", "primOrder",
    "propertyOrder", "specifier", "typeName", "active", "apiSchemas", "comment",
}  # fmt: skip
_STAGE = (
    "startTimeCode", "endTimeCode", "timeCodesPerSecond", "framesPerSecond", "upAxis", "metersPerUnit",
    "renderSettingsPrimPath", "kilogramsPerUnit",
)  # fmt: skip


def composition(stage: Usd.Stage, identity: Identity, text_identity: TextIdentity | None = None) -> Composition:
    """Digest every prim of a stage: type, schemas, metadata, properties, targets, and values over time.

    text_identity: None where no plain text names a file.
    """
    times = _times(stage)
    reader = _Reader(stage, identity, text_identity, times)
    found: dict[str, str] = {"/": reader.of_stage()}
    sampled: list[str] = []
    prims = list(_prims(stage, reader.first))
    step = -(-len(prims) // MOST_PRIMS)
    if step > 1:
        sampled.append(f"every {step}th of {len(prims)} prims")
    found.update((str(prim.GetPath()), reader.of_prim(prim)) for prim in prims[:: step or 1])
    if reader.thinned:
        sampled.append(f"{MOST_SAMPLES} samples of each of {reader.thinned} attributes that have more")
    if reader.long_arrays:
        sampled.append(f"{MOST_ELEMENTS} elements of each of {reader.long_arrays} longer arrays")
    return Composition.of(found, times, sampled)


def _times(stage: Usd.Stage) -> tuple[float, ...]:
    """First, middle and last frame of the range, and one frame beyond each end for the shutter."""
    if not stage.HasAuthoredTimeCodeRange():
        return ()
    first, last = stage.GetStartTimeCode(), stage.GetEndTimeCode()
    if not (np.isfinite(first) and np.isfinite(last)):
        return ()
    return tuple(dict.fromkeys((first - 1, first, float(np.floor((first + last) / 2)), last, last + 1)))


def _prims(stage: Usd.Stage, first: dict[Sdf.Path, Sdf.Path]) -> Iterator[Usd.Prim]:
    """Every prim, inactive and abstract ones too. What instances share comes once, below the first of them.

    first: filled with the first instance of each prototype. Names of prototypes are the library's own and differ from
    stage to stage, so none is used.
    """
    for prim in stage.TraverseAll():
        yield prim
        if prim.IsInstance() and prim.GetPrototype().GetPath() not in first:
            first[prim.GetPrototype().GetPath()] = prim.GetPath()
            yield from _below_instance(prim, first)


def _below_instance(prim: Usd.Prim, first: dict[Sdf.Path, Sdf.Path]) -> Iterator[Usd.Prim]:
    walked = iter(Usd.PrimRange(prim, Usd.TraverseInstanceProxies(Usd.PrimAllPrimsPredicate)))
    next(walked)
    for inner in walked:
        yield inner
        if inner.IsInstance() and first.setdefault(inner.GetPrototype().GetPath(), inner.GetPath()) != inner.GetPath():
            walked.PruneChildren()


class _Reader:
    """Reads prims into digests."""

    def __init__(
        self, stage: Usd.Stage, identity: Identity, text_identity: TextIdentity | None, times: tuple[float, ...]
    ) -> None:
        self._stage = stage
        self._identity = identity
        self._text_identity = text_identity
        self._times = times
        self.long_arrays = 0
        self.thinned = 0
        self._reads = MOST_READS
        self.first: dict[Sdf.Path, Sdf.Path] = {}

    def of_stage(self) -> str:
        """Return what the root layer says of the whole stage."""
        root = self._stage.GetPseudoRoot()
        texts = [f"{key}={root.GetMetadata(key)!r}" for key in _STAGE if root.HasAuthoredMetadata(key)]
        texts.append(f"rate={self._stage.GetTimeCodesPerSecond()!r}")
        return hashlib.blake2b("\n".join(texts).encode(), digest_size=16).hexdigest()

    def of_prim(self, prim: Usd.Prim) -> str:
        """One prim, without what is below it."""
        digest = hashlib.blake2b(digest_size=16)

        def add(*words: object) -> None:
            digest.update("\0".join(map(str, words)).encode("utf-8", "surrogatepass") + b"\n")

        add(prim.GetTypeName(), prim.GetSpecifier(), prim.IsActive(), prim.IsInstance(), *prim.GetAppliedSchemas())
        if prim.IsInstance():
            add("like", self.first.get(prim.GetPrototype().GetPath()))
        for key, value in sorted(prim.GetAllAuthoredMetadata().items()):
            if key not in _HOW:
                add("meta", key, self._plain(value, None))
        for one in prim.GetAuthoredProperties():
            if isinstance(one, Usd.Relationship):
                add("rel", one.GetName(), *one.GetTargets())
            else:
                add("attr", one.GetName(), one.GetTypeName(), one.GetVariability(), *one.GetConnections())
                self._values(one, add, digest.update)
        return digest.hexdigest()

    def _values(self, attribute: Usd.Attribute, add: Callable[..., None], raw: Callable[[bytes], None]) -> None:
        samples = attribute.GetTimeSamples()
        if not samples:
            if attribute.HasAuthoredValue():
                self._value(attribute, Usd.TimeCode.Default(), add, raw)
            return
        add("samples", len(samples), *(f"{time:.9g}" for time in samples[:1000]))
        for time in sorted({*self._times, *self._chosen(attribute.GetTypeName(), samples)}):
            self._value(attribute, Usd.TimeCode(time), add, raw)

    def _chosen(self, kind: Sdf.ValueTypeName, samples: list[float]) -> list[float]:
        """The samples that are compared: of files all, of single values as many as there is time for, else a few."""
        whole = not kind.isArray and len(samples) <= min(MOST_SINGLE, self._reads)
        if kind in (Sdf.ValueTypeNames.Asset, Sdf.ValueTypeNames.AssetArray) or whole or len(samples) <= MOST_SAMPLES:
            self._reads -= len(samples)
            return samples
        self.thinned += 1
        return [samples[round(at * (len(samples) - 1) / (MOST_SAMPLES - 1))] for at in range(MOST_SAMPLES)]

    def _value(
        self, attribute: Usd.Attribute, time: Usd.TimeCode, add: Callable[..., None], raw: Callable[[bytes], None]
    ) -> None:
        value = attribute.Get(time)
        add("at", time)
        kind = attribute.GetTypeName()
        if kind in (Sdf.ValueTypeNames.Asset, Sdf.ValueTypeNames.AssetArray):
            stack = attribute.GetPropertyStack(time)
            add(self._plain(value, stack[0].layer if stack else None))
            return
        if self._text_identity is not None and isinstance(value, str):
            stack = attribute.GetPropertyStack(time)
            file = self._text_identity(stack[0].layer, value) if stack else None
            add(repr(value) if file is None else f"<{file}>")
            return
        numbers = _numbers(value) if kind.isArray else None
        if numbers is None:
            add(repr(value))
            return
        if numbers.size > MOST_ELEMENTS:
            self.long_arrays += 1
            numbers = numbers.reshape(-1)[:: -(-numbers.size // MOST_ELEMENTS)]
        add(numbers.dtype, *np.shape(value))
        raw(np.ascontiguousarray(numbers).tobytes())

    def _plain(self, value: Any, layer: Sdf.Layer | None) -> str:
        """A value in words that do not depend on where the scene is: files by what they are, the rest as it is."""
        if isinstance(value, Sdf.AssetPath):
            return f"<{self._file(value, layer)}>"
        if isinstance(value, Sdf.AssetPathArray):
            return "[" + ",".join(self._plain(one, layer) for one in value) + "]"
        if isinstance(value, dict):
            return "{" + ",".join(f"{k}:{self._plain(value[k], layer)}" for k in sorted(value)) + "}"
        return repr(value)

    def _file(self, value: Sdf.AssetPath, layer: Sdf.Layer | None) -> str:
        if not value.path:
            return ""
        return self._identity(layer, value.resolvedPath, value.path) if layer is not None else "metadata"


def _numbers(value: Any) -> np.ndarray | None:
    """An array as numbers, None for one of texts."""
    try:
        found = np.asarray(value)
    except (TypeError, ValueError):
        return None
    return found if found.dtype.kind in "biufc" else None
