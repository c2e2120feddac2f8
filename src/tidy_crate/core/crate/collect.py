"""Collecting: the staged scene and every file it names, copied into one folder, each source read once."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path, PurePosixPath

from tidy_crate import __version__
from tidy_crate.core.asset import paths
from tidy_crate.core.asset.follow.registry import follower_of
from tidy_crate.core.asset.paths import relative, scene_stem, without_version
from tidy_crate.core.context.identifiers import changed_since, write_versions
from tidy_crate.core.context.outside import HeldBack, border_of
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect_cache import CollectCache
from tidy_crate.core.crate.composed import composition_of_source
from tidy_crate.core.crate.copying import Copier, Way
from tidy_crate.core.crate.layout import Layout, lay_out
from tidy_crate.core.crate.origin import note_origin, scene_of
from tidy_crate.core.crate.packing import (
    UNFINISHED,
    EditNote,
    IdentifierNote,
    MissingFile,
    PackedFile,
    PackingList,
    SharedFile,
    essentials,
    is_crate,
    last_packing_list,
    write_packing_list,
)
from tidy_crate.core.crate.shared import Share, lay_out_on_share, without_local
from tidy_crate.core.crate.system import THIS, System
from tidy_crate.core.crate.trimming import trimmed
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.files import hash_file, legible, only_one, refuse_links, remove_drafts, write_bytes, write_whole
from tidy_crate.core.handles import writable
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.scene.following import FIELD
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.model import Asset, Status, Survey
from tidy_crate.core.scene.request import request_for
from tidy_crate.core.scene.rewriting import crate_path_of, new_texts
from tidy_crate.core.scene.settings import SettingsMap, load_maps
from tidy_crate.core.scene.staging import Resolved, UseCache
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.request import RenderRequest

WORKERS = 4


class CollectResult(Model):
    """Result of collecting."""

    crate: Path
    scene: Path
    """The staged scene, as a path on disk."""
    files: int
    bytes: int
    """Size of the whole crate."""
    copied_bytes: int
    reused_bytes: int
    rewritten: tuple[str, ...]
    requests: int
    missing: tuple[MissingFile, ...]
    from_outside: tuple[str, ...] = ()
    """The sources of files from outside the project, by a root's alias."""

    @property
    def complete(self) -> bool:
        """Return whether everything needed is in it."""
        return not any(one.needed and not one.let_go for one in self.missing)


def collect(
    context: SceneContext,
    crate: Path,
    requests: tuple[RenderRequest, ...] = (),
    progress: Progress = silent,
    *,
    way: Way = Way.COPY,
    needed_frames_only: bool = False,
    shares: Sequence[Share] = (),
    origin: Path | None = None,
    system: System = THIS,
    replace: bool = False,
) -> CollectResult:
    """Build or refresh a crate. Sources are only read; files that have not changed since are not read again.

    way: how files come in. needed_frames_only: of image sequences only what the requests need travels.
    shares: with any, nothing on them is copied; see `shared`. origin: a file for what the crate was made from.
    system: the machine that it runs on. replace: whether the crate may be that of another scene, which is then lost.
    Raises WrongUsage when `crate` is a folder of something else or of another scene, or sources would be overwritten;
    HeldBack, before anything is written, when the user has not agreed that all files may leave.
    """
    crate = crate.absolute()
    with ExitStack() as held:
        if origin is not None:
            # two scenes do not write into one crate at the same time
            held.enter_context(only_one(origin.with_suffix(".lock"), "collects into this crate", crate))
        if not replace:
            _check_same_scene(crate, context.scene, origin)
        return _collect(
            context, crate, requests, progress, way, needed_frames_only, tuple(shares), origin, system, held
        )


def _collect(
    context: SceneContext,
    crate: Path,
    requests: tuple[RenderRequest, ...],
    progress: Progress,
    way: Way,
    needed_frames_only: bool,
    shares: tuple[Share, ...],
    origin: Path | None,
    system: System,
    held: ExitStack,
) -> CollectResult:
    state_of_scene = _state(context.scene)
    # what is needed is judged for what is to be rendered; for several requests by the scene's own range
    survey = context.survey(requests[0] if len(requests) == 1 else None)
    wanted = requests or _own_request(survey)
    left: dict[str, int] = {}
    if needed_frames_only and wanted:
        survey, left = trimmed(survey, wanted)
    stays: dict[Path, PurePosixPath] = {}
    if shares:
        survey = without_local(survey, shares)
        layout, stays = lay_out_on_share(survey, context.plan, context.project, shares, crate)
    else:
        layout = lay_out(survey, context.plan, context.project)
    if legible(str(crate)) != str(crate):
        what = "the path of the crate holds bytes that are not UTF-8, and not every library opens such a path"
        raise WrongUsage(what, crate, "collect into a folder whose path is plain text")
    _check_target(crate, context, layout)
    context.file.may_write()
    cache = CollectCache.load(context.tidy, crate, system)
    held_back = border_of(context, [share.local for share in shares], cache.brought_before).held(layout.sources)
    if held_back:
        raise HeldBack(context.scene, held_back)
    lock = context.tidy / "collected" / f".{crate.name[:100]}.lock"
    held.enter_context(only_one(lock, "collects into this crate", crate))
    last = _last_list(crate)
    before = {file.path for file in last.files} if last is not None else set()
    written_to = (*layout.crate_paths.values(), *map(PurePosixPath, before))
    refuse_links(crate, {crate_path.parent: None for crate_path in written_to if not crate_path.is_absolute()})
    if (crate / UNFINISHED).exists():
        remove_drafts(crate)
    with writable(crate, PurePosixPath(UNFINISHED)) as marker:
        write_bytes(marker, b"collect has not finished here; run it again\n")
    staged = context.format.apply(context.scene, context.plan, survey, layout.crate_paths, crate, context.commands)
    written = {*staged.written, *_write_followed(survey, layout, crate)}
    to_copy = dict(_to_copy(layout, staged, written))
    _check_space(crate, to_copy, cache)
    brought = Copier(crate, cache, way).bring(to_copy, progress)
    cache.save(finished=False)
    _check_unchanged(survey, state_of_scene)
    _check_identifiers(context)
    packed = [
        PackedFile(path=str(one.crate_path), bytes=one.bytes, blake3=one.blake3, source=layout.sources[one.source])
        for one in brought
    ]
    sources = {layout.crate_paths[path]: source for path, source in layout.sources.items()}
    for crate_path in sorted(written):
        path = crate / crate_path
        size, source = path.stat().st_size, sources.get(crate_path, "staging")
        packed.append(
            PackedFile(path=str(crate_path), bytes=size, blake3=hash_file(path), source=source, rewritten=True)
        )
    packed.sort(key=lambda file: file.path)
    missing = tuple(_missing(survey, layout, left))
    content = PackingList(
        tool=f"tidy-crate {__version__}",
        name=without_version(scene_stem(context.scene.name)),
        format=context.format.name,
        scene=str(staged.root),
        original=context.scene.name,
        requests=wanted,
        essentials=essentials(
            survey,
            {path: str(crate_path) for path, crate_path in layout.crate_paths.items()},
            tuple(one.path for one in missing),
        ),
        render=_render_command(context, survey),
        files=tuple(packed),
        shared=tuple(SharedFile(path=str(seen), bytes=path.stat().st_size) for path, seen in sorted(stays.items())),
        frame_tokens=context.project.content.frame_tokens,
        missing=missing,
        edits=tuple(_notes(context)),
        identifiers=tuple(_identifiers(survey, layout)),
        waived=context.decisions.waive,
        settings_maps=_own_maps(context),
        rules=context.project.rules(),
    )
    if not stays:
        reader = context.format.reader
        if last is not None and cache.composed_by == reader and _differ_in_composition_only(last, content):
            composed = last.composition
        else:
            composed = composition_of_source(context, survey, layout.crate_paths, content, crate)
        content = content.model_copy(update={"composition": composed})
        cache.composed_by = reader
    for stale in before - {file.path for file in packed}:
        with writable(crate, PurePosixPath(stale)) as gone:
            gone.unlink(missing_ok=True)
    write_packing_list(crate, content)
    cache.save(finished=True)
    if origin is not None:
        note_origin(origin, context.scene, {context.scene, *layout.sources}, context.said)
    if context.versions is not None and (resolved := context.plan.of(Resolved)):
        write_versions(context.versions, {edit.identifier: edit.version for edit in resolved})
    (crate / UNFINISHED).unlink(missing_ok=True)
    return CollectResult(
        crate=crate,
        scene=crate / staged.root,
        files=len(packed),
        bytes=content.bytes,
        copied_bytes=sum(one.bytes for one in brought if one.new),
        reused_bytes=sum(one.bytes for one in brought if not one.new),
        rewritten=tuple(sorted(map(str, written))),
        requests=len(wanted),
        missing=missing,
        from_outside=content.from_outside,
    )


def _own_maps(context: SceneContext) -> tuple[SettingsMap, ...]:
    """The project's settings maps, without those that every tool ships with."""
    shipped = load_maps()
    return tuple(one for one in context.maps if one not in shipped)


def _own_request(survey: Survey) -> tuple[RenderRequest, ...]:
    """Return what the scene itself asks to be rendered: nothing, where it lacks a range, a resolution or outputs."""
    try:
        return (request_for(survey),)
    except WrongUsage:
        return ()


def _check_target(crate: Path, context: SceneContext, layout: Layout) -> None:
    if crate.exists() and not crate.is_dir():
        raise WrongUsage("the crate would replace a file", crate, "name a new folder")
    if crate.is_dir() and not is_crate(crate) and any(crate.iterdir()):
        raise WrongUsage("this folder holds something else than a crate", crate, "name a new or an empty folder")
    inside = [path for path in layout.sources if path.is_relative_to(crate)]
    if inside or context.scene.is_relative_to(crate):
        raise WrongUsage(
            "the crate's folder holds files of the scene itself", crate, "name a folder apart from the scene"
        )


def _check_same_scene(crate: Path, scene: Path, origin: Path | None) -> None:
    """Make sure that a crate is of this scene, or of an earlier version of it. Raises WrongUsage that names both."""
    last = _last_list(crate) if crate.is_dir() else None
    if last is None:
        return
    was = scene_of(origin) if origin is not None else None
    name, before = (without_version(scene_stem(one)) for one in (scene.name, last.original or scene.name))
    # a scene that is no longer where it was has moved with its project
    elsewhere = was is not None and was.exists() and was.parent.resolve() != scene.parent.resolve()
    if paths.folded(name) != paths.folded(before) or elsewhere:
        other = str(was) if was is not None else last.original
        raise WrongUsage(
            f"this crate is of another scene ({other}), and {scene.name} would take its place",
            crate,
            "name another crate with -o, or add --replace",
        )


def _last_list(crate: Path) -> PackingList | None:
    """The packing list of an earlier crate in this folder: only the files in it are ours to remove."""
    try:
        return last_packing_list(crate)
    except UnreadableInput:
        return None


def _differ_in_composition_only(last: PackingList, content: PackingList) -> bool:
    """Return whether the same files were packed in the same way before: the scene then composes to what it did."""
    return last.composition is not None and last.model_copy(update={"composition": None}) == content


def _write_followed(survey: Survey, layout: Layout, crate: Path) -> Iterator[PurePosixPath]:
    """Write those files that name files and whose paths would not hold in the crate."""
    by_file: dict[Path, list[Asset]] = {}
    for asset in survey.assets:
        if asset.field == FIELD and asset.layer in layout.crate_paths:
            by_file.setdefault(asset.layer, []).append(asset)
    for path, assets in by_file.items():
        crate_path = layout.crate_paths[path]
        texts = new_texts(assets, crate_path, layout.crate_paths)
        follower = follower_of(path)
        if not texts or follower is None or any(asset.resolved == path for asset in assets):
            continue
        # a file that names one of its links again gets all of them from its own folder
        by_link = {
            (a.owner, a.authored): relative(crate_path_of(a, layout.crate_paths), crate_path.parent) for a in assets
        }
        with writable(crate, crate_path) as target, write_whole(target) as stream:
            follower.rewrite(path, stream, lambda link, texts=by_link: texts[(link.where, link.text)])  # type: ignore[misc]
        yield crate_path


def _to_copy(layout: Layout, staged: StagedScene, written: set[PurePosixPath]) -> Iterator[tuple[Path, PurePosixPath]]:
    yield from ((path, crate_path) for crate_path, path in staged.copied.items() if path in layout.sources)
    for path, crate_path in layout.crate_paths.items():
        if path in layout.sources and crate_path not in written and crate_path not in staged.copied:
            yield path, crate_path


def _check_unchanged(survey: Survey, scene: tuple[int, int] | None) -> None:
    """Raises UnreadableInput when a file is not what it was when the scene was surveyed."""
    before = {survey.scene: scene}
    before |= {m.path: (m.bytes, m.mtime_ns) for asset in survey.assets for m in asset.members}
    changed = [path for path, state in before.items() if _state(path) != state]
    if changed:
        raise UnreadableInput(
            f"{len(changed)} of the scene's files changed while it was collected"
            if len(changed) > 1
            else "a file changed while the scene was collected",
            changed[0],
            "wait until it is saved, then collect again",
        )


def _check_identifiers(context: SceneContext) -> None:
    """Raises UnreadableInput when an identifier stands for another file or version than when the scene was surveyed."""
    from tidy_crate.core.asset.resolvers import active

    edits = context.plan.of(Resolved)
    changed = changed_since(edits, active(), context.scene) if edits else []
    if changed:
        what = f"{changed[0]}, changed while the scene was collected"
        raise UnreadableInput(what, context.scene, "collect again, so that all of it is of one version")


def _state(path: Path) -> tuple[int, int] | None:
    try:
        found = os.stat(path)  # noqa: PTH116 - very many of them
    except OSError:
        return None
    return found.st_size, found.st_mtime_ns


def _check_space(crate: Path, to_copy: dict[Path, PurePosixPath], cache: CollectCache) -> None:
    needed = sum(
        path.stat().st_size for path, crate_path in to_copy.items() if cache.known(path, crate / crate_path) is None
    )
    free = cache.system.free_bytes(crate)
    if needed > free:
        raise TidyCrateError(
            f"the disk has {free} bytes free and the crate needs {needed} more",
            crate,
            "make room or name another disk",
        )


def _missing(survey: Survey, layout: Layout, left: Mapping[str, int]) -> Iterator[MissingFile]:
    """Yield what the crate lacks. left: how many files of a sequence no frame needs, by the asset's id."""
    for asset in survey.assets:
        lacking = asset.status in (Status.MISSING, Status.PARTIAL, Status.LET_GO)
        if not lacking and asset.id not in left:
            continue
        # of a set that lacks members the rest is there, under its own pattern
        crate_path = layout.crate_paths.get(asset.resolved) if asset.resolved is not None else None
        unneeded = f"{left.get(asset.id)} files of the sequence are for frames that are not rendered"
        yield MissingFile(
            asset=asset.id,
            authored=legible(asset.authored),
            path=str(crate_path or asset.missing_path),
            needed=asset.needed and lacking,
            let_go=asset.status is Status.LET_GO,
            because=_portable(asset) if lacking else unneeded,
        )


def _portable(asset: Asset) -> str:
    """Return why it is missing, without a path of this machine."""
    return legible(f"{asset.trouble}; {asset.because}" if asset.trouble else asset.because)


def _notes(context: SceneContext) -> Iterator[EditNote]:
    # what resolvers say is listed by identifier
    for edit in (one for one in context.plan.edits if not isinstance(one, Resolved)):
        yield EditNote(
            kind=edit.kind,
            origin=edit.origin,
            subject=legible(edit.subject),
            because=legible(_without_roots(edit.because, context)),
            unsolved=tuple(map(legible, edit.unsolved)) if isinstance(edit, UseCache) else (),
        )


def _identifiers(survey: Survey, layout: Layout) -> Iterator[IdentifierNote]:
    """Yield each identifier once, with what it became."""
    seen = set()
    for asset in survey.assets:
        crate_path = layout.crate_paths.get(asset.resolved) if asset.resolved is not None else None
        if asset.identifier and crate_path is not None and asset.identifier not in seen:
            seen.add(asset.identifier)
            yield IdentifierNote(identifier=legible(asset.identifier), version=asset.version, path=str(crate_path))


def _without_roots(text: str, context: SceneContext) -> str:
    root = context.project.root or context.scene.parent
    return text.replace(root.as_posix(), "project:").replace(str(root), "project:")


def _render_command(context: SceneContext, survey: Survey) -> RenderCommand | None:
    """Return the command that renders the scene, with the samples that the scene states."""
    command = context.render_command
    # by a settings map, else a setting of just that name
    stated = [survey.canonical.get("samples"), *(one.value for one in survey.settings if one.name == "samples")]
    samples = next((one for one in stated if isinstance(one, int | float) and not isinstance(one, bool)), 0)
    if command is None or samples < 1:
        return command
    return command.model_copy(update={"samples": int(samples)})
