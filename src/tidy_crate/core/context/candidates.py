"""Candidates for missing files, and the confidence in each.

Each missing file is looked for on its own; then all of them are looked at together, because a folder moves as a whole
and because one file does not stand for two.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.frames import MOST_FRAMES
from tidy_crate.core.asset.head import expected, read_head
from tidy_crate.core.asset.search import (
    IN_DOUBT,
    SURE,
    Candidate,
    Content,
    FolderIndex,
    by_content,
    by_name,
    mapped,
    straight,
)
from tidy_crate.core.scene.model import Asset, Survey

# as many files of one folder that are all found in another one are a folder that moved, and no chance
WHOLE_FOLDER = 3
MOST = 5
# how sure a file is that is in its place but for the case of a name
IN_PLACE = 0.95


@dataclass(frozen=True)
class Evidence:
    """Everything that candidates are judged by."""

    survey: Survey
    index: FolderIndex
    """The folders to search."""
    maps: Sequence[tuple[str, str]]
    """Pairs of an old prefix and its replacement."""
    known: Mapping[Path, Content]
    """Digests of files when they were last collected, by the path they had then."""

    @cached_property
    def known_by_folder(self) -> dict[Path, dict[str, Content]]:
        """The same, by folder and name."""
        found: defaultdict[Path, dict[str, Content]] = defaultdict(dict)
        for path, content in self.known.items():
            found[path.parent][path.name] = content
        return found


def candidates_of(lacking: Sequence[Asset], evidence: Evidence) -> dict[str, list[Candidate]]:
    """Candidates for missing files by asset id, best first.

    At most `MOST` of each, and only the first may be sure. Where one file answers to several missing ones, it is sure
    for one of them at most.
    """
    found = {asset.id: _of_one(asset, evidence) for asset in lacking}
    moves = _Moves.of(lacking, found, evidence.survey)
    found = {asset.id: _without_doubtful(asset, moves.ranked(asset, found[asset.id]), evidence) for asset in lacking}
    return _one_for_one(lacking, found)


def _of_one(asset: Asset, evidence: Evidence) -> list[Candidate]:
    best: dict[Path, Candidate] = {}
    tokens = evidence.index.tokens
    texts = (asset.value, str(asset.resolved) if asset.resolved else asset.value)
    was = evidence.known.get(asset.resolved) if asset.resolved is not None else None
    found = [c for text in texts for c in mapped(text, evidence.maps, tokens)]
    # where it would be says more than how it is written; an earlier decision that led nowhere must not hide the scene
    for text in dict.fromkeys((*texts, asset.authored)):
        found += by_name(text, evidence.index)
    found += by_content(was, evidence.index) if was is not None else []
    found = _in_place(asset, found)
    for candidate in found:
        candidate = replace(candidate, path=straight(candidate.path))
        if candidate.path not in best or best[candidate.path].confidence < candidate.confidence:
            best[candidate.path] = candidate
    return _sorted(best.values())


def _in_place(asset: Asset, found: list[Candidate]) -> list[Candidate]:
    """The same, where a file in its place, whose case alone differs, is sure: on some systems it is that file."""
    if asset.resolved is None:
        return found
    wanted = paths.folded(straight(asset.resolved).as_posix())
    there = {straight(one.path) for one in found if paths.folded(straight(one.path).as_posix()) == wanted}
    if len(there) != 1:
        return found
    reason = "the same place, in another case"
    return [*found, *(Candidate(path, reason, IN_PLACE) for path in there)]


@dataclass
class _Moves:
    """Number of missing files that each pair of folders, old and new, would explain: a folder moves as a whole."""

    explained: Counter[tuple[str, str]]
    in_use: set[Path]

    @classmethod
    def of(cls, lacking: Sequence[Asset], found: Mapping[str, list[Candidate]], survey: Survey) -> _Moves:
        files: defaultdict[tuple[str, str], set[str]] = defaultdict(set)
        for asset in lacking:
            for candidate in found[asset.id]:
                if (move := moved(asset, candidate.path)) is not None:
                    files[move].add(_file(asset))
        counts = Counter({move: len(names) for move, names in files.items()})
        return cls(counts, {member.path for asset in survey.assets for member in asset.members})

    def ranked(self, asset: Asset, candidates: list[Candidate]) -> list[Candidate]:
        """Best first. Where nothing else tells them apart, the folder that explains most of what is missing does."""
        if not candidates or candidates[0].confidence >= SURE:
            return candidates
        support = [self.explained[m] if (m := moved(asset, c.path)) is not None else 0 for c in candidates]
        best, *others = sorted(support, reverse=True)
        winner = candidates[support.index(best)]
        # a file that the scene uses as another one already is where it should be, and nothing that moved
        if best < WHOLE_FOLDER or any(other * 2 > best for other in others) or winner.path in self.in_use:
            return candidates
        reason = f"{winner.reason}; {best} missing files are in that folder"
        return [replace(winner, reason=reason, confidence=0.9), *(c for c in candidates if c is not winner)]


def moved(asset: Asset, path: Path) -> tuple[str, str] | None:
    """The leading folders that a missing file and a candidate differ in, old and new, where they share the rest."""
    return paths.heads(asset.authored, path.as_posix())


def _without_doubtful(asset: Asset, candidates: list[Candidate], evidence: Evidence) -> list[Candidate]:
    """The first few, best first, so that the first is one without doubt if there is any.

    What is not first is not looked into: it is not decided anyway, and may be a folder of many thousand files.
    """
    left, doubtful = candidates[:MOST], []
    while left:
        first, *others = left
        if (doubt := _doubt(asset, first, evidence)) is None:
            break
        reason = f"{first.reason}, but {doubt}"
        doubtful.append(Candidate(first.path, reason, min(first.confidence, IN_DOUBT)))
        left = others
    return _sorted([*left, *doubtful])


def _doubt(asset: Asset, candidate: Candidate, evidence: Evidence) -> str | None:
    """Return why a candidate is not what is missing, or not all of it."""
    path, known = candidate.path, _known_members(asset, evidence)
    is_set = bool(evidence.index.tokens.find(path.name)) and not path.is_file()
    files = evidence.index.members(path) if is_set else {0: path}
    lacks = _lacks(asset, files, known, evidence) if is_set else None
    if lacks is not None:
        return lacks
    if any(n in known and not evidence.index.holds(file, known[n]) for n, file in files.items()):
        return "it holds other content than when it was last collected"
    return _broken(files.values(), asset)


def _lacks(asset: Asset, files: Mapping[int, Path], known: Mapping[int, Content], evidence: Evidence) -> str | None:
    """Return what a set of files lacks of the tiles or frames that are needed, as far as that is known."""
    tokens = evidence.index.tokens
    name = paths.file_name(asset.value)
    wanted = set(known)
    wanted |= {
        n for member in asset.members if (n := member.tile if member.frame is None else member.frame) is not None
    }
    if tokens.has_frame(name) and evidence.survey.frames.count <= MOST_FRAMES:
        wanted |= set(evidence.survey.frames.numbers())
    there = wanted & files.keys()
    if there == wanted:
        return None
    what = "frames" if tokens.has_frame(name) else "tiles"
    return f"only {len(there)} of the {len(wanted)} {what} {min(wanted)}-{max(wanted)} are there"


def _known_members(asset: Asset, evidence: Evidence) -> dict[int, Content]:
    """Return what the files of an asset held when they were last collected, by number; 0 for a single file."""
    if asset.resolved is None or not evidence.known:
        return {}
    tokens = evidence.index.tokens
    if not tokens.find(asset.resolved.name):
        return {0: evidence.known[asset.resolved]} if asset.resolved in evidence.known else {}
    beside = evidence.known_by_folder.get(asset.resolved.parent, {})
    return {number: beside[name] for name, number in tokens.members(asset.resolved.name, beside).items()}


def _broken(files: Iterable[Path], asset: Asset) -> str | None:
    """Return what is wrong with files by their size and first bytes, for the ending that the scene names."""
    wanted = expected(paths.file_name(asset.value))
    for path in files:
        try:
            if path.stat().st_size == 0:
                return f"{path.name} is empty"
            head = read_head(str(path))
        except OSError:
            return f"{path.name} cannot be read"
        if head.placeholder is not None:
            return f"{path.name} is {head.placeholder}"
        if wanted and head.kind is not None and head.kind not in wanted:
            return f"{path.name} is {head.kind}"
    return None


def _one_for_one(lacking: Sequence[Asset], found: dict[str, list[Candidate]]) -> dict[str, list[Candidate]]:
    """The same, where a file that answers to several missing ones is sure for the one it fits best, if any."""
    claims: defaultdict[Path, list[Asset]] = defaultdict(list)
    for asset in lacking:
        first = next(iter(found[asset.id]), None)
        # what its content or the user says holds, whatever else it is taken for
        if first is not None and first.confidence >= SURE and not first.proven:
            claims[first.path].append(asset)
    for path, assets in claims.items():
        names = {_file(asset) for asset in assets}
        if len(names) == 1:
            continue
        most = max(found[asset.id][0].confidence for asset in assets)
        best = {_file(asset) for asset in assets if found[asset.id][0].confidence == most}
        for asset in assets:
            if len(best) > 1 or _file(asset) not in best:
                first, *others = found[asset.id]
                reason = f"{first.reason}, but {len(names)} different missing files would become {path.name}"
                found[asset.id] = [Candidate(first.path, reason, IN_DOUBT), *others]
    return found


def _file(asset: Asset) -> str:
    """Return what tells one missing file from another, however it is spelled."""
    return paths.folded(asset.resolved.as_posix() if asset.resolved is not None else paths.to_slashes(asset.value))


def _sorted(candidates: Iterable[Candidate]) -> list[Candidate]:
    return sorted(candidates, key=lambda candidate: (-candidate.confidence, str(candidate.path)))
