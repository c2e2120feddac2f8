"""Collecting: the staged scene and every file it names, copied into one folder, each source read once."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from tidy_crate import __version__
from tidy_crate.core.asset.paths import without_version
from tidy_crate.core.crate.layout import Layout, lay_out
from tidy_crate.core.crate.packing import (
    UNFINISHED,
    EditNote,
    MissingFile,
    PackedFile,
    PackingList,
    essentials,
    is_crate,
    read_packing_list,
    write_packing_list,
)
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.files import copy_and_hash, hash_file, os_reason, read_json, write_bytes, write_json
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.model import Asset, Status, Survey
from tidy_crate.core.scene.request import RenderRequest, request_for

WORKERS = 4


class CollectResult(Model):
    """What collecting did. scene: the staged scene, as a path on disk. bytes: of the whole crate."""

    crate: Path
    scene: Path
    files: int
    bytes: int
    copied_bytes: int
    reused_bytes: int
    rewritten: tuple[str, ...]
    requests: int
    missing: tuple[MissingFile, ...]

    @property
    def complete(self) -> bool:
        """Whether everything needed is in it."""
        return not any(one.needed and not one.let_go for one in self.missing)


def default_crate(scene: Path) -> Path:
    """Where a scene's crate goes when nobody says: beside it."""
    return scene.parent / f"{without_version(scene.stem)}.crate"


def collect(
    context: SceneContext, crate: Path, requests: tuple[RenderRequest, ...] = (), progress: Progress = silent
) -> CollectResult:
    """Build or refresh a crate. Sources are only read; files that have not changed since are not read again.

    Raises WrongUsage when `crate` is a folder of something else, or sources would be overwritten.
    """
    crate = crate.absolute()
    survey = context.survey()
    wanted = requests or _own_request(survey)
    layout = lay_out(survey, context.plan, context.project)
    _check_target(crate, context, layout)
    memory = _Memory.load(context.tidy, crate)
    before = _listed(crate)
    (crate / UNFINISHED).parent.mkdir(parents=True, exist_ok=True)
    write_bytes(crate / UNFINISHED, b"collect has not finished here; run it again\n")
    staged = context.format.apply(context.scene, context.plan, survey, layout.places, crate)
    to_copy = dict(_to_copy(survey, context, layout, staged))
    _check_space(crate, to_copy, memory)
    packed, copied, reused = _copy_all(crate, to_copy, layout, memory, progress)
    for place in staged.written:
        path = crate / place
        size = path.stat().st_size
        source = next(
            (layout.sources[s] for s, p in layout.places.items() if p == place and s in layout.sources),
            "staging",
        )
        packed.append(PackedFile(path=str(place), bytes=size, blake3=hash_file(path), source=source, rewritten=True))
    packed.sort(key=lambda file: file.path)
    missing = tuple(_missing(survey))
    content = PackingList(
        tool=f"tidy-crate {__version__}",
        name=without_version(context.scene.stem),
        format=context.format.name,
        scene=str(staged.root),
        requests=wanted,
        essentials=essentials(
            survey,
            {path: str(place) for path, place in layout.places.items()},
            tuple(one.path for one in missing),
        ),
        render=context.render_command,
        files=tuple(packed),
        missing=missing,
        edits=tuple(_notes(context)),
        waived=context.decisions.waive,
    )
    for stale in before - {file.path for file in packed}:
        (crate / stale).unlink(missing_ok=True)
    write_packing_list(crate, content)
    memory.save()
    (crate / UNFINISHED).unlink(missing_ok=True)
    return CollectResult(
        crate=crate,
        scene=crate / staged.root,
        files=len(packed),
        bytes=content.bytes,
        copied_bytes=copied,
        reused_bytes=reused,
        rewritten=tuple(str(place) for place in staged.written),
        requests=len(wanted),
        missing=missing,
    )


def _own_request(survey: Survey) -> tuple[RenderRequest, ...]:
    """What the scene itself asks to be rendered: nothing, where it lacks a range, a resolution or outputs."""
    try:
        return (request_for(survey),)
    except WrongUsage:
        return ()


def _check_target(crate: Path, context: SceneContext, layout: Layout) -> None:
    if crate.exists() and not crate.is_dir():
        raise WrongUsage("the crate would replace a file", crate, "name a new folder")
    ours = is_crate(crate) or (crate / UNFINISHED).exists()
    if crate.is_dir() and not ours and any(crate.iterdir()):
        raise WrongUsage("this folder holds something else than a crate", crate, "name a new or an empty folder")
    inside = [path for path in layout.sources if path.is_relative_to(crate)]
    if inside or context.scene.is_relative_to(crate):
        raise WrongUsage(
            "the crate's folder holds files of the scene itself", crate, "name a folder apart from the scene"
        )


def _listed(crate: Path) -> set[str]:
    """The files of an earlier crate in this folder: only these are ours to remove."""
    try:
        return {file.path for file in read_packing_list(crate).files}
    except UnreadableInput:
        return set()


def _to_copy(
    survey: Survey, context: SceneContext, layout: Layout, staged: StagedScene
) -> Iterator[tuple[Path, PurePosixPath]]:
    written = set(staged.written)
    yield from ((path, place) for place, path in staged.copied.items())
    for path, place in layout.places.items():
        if path in layout.sources and place not in written and place not in staged.copied:
            yield path, place


def _check_space(crate: Path, to_copy: dict[Path, PurePosixPath], memory: _Memory) -> None:
    needed = sum(path.stat().st_size for path, place in to_copy.items() if memory.known(path, crate / place) is None)
    free = shutil.disk_usage(crate).free
    if needed > free:
        raise TidyCrateError(
            f"the disk has {free} bytes free and the crate needs {needed} more",
            crate,
            "make room or name another disk",
        )


def _copy_all(
    crate: Path, to_copy: dict[Path, PurePosixPath], layout: Layout, memory: _Memory, progress: Progress
) -> tuple[list[PackedFile], int, int]:
    packed, copied, reused, total = [], 0, 0, sum(path.stat().st_size for path in to_copy)
    with ThreadPoolExecutor(WORKERS) as pool:
        jobs = [(path, place, pool.submit(_copy_one, path, crate / place, memory)) for path, place in to_copy.items()]
        for path, place, job in jobs:
            digest, size, was_copied = job.result()
            copied, reused = copied + size * was_copied, reused + size * (not was_copied)
            packed.append(PackedFile(path=str(place), bytes=size, blake3=digest, source=layout.sources[path]))
            progress(Step("copy", copied + reused, total, "bytes", str(place)))
    return packed, copied, reused


def _copy_one(source: Path, target: Path, memory: _Memory) -> tuple[str, int, bool]:
    """Copy one file unless it is there already. Returns (BLAKE3, bytes, whether it was copied)."""
    known = memory.known(source, target)
    if known is not None:
        return known, source.stat().st_size, False
    try:
        before = source.stat()
        digest, size = copy_and_hash(source, target)
        after = source.stat()
    except OSError as error:
        raise UnreadableInput(f"cannot read a file of the scene ({os_reason(error)})", source) from error
    if (before.st_size, before.st_mtime_ns) != (after.st_size, after.st_mtime_ns) or size != after.st_size:
        target.unlink(missing_ok=True)
        raise UnreadableInput(
            "a file changed while it was copied", source, "wait until it is saved, then run collect again"
        )
    memory.remember(source, target, digest)
    return digest, size, True


@dataclass
class _Memory:
    """What was copied where, so that unchanged files are not read again. Kept with the scene, not in the crate."""

    path: Path
    entries: dict[str, list[str | int]]

    @classmethod
    def load(cls, tidy: Path, crate: Path) -> _Memory:
        path = tidy / "collected" / f"{crate.name}.json"
        try:
            found = read_json(path, "memory of what was collected")
        except UnreadableInput:
            found = {}
        return cls(path, found if isinstance(found, dict) else {})

    def known(self, source: Path, target: Path) -> str | None:
        """The hash of a file that was copied before, if neither it nor its copy has been touched since."""
        entry = self.entries.get(str(target))
        if not isinstance(entry, list) or len(entry) != 4:
            return None
        try:
            if entry[:3] != [str(source), _mark(source), _mark(target)]:
                return None
        except OSError:
            return None
        return str(entry[3])

    def remember(self, source: Path, target: Path, digest: str) -> None:
        self.entries[str(target)] = [str(source), _mark(source), _mark(target), digest]

    def save(self) -> None:
        write_json(self.path, self.entries)


def _mark(path: Path) -> str:
    found = os.stat(path)  # noqa: PTH116 - one call for three values
    return f"{found.st_size}:{found.st_mtime_ns}:{found.st_ino}"


def _missing(survey: Survey) -> Iterator[MissingFile]:
    for asset in survey.assets:
        if asset.status in (Status.MISSING, Status.PARTIAL, Status.LET_GO):
            yield MissingFile(
                asset=asset.id,
                authored=asset.authored,
                path=asset.missing_place,
                needed=asset.needed,
                let_go=asset.status is Status.LET_GO,
                because=_portable(asset),
            )


def _portable(asset: Asset) -> str:
    """Why it is missing, without a path of this machine."""
    return f"{asset.trouble}; {asset.because}" if asset.trouble else asset.because


def _notes(context: SceneContext) -> Iterator[EditNote]:
    for edit in context.plan.edits:
        subject = getattr(edit, "simulation", None) or getattr(edit, "output", None) or getattr(edit, "asset", None)
        subject = subject or getattr(edit, "authored", None) or ""
        yield EditNote(
            kind=edit.kind,
            origin=edit.origin,
            subject=str(subject),
            because=_without_roots(edit.because, context),
        )


def _without_roots(text: str, context: SceneContext) -> str:
    root = context.project.root or context.scene.parent
    return text.replace(root.as_posix(), "project:").replace(str(root), "project:")
