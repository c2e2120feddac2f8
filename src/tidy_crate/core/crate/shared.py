"""Shared storage: nothing is copied that every node sees where it is; paths are written as the nodes see them.

Only the files that must say other paths than they do now are rewritten, into the crate, which is on the share
too. What is on no share cannot be reached by a node and counts as missing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.context.project import Project
from tidy_crate.core.crate.layout import Layout, lay_out
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.model import Asset, Status, Survey
from tidy_crate.core.scene.rewriting import new_texts
from tidy_crate.core.scene.staging import StagingPlan

ON_NO_SHARE = "it is on a local drive, which no node sees"


@dataclass(frozen=True)
class Share:
    """A folder here, and the path by which the nodes see it."""

    local: Path
    node: str

    def seen_as(self, path: Path) -> PurePosixPath | None:
        """Return how a node sees a file, None for one that is not on this share."""
        if not path.is_relative_to(self.local):
            return None
        rest = path.relative_to(self.local).as_posix()
        return PurePosixPath(paths.to_slashes(self.node).rstrip("/") + ("" if rest == "." else f"/{rest}"))


def read_share(text: str) -> Share:
    """A share from `LOCAL=NODE`. Raises WrongUsage for anything else."""
    local, equals, node = text.partition("=")
    if not (equals and local and Path(local).is_dir() and paths.is_absolute(node)):
        raise WrongUsage(
            "not a share", repr(text), "write LOCAL=NODE: a folder here, and the absolute path by which nodes see it"
        )
    return Share(Path(local).absolute(), node)


def seen_by_nodes(path: Path, shares: Sequence[Share]) -> PurePosixPath | None:
    """Return how nodes see a file, by the first share that holds it."""
    return next((seen for share in shares if (seen := share.seen_as(path)) is not None), None)


def without_local(survey: Survey, shares: Sequence[Share]) -> Survey:
    """The survey as the nodes will find it: a file on no share is missing to them."""
    return survey.model_copy(update={"assets": tuple(_as_seen(asset, shares) for asset in survey.assets)})


def _as_seen(asset: Asset, shares: Sequence[Share]) -> Asset:
    if not asset.members or all(seen_by_nodes(member.path, shares) for member in asset.members):
        return asset
    let_go = asset.status is Status.LET_GO
    return asset.model_copy(
        update={
            "members": (),
            "missing_members": tuple(str(member.path) for member in asset.members),
            "status": Status.LET_GO if let_go else Status.MISSING,
            "trouble": ON_NO_SHARE,
        }
    )


def lay_out_on_share(
    survey: Survey, plan: StagingPlan, project: Project, shares: Sequence[Share], crate: Path
) -> tuple[Layout, dict[Path, PurePosixPath]]:
    """Places as in a crate for what must be rewritten, absolute ones for all that stays where it is.

    survey: as `without_local` gives it. Returns the layout, and the files that stay with the paths nodes see.
    Raises WrongUsage when the crate itself is on no share.
    """
    if seen_by_nodes(crate, shares) is None:
        raise WrongUsage("the crate is not on a share, so no node could open it", crate, "name a folder on the share")
    layout = lay_out(survey, plan, project)
    own = dict(layout.crate_paths)
    # the scene itself is staged in the crate: nothing is written beside it
    staying = {p: seen for p in own if p != survey.scene and (seen := seen_by_nodes(p, shares)) is not None}
    layout.crate_paths.update(staying)
    by_file: dict[Path, list[Asset]] = {}
    for asset in survey.assets:
        by_file.setdefault(asset.layer, []).append(asset)
    # a file that is rewritten moves into the crate, and so must every file that names it, up to the scene
    while True:
        moving = [
            path
            for path, assets in by_file.items()
            if path in staying and new_texts(assets, layout.crate_paths[path], layout.crate_paths)
        ]
        if not moving:
            break
        for path in moving:
            del staying[path]
            layout.crate_paths[path] = own[path]
    files = {path: seen for path, seen in staying.items() if path in layout.sources}
    for path in files:
        del layout.sources[path]
    return layout, files
