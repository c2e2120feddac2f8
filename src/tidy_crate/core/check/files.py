"""C5: files, by what the scene says of them and where they are."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.paths import Dialect
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.context.outside import Reason, gather
from tidy_crate.core.scene.following import FIELD
from tidy_crate.core.scene.model import Asset, Status, Why

# pictures made from others to be read faster, and what they are made from
MADE_FOR_SPEED = (".tx", ".dds", ".ktx", ".ktx2")
PICTURE_SOURCES = (".exr", ".tif", ".tiff", ".png", ".jpg", ".jpeg", ".hdr", ".psd", ".tga", ".svg")
_AUTOSAVE = re.compile(r"auto[-_ ]?save|recover", re.IGNORECASE)


@check("file-missing", Severity.ERROR, "C5", Next.RELINK)
def file_missing(scene: Checked) -> Iterator[Trouble]:
    """A missing file ruins every frame that shows it."""
    for asset in _missing(scene):
        if asset.needed and not asset.resolved_but_unread:
            unfilled = paths.variables(asset.authored)
            how = f"relink --map '{unfilled[0]}=FOLDER'" if unfilled else "relink it, or let it go with a reason"
            yield Trouble(_name(asset), f"{asset.trouble} ({asset.because})", how)


@check("file-missing-unused", Severity.NOTE, "C5", Next.NOTHING)
def file_missing_unused(scene: Checked) -> Iterator[Trouble]:
    """These frames do not use the missing file. The next shot may."""
    for asset in _missing(scene):
        if not asset.needed:
            yield Trouble(_name(asset), f"{asset.trouble}, but {asset.because}", "nothing to do for this render")


@check("file-let-go", Severity.WARNING, "C5", Next.DECIDE)
def file_let_go(scene: Checked) -> Iterator[Trouble]:
    """The file was waived as missing: it is still missing in the picture."""
    for asset in scene.survey.assets:
        if asset.status is Status.LET_GO and asset.needed:
            yield Trouble(_name(asset), f"let go because {asset.because}", "fine if that still holds")


@check("layer-unread", Severity.ERROR, "C5")
def layer_unread(scene: Checked) -> Iterator[Trouble]:
    """The layer is damaged: what it holds is missing in the picture, and its files are missing in the crate."""
    for asset in scene.survey.assets:
        if asset.needed and asset.resolved_but_unread:
            yield Trouble(
                _name(asset), asset.trouble or "it cannot be read", "save it again from the program it is from"
            )
    for one in scene.survey.unread:
        if one.path == scene.survey.scene and one.why is Why.BROKEN:
            yield Trouble(one.path.name, one.detail, "save it again from its source")


@check("layer-unseen", Severity.WARNING, "C5", Next.DECIDE)
def layer_unseen(scene: Checked) -> Iterator[Trouble]:
    """No reader for this file is installed here: what it brings into the scene is not seen, checked or compared."""
    followed = {asset.layer for asset in scene.survey.assets if asset.field == FIELD}
    for one in scene.survey.unread:
        if one.why is Why.NO_READER:
            known = one.path in followed
            files = "the files that it names are known and travel" if known else "the files that it names are unknown"
            yield Trouble(
                one.path.name,
                f"USD has no reader for this format here, so that what it holds is unseen; {files}",
                "make sure the nodes have its reader" if known else "name its files in the scene as well",
            )


@check("file-named-by-text", Severity.WARNING, "C5", Next.DECIDE)
def file_named_by_text(scene: Checked) -> Iterator[Trouble]:
    """The attribute is plain text that happens to be the name of a file that is there. Plain text is not collected."""
    for where, text in scene.survey.text_files.items():
        name = where.rpartition(".")[2]
        how = f"declare it in a settings map of the project: files = [{name!r}]".replace("'", '"')
        yield Trouble(where, f"{text} is there and stays behind: nothing says that this text names a file", how)


@check("file-absolute-path", Severity.NOTE, "C5", Next.NOTHING)
def file_absolute_path(scene: Checked) -> Iterator[Trouble]:
    """An absolute path is valid on one machine only. The crate makes it relative; the scene keeps it."""
    for asset in scene.survey.assets:
        absolute = paths.dialect(asset.value) in (Dialect.POSIX, Dialect.FILE_URL)
        if asset.needed and absolute and not asset.relinked and not scene.is_crate:
            yield Trouble(_name(asset), "the path is absolute", "collect makes it relative in the crate")


@check("file-on-drive", Severity.NOTE, "C5", Next.NOTHING)
def file_on_drive(scene: Checked) -> Iterator[Trouble]:
    """A drive letter names a disk on one machine. On another machine it is another disk, or none."""
    for asset in scene.survey.assets if not scene.is_crate else ():
        if asset.needed and not asset.relinked and paths.dialect(asset.value) in (Dialect.DRIVE, Dialect.SHARE):
            yield Trouble(_name(asset), "it is named by a drive or share", "collect makes it relative in the crate")


@check("file-from-web", Severity.ERROR, "C5")
def file_from_web(scene: Checked) -> Iterator[Trouble]:
    """Most nodes have no access to the web, and the file at the address may change before the frames render."""
    for asset in scene.survey.assets:
        if asset.needed and paths.dialect(asset.value) is Dialect.URL:
            yield Trouble(_name(asset), "it is named by a web address", "save it to disk and name that")


@check("file-by-identifier", Severity.ERROR, "C5", Next.RELINK)
def file_by_identifier(scene: Checked) -> Iterator[Trouble]:
    """The path is an identifier for a studio's asset resolver. The nodes of a farm do not have it."""
    for asset in scene.survey.assets:
        # what a resolver says of one is told as the reason why the file is missing
        if asset.needed and paths.dialect(asset.value) is Dialect.IDENTIFIER and not asset.identifier:
            lead = asset.authored.partition(":")[0]
            yield Trouble(_name(asset), "only a studio's own resolver finds it", f"relink --map '{lead}:=FOLDER'")


@check("identifier-version-changed", Severity.WARNING, "C5", Next.DECIDE)
def identifier_version_changed(scene: Checked) -> Iterator[Trouble]:
    """The asset system has another version than the one that was last collected, or looked at first."""
    told = set()
    for asset in scene.survey.assets:
        if asset.version_before is not None and asset.identifier not in told:
            told.add(asset.identifier)
            what = f"it is version {asset.version or 'unnamed'}, and was {asset.version_before or 'unnamed'}"
            yield Trouble(asset.identifier, what, "look at the new one, then collect again")


@check("file-found-by-search-path", Severity.NOTE, "C5", Next.NOTHING)
def file_found_by_search_path(scene: Checked) -> Iterator[Trouble]:
    """The file is found by a search path only. A machine with another search path finds another file, or none."""
    for asset in scene.survey.assets:
        bare = asset.relinked and paths.dialect(asset.authored) is Dialect.SEARCH
        if asset.needed and bare and asset.members and asset.value.endswith(paths.to_slashes(asset.authored)):
            yield Trouble(_name(asset), f"found in {asset.members[0].path.parent}", "collect names it in the crate")


@check("file-outside-project", Severity.NOTE, "C5", Next.NOTHING)
def file_outside_project(scene: Checked) -> Iterator[Trouble]:
    """A file outside the project is not backed up, versioned and moved with it."""
    if scene.root is None or scene.is_crate:
        return
    for asset in scene.survey.assets:
        outside = bool(asset.members) and not scene.is_inside(asset.members[0].path)
        if asset.needed and outside and asset.members[0].path not in scene.held_paths:
            yield Trouble(_name(asset), f"it is in {asset.members[0].path.parent}", "collect copies it into the crate")


@check("file-from-outside", Severity.ERROR, "C5", Next.AGREE)
def file_from_outside(scene: Checked) -> Iterator[Trouble]:
    """The file is outside the project's folders. Files that travel are seen by the farm: you decide which folders may
    leave.
    """
    folders: dict[Path, list[str]] = {}
    for one in scene.held:
        if one.reason is Reason.OUTSIDE:
            folders.setdefault(one.real.parent, []).append(one.real.name)
    for folder, names in folders.items():
        more = f" and {len(names) - 1} more" if len(names) > 1 else ""
        yield Trouble(str(folder), f"{names[0]}{more} would leave this machine", "agree to the folder, or take it out")


@check("file-private", Severity.ERROR, "C5", Next.AGREE)
def file_private(scene: Checked) -> Iterator[Trouble]:
    """The file looks like a key or password. Anyone who runs the farm could use it."""
    for one in scene.held:
        if one.reason is Reason.PRIVATE:
            yield Trouble(scene.short(one.path), one.detail, "let it through by name, or take it out")


@check("file-of-another-kind", Severity.ERROR, "C5", Next.AGREE)
def file_of_another_kind(scene: Checked) -> Iterator[Trouble]:
    """The file is not of the kind that the scene expects. It shows nothing, and may be a private document."""
    for one in gather(one for one in scene.held if one.reason is Reason.KIND):
        many = f"{len(one.held)} files: " if len(one.held) > 1 else ""
        how = f"save it again, or agree: collect --let-through {one.path}"
        name = scene.short(one.held[0].path) if len(one.held) == 1 else scene.short(Path(one.path))
        yield Trouble(name, f"{many}{one.detail}", how)


@check("file-other-case", Severity.WARNING, "C5")
def file_other_case(scene: Checked) -> Iterator[Trouble]:
    """The path differs from the file on disk in case: it is found on some systems and missing on others."""
    there: dict[str, frozenset[str]] = {}
    for folder, name, path in scene.names:
        asset, member = scene.files[path]
        if folder not in there:
            there[folder] = scene.disk.name_set(Path(folder))
        # of a set the names come from the disk
        single = member.frame is None and member.tile is None
        if single and there[folder] and name not in there[folder]:
            other = next((one for one in there[folder] if paths.folded(one) == paths.folded(name)), None)
            if other:
                yield Trouble(_name(asset), f"on disk it is {other}", "write it as it is on disk")


@check("file-names-clash", Severity.WARNING, "C5")
def file_names_clash(scene: Checked) -> Iterator[Trouble]:
    """Two names differ only in case. Many systems treat them as one file, and one replaces the other."""
    seen: dict[tuple[str, str], str] = {}
    for folder, name, path in scene.names:
        other = seen.setdefault((folder, paths.folded(name)), name)
        if other != name:
            yield Trouble(scene.short(path), f"{other} is in the same folder", "rename one of the two")


@check("file-empty", Severity.ERROR, "C5")
def file_empty(scene: Checked) -> Iterator[Trouble]:
    """An empty file usually comes from a copy that failed."""
    for asset in scene.survey.assets:
        empty = [member.path.name for member in asset.members if member.bytes == 0]
        if asset.needed and empty:
            yield Trouble(_name(asset), f"{empty[0]} is empty", "restore it from its source")


@check("file-name-not-portable", Severity.WARNING, "C5")
def file_name_not_portable(scene: Checked) -> Iterator[Trouble]:
    """Another operating system does not allow this name: the file is lost between the artist's machine and the node."""
    for name, asset in _names(scene):
        troubles = paths.name_troubles(name)
        if troubles:
            yield Trouble(_name(asset), f"{name!r} {' and '.join(troubles)}", "rename it")


@check("file-path-long", Severity.WARNING, "C5")
def file_path_long(scene: Checked) -> Iterator[Trouble]:
    """The path is too long for the nodes' operating system: the file cannot be opened there."""
    most = scene.rules.limits.path_length
    for path, (asset, _) in scene.files.items():
        length = len(scene.short(path))
        if length > most:
            yield Trouble(_name(asset)[:80], f"the path is {length} characters long", "shorten it")


@check("file-older-than-source", Severity.WARNING, "C5", Next.DECIDE)
def file_older_than_source(scene: Checked) -> Iterator[Trouble]:
    """The source picture is newer than the file made from it: the frames show the old texture."""
    for _, name, path in scene.names:
        if not name.lower().endswith(MADE_FOR_SPEED):
            continue
        own = scene.files[path][1]
        names = scene.disk.name_set(path.parent)
        for ending in PICTURE_SOURCES:
            source = path.with_suffix(ending)
            if source.name in names:
                found = scene.disk.look(source)
                if not isinstance(found, str) and found.mtime_ns > own.mtime_ns:
                    yield Trouble(scene.short(path), f"{source.name} beside it is newer", "make it again")
                    break


@check("file-newer-version-beside", Severity.NOTE, "R12", Next.DECIDE)
def file_newer_version_beside(scene: Checked) -> Iterator[Trouble]:
    """A newer version of this file is in the same folder. The scene still uses the older one."""
    for _, name, path in scene.names:
        if not paths.VERSION_TOKEN.search(name) or path == scene.survey.scene:
            continue
        if newer := _newest_beside(scene, path):
            yield Trouble(scene.short(path), f"{newer} is in the same folder", "fine if the older one is meant")


@check("scene-newer-beside", Severity.WARNING, "R12", Next.DECIDE)
def scene_newer_beside(scene: Checked) -> Iterator[Trouble]:
    """A newer version of the scene is in the same folder. Sending an older one is usually a mistake."""
    path = scene.survey.scene
    if not scene.is_crate and (newer := _newest_beside(scene, path)):
        yield Trouble(path.name, f"{newer} is in the same folder", "send the newer one, or waive")


@check("scene-autosave-newer", Severity.WARNING, "R12", Next.DECIDE)
def scene_autosave_newer(scene: Checked) -> Iterator[Trouble]:
    """An autosave is newer than the scene: the artist's last changes would be missing."""
    path = scene.survey.scene
    own = scene.disk.look(path)
    if scene.is_crate or isinstance(own, str):
        return
    stem = path.name.partition(".")[0]
    folders = [path.parent, *(path.parent / name for name in scene.disk.names(path.parent) if _AUTOSAVE.search(name))]
    for folder in folders:
        for name in scene.disk.names(folder):
            looks_so = _AUTOSAVE.search(name) or name.endswith("~") or folder != path.parent
            if name.lstrip(".").startswith(stem) and name != path.name and looks_so:
                found = scene.disk.look(folder / name)
                if not isinstance(found, str) and found.mtime_ns > own.mtime_ns:
                    yield Trouble(path.name, f"{name} was saved by itself since", "open it and save, or waive")


@check("scene-changed-since-collect", Severity.WARNING, "C12", Next.COLLECT)
def scene_changed_since_collect(scene: Checked) -> Iterator[Trouble]:
    """The scene was saved after the crate was made: the farm would render the old state."""
    if scene.changed:
        first = scene.changed[0].name
        more = f" and {len(scene.changed) - 1} more" if len(scene.changed) > 1 else ""
        yield Trouble(first + more, "saved or removed since it was collected", "collect again")


def _missing(scene: Checked) -> list[Asset]:
    return [asset for asset in scene.survey.assets if asset.status in (Status.MISSING, Status.PARTIAL)]


def _name(asset: Asset) -> str:
    return asset.authored


def _names(scene: Checked) -> Iterator[tuple[str, Asset]]:
    """Every file and folder name on the way from the project's root, once each."""
    folders: set[str] = set()
    seen: set[str] = set()
    for folder, name, path in scene.names:
        parts: tuple[str, ...] = (name,)
        asset = scene.files[path][0]
        if folder not in folders:
            folders.add(folder)
            if scene.root is not None and scene.is_inside(path):
                parts = path.relative_to(scene.root).parts
        for part in parts:
            if part not in seen:
                seen.add(part)
                yield part, asset


def _newest_beside(scene: Checked, path: Path) -> str | None:
    """A file beside it that is the same but of a later version."""
    version = paths.version_of(path.stem)
    if version is None:
        return None
    stem, newest, name = paths.without_version(path.stem), int(version[1:]), None
    for other in scene.disk.names(path.parent):
        candidate = Path(other)
        token = paths.version_of(candidate.stem)
        same = candidate.suffix == path.suffix and paths.without_version(candidate.stem) == stem
        if token and same and int(token[1:]) > newest:
            newest, name = int(token[1:]), other
    return name
