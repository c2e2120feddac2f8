"""Finding what went missing, and recording which file takes its place."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.search import SURE, Content, FolderIndex, straight
from tidy_crate.core.context.candidates import WHOLE_FOLDER, Evidence, candidates_of, moved
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Asset, Status, Survey


class Proposal(Model):
    """A candidate for a missing file."""

    asset: str
    authored: str
    needed: bool
    candidate: Path
    reason: str
    confidence: float
    sure: bool
    """True if it may be taken without asking."""
    moved: tuple[str, str] | None = None
    """The leading folders in which the two paths differ, old and new, where the rest is equal."""


def propose(
    survey: Survey,
    look_in: Sequence[Path],
    maps: Sequence[tuple[str, str]],
    known: Mapping[Path, Content] | None = None,
) -> tuple[Proposal, ...]:
    """Candidates for everything missing, best first for each asset.

    look_in: folders to search. maps: pairs of an old prefix and what takes its place. known: what files held when
    they were last collected, by the path they had then.
    Raises UnreadableInput when a folder to search does not exist.
    """
    for folder in look_in:
        if not folder.is_dir():
            raise UnreadableInput("there is no such folder to look in", folder, "check the path")
    index = FolderIndex([straight(folder) for folder in look_in], survey.tokens)
    lacking = missing(survey)
    by_asset = candidates_of(lacking, Evidence(survey, index, maps, known or {}))
    found = []
    for asset in lacking:
        for rank, candidate in enumerate(by_asset[asset.id]):
            found.append(
                Proposal(
                    asset=asset.id,
                    authored=asset.authored,
                    needed=asset.needed,
                    candidate=candidate.path,
                    reason=candidate.reason,
                    confidence=candidate.confidence,
                    sure=rank == 0 and candidate.confidence >= SURE,
                    moved=moved(asset, candidate.path),
                )
            )
    return tuple(found)


def missing(survey: Survey) -> list[Asset]:
    """The occurrences that lack files and were not let go."""
    return [asset for asset in survey.assets if asset.status in (Status.MISSING, Status.PARTIAL)]


def apply_relinks(
    context: SceneContext, proposals: Iterable[Proposal], survey: Survey | None = None, by: str = ""
) -> tuple[Proposal, ...]:
    """Write the sure proposals into the decisions. Returns those written.

    survey: of the scene; with it, files that moved with their folder are decided as one. by: who decides, for the
    record, where it is no person.
    """
    more = f" ({by})" if by else ""
    proposals = tuple(proposals)
    taken = [proposal for proposal in proposals if proposal.sure]
    if not taken:
        return ()
    folders = _whole_folders(taken, proposals, survey) if survey is not None else {}
    # a new relink takes the place of an earlier one of the same occurrence
    context.file.drop("relink", "asset", {proposal.asset for proposal in taken})
    context.file.drop("relink", "folder", {old for old, _ in folders})
    entries: list[dict[str, str]] = [
        {"folder": old, "to": written_path(Path(new), context), "because": f"{len(ids)} files moved with it{more}"}
        for (old, new), ids in folders.items()
    ]
    single = {proposal.asset for proposal in taken} - {asset for ids in folders.values() for asset in ids}
    entries += [
        {
            "asset": proposal.asset,
            "authored": proposal.authored,
            "to": written_path(proposal.candidate, context),
            "because": proposal.reason + more,
        }
        for proposal in taken
        if proposal.asset in single
    ]
    context.file.add("relink", entries)
    return tuple(taken)


def _whole_folders(
    taken: list[Proposal], proposals: Sequence[Proposal], survey: Survey
) -> dict[tuple[str, str], list[str]]:
    """The moves that several files made together.

    They touch nothing that is where it should be, and nothing that was not decided though a candidate is there.
    """
    moves: dict[tuple[str, str], list[str]] = {}
    for proposal in taken:
        # one root folder of a system stands for too much
        if proposal.moved is not None and proposal.moved[0] not in ("/", ".", ""):
            moves.setdefault(proposal.moved, []).append(proposal.asset)
    going = {proposal.asset for proposal in taken}
    staying = [asset.authored for asset in survey.assets if asset.id not in going]
    undecided = {proposal.moved for proposal in proposals if proposal.asset not in going}
    found: dict[tuple[str, str], list[str]] = {}
    for (old, new), ids in sorted(moves.items(), key=lambda item: (-len(item[1]), item[0])):
        touches = any(paths.swap_prefix(text, old, "/") is not None for text in staying)
        # of two places for one folder the one with more files; the other files are decided one by one
        touches = touches or (old, new) in undecided
        if len(ids) >= WHOLE_FOLDER and not touches and all(old != other for other, _ in found):
            found[old, new] = ids
    return found


def written_path(path: Path, context: SceneContext) -> str:
    """Return how a decision names a file: from the scene's folder inside the project, absolute outside it."""
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
