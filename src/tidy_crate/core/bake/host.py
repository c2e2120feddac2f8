"""Baking a simulation of a host application by its own command line, on the staged copy, and verifying the result."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

from tidy_crate.core.asset.sequences import at_frame, has_frame_token
from tidy_crate.core.bake.records import slug
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.files import write_json
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.formats.sheet.command import progress_pattern, run_host
from tidy_crate.core.scene.formats.sheet.model import Sheet, SheetSimulation, host_scene, read_sheet
from tidy_crate.core.scene.model import Simulation
from tidy_crate.core.scene.staging import StagingPlan, UseCache

STAGED = "staged-for-host"


def bake_by_host(
    context: SceneContext, simulation: Simulation, first: int, last: int, folder: Path, progress: Progress
) -> tuple[Path, tuple[Path, ...]]:
    """Have one simulation baked for the frames first to last. Returns the cache's index, and its files.

    Raises UnreadableInput when the sheet does not say how, TidyCrateError when the host's command fails, hangs, or
    leaves frames out; what it printed is kept in `NAME.log`, and an earlier cache stays.
    """
    sheet = read_sheet(context.scene)
    one = next(known for known in sheet.simulations if known.name == simulation.name)
    _check(sheet, one, context.scene)
    pattern = progress_pattern(sheet.commands.bake_done)
    name = slug(one.name)
    fresh, place = folder / f"{name}.host-new", folder / f"{name}.host"
    shutil.rmtree(fresh, ignore_errors=True)
    fresh.mkdir(parents=True)
    count = last - first + 1
    done: set[int] = set()

    def on_line(text: str) -> None:
        match = pattern.search(text) if pattern is not None else None
        if match is not None and match["frame"].lstrip("-").isdigit():
            done.add(int(match["frame"]))
            progress(Step("bake", min(len(done), count), count, "frames", one.name))

    try:
        staged = _staged(context, one.name)
        values = {
            "host_scene": str(staged), "simulation": one.name, "start": str(one.start),
            "first": str(first), "last": str(last), "cache_folder": str(fresh),
        }  # fmt: skip
        log = folder / f"{name}.log"
        run_host(sheet.commands.bake, values, staged.parent, sheet.commands.time_limit, log, on_line)
        files = _verified(fresh, one, first, last)
    except BaseException:
        shutil.rmtree(fresh, ignore_errors=True)
        raise
    _put(fresh, place)
    index = folder / f"{name}.cache.json"
    write_json(index, {"cache": f"{place.name}/{one.cache}", "first": first, "last": last})
    return index, tuple(place / file.name for file in files)


def _check(sheet: Sheet, one: SheetSimulation, where: Path) -> None:
    if not sheet.commands.bake:
        raise UnreadableInput("the sheet names no command that bakes", where, "add commands.bake")
    if not has_frame_token(one.cache) or "/" in one.cache or "\\" in one.cache:
        raise UnreadableInput(
            f"the sheet does not say how the cache files of {one.name} are called",
            where,
            "give its `cache` as a file name with a frame token, such as wave.####.json",
        )
    if not one.slot:
        raise UnreadableInput(f"{one.name} has no slot by which it is told where its cache lies", where, "give it one")


def _staged(context: SceneContext, name: str) -> Path:
    """The host's scene in a staged copy of all that it names: no command of a host is ever run on the original."""
    from tidy_crate.core.crate.collect import collect
    from tidy_crate.core.crate.copying import Way

    # an earlier cache of its own would have the host read it instead of solving
    others = tuple(edit for edit in context.plan.edits if not (isinstance(edit, UseCache) and edit.simulation == name))
    scene = replace(context, plan=StagingPlan(edits=others))
    copy = collect(scene, context.tidy / STAGED, way=Way.REFLINK)
    return host_scene(copy.scene, read_sheet(copy.scene))


def _verified(fresh: Path, one: SheetSimulation, first: int, last: int) -> list[Path]:
    files = [fresh / at_frame(one.cache, frame) for frame in range(first, last + 1)]
    lost = [file.name for file in files if not file.is_file()]
    if lost:
        what = f"the host's bake left out {len(lost)} of {len(files)} frames"
        raise TidyCrateError(what, ", ".join(lost[:5]), f"its log lies in {slug(one.name)}.log beside the caches")
    empty = [file.name for file in files if file.stat().st_size == 0]
    if empty:
        raise TidyCrateError(f"the host's bake left {len(empty)} empty files", ", ".join(empty[:5]))
    return files


def _put(fresh: Path, place: Path) -> None:
    """Put a folder in the place of an earlier one."""
    earlier = place.with_name(f"{place.name}-old")
    shutil.rmtree(earlier, ignore_errors=True)
    if place.exists():
        place.rename(earlier)
    fresh.rename(place)
    shutil.rmtree(earlier, ignore_errors=True)
