"""A pair of test frames with one setting switched: which of the two is the farm's frame like?"""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from tidy_crate.core.context.project import Project, ProjectFile
from tidy_crate.core.context.scene import SceneContext, need_render_command, open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.copying import Way
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import probe_folder
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import inside
from tidy_crate.core.model import Model
from tidy_crate.core.picture.judge import Expected, Judgement
from tidy_crate.core.picture.readers import FrameReaders, Looked
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.review.here import Apart, compare
from tidy_crate.core.scene.model import Setting, Survey
from tidy_crate.core.scene.rendering import all_products, run
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.scene.staging import ChooseVariant, SetSetting, StagingPlan
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.task import Task

MOST_SECONDS = 6 * 3600.0
MOST_NAMED = 12


class Difference(Model):
    """The difference of two pictures of the same frame."""

    level: float
    """Stops, mean brightness, with its sign."""
    share: float
    """Share of the picture that differs by more than noise explains."""
    differs: bool


class PairOutput(Model):
    """One output of the frame, rendered both ways."""

    output: str
    as_it_is: Path
    switched: Path
    pair: Difference
    """The switched frame against the one as it is."""
    farm: Path | None = None
    """The farm's frame; None where none is at home."""
    farm_as_it_is: Difference | None = None
    """The farm's frame against the one as it is."""
    farm_switched: Difference | None = None
    nearer: str = ""
    """`as-it-is` or `switched`: which one the farm's frame is like; empty where that cannot be told."""


class Pair(Model):
    """A frame rendered as the crate says and with one setting switched."""

    crate: str
    frame: int
    setting: str
    """The setting that was switched, by the scene's own name."""
    was: Any
    now: Any
    outputs: tuple[PairOutput, ...]


def render_pair(
    crate: Path,
    frame: int,
    switch: str,
    commands: Commands,
    farm: Mapping[str, Path] | None = None,
    progress: Progress = silent,
) -> Pair:
    """Render a frame of a crate twice, as it is and with one setting switched, and compare both.

    switch: `NAME=VALUE` for a render setting, by the scene's name or by its meaning; `PRIM:SET=CHOICE` for a variant.
    farm: files of the farm's frame of that number, by output. Both frames are kept in the folder of test frames.
    The crate is not changed. Raises WrongUsage for a setting or value that the scene does not have, CommandFailed when
    the renderer fails.
    """
    crate = crate.absolute()
    content = read_packing_list(crate)
    command = need_render_command(content.render, crate)
    request = next((one for one in content.to_render() if frame in one.numbers()), None)
    if request is None:
        raise WrongUsage("the frame is not among those of the crate", frame, content.to_render()[0].frames)
    commands.need(command.command, command.reads)
    folder = probe_folder(crate) / "pairs" / f"{frame}"
    context = _context(crate, content, folder / "state")
    found = _switch(context.survey(), switch)
    shutil.rmtree(folder, ignore_errors=True)
    other = folder / "switched.crate"
    scene = inside(crate, content.scene)
    if found.samples and any("{samples}" in word for word in command.command):
        # what is asked of the renderer holds over the scene
        switched = (scene, request.model_copy(update={"samples": max(1, int(found.now))}))
    else:
        switched = (_switched(context, found, other, request), request)
    runs = {"as-it-is": (scene, request), "switched": switched}
    files: dict[str, dict[str, Path]] = {}
    for number, (name, (opened, own)) in enumerate(runs.items()):
        progress(Step("pair", number, len(runs), "frames", name))
        run(command, opened, own, (frame,), folder / name, MOST_SECONDS, commands, view=own.view_names[0])
        files[name] = _files(content, own, folder / name, frame)
    for left in (other, folder / "state"):
        shutil.rmtree(left, ignore_errors=True)
    with FrameReaders(1) as readers:
        outputs = [
            _compared(readers, output, files["as-it-is"][output], files["switched"][output], (farm or {}).get(output))
            for output in request.outputs
        ]
    return Pair(
        crate=crate.name, frame=frame, setting=found.named, was=found.was, now=found.now, outputs=tuple(outputs)
    )


def _context(crate: Path, content: PackingList, state: Path) -> SceneContext:
    """The scene in a crate, whose project is the crate itself. state: a folder for what is kept of it."""
    context = open_scene(inside(crate, content.scene), state)
    project = Project(crate, ProjectFile(frame_tokens=content.frame_tokens))
    return replace(context, project=project, maps=load_maps(maps=content.settings_maps))


@dataclass(frozen=True)
class _Switch:
    """The setting or variant that is switched."""

    named: str
    """In the scene's words."""
    was: Any
    now: Any
    edit: SetSetting | ChooseVariant
    samples: bool = False
    """True if it is the number of samples."""


def _switch(survey: Survey, text: str) -> _Switch:
    """Find what a person wants to switch. Raises WrongUsage for what the scene does not have."""
    name, equals, value = (part.strip() for part in text.partition("="))
    if not equals or not name or not value:
        raise WrongUsage("not a setting to switch", text, "write NAME=VALUE, or PRIM:SET=CHOICE for a variant")
    prim, _, set_name = name.rpartition(":")
    variant = next((one for one in survey.variants if (one.prim, one.set) == (prim, set_name)), None)
    if variant is not None:
        if value not in variant.choices:
            raise WrongUsage(
                f"the variant set {name} has no such choice", value, f"it has {', '.join(variant.choices)}"
            )
        choice = ChooseVariant(prim=prim, set=set_name, choice=value)
        return _Switch(f"{set_name} of {prim}", variant.selected, value, choice)
    found = [one for one in survey.settings if name in (one.name, one.means, f"{one.owner}.{one.name}")]
    if not found:
        known = sorted({one.name for one in survey.settings} | {f"{one.prim}:{one.set}" for one in survey.variants})
        named = ", ".join(known[:MOST_NAMED]) or "none"
        raise WrongUsage("the scene has no such setting", name, f"it has {named}")
    if len({one.owner for one in found}) > 1:
        owners = ", ".join(f"{one.owner}.{one.name}" for one in found[:MOST_NAMED])
        raise WrongUsage("several prims have that setting", name, f"name one of them: {owners}")
    own = found[-1]
    now = _value(own, value)
    if now == own.value:
        raise WrongUsage("the setting has that value already", text, "switch it to another one")
    named = f"{own.name} of {own.owner}" if own.owner.startswith("/") else own.name
    edit = SetSetting(owner=own.owner, name=own.name, value=now)
    return _Switch(named, own.value, now, edit, samples=own.means == "samples" or name == "samples")


def _switched(context: SceneContext, found: _Switch, crate: Path, request: RenderRequest) -> Path:
    """Write a crate in which the setting is switched. Return its scene. Raises WrongUsage where nothing changed."""
    plan = StagingPlan(edits=(*context.plan.edits, found.edit))
    collect(replace(context, plan=plan), crate, (request,), way=Way.HARD_LINK)
    scene = inside(crate, read_packing_list(crate).scene)
    if not _has(open_scene(scene).survey(), found.edit):
        what = f"scenes of the format {context.format.name} cannot have this switched here"
        raise WrongUsage(
            what, found.named, "switch it in the host application, and collect that scene as a crate of its own"
        )
    return scene


def _value(setting: Setting, text: str) -> str | float | bool | tuple[str, ...]:
    """Return a typed value, of the kind that the setting has now."""
    if isinstance(setting.value, bool):
        words = {"true": True, "on": True, "1": True, "false": False, "off": False, "0": False}
        if text.casefold() not in words:
            raise WrongUsage(f"{setting.name} is on or off", text, f"write {setting.name}=true or {setting.name}=false")
        return words[text.casefold()]
    if isinstance(setting.value, int | float):
        try:
            return int(text) if isinstance(setting.value, int) else float(text)
        except ValueError as error:
            raise WrongUsage(f"{setting.name} is a number, now {setting.value}", text) from error
    if isinstance(setting.value, list | tuple):
        return tuple(part.strip() for part in text.split(","))
    return text


def _has(survey: Survey, edit: SetSetting | ChooseVariant) -> bool:
    """Return whether a scene has the switched value."""
    if isinstance(edit, ChooseVariant):
        return any((one.prim, one.set, one.selected) == (edit.prim, edit.set, edit.choice) for one in survey.variants)
    # what a file holds as a list was typed as a tuple
    wanted = list(edit.value) if isinstance(edit.value, tuple) else edit.value
    return any((one.owner, one.name, one.value) == (edit.owner, edit.name, wanted) for one in survey.settings)


def _files(content: PackingList, request: RenderRequest, folder: Path, frame: int) -> dict[str, Path]:
    outputs = tuple(content.output(name) for name in request.outputs)
    return all_products(folder, outputs, Task(request.name, frame, request.view_names[0]), content.tokens)


def _compared(readers: FrameReaders, output: str, plain: Path, switched: Path, farm: Path | None) -> PairOutput:
    paths = [plain, switched, *([farm] if farm is not None else [])]
    looks = list(readers.judge([Looked(path, Expected()) for path in paths]))
    for path, found in zip(paths, looks, strict=True):
        if found.look is None:
            raise TidyCrateError(f"the frame cannot be compared ({'; '.join(found.reasons) or 'no picture'})", path)
    result = PairOutput(
        output=output, as_it_is=plain, switched=switched, pair=_difference(_apart(looks[1], looks[0])), farm=farm
    )
    if farm is None:
        return result
    first, second = _apart(looks[2], looks[0]), _apart(looks[2], looks[1])
    nearer = ""
    if result.pair.differs and first.mean != second.mean:
        nearer = "as-it-is" if first.mean < second.mean else "switched"
    return result.model_copy(
        update={"farm_as_it_is": _difference(first), "farm_switched": _difference(second), "nearer": nearer}
    )


def _apart(one: Judgement, other: Judgement) -> Apart:
    assert one.look is not None and other.look is not None and one.form is not None and other.form is not None
    return compare(one.look, other.look, (one.form.width * one.form.height, other.form.width * other.form.height))


def _difference(found: Apart) -> Difference:
    return Difference(level=round(found.level, 4), share=round(found.share, 4), differs=found.differs)
