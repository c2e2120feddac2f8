"""Making an asset of an occurrence: the one place where status, trouble and decisions come together."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, Resolution, resolve
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.scene.model import Asset, AssetMember, Status
from tidy_crate.core.scene.staging import StagingPlan


def along_search_path(value: str, found: Resolution, plan: StagingPlan, disk: Disk) -> tuple[Resolution, str, bool]:
    """Look for a bare path along the plan's search path where there is nothing beside the file that names it.

    found: what is beside that file. Return what the path stands for, the path in force, and whether the search path
    made it so.
    """
    if found.members or not plan.search or paths.dialect(value) is not paths.Dialect.SEARCH:
        return found, value, False
    along = (resolve(value, folder, disk) for folder in plan.search)
    first = next((one for one in along if one.members), None)
    return (found, value, False) if first is None else (first, str(first.location), True)


def asset_of(
    name: str,
    resolution: Resolution,
    plan: StagingPlan,
    *,
    authored: str,
    value: str,
    layer: Path,
    owner: str,
    field: str,
    kind: str,
    needed: bool,
    because: str,
    relinked: bool,
    context: str = "",
    evaluated: str = "",
    within: str = "",
    leads: str = "",
    time: float | None = None,
    used_by: tuple[str, ...] = (),
    unread: str | None = None,
    plays: Mapping[Path, tuple[float, ...]] | None = None,
) -> Asset:
    """An asset as the survey shows it.

    name: the occurrence's id. unread: why a file that is there is not what it should be. plays: by file
    `AssetMember.plays`. See Asset for the rest.
    """
    resolved = plan.resolved(name) if not resolution.members or relinked else None
    trouble = unread or (resolved.trouble if resolved is not None and resolved.trouble else resolution.trouble)
    name_of_set = resolution.location.name if resolution.location is not None else ""
    tiled = STANDARD.may_have(name_of_set) and STANDARD.has_tile(name_of_set)
    status = Status.FOUND if trouble is None else Status.MISSING
    if resolution.members and resolution.absent:
        status = Status.PARTIAL
    let_go = plan.let_go(name, authored) if status is not Status.FOUND else None
    absent = resolution.absent or (str(resolution.location or value),)
    return Asset(
        id=name,
        authored=authored,
        value=value,
        layer=layer,
        owner=owner,
        field=field,
        context=context,
        evaluated=evaluated,
        within=within,
        leads=leads,
        time=time,
        used_by=used_by,
        kind=kind,
        resolved=resolution.location,
        members=tuple(
            AssetMember(
                path=member.path,
                tile=member.number if tiled else None,
                frame=None if tiled else member.number,
                plays=(plays or {}).get(member.path, ()),
                bytes=member.bytes,
                mtime_ns=member.mtime_ns,
            )
            for member in resolution.members
        ),
        missing_members=() if status is Status.FOUND else absent,
        status=Status.LET_GO if let_go else status,
        trouble=trouble,
        needed=needed,
        because=let_go.because if let_go else because,
        relinked=relinked,
        identifier=resolved.identifier if resolved is not None else "",
        version=resolved.version if resolved is not None else "",
        version_before=resolved.was if resolved is not None else None,
    )
