"""Looking for files that went missing: candidates, each with the reason for it."""

from __future__ import annotations

import contextlib
import itertools
import os
import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.files import hash_file

MOST_FILES = 2_000_000
# folders above a file that are compared; places of one name that are told apart by them; copies that are read
_MOST_STEPS = 16
_MOST_ALIKE = 100
_MOST_COPIES = 20
_ENOUGH = 5


@dataclass(frozen=True)
class Candidate:
    """A file that may be the missing one."""

    path: Path
    reason: str
    confidence: float
    """From 0 to 1. From `SURE` on it may be taken without asking, if no other comes near."""
    proven: bool = False
    """True if its contents or the user, and not its name, say that it is the file."""


SURE = 0.8
IN_DOUBT = 0.5
# a name alone, and a name with folders above it that many a place has: both are asked about
NAME_ALONE = 0.6
COMMON_FOLDERS = 0.7
# folders that are called the same in every project, and so tell nothing about where a file belongs
_COMMON_NAMES = """
    asset assets cache caches common data export exports file files footage geo geometry image images img input
    library lookdev map maps mat material materials mesh meshes misc model models mtl old out output plates project
    publish render renders scene scenes shared show shows source sourceimages src tex texture textures tmp usd work
"""
_COMMON = frozenset(_COMMON_NAMES.split())
_NUMBERED = re.compile(r"(v|ver|version|take|lod)?[._-]?\d+k?", re.IGNORECASE)


@dataclass(frozen=True)
class Content:
    """Contents of a file when it was last seen: its size, and BLAKE3 in hexadecimal."""

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
    _contents: dict[Path, Content | None] = field(default_factory=dict)
    _tails: dict[str, dict[tuple[str, ...], list[Path]]] = field(default_factory=dict)

    def nearest(self, wanted: tuple[str, ...]) -> list[tuple[Path, int]]:
        """Files and sets of the last part's name, with how many parts they share, counted from the end.

        Those that share most come first. Others are left out once there are a few: a name such as `diffuse.png` has
        thousands of places, and is asked for thousands of times.
        """
        *above, name = wanted
        if name not in self._tails:
            self._tails[name] = self._by_tail(name)
        tails = self._tails[name]
        steps = tuple(paths.folded(part) for part in reversed(above))[:_MOST_STEPS]
        found: dict[Path, int] = {}
        for count in range(len(steps), -1, -1):
            # what shares less is shown beside the best, and need not be all there is
            room = _ENOUGH - len(found) if found else _MOST_ALIKE
            fresh = (path for path in tails.get(steps[:count], ()) if path not in found)
            for path in itertools.islice(fresh, room):
                found[path] = count + 1
            if len(found) >= _ENOUGH:
                break
        return list(found.items())

    def _by_tail(self, name: str) -> dict[tuple[str, ...], list[Path]]:
        hits = self.by_name(name)
        if not hits and self.tokens.find(name):
            hits = self.sets_like(name)
        tails: defaultdict[tuple[str, ...], list[Path]] = defaultdict(list)
        for path in hits:
            steps = tuple(paths.folded(part) for part in path.parts[-2 : -2 - _MOST_STEPS : -1])
            for count in range(len(steps) + 1):
                tails[steps[:count]].append(path)
        return tails

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
        """Return whether a file has that content. One of another size is not read."""
        try:
            return path.stat().st_size == known.bytes and self._content(path) == known
        except OSError:
            return False

    def all_alike(self, files: Sequence[Path]) -> bool:
        """Return whether files are copies of each other, so that it does not matter which of them is taken."""
        try:
            if len(files) > _MOST_COPIES or len({path.stat().st_size for path in files}) > 1:
                return False
        except OSError:
            return False
        first = self._content(files[0])
        return first is not None and all(self._content(path) == first for path in files)

    def _content(self, path: Path) -> Content | None:
        """Return what a file holds, read once; None for one that cannot be read."""
        if path not in self._contents:
            try:
                self._contents[path] = Content(path.stat().st_size, hash_file(path))
            except OSError:
                self._contents[path] = None
        return self._contents[path]

    def depth(self, path: Path) -> int:
        """Return how many parts a path has below the nearest of the folders."""
        return min(
            (len(path.relative_to(folder).parts) for folder in self.folders if path.is_relative_to(folder)),
            default=len(path.parts),
        )

    def members(self, pattern: Path) -> dict[int, Path]:
        """The files of a set by frame or tile, wherever the set is."""
        names = self._by_folder.get(pattern.parent) or _listed(pattern.parent)
        return {number: pattern.parent / name for name, number in self.tokens.members(pattern.name, names).items()}

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


def _listed(folder: Path) -> list[str]:
    try:
        return os.listdir(folder)  # noqa: PTH208 - names only
    except OSError:
        return []


def straight(path: Path) -> Path:
    """An absolute path without `..`, wherever that names the same: behind a link to a folder it may not."""
    short = Path(os.path.normpath(path.absolute()))
    with contextlib.suppress(OSError):
        if ".." not in path.parts or short.parent.samefile(path.parent):
            return short
    return path.absolute()


def mapped(text: str, maps: Iterable[tuple[str, str]], tokens: FrameTokens = STANDARD) -> list[Candidate]:
    """Candidates by prefix mapping: an old drive or root to a new one. Only files that exist."""
    found = []
    for old, new in maps:
        swapped = paths.swap_prefix(text, old, new)
        if swapped is None:
            continue
        path = Path(swapped)
        if _is_there(path, tokens):
            found.append(Candidate(path, f"the prefix {old} is mapped", 0.99, proven=True))
        else:
            reason = f"the prefix {old} is mapped, and the rest is there in another case"
            alike = _in_any_case(Path(paths.to_slashes(new)), paths.parts(swapped)[len(paths.parts(new)) :], tokens)
            sure = COMMON_FOLDERS if len(alike) == 1 else IN_DOUBT
            found += [Candidate(path, reason, sure) for path in alike]
    return found


def _is_there(path: Path, tokens: FrameTokens) -> bool:
    return path.is_file() or bool(tokens.find(path.name) and tokens.members(path.name, _listed(path.parent)))


def _in_any_case(folder: Path, steps: Sequence[str], tokens: FrameTokens) -> list[Path]:
    """Return the files below a folder whose parts are those steps but for their case; at most `_ENOUGH`."""
    if not steps:
        return []
    folders = [folder]
    for step in steps[:-1]:
        folders = [at / name for at in folders for name in _listed(at) if paths.folded(name) == paths.folded(step)]
    name = steps[-1]
    found = [at / own for at in folders for own in _listed(at) if paths.folded(own) == paths.folded(name)]
    if not found and tokens.find(name):
        found = [at / name for at in folders]
    return [path for path in found if _is_there(path, tokens)][:_ENOUGH]


def by_name(text: str, index: FolderIndex) -> list[Candidate]:
    """Candidates of the same name, best first: the more of the folders above agree, the surer.

    A name alone is no proof: `diffuse.png` is in every second folder. It takes a folder above it that is called the
    same and tells something, or a folder to look in that takes the place of an old one as a whole.
    """
    wanted = paths.parts(text)
    if not wanted:
        return []
    name = wanted[-1]
    rated = []
    for path, shared in index.nearest(wanted):
        confidence, reason = _rated(wanted, shared, index.depth(path) <= shared)
        if _one_form(path.name) != _one_form(name):
            reason, confidence = f"{reason}, in another case", min(confidence, COMMON_FOLDERS)
        elif path.name != name:
            reason = f"{reason}, in another Unicode form"
        rated.append(Candidate(path, reason, confidence))
    rated.sort(key=lambda candidate: (-candidate.confidence, str(candidate.path)))
    alike = [candidate for candidate in rated if candidate.confidence == rated[0].confidence]
    if len(alike) > 1 and not index.all_alike([candidate.path for candidate in alike]):
        # nothing tells them apart, so none of them is sure
        rated = [Candidate(c.path, f"{c.reason}, one of {len(alike)}", min(c.confidence, IN_DOUBT)) for c in rated]
    return rated


def _rated(wanted: tuple[str, ...], shared: int, from_the_top: bool) -> tuple[float, str]:
    """Return how sure a name is that shares so many parts with what is wanted, counted from its end.

    from_the_top: all that is below the folder to look in is shared, so that this folder takes the old one's place.
    """
    above = wanted[-shared:-1] if shared > 1 else ()
    if not above:
        return NAME_ALONE, "the same name alone"
    reason = f"same name and {len(above)} folder{'s' if len(above) > 1 else ''} above it"
    if not from_the_top and all(part.lower() in _COMMON or _NUMBERED.fullmatch(part) for part in above):
        return COMMON_FOLDERS, f"{reason}, of a name that many have"
    return 1 - 0.2 / shared, reason


def by_content(known: Content, index: FolderIndex) -> list[Candidate]:
    """Candidates whose content is what the missing file held when it was last seen, whatever they are called."""
    return [
        Candidate(path, "the content is the same as when it was last collected", 1.0, proven=True)
        for path in index.by_content(known)
    ]


def _one_form(name: str) -> str:
    return unicodedata.normalize("NFC", name)
