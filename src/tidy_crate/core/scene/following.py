"""Following what a scene names further: files that name files, through every level."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from pathlib import Path

from tidy_crate.core.asset.follow.interface import MOST_LINKS, FileLink
from tidy_crate.core.asset.follow.registry import follower_of
from tidy_crate.core.asset.resolve import Disk, Resolution, locate, resolve
from tidy_crate.core.scene.assets import asset_of
from tidy_crate.core.scene.ids import Ids, stem_of
from tidy_crate.core.scene.model import Asset
from tidy_crate.core.scene.staging import StagingPlan

FIELD = "link"


def follow(scene: Path, assets: Iterable[Asset], plan: StagingPlan, disk: Disk) -> tuple[Asset, ...]:
    """The occurrences in all files that the assets lead to. A file is read once; needed if anything needed names it."""
    found: list[Asset] = []
    ids = Ids()
    needed: dict[Path, bool] = {}
    queue: deque[Path] = deque()

    def meet(asset: Asset) -> None:
        for member in asset.members:
            if follower_of(member.path) is not None:
                if member.path not in needed:
                    queue.append(member.path)
                needed[member.path] = needed.get(member.path, False) or asset.needed

    for asset in assets:
        meet(asset)
    while queue:
        path = queue.popleft()
        for asset in _assets_in(scene, path, needed[path], plan, disk, ids):
            found.append(asset)
            meet(asset)
    return tuple(found)


def _assets_in(scene: Path, path: Path, needed: bool, plan: StagingPlan, disk: Disk, ids: Ids) -> list[Asset]:
    follower = follower_of(path)
    assert follower is not None
    stem = stem_of(scene, path)
    try:
        links = follower.links(path)
        if len(links) > MOST_LINKS:
            raise ValueError(f"it names more than {MOST_LINKS} files")
    except (ValueError, OSError) as error:
        reason = str(error) if isinstance(error, ValueError) else (error.strerror or str(error)).lower()
        return [_unread(path, reason, needed, plan, disk, ids.of(stem, "unread"))]
    return [_asset(path, link, needed, plan, disk, ids.of(stem, link.where, link.text)) for link in links]


def _asset(path: Path, link: FileLink, needed: bool, plan: StagingPlan, disk: Disk, name: str) -> Asset:
    value, relinked = plan.value(name, link.text, link.text)
    return asset_of(
        name,
        _resolved(value, path, link, disk),
        plan,
        authored=link.text,
        value=value,
        layer=path,
        owner=link.where,
        field=FIELD,
        kind=link.kind,
        needed=needed,
        because=f"named by {path.name}" if needed else f"only {path.name} names it",
        relinked=relinked,
    )


def _resolved(value: str, path: Path, link: FileLink, disk: Disk) -> Resolution:
    """Along the link's own search path where it has one, else from the folder of the file that names it."""
    folders = [found for text in link.search if (found := locate(text, path.parent)) is not None] or [path.parent]
    tried = [resolve(value, folder, disk) for folder in folders]
    return next((one for one in tried if one.members), tried[0])


def _unread(path: Path, reason: str, needed: bool, plan: StagingPlan, disk: Disk, name: str) -> Asset:
    """A file that is there but cannot be read as what it should be: what it names is unseen."""
    return asset_of(
        name,
        resolve(path.name, path.parent, disk),
        plan,
        authored=path.name,
        value=path.name,
        layer=path,
        owner="the whole file",
        field=FIELD,
        kind="file",
        needed=needed,
        because="what it names is unseen",
        relinked=False,
        unread=reason,
    )
