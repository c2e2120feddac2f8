"""Record of copied files, so that unchanged ones are not read again.

Kept with the scene, not in the crate.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from tidy_crate.core.asset.search import Content
from tidy_crate.core.crate.system import THIS, System
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import MOST_LIST, file_mark, hash_file, path_of, read_json, text_of, write_json

FOLDER = "collected"
# a collect that is killed copies at most so many seconds' work again
SECONDS_BETWEEN_SAVES = 5.0
_CLOCK_SLACK = 30.0


@dataclass(frozen=True)
class _Entry:
    """source, target: with their marks (size, time, inode) when the copy was made."""

    source: str
    source_mark: str
    target_mark: str
    blake3: str


@dataclass
class CollectCache:
    """The copies in one crate, by target."""

    path: Path
    entries: dict[str, _Entry]
    doubtful: bool = False
    """True if it was kept in the middle of collecting and the machine has restarted since.

    After a power cut a copy may look complete and not be, so each is read once more before it counts.
    """
    composed_by: str = ""
    """The library that composed the scene for the packing list; see SceneFormat.reader."""
    system: System = THIS
    _saved: float = field(default_factory=time.monotonic)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _looked_at: dict[str, bool] = field(default_factory=dict)
    _marks: dict[str, str] = field(default_factory=dict)
    _sources: dict[str, str] | None = None

    @classmethod
    def load(cls, tidy: Path, crate: Path, system: System = THIS) -> CollectCache:
        """The cache of a crate; an empty one when there is none or it is broken."""
        return cls._read(tidy / FOLDER / f"{crate.name}.json", system)

    @classmethod
    def _read(cls, path: Path, system: System = THIS) -> CollectCache:
        try:
            found = read_json(path, "cache of what was collected", MOST_LIST)
            entries = {str(target): _Entry(*map(str, entry)) for target, entry in found["entries"].items()}
            doubtful = not found["finished"] and abs(float(found["started"]) - system.started()) > _CLOCK_SLACK
        except (UnreadableInput, TypeError, KeyError, ValueError, AttributeError):
            return cls(path, {}, system=system)
        return cls(path, entries, doubtful, str(found.get("composed_by", "")), system)

    def known(self, source: Path, target: Path) -> Content | None:
        """Return a file that was copied before, if neither it nor its copy has been touched since.

        It is looked at once. What touches it later is found when collecting ends.
        """
        name = text_of(target)
        entry = self.entries.get(name)
        if entry is None or entry.source != text_of(source):
            return None
        if name not in self._looked_at:
            self._looked_at[name] = self._is_same(entry, source, target)
        return Content(int(entry.source_mark.partition(":")[0]), entry.blake3) if self._looked_at[name] else None

    def _is_same(self, entry: _Entry, source: Path, target: Path) -> bool:
        try:
            if entry.source_mark != self._mark(source) or entry.target_mark != file_mark(target):
                return False
            return not self.doubtful or hash_file(target) == entry.blake3
        except OSError:
            return False

    def _mark(self, source: Path) -> str:
        """Return the mark of a source, which is asked for more than once. Raises OSError."""
        name = text_of(source)
        if name not in self._marks:
            self._marks[name] = file_mark(source)
        return self._marks[name]

    def brought_before(self, source: Path) -> bool:
        """Return whether a file was in this crate before, and has not changed since."""
        if self._sources is None:
            self._sources = {entry.source: entry.source_mark for entry in self.entries.values()}
        mark = self._sources.get(text_of(source))
        try:
            return mark is not None and mark == self._mark(source)
        except OSError:
            return False

    def remember(self, source: Path, target: Path, digest: str) -> None:
        """Note a copy that was just made."""
        entry = _Entry(text_of(source), file_mark(source), file_mark(target), digest)
        name = text_of(target)
        with self._lock:
            self.entries[name] = entry
            self._looked_at[name] = True

    def save_now_and_then(self) -> None:
        """Save what is known so far, not more often than every few seconds."""
        if time.monotonic() - self._saved > SECONDS_BETWEEN_SAVES:
            self.save(finished=False)

    def save(self, *, finished: bool) -> None:
        """Write the cache down."""
        with self._lock:
            entries = {target: list(vars(entry).values()) for target, entry in self.entries.items()}
        state = {"finished": finished, "started": self.system.started(), "composed_by": self.composed_by}
        write_json(self.path, {**state, "entries": entries})
        self._saved = time.monotonic()


def collected_contents(tidy: Path) -> dict[Path, Content]:
    """Return what the scene's files held when they were last collected, by the path they had then."""
    found: dict[Path, Content] = {}
    for path in sorted((tidy / FOLDER).glob("*.json")):
        for entry in CollectCache._read(path).entries.values():
            size = entry.source_mark.partition(":")[0]
            if size.isdigit():
                found[Path(path_of(entry.source))] = Content(int(size), entry.blake3)
    return found
