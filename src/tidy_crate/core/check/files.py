"""C5: files."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.check.finding import Checked, Severity, Trouble, check
from tidy_crate.core.scene.model import Asset, Status

# the longest path that every system a farm may run can open without special measures
LONGEST_PATH = 240


@check("file-missing", Severity.ERROR, "C5")
def file_missing(scene: Checked) -> Iterator[Trouble]:
    """One missing file deep down ruins every frame that shows it."""
    for asset in _missing(scene):
        if asset.needed and not asset.resolved_but_unread:
            yield Trouble(_name(asset), f"{asset.trouble} ({asset.because})", "relink it, or let it go with a reason")


@check("file-missing-unused", Severity.NOTE, "C5")
def file_missing_unused(scene: Checked) -> Iterator[Trouble]:
    """A missing file that these frames do not use harms nobody now, and may in the next shot."""
    for asset in _missing(scene):
        if not asset.needed:
            yield Trouble(_name(asset), f"{asset.trouble}, but {asset.because}", "nothing to do for this render")


@check("file-let-go", Severity.WARNING, "C5")
def file_let_go(scene: Checked) -> Iterator[Trouble]:
    """What was let go is missing in the picture all the same."""
    for asset in scene.survey.assets:
        if asset.status is Status.LET_GO and asset.needed:
            yield Trouble(_name(asset), f"let go because {asset.because}", "fine if that still holds")


@check("layer-unread", Severity.ERROR, "C5")
def layer_unread(scene: Checked) -> Iterator[Trouble]:
    """What a broken layer holds is missing from the picture, and what it names from the crate."""
    for asset in scene.survey.assets:
        if asset.needed and asset.resolved_but_unread:
            yield Trouble(_name(asset), asset.trouble or "it cannot be read", "save it again from its source")


@check("file-absolute-path", Severity.NOTE, "C5")
def file_absolute_path(scene: Checked) -> Iterator[Trouble]:
    """An absolute path holds on one machine only. In the crate it becomes relative, in the scene it stays a trap."""
    for asset in scene.found.assets:
        if asset.needed and paths.is_absolute(asset.value):
            yield Trouble(_name(asset), "the path is absolute", "collect makes it relative in the crate")


@check("file-outside-project", Severity.NOTE, "C5")
def file_outside_project(scene: Checked) -> Iterator[Trouble]:
    """A file outside the project is backed up, versioned and moved by somebody else."""
    if scene.root is None:
        return
    for asset in scene.survey.assets:
        if asset.needed and asset.members and not asset.members[0].path.is_relative_to(scene.root):
            yield Trouble(
                _name(asset), f"it lies in {asset.members[0].path.parent}", "collect copies it into the crate"
            )


@check("file-other-case", Severity.WARNING, "C5")
def file_other_case(scene: Checked) -> Iterator[Trouble]:
    """A name written in another case than on disk is found on some systems and missing on others."""
    disk = Disk()
    for asset in scene.survey.assets:
        for member in asset.members[:1]:
            if asset.resolved == member.path and not _same_case(member.path, disk):
                yield Trouble(_name(asset), "the name on disk differs in case", "write it as it is on disk")


@check("file-empty", Severity.ERROR, "C5")
def file_empty(scene: Checked) -> Iterator[Trouble]:
    """An empty file is what a copy that failed leaves behind."""
    for asset in scene.survey.assets:
        empty = [member.path.name for member in asset.members if member.bytes == 0]
        if asset.needed and empty:
            yield Trouble(_name(asset), f"{empty[0]} is empty", "restore it from its source")


@check("file-name-not-portable", Severity.WARNING, "C5")
def file_name_not_portable(scene: Checked) -> Iterator[Trouble]:
    """A name that another system does not take is lost between the artist's machine and the node."""
    for name, asset in _names(scene):
        troubles = paths.name_troubles(name)
        if troubles:
            yield Trouble(_name(asset), f"{name!r} {' and '.join(troubles)}", "rename it")


@check("file-path-long", Severity.WARNING, "C5")
def file_path_long(scene: Checked) -> Iterator[Trouble]:
    """A path too long for a node's system cannot be opened there."""
    for asset in scene.survey.assets:
        for member in asset.members[:1]:
            path = member.path
            if scene.root is not None and path.is_relative_to(scene.root):
                path = path.relative_to(scene.root)
            if len(str(path)) > LONGEST_PATH:
                yield Trouble(_name(asset)[:80], f"the path is {len(str(path))} characters long", "shorten it")


@check("scene-newer-beside", Severity.WARNING, "R12")
def scene_newer_beside(scene: Checked) -> Iterator[Trouble]:
    """An older version is sent by mistake more often than on purpose."""
    path = scene.survey.scene
    version = paths.version_of(path.stem)
    if version is None or scene.is_crate:
        return
    stem, number = paths.without_version(path.stem), int(version[1:])
    newest, name = number, ""
    for other in Disk().names(path.parent):
        candidate = Path(other)
        token = paths.version_of(candidate.stem)
        same = paths.without_version(candidate.stem) == stem and candidate.suffix == path.suffix
        if token and same and int(token[1:]) > newest:
            newest, name = int(token[1:]), other
    if name:
        yield Trouble(path.name, f"{name} lies beside it", "send the newer one, or waive")


def _missing(scene: Checked) -> list[Asset]:
    return [asset for asset in scene.survey.assets if asset.status in (Status.MISSING, Status.PARTIAL)]


def _name(asset: Asset) -> str:
    return asset.authored


def _names(scene: Checked) -> Iterator[tuple[str, Asset]]:
    """Every file and folder name on the way from the project's root, once each."""
    seen = set()
    for asset in scene.survey.assets:
        for member in asset.members:
            path = member.path
            if scene.root is not None and path.is_relative_to(scene.root):
                path = path.relative_to(scene.root)
            else:
                path = Path(path.name)
            for part in path.parts:
                if part not in seen:
                    seen.add(part)
                    yield part, asset


def _same_case(path: Path, disk: Disk) -> bool:
    names = disk.names(path.parent)
    return not names or path.name in names
