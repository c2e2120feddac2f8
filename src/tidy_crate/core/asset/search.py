"""Looking for files that went missing: candidates, each with the reason for it."""

from __future__ import annotations

import contextlib
import os
import unicodedata
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.files import hash_file

MOST_FILES = 2_000_000


@dataclass(frozen=True)
class Candidate:
    """A file that may be the missing one.

    confidence: from 0 to 1; at `SURE` and above it may be taken without asking, if no other comes near.
    """

    path: Path
    reason: str
    confidence: float


SURE = 0.8


@dataclass(frozen=True)
class Content:
    """What a file held when it was last seen: its size, and BLAKE3 in hexadecimal."""

    bytes: int
    blake3: str


@dataclass
class FolderIndex:
    """The files below some folders, by name in lower case. Links to folders are not followed."""

    folders: Sequence[Path]
    tokens: FrameTokens = STANDARD
    _by_name: dict[str, list[Path]] | None = None
    _by_folder: dict[Path, list[str]] = field(default_factory=dict)
    _by_size: dict[int, list[Path]] | None = None
    _hashes: dict[Path, str | None] = field(default_factory=dict)

    def by_name(self, name: str) -> list[Path]:
        """All files of that name, whatever the case and the Unicode form."""
        return self._index().get(paths.folded(name), [])

    def by_content(self, known: Content) -> list[Path]:
        """All files of that content. Only files of its size are read, and each of them once."""
        if self._by_size is None:
            self._by_size = {}
            for files in self._index().values():
                for path in files:
                    with contextlib.suppress(OSError):
                        self._by_size.setdefault(path.stat().st_size, []).append(path)
        return [path for path in self._by_size.get(known.bytes, []) if self.holds(path, known)]

    def holds(self, path: Path, known: Content) -> bool:
        """Whether a file has that content."""
        if path not in self._hashes:
            try:
                self._hashes[path] = hash_file(path) if path.stat().st_size == known.bytes else None
            except OSError:
                self._hashes[path] = None
        return self._hashes[path] == known.blake3

    def sets_like(self, pattern: str) -> list[Path]:
        """Patterns (folder and `pattern`) that at least one file belongs to."""
        self._index()
        return [folder / pattern for folder, names in self._by_folder.items() if self.tokens.members(pattern, names)]

    def _index(self) -> dict[str, list[Path]]:
        if self._by_name is None:
            found: defaultdict[str, list[Path]] = defaultdict(list)
            seen = 0
            for top in self.folders:
                for folder, folders, names in os.walk(top):
                    folders.sort()
                    self._by_folder[Path(folder)] = names
                    for name in sorted(names):
                        found[paths.folded(name)].append(Path(folder, name))
                    seen += len(names)
                    if seen > MOST_FILES:
                        break
            self._by_name = dict(found)
        return self._by_name


def mapped(text: str, maps: Iterable[tuple[str, str]], tokens: FrameTokens = STANDARD) -> list[Candidate]:
    """Candidates by prefix mapping: an old drive or root to a new one. Only files that exist."""
    found = []
    for old, new in maps:
        swapped = paths.swap_prefix(text, old, new)
        if swapped is None:
            continue
        path = Path(swapped)
        if tokens.find(path.name):
            there = path.parent.is_dir() and bool(tokens.members(path.name, os.listdir(path.parent)))  # noqa: PTH208
        else:
            there = path.is_file()
        if there:
            found.append(Candidate(path, f"the prefix {old} is mapped", 0.99))
    return found


def by_name(text: str, index: FolderIndex) -> list[Candidate]:
    """Candidates of the same name, best first: the more of the folders above agree, the surer."""
    wanted = paths.parts(text)
    if not wanted:
        return []
    name = wanted[-1]
    hits = index.sets_like(name) if index.tokens.find(name) else index.by_name(name)
    rated = []
    for path in dict.fromkeys(hits):
        shared = _shared_tail(wanted, path.parts)
        same_case = path.name == name
        confidence = 0.85 if same_case else 0.7
        confidence = min(0.98, confidence + 0.04 * max(0, shared - 1))
        reason = "same name" if same_case else "same name in another case"
        if not same_case and _one_form(path.name) == _one_form(name):
            reason, confidence = "same name in another Unicode form", confidence + 0.1
        if shared > 1:
            reason += f" and {shared - 1} folder{'s' if shared > 2 else ''} above it"
        rated.append(Candidate(path, reason, round(confidence, 2)))
    rated.sort(key=lambda candidate: (-candidate.confidence, str(candidate.path)))
    if len(rated) > 1 and rated[0].confidence == rated[1].confidence:
        # nothing tells them apart, so none of them is sure
        rated = [Candidate(c.path, f"{c.reason}, one of {len(rated)}", min(c.confidence, 0.5)) for c in rated]
    return rated


def by_content(known: Content, index: FolderIndex) -> list[Candidate]:
    """Candidates whose content is what the missing file held when it was last seen, whatever they are called."""
    return [
        Candidate(path, "the content is the same as when it was last collected", 1.0)
        for path in index.by_content(known)
    ]


def _one_form(name: str) -> str:
    return unicodedata.normalize("NFC", name)


def _shared_tail(wanted: tuple[str, ...], found: tuple[str, ...]) -> int:
    count = 0
    for a, b in zip(reversed(wanted), reversed(found), strict=False):
        if a.lower() != b.lower():
            break
        count += 1
    return count
