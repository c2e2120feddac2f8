"""Cache records: what a cache holds and what it was computed from, kept beside the cache."""

from __future__ import annotations

import re
from pathlib import Path

from tidy_crate.core.files import inside, read_json, write_json
from tidy_crate.core.model import Model, validated
from tidy_crate.core.scene.staging import UseCache

SUFFIX = ".record.json"


class CacheFile(Model):
    """A file that a cache's layer needs."""

    path: str
    """Relative to the cache folder, with forward slashes."""
    bytes: int
    blake3: str


class CacheRecord(Model):
    """Record of a cache, kept beside its layer."""

    simulation: str
    kind: str
    fingerprint: str
    """Digest of all inputs."""
    first: int
    """First cached frame."""
    last: int
    """Last cached frame."""
    fps: float
    """Frames per second."""
    layer: str
    bytes: int
    blake3: str
    """Digest of the layer."""
    tool: str
    per_frame: int = 1
    """Samples per frame."""
    prims: tuple[str, ...] = ()
    """Prims whose values it holds."""
    files: tuple[CacheFile, ...] = ()
    """Files that the layer needs beside it."""
    unbaked: tuple[str, ...] = ()
    """Parts of the simulation that could not be solved here, by prim."""


def cache_folder(tidy: Path) -> Path:
    """Return where a scene's caches are."""
    return tidy / "caches"


def slug(simulation: str) -> str:
    """A file name for a simulation: its path with dots."""
    return re.sub(r"[^A-Za-z0-9_.-]", "_", simulation.strip("/").replace("/", "."))[:120] or "simulation"


def write_record(folder: Path, record: CacheRecord) -> None:
    """Write the record last: a cache without one was interrupted and does not count."""
    write_json(folder / f"{slug(record.simulation)}{SUFFIX}", record.model_dump(mode="json"))


def read_records(folder: Path) -> list[CacheRecord]:
    """All records in a folder, by simulation. Raises UnreadableInput on a broken one."""
    found = [
        validated(CacheRecord, read_json(path, "cache record"), "cache record", path)
        for path in sorted(folder.glob(f"*{SUFFIX}"))
    ]
    return sorted(found, key=lambda record: record.simulation)


def cache_edits(tidy: Path) -> tuple[UseCache, ...]:
    """The caches of a scene as edits of its staging plan. One whose layer is gone makes no edit."""
    folder = cache_folder(tidy)
    if not folder.is_dir():
        return ()
    return tuple(
        UseCache(
            simulation=record.simulation,
            layer=(folder / Path(record.layer).name).absolute(),
            fingerprint=record.fingerprint,
            covers=(record.first, record.last),
            prims=record.prims,
            files={inside(folder, file.path).absolute(): file.bytes for file in record.files},
            unsolved=record.unbaked,
            because=f"baked by {record.tool}",
        )
        for record in read_records(folder)
        if (folder / Path(record.layer).name).is_file()
    )
