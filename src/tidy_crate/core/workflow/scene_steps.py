"""Standing of a scene up to its crate: survey, relink, bake, check, collect."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.context.relink import missing, propose
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect_cache import collected_contents
from tidy_crate.core.crate.origin import changed_since, said_otherwise, scene_of
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.model import Asset, Simulation, SimulationState, Survey
from tidy_crate.core.workflow.shot import Shot, words_of
from tidy_crate.core.workflow.standing import Question, Standing, StepName, StepState, counted

if TYPE_CHECKING:
    from tidy_crate.core.check.finding import Finding

# questions of one step that are shown; the others are counted
MOST_QUESTIONS = 8
# warnings about what a person has decided already, with a reason
DECIDED = ("file-let-go",)
# names of one kind in a sentence
MOST_NAMES = 3


def survey_step(shot: Shot) -> Standing:
    """Survey the scene: always done anew, as far as nothing of it was kept."""
    scene = _scene(shot)
    context = shot.desk.open_scene(scene)
    found = context.survey()
    new = asked_anew(shot, context)
    if new:
        said = f"asked from outside, to be written down: {', '.join(new)}"
        return Standing(step=StepName.SURVEY, state=StepState.TO_DO, said=said, command=words_of("survey", scene))
    return Standing(
        step=StepName.SURVEY, state=StepState.DONE, said=_in_short(found), command=words_of("survey", scene)
    )


def relink_step(shot: Shot) -> Standing:
    """Look for what is missing. Files that these frames do not need are left to `check`."""
    scene = _scene(shot)
    context = shot.desk.open_scene(scene)
    survey = context.survey()
    lacking = [asset for asset in missing(survey) if asset.needed]
    folders = look_in(shot, context)
    name = StepName.RELINK
    command = words_of("relink", scene, *(word for one in folders for word in ("--look-in", one)))
    if not lacking:
        decided = len(context.decisions.relink)
        said = f"every file is there, {decided} by a decision" if decided else "every file is there"
        return Standing(step=name, state=StepState.DONE if decided else StepState.UNNEEDED, said=said, command=command)
    proposals = propose(survey, folders, (), collected_contents(context.tidy))
    sure = {one.asset for one in proposals if one.sure} & {asset.id for asset in lacking}
    said = f"{counted(len(lacking), 'file')} missing: {_names(asset.authored for asset in lacking)}"
    if sure and shot.rules.relink == "sure":
        said = f"{counted(len(sure), 'missing file')} with one certain candidate each"
        return Standing(step=name, state=StepState.TO_DO, said=said, command=(*command, "--apply"))
    asked = _missing(lacking, sure, command, scene, looked=bool(shot.rules.look_in))
    return Standing(step=name, state=StepState.PERSON, said=said, questions=asked, command=command)


def bake_step(shot: Shot) -> Standing:
    """Look at what depends on the frame before: whether it is cached, and still as it was then."""
    scene = _scene(shot)
    survey = shot.desk.open_scene(scene).survey()
    name, command = StepName.BAKE, words_of("bake", scene)
    every = survey.simulations
    open_ones = [one for one in every if one.state is not SimulationState.CACHED]
    if not every:
        return Standing(step=name, state=StepState.UNNEEDED, said="nothing depends on the frame before")
    if not open_ones:
        said = f"{counted(len(every), 'simulation')} cached"
        return Standing(step=name, state=StepState.DONE, said=said, command=command)
    refused = [one for one in open_ones if one.refused]
    if refused:
        asked = tuple(_refused(one, scene) for one in refused[:MOST_QUESTIONS])
        said = f"{counted(len(refused), 'simulation')} cannot be baked here: {_names(one.name for one in refused)}"
        return Standing(step=name, state=StepState.PERSON, said=said, questions=asked, command=command)
    stale = [one for one in open_ones if one.state is SimulationState.STALE]
    if stale:
        said = f"{_names(one.name for one in stale)}: cached from other inputs"
        return Standing(step=name, state=StepState.STALE, said=said, command=command)
    said = f"{len(open_ones)} of {counted(len(every), 'simulation')} to bake"
    return Standing(step=name, state=StepState.TO_DO, said=said, command=command)


def check_step(shot: Shot) -> Standing:
    """Check the scene as it would be staged, against its farms. Errors and warnings are settled first; notes are not.

    Raises WrongUsage for a rule that waives a check that there is not.
    """
    from tidy_crate.core.check.catalogue import check_of
    from tidy_crate.core.check.finding import Severity
    from tidy_crate.core.check.run import Against, check_scene

    for code in shot.rules.waive:
        check_of(code)
    scene = _scene(shot)
    cards = shot.cards()
    result = check_scene(shot.desk.open_scene(scene), Against(cards=cards, today=shot.desk.now().date()))
    standing = [
        one
        for one in result.findings
        if one.severity is not Severity.NOTE and not one.waived and _counts(one, len(cards)) and one.code not in DECIDED
    ]
    name = StepName.CHECK
    command = words_of("check", scene, *(word for farm in shot.farms for word in ("--farm", farm)))
    if not standing:
        waived = sum(one.waived for one in result.findings)
        said = f"no error; {counted(waived, 'warning')} waived" if waived else "no error, no warning"
        return Standing(step=name, state=StepState.DONE, said=said, command=command)
    said = _found(standing)
    can_mend = [one for one in standing if one.mend]
    if can_mend and shot.rules.mend:
        said = f"{counted(len(can_mend), 'finding')} to fix in the staged copy: {_names(one.code for one in can_mend)}"
        return Standing(step=name, state=StepState.TO_DO, said=said, command=(*command, "--mend"))
    by_rule = {one.code for one in standing if one.severity is Severity.WARNING} & set(shot.rules.waive)
    if by_rule:
        said = f"to waive by rule: {_names(sorted(by_rule))}"
        return Standing(step=name, state=StepState.TO_DO, said=said, command=command)
    asked = _asked(standing, scene, command)
    return Standing(step=name, state=StepState.PERSON, said=said, questions=asked, command=command)


def collect_step(shot: Shot) -> Standing:
    """Look whether the crate is there, complete, of this scene, and of what the scene is now."""
    from tidy_crate.core.crate.packing import FILE_NAME, UNFINISHED, read_packing_list

    scene = _scene(shot)
    name, crate = StepName.COLLECT, shot.crate
    command = words_of("collect", scene, "-o", crate)
    if not (crate / FILE_NAME).is_file():
        begun = (crate / UNFINISHED).exists()
        said = "collecting has not finished" if begun else f"into {crate}"
        return Standing(step=name, state=StepState.TO_DO, said=said, command=command)
    origin = shot.desk.origin_of(crate)
    made_from = scene_of(origin)
    if made_from is not None and made_from != scene:
        ask = Question(
            text=f"{crate} is the crate of another scene, {made_from}",
            commands=((*command, "--replace"),),
            remedy="or name another crate with -o",
        )
        said = "the crate is of another scene"
        return Standing(step=name, state=StepState.PERSON, said=said, questions=(ask,), command=command)
    if (crate / UNFINISHED).exists():
        return Standing(step=name, state=StepState.STALE, said="collecting has not finished", command=command)
    content = read_packing_list(crate)
    said_now = said_otherwise(origin, shot.desk.open_scene(scene).said)
    changed = (*(path.name for path in changed_since(origin)), *said_now)
    if made_from is None:
        said = "it was not collected on this machine"
        return Standing(step=name, state=StepState.STALE, said=said, command=command)
    if changed:
        said = f"changed since: {_names(changed)}"
        return Standing(step=name, state=StepState.STALE, said=said, command=command)
    total = sum(file.bytes for file in content.files)
    said = f"{counted(len(content.files), 'file')}, {total / (1 << 20):.1f} MiB"
    return Standing(step=name, state=StepState.DONE, said=said, command=command)


def asked_anew(shot: Shot, context: SceneContext) -> dict[str, Any]:
    """Return what is asked of a scene from outside and not yet among its decisions, as a table `render`."""
    decided = context.decisions.render
    asked = shot.asked.model_dump(mode="json", exclude_defaults=True)
    known = decided.model_dump(mode="json", exclude_defaults=True) if decided is not None else {}
    return {name: value for name, value in asked.items() if known.get(name) != value}


def _scene(shot: Shot) -> Path:
    if shot.scene is None:
        raise WrongUsage("there is no scene to look at", shot.crate, "name the scene")
    return shot.scene


def look_in(shot: Shot, context: SceneContext) -> tuple[Path, ...]:
    """Return the folders of the rules in which missing files are looked for, those that are there."""
    found = (Path(os.path.normpath(context.project.absolute(folder))) for folder in shot.rules.look_in)
    return tuple(folder for folder in found if folder.is_dir())


def _missing(
    lacking: Sequence[Asset], sure: set[str], command: tuple[str, ...], scene: Path, *, looked: bool
) -> tuple[Question, ...]:
    """Return a question for what has a certain candidate, and one for each other file that is missing."""
    asked = []
    found = [asset for asset in lacking if asset.id in sure]
    if found:
        text = f"{counted(len(found), 'missing file')} with one certain candidate each: "
        text += _names(asset.authored for asset in found)
        asked.append(Question(text=text, commands=((*command, "--apply"),)))
    for asset in [asset for asset in lacking if asset.id not in sure][:MOST_QUESTIONS]:
        where = "it is not in the folders of look_in" if looked else "tell where to look with --look-in FOLDER"
        let_go = words_of("relink", scene, "--let-go", asset.id, "--because", "REASON")
        asked.append(Question(text=f"{asset.authored} is missing", commands=(command, let_go), remedy=where))
    return tuple(asked)


def _refused(one: Simulation, scene: Path) -> Question:
    text = f"{one.name}: {one.refused[0]}"
    remedy = "bake it in the host application and save the scene"
    return Question(text=text, commands=(words_of("bake", scene, "--plan"),), remedy=remedy)


def _counts(one: Finding, farms: int) -> bool:
    # what one of several farms does not take, another may: the estimate leaves it out
    return one.farm is None or farms == 1


def _found(standing: Sequence[Finding]) -> str:
    from tidy_crate.core.check.finding import Severity

    errors = sum(one.severity is Severity.ERROR for one in standing)
    warnings = len(standing) - errors
    parts = [counted(errors, "error")] if errors else []
    return " and ".join([*parts, *([counted(warnings, "warning")] if warnings else [])])


def _asked(standing: Sequence[Finding], scene: Path, command: Sequence[str]) -> tuple[Question, ...]:
    """Return one question for each check that found something, errors first."""
    from tidy_crate.core.check.finding import Next, Severity

    by_code: dict[str, list[Finding]] = {}
    for one in standing:
        by_code.setdefault(one.code, []).append(one)
    asked = []
    for code, found in by_code.items():
        first = found[0]
        more = f" (and {len(found) - 1} more)" if len(found) > 1 else ""
        commands: list[tuple[str, ...]] = []
        if any(one.mend for one in found):
            commands.append((*command, "--mend"))
        if first.severity is Severity.WARNING:
            commands.append(words_of("waive", scene, code, "--because", "REASON"))
        if not commands and first.next is Next.RELINK:
            commands.append(words_of("relink", scene))
        text = f"{code}: {first.subject}: {first.message}{more}"
        asked.append(Question(text=text, commands=tuple(commands), remedy=first.remedy))
    return tuple(asked[:MOST_QUESTIONS])


def _in_short(survey: Survey) -> str:
    files = 1 + len({member.path for asset in survey.assets for member in asset.members})
    numbers = survey.frames.numbers() if survey.frames.count else ()
    frames = f"frames {format_frames(numbers)}" if numbers else "no frames of its own"
    parts = [counted(files, "file"), frames]
    if survey.simulations:
        parts.append(counted(len(survey.simulations), "simulation"))
    return ", ".join(parts)


def _names(names: object) -> str:
    every = list(dict.fromkeys(map(str, names)))  # type: ignore[call-overload]
    shown = ", ".join(every[:MOST_NAMES])
    return shown if len(every) <= MOST_NAMES else f"{shown} and {len(every) - MOST_NAMES} more"
