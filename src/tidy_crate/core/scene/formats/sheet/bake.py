"""Baking a simulation of a host application by its own command line, on the staged copy, and verifying the result."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.files import write_json
from tidy_crate.core.patterns import pattern
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.scene.caches import slug
from tidy_crate.core.scene.formats.baking import BakeOrder, CacheRange, Curve, Digests, Trial, WrittenCache
from tidy_crate.core.scene.formats.sheet.model import Sheet, SheetSimulation, host_scene, read_sheet
from tidy_crate.core.scene.model import Simulation, Survey
from tidy_crate.core.scene.staging import StagingPlan, UseCache

_FRAME = re.compile(r"-?[0-9]{1,9}")


class SheetBaker:
    """Has the host application solve, by its own command line."""

    def per_frame(self, survey: Survey) -> int:
        """See Baker.per_frame. A host writes a file per frame."""
        return 1

    def bake(self, order: BakeOrder, progress: Progress) -> WrittenCache:
        """See Baker.bake."""
        return bake_by_host(order, progress)

    def trials(
        self,
        scene: Path,
        plan: StagingPlan,
        wanted: Mapping[str, CacheRange],
        survey_cache: Path | None,
        tokens: FrameTokens,
    ) -> dict[str, Trial]:
        """See Baker.trials. A host's command cannot be tried out."""
        return {}

    def bad_values(self, file: Path) -> Iterator[str]:
        """See Baker.bad_values. The format of a host's cache is its own."""
        return iter(())

    def digests(self, scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
        """See Baker.digests."""
        raise WrongUsage("frames of a host application's scene cannot be evaluated here", scene)

    def curves(self, simulation: Simulation) -> list[Curve]:
        """See Baker.curves."""
        return []


def bake_by_host(order: BakeOrder, progress: Progress) -> WrittenCache:
    """Have one simulation baked by the host's command.

    Raises UnreadableInput when the sheet does not say how, TidyCrateError when the host's command fails, hangs, or
    leaves frames out; what it printed is kept in `NAME.log`, and an earlier cache stays.
    """
    first, last, folder = order.wanted.first, order.wanted.last, order.folder
    sheet = read_sheet(order.scene)
    one = next(known for known in sheet.simulations if known.name == order.simulation.name)
    _check(sheet, one, order.scene, order.tokens)
    is_done = pattern(sheet.commands.bake_done, "bake_done", ["frame"]) if sheet.commands.bake_done else None
    name = slug(one.name)
    order.commands.need(sheet.commands.bake)
    fresh, place = folder / f"{name}.host-new", folder / f"{name}.host"
    shutil.rmtree(fresh, ignore_errors=True)
    fresh.mkdir(parents=True)
    count = last - first + 1
    done: set[int] = set()

    def on_line(text: str) -> None:
        match = is_done.search(text) if is_done is not None else None
        if match is not None and _FRAME.fullmatch(match["frame"] or ""):
            done.add(int(match["frame"]))
            progress(Step("bake", min(len(done), count), count, "frames", one.name))

    try:
        staged = _staged(order)
        values = {
            "host_scene": str(staged), "simulation": one.name, "start": str(one.start),
            "first": str(first), "last": str(last), "cache_folder": str(fresh),
        }  # fmt: skip
        log = folder / f"{name}.log"
        limit = sheet.commands.time_limit
        order.commands.run(sheet.commands.bake, values, staged.parent, limit, log=log, on_line=on_line)
        files = _verified(fresh, one, order)
    except BaseException:
        shutil.rmtree(fresh, ignore_errors=True)
        raise
    _put(fresh, place)
    index = folder / f"{name}.cache.json"
    write_json(index, {"cache": f"{place.name}/{one.cache}", "first": first, "last": last})
    return WrittenCache(index, tuple(place / file.name for file in files), (), ())


def _check(sheet: Sheet, one: SheetSimulation, where: Path, tokens: FrameTokens) -> None:
    if not sheet.commands.bake:
        raise UnreadableInput("the sheet names no command that bakes", where, "add commands.bake")
    if not tokens.has_frame(one.cache) or "/" in one.cache or "\\" in one.cache:
        raise UnreadableInput(
            f"the sheet does not say how the cache files of {one.name} are called",
            where,
            "give its `cache` as a file name with a frame token, such as wave.####.json",
        )
    if not one.slot:
        raise UnreadableInput(f"{one.name} has no slot for the path of its cache", where, "give it one")


def _staged(order: BakeOrder) -> Path:
    """The host's scene in a staged copy of all that it names: no command of a host is ever run on the original."""
    if order.staged_copy is None:
        raise TidyCrateError("a host application bakes on a staged copy only, and nothing here makes one", order.scene)
    # an earlier cache of its own would have the host read it instead of solving
    name = order.simulation.name
    others = tuple(edit for edit in order.plan.edits if not (isinstance(edit, UseCache) and edit.simulation == name))
    copy = order.staged_copy(StagingPlan(edits=others))
    return host_scene(copy, read_sheet(copy))


def _verified(fresh: Path, one: SheetSimulation, order: BakeOrder) -> list[Path]:
    frames = range(order.wanted.first, order.wanted.last + 1)
    files = [fresh / order.tokens.at_frame(one.cache, frame) for frame in frames]
    lost = [file.name for file in files if not file.is_file()]
    if lost:
        what = f"the host's bake left out {len(lost)} of {len(files)} frames"
        raise TidyCrateError(what, ", ".join(lost[:5]), f"its log is in {slug(one.name)}.log beside the caches")
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
