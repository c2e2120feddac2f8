"""Finding what went missing, and recording which file takes its place."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from tidy_crate.core.asset.search import SURE, Candidate, FolderIndex, by_name, mapped
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.model import Asset, Status, Survey

MOST_CANDIDATES = 5


class Proposal(Model):
    """A candidate for a missing file. sure: it may be taken without asking."""

    asset: str
    authored: str
    needed: bool
    candidate: Path
    reason: str
    confidence: float
    sure: bool


def propose(survey: Survey, look_in: Sequence[Path], maps: Sequence[tuple[str, str]]) -> tuple[Proposal, ...]:
    """Candidates for everything missing, best first for each asset.

    look_in: folders to search. maps: pairs of an old prefix and what takes its place.
    Raises UnreadableInput when a folder to search does not exist.
    """
    for folder in look_in:
        if not folder.is_dir():
            raise UnreadableInput("there is no such folder to look in", folder, "check the path")
    index = FolderIndex([folder.absolute() for folder in look_in])
    found = []
    for asset in missing(survey):
        candidates = _candidates(asset, index, maps)
        for rank, candidate in enumerate(candidates[:MOST_CANDIDATES]):
            found.append(
                Proposal(
                    asset=asset.id,
                    authored=asset.authored,
                    needed=asset.needed,
                    candidate=candidate.path.absolute(),
                    reason=candidate.reason,
                    confidence=candidate.confidence,
                    sure=rank == 0 and candidate.confidence >= SURE,
                )
            )
    return tuple(found)


def missing(survey: Survey) -> list[Asset]:
    """The occurrences that lack files and were not let go."""
    return [asset for asset in survey.assets if asset.status in (Status.MISSING, Status.PARTIAL)]


def _candidates(asset: Asset, index: FolderIndex, maps: Iterable[tuple[str, str]]) -> list[Candidate]:
    best: dict[Path, Candidate] = {}
    texts = (asset.value, str(asset.resolved) if asset.resolved else asset.value)
    for candidate in (*(c for text in texts for c in mapped(text, maps)), *by_name(asset.value, index)):
        path = candidate.path.absolute()
        if path not in best or best[path].confidence < candidate.confidence:
            best[path] = candidate
    return sorted(best.values(), key=lambda candidate: (-candidate.confidence, str(candidate.path)))


def apply_relinks(context: SceneContext, proposals: Iterable[Proposal]) -> tuple[Proposal, ...]:
    """Write the sure proposals into the decisions. Returns those written."""
    taken = [proposal for proposal in proposals if proposal.sure]
    if not taken:
        return ()
    # a new relink takes the place of an earlier one of the same occurrence
    context.file.drop("relink", "asset", {proposal.asset for proposal in taken})
    context.file.add(
        "relink",
        [
            {
                "asset": proposal.asset,
                "authored": proposal.authored,
                "to": written_path(proposal.candidate, context),
                "because": proposal.reason,
            }
            for proposal in taken
        ],
    )
    return tuple(taken)


def written_path(path: Path, context: SceneContext) -> str:
    """How a decision names a file: from the scene's folder inside the project, absolute outside it."""
    root = context.project.root or context.scene.parent
    if path.is_relative_to(root):
        return Path(os.path.relpath(path, context.scene.parent)).as_posix()
    return path.as_posix()


def let_go(context: SceneContext, survey: Survey, asset: str, because: str) -> Asset:
    """Record that a missing file is done without. `asset`: an id, or the path as written.

    Raises WrongUsage when nothing missing answers to that.
    """
    found = next((one for one in missing(survey) if asset in (one.id, one.authored)), None)
    if found is None:
        raise WrongUsage("nothing missing has that id or path", asset, "the survey lists what is missing")
    context.file.add("let_go", [{"asset": found.id, "authored": found.authored, "because": because}])
    return found
