"""Each choice of each variant set, surveyed as if it were the one selected."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.model import Look, Status, Survey
from tidy_crate.core.scene.staging import ChooseVariant, StagingPlan


def survey_looks(context: SceneContext, survey: Survey, progress: Progress = silent) -> tuple[Look, ...]:
    """Survey every look, one set at a time with the others as they are: the sum of all choices, not their product."""
    wanted = [(v, choice) for v in survey.variants for choice in v.choices]
    return tuple(_looks(context, survey, wanted, progress))


def _looks(context: SceneContext, survey: Survey, wanted: list, progress: Progress) -> Iterator[Look]:  # type: ignore[type-arg]
    for number, (variant, choice) in enumerate(wanted, 1):
        selected = choice == variant.selected
        edit = ChooseVariant(prim=variant.prim, set=variant.set, choice=choice)
        try:
            plan = StagingPlan(edits=(*context.plan.edits, edit))
            found = survey if selected else replace(context, plan=plan).survey()
        except TidyCrateError as error:
            yield Look(prim=variant.prim, set=variant.set, choice=choice, selected=selected, error=str(error))
            continue
        yield Look(
            prim=variant.prim,
            set=variant.set,
            choice=choice,
            selected=selected,
            cameras=tuple(dict.fromkeys(output.camera for output in found.outputs if output.camera)),
            frames=found.frames,
            animated=found.animated,
            resolution=found.resolution,
            settings=found.canonical,
            missing=sum(a.needed and a.status in (Status.MISSING, Status.PARTIAL) for a in found.assets),
        )
        progress(Step("look", number, len(wanted), "looks", choice))
