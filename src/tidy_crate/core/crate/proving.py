"""The inner half of the proof, run in a fresh process: `python -m tidy_crate.core.crate.proving CRATE SCRATCH FRAME`.

It shuts itself in before it opens anything of the crate, and prints its outcome as JSON.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import stat
import sys
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

import psutil
from pydantic import Field

from tidy_crate.core.crate.composed import composition_in_crate
from tidy_crate.core.crate.confine import TCP, confine, declared_devices, program_folders, runtime_folders
from tidy_crate.core.crate.isolate import (
    DEVICES,
    HARMLESS,
    MEMORY,
    NETWORK,
    PROCESSES,
    RIGHTS,
    SHARED_MEMORY,
    TERMINAL,
    drop_rights,
    has_terminal,
    isolate,
)
from tidy_crate.core.crate.packing import FILE_NAME, Essentials, PackingList, essentials, read_packing_list
from tidy_crate.core.errors import CommandFailed, TidyCrateError, UnreadableInput
from tidy_crate.core.files import hash_file, inside, open_input
from tidy_crate.core.model import Model
from tidy_crate.core.process import Limits, end_with_waiting_caller
from tidy_crate.core.scene.composition import BY_ENTRY, COMPOSES, METHODS, Composition
from tidy_crate.core.scene.model import Asset
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.command import RenderCommand, filled_runtime
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.task import Task
from tidy_crate.core.work.trust import Agreed

TIME_LIMIT = 1800.0
# processes that a test frame may start, and shares of this machine's memory and free disk that it may take
MOST_PROCESSES, MOST_MEMORY, MOST_DISK = 1024, 0.8, 0.5


class FrameProof(Model):
    """The test frame."""

    frame: int
    seconds: float
    good: bool
    why: str | None = None
    """The trouble with it, None when it is good or was not asked for."""
    started: bool = True
    """True if the renderer ran at all. One that could not start says nothing about the crate."""
    usable: bool = True
    """False if the render command itself is at fault, which says nothing about the crate either."""
    said: tuple[str, ...] = ()
    """The last lines that it printed before it failed."""
    files: dict[str, str] = Field(default_factory=dict)
    """By output, where a good frame is kept, to compare the farm's frames with."""


class Proof(Model):
    """Proof of a crate. A renderer that cannot start does not make it fail."""

    whole: bool
    enforced: bool
    """True if the kernel denied every way out while it was tried."""
    why_not: str | None
    """The reason why the kernel could not."""
    out_of_reach: tuple[str, ...] = ()
    """Resources that the process and the renderer could not reach, such as the network and other files."""
    opened: tuple[str, ...] = ()
    """Paths outside the crate that the renderer could read because they belong to its program."""
    declared: tuple[str, ...] = ()
    """The same of those that the render command declares under `reads`."""
    outside: tuple[str, ...]
    """Paths that lead out of the crate."""
    unresolved: tuple[str, ...]
    """Paths that lead to nothing and were not let go."""
    changed: tuple[str, ...]
    """Files that are not as packed."""
    differs: tuple[str, ...]
    """Parts of the crate's survey that are not as in the staged scene."""
    unexpected: tuple[str, ...]
    """Files that nothing names."""
    compared_prims: int | None = None
    """Prims whose composition was compared with the source's; None where the format or the crate has none."""
    compared_entries: int | None = None
    """Entries of the scene file that were compared with the source's, where a format has no prims."""
    not_compared: str | None = None
    """Why the composition was not compared; None where it was."""
    compared_layers: int | None = None
    """Layers that were compared in place of prims, with the files that their paths lead to."""
    compared_times: tuple[float, ...] = ()
    """Time codes at which values were compared, beside samples of each attribute."""
    sampled: tuple[str, ...] = ()
    """Parts of that which were left out because the scene is huge."""
    test_frame: FrameProof | None

    @property
    def holds(self) -> bool:
        """Return whether the crate is whole and all that was asked for was tried."""
        return self.whole and (self.test_frame is None or self.test_frame.good)


def main() -> int:
    """Prove one crate."""
    crate, scratch = Path(sys.argv[1]), Path(sys.argv[2])
    frame = None if sys.argv[3] == "-" else int(sys.argv[3])
    end_with_waiting_caller()
    content = read_packing_list(crate)
    reads = content.render.reads if content.render is not None else ()
    own_devices = declared_devices(reads)
    reaches_terminal = os.name != "posix" or has_terminal()
    apart = isolate(devices=own_devices)
    runtime = runtime_folders(sees_processes=PROCESSES not in apart)
    opened: list[Path] = []
    if content.render is not None and frame is not None:
        words = filled_runtime(content.render.command)
        opened = program_folders(words, os.environ.get("PATH"), crate)
    shared = [Path(file.path) for file in content.shared]
    folders = {path.parent for path in shared}  # a sequence is found by listing its folder
    writable = [scratch, *HARMLESS, *([SHARED_MEMORY] if MEMORY in apart else ())]
    dropped = drop_rights()
    confined = confine([crate, *shared, *runtime, *opened, *map(Path, reads)], writable, folders, own_devices)
    reached = apart | confined.walls | ({MEMORY, DEVICES} if confined.why_not is None else set())
    reached |= (set() if reaches_terminal else {TERMINAL}) | ({RIGHTS} if dropped else set())
    reached -= {TCP} if NETWORK in reached else set()
    proof = prove_here(crate, content, scratch, frame, confined.why_not, tuple(sorted(reached)))
    more = {"opened": tuple(map(str, opened)), "declared": reads if frame is not None else ()}
    found = proof.model_copy(update=more).model_dump()
    # a path may hold bytes that are not UTF-8: they are written out
    sys.stdout.write(re.sub("[\ud800-\udfff]", _written_out, json.dumps(found, ensure_ascii=False)))
    return 0


def _written_out(match: re.Match[str]) -> str:
    return f"\\\\x{ord(match[0]) & 0xFF:02x}"


def prove_here(
    crate: Path,
    content: PackingList,
    scratch: Path,
    frame: int | None,
    why_not: str | None,
    walls: tuple[str, ...] = (),
) -> Proof:
    """Prove a crate in this process, which is already in a sandbox (or cannot be, for the reason given)."""
    from tidy_crate.core.scene.formats.registry import format_of
    from tidy_crate.core.scene.settings import load_maps

    present = [Path(folder, name) for folder, _, names in os.walk(crate) for name in names]
    odd = _no_files(crate, present)
    changed, unexpected = _changed(crate, content, present)
    changed += [path for path in odd if path not in changed]
    shared = {Path(file.path): file.bytes for file in content.shared}
    changed += [str(path) for path, size in shared.items() if not _readable(path, size)]
    outside: list[str] = []
    unresolved: list[str] = []
    differs: list[str] = []
    compared: Composition | None = None
    try:
        if odd:
            # libraries that read scenes would wait for whoever writes into a pipe
            raise UnreadableInput(f"the crate holds pipes or devices in place of files ({', '.join(odd[:5])})", crate)
        scene = inside(crate, content.scene)
        form = format_of(scene)
        survey = form.read(
            scene, None, next(iter(content.requests), None), load_maps(maps=content.settings_maps), None, content.tokens
        )
        outside = sorted(
            {
                f"{asset.authored} ({asset.owner})"
                for asset in survey.assets
                for path in _ends(asset, shared)
                if not _within(path, crate)
            }
        )
        excused = {one.path for one in content.missing if one.let_go or not one.needed}
        for asset in survey.assets:
            if asset.members and not asset.trouble:
                continue
            crate_path = _crate_path(asset.resolved, crate) if asset.resolved else None
            if crate_path not in excused:
                unresolved.append(f"{asset.authored} ({asset.owner})")
        crate_paths = {
            m.path: _crate_path(m.path, crate) or m.path.as_posix() for asset in survey.assets for m in asset.members
        }
        missing = tuple(one.path for one in content.missing)
        differs = _differences(content.essentials, essentials(survey, crate_paths, missing))
        source = content.composition
        if source is not None and source.method in METHODS and not changed:
            found = composition_in_crate(form, scene, survey, content, crate, source.method)
            differs += [COMPOSES] if found is None else source.differences(found)
            compared = source
    except TidyCrateError as error:
        unresolved.append(str(error))
    test = _test_frame(crate, content, scratch, frame) if frame is not None and not changed else None
    own = test is None or test.good or not test.started
    whole = own and not (outside or unresolved or changed or differs or unexpected)
    return Proof(
        whole=whole,
        enforced=why_not is None,
        why_not=why_not,
        out_of_reach=walls,
        outside=tuple(outside),
        unresolved=tuple(unresolved),
        changed=tuple(changed),
        differs=tuple(differs),
        unexpected=tuple(unexpected),
        compared_prims=compared.prims if compared is not None and compared.method != BY_ENTRY else None,
        compared_entries=compared.prims if compared is not None and compared.method == BY_ENTRY else None,
        not_compared=None if compared is not None else _why_not_compared(content, changed),
        compared_layers=compared.layers if compared is not None else None,
        compared_times=compared.times if compared is not None else (),
        sampled=compared.sampled if compared is not None else (),
        test_frame=test,
    )


def _why_not_compared(content: PackingList, changed: list[str]) -> str:
    if content.composition is not None:
        return "files are not as packed" if changed else "the digest of the source is of another version; collect again"
    if content.shared:
        return "files on a share have no digest"
    return "there is no digest of the source: this format composes nothing, or an older version collected it"


def _ends(asset: Asset, shared: Mapping[Path, int]) -> Iterator[Path]:
    """Yield where an occurrence leads, shared storage left out."""
    members = [member.path for member in asset.members]
    yield from (path for path in members if path not in shared)
    if asset.resolved is not None and not (members and all(path in shared for path in members)):
        yield asset.resolved


def _readable(path: Path, size: int) -> bool:
    """Return whether this process can read a file on shared storage, and it is as large as it was."""
    try:
        with open_input(path) as stream:
            return bool(stream.seek(0, os.SEEK_END) == size)
    except OSError:
        return False


def _no_files(crate: Path, present: Iterable[Path]) -> list[str]:
    """Return what does not lead to a regular file, of what is present below a crate: pipes, devices, sockets."""
    found = []
    for path in present:
        try:
            regular = stat.S_ISREG(path.stat().st_mode)
        except OSError:
            continue  # a link to nothing: no path of the scene leads there
        if not regular:
            found.append(path.relative_to(crate).as_posix())
    return sorted(found)


def _changed(crate: Path, content: PackingList, present: Iterable[Path]) -> tuple[list[str], list[str]]:
    """Files that are gone or not as packed, and unexpected files of those that are present."""
    changed = []
    for file in content.files:
        path = inside(crate, file.path)
        try:
            same = not path.is_symlink() and path.stat().st_size == file.bytes and hash_file(path) == file.blake3
        except OSError:
            same = False
        if not same:
            changed.append(file.path)
    listed = {file.path for file in content.files} | {FILE_NAME}
    unexpected = sorted(
        crate_path for path in present if (crate_path := path.relative_to(crate).as_posix()) not in listed
    )
    return changed, unexpected


def _within(path: Path, crate: Path) -> bool:
    # a link may look as if it lay inside
    return Path(os.path.realpath(path)).is_relative_to(os.path.realpath(crate))


def _crate_path(path: Path, crate: Path) -> str | None:
    return path.relative_to(crate).as_posix() if path.is_relative_to(crate) else None


def _differences(packed: Essentials, now: Essentials) -> list[str]:
    """Return what differs, in plain words.

    The crate's own survey also finds the staged root's parts, which is no loss.
    """
    differs = []
    for name, label in (
        ("frames", "frame range"),
        ("up_axis", "up axis"),
        ("meters_per_unit", "scene unit"),
        ("cameras", "cameras"),
        ("outputs", "outputs"),
        ("simulations", "simulations"),
    ):
        before, after = getattr(packed, name), getattr(now, name)
        if before != after:
            differs.append(f"{label}: packed {_short(before)}, found {_short(after)}")
    lost = sorted(set(packed.found) - set(now.found))
    if lost:
        differs.append("no longer named by the scene: " + ", ".join(lost[:10]))
    for configuration, spaces in packed.colours.items():
        from tidy_crate.core.asset.follow.ocio import alike

        others = alike(spaces, now.colours.get(configuration, {}))
        if others:
            differs.append(f"{configuration}: other colours than in the scene by {', '.join(others[:5])}")
    return differs


def _short(value: object) -> str:
    if isinstance(value, Model):
        value = value.model_dump(mode="json")
    text = str(value)
    return text if len(text) < 160 else text[:157] + "..."


def _test_frame(crate: Path, content: PackingList, scratch: Path, frame: int) -> FrameProof | None:
    from tidy_crate.core.picture.judge import Expected, judge_file
    from tidy_crate.core.scene.rendering import products, run

    if content.render is None:
        return FrameProof(frame=frame, seconds=0.0, good=False, why="no render command is known")
    request = content.requests[0]
    view = request.view_names[0]
    outputs = tuple(content.output(name) for name in request.outputs)
    into = scratch / "test-frame"
    try:
        scene = inside(crate, content.scene)
        # the user has agreed to the command before this process was started, and nothing secret is around it
        commands = Commands(trust=Agreed(), environment=dict(os.environ))
        done = run(
            content.render, scene, request, (frame,), into, TIME_LIMIT, commands, view=view, limits=_limits(scratch)
        )
    except CommandFailed as error:
        started, why = _told(error, content.render, (crate, scratch))
        return FrameProof(frame=frame, seconds=0.0, good=False, why=why, started=started, said=error.said)
    except TidyCrateError as error:
        return FrameProof(frame=frame, seconds=0.0, good=False, why=str(error), started=False, usable=False)
    troubles = []
    files = products(into, outputs, Task(request.name, frame, view), content.tokens)
    for output in outputs:
        path = files[output.name]
        if path is None:
            troubles.append(f"{output.name}: nothing was written")
            continue
        expected = Expected(width=request.width, height=request.height, passes=output.variables)
        judged = judge_file(path, expected)
        if judged.verdict is not Verdict.GOOD:
            troubles.append(f"{output.name}: {'; '.join(judged.reasons)}")
    left = {name: str(path) for name, path in files.items() if path is not None}
    return FrameProof(frame=frame, seconds=done.seconds, good=not troubles, why="; ".join(troubles) or None, files=left)


def _limits(scratch: Path) -> Limits:
    """Return what a test frame may take: enough for any renderer, and too little to stop this machine."""
    memory = int(MOST_MEMORY * psutil.virtual_memory().total)
    return Limits(MOST_PROCESSES, memory, int(MOST_DISK * shutil.disk_usage(scratch).free))


# how the loaders of programs and of Python say that a part of the program itself is not there
_LOADING = re.compile(
    r"error while loading shared libraries|cannot open shared object|ModuleNotFoundError|ImportError"
    r"|No module named|Library not loaded|init_import_site|encodings",
)
_DENIED = re.compile(r"permission denied|not permitted|access is denied", re.IGNORECASE)
_PATH = re.compile(r"(?<![\w.])/[^\s'\":,;()<>|]+")


def _told(error: CommandFailed, command: RenderCommand, inside_of: tuple[Path, ...]) -> tuple[bool, str]:
    """Tell a renderer that could not start from one that misses something, by what it said: started or not, and why."""
    if not error.started:
        return False, error.what
    words = filled_runtime(command.command)
    found = [folder for folder in program_folders(words, os.environ.get("PATH"), inside_of[0]) if folder.is_dir()]
    # what lies beside a program's folder belongs to it, unless the crate lies there too
    own = [f if any(one.is_relative_to(f.parent) for one in inside_of) else f.parent for f in found]
    for line in reversed(error.said):
        if _LOADING.search(line):
            return False, f"{error.what}: {line.strip()}"
        if _DENIED.search(line):
            outside = [path for path in _PATH.findall(line) if not any(path.startswith(str(one)) for one in inside_of)]
            if outside:
                belongs = any(Path(outside[0]).is_relative_to(folder) for folder in own)
                what = f"{error.what}: it was denied {outside[0]}, which is not in the crate"
                return not belongs, what
    return True, error.what


if __name__ == "__main__":
    sys.exit(main())
