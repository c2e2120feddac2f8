"""Looking at the steps of a shot, one after the other, with what one look has found at hand for the next."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.work.trust import NotTrusted
from tidy_crate.core.workflow.standing import Question, Standing, Standings, StepName, StepState, failed

# the modules of the steps load when first needed: what comes after a survey is told without those of jobs
if TYPE_CHECKING:
    from tidy_crate.core.crate.packing import PackingList
    from tidy_crate.core.job.tables import JobRow
    from tidy_crate.core.workflow.job_steps import JobFacts
    from tidy_crate.core.workflow.shot import Offer, Shot

_OF_SCENE = (StepName.SURVEY, StepName.RELINK, StepName.BAKE, StepName.CHECK, StepName.COLLECT)
_OF_CRATE = (StepName.PROVE, StepName.PROBE, StepName.ESTIMATE, StepName.SEND)
_OF_JOB = (
    StepName.RENDER, StepName.RETRIEVE, StepName.REVIEW, StepName.RERENDER, StepName.STITCH, StepName.DELIVER,
    StepName.REPORT,
)  # fmt: skip


def steps_of(shot: Shot) -> tuple[StepName, ...]:
    """Return the steps that a shot has, in their order: a crate has none of a scene, a job none of a crate."""
    if shot.job is not None:
        return _OF_JOB
    return (*_OF_SCENE, *_OF_CRATE, *_OF_JOB) if shot.scene is not None else (*_OF_CRATE, *_OF_JOB)


class Looks:
    """Looks at the steps of a shot. What it has found is forgotten by `refresh`."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot

    def refresh(self) -> None:
        """Forget what was found: something was done since."""
        for name in ("content", "job", "offer", "facts"):
            self.__dict__.pop(name, None)

    def look(self, step: StepName) -> Standing:
        """Return how a step stands. What goes wrong while looking is a state too."""
        try:
            return self._look(step)
        except TidyCrateError as error:
            return trouble(step, error)

    def first(self) -> Standing | None:
        """Return the first step that is not over, None at the end. What comes later is not looked at."""
        found = map(self.look, steps_of(self.shot))
        return next((one for one in found if not one.state.over), None)

    def _look(self, step: StepName) -> Standing:
        shot = self.shot
        if step in _OF_SCENE:
            return self._of_scene(step)
        if step in _OF_CRATE and self.content is None:
            return Standing(step=step, state=StepState.TO_DO, said=f"after {StepName.COLLECT}")
        if step is not StepName.PROVE and self.content is not None and not self.content.requests and self.job is None:
            return Standing(step=step, state=StepState.UNNEEDED, said="the crate asks for no frames")
        from tidy_crate.core.workflow import crate_steps

        if step is StepName.PROVE:
            return crate_steps.prove_step(shot)
        if step is StepName.PROBE:
            return crate_steps.probe_step(shot)
        if step is StepName.ESTIMATE:
            return crate_steps.estimate_step(shot, self.offer, self.job)
        if step is StepName.SEND:
            return crate_steps.send_step(shot, self.offer, self.job)
        if self.facts is None:
            return Standing(step=step, state=StepState.TO_DO, said=f"after {StepName.SEND}")
        return self._of_job(step, self.facts)

    def _of_scene(self, step: StepName) -> Standing:
        from tidy_crate.core.workflow import scene_steps

        look = {
            StepName.SURVEY: scene_steps.survey_step,
            StepName.RELINK: scene_steps.relink_step,
            StepName.BAKE: scene_steps.bake_step,
            StepName.CHECK: scene_steps.check_step,
            StepName.COLLECT: scene_steps.collect_step,
        }[step]
        return look(self.shot)

    def _of_job(self, step: StepName, facts: JobFacts) -> Standing:
        from tidy_crate.core.workflow import job_steps

        shot = self.shot
        if step is StepName.RENDER:
            return job_steps.render_step(shot, facts)
        if step is StepName.RETRIEVE:
            return job_steps.retrieve_step(shot, facts)
        if step is StepName.REVIEW:
            return job_steps.review_step(facts)
        if step is StepName.RERENDER:
            if facts.row.reviewed is None:
                return Standing(step=step, state=StepState.TO_DO, said=f"after {StepName.REVIEW}")
            return job_steps.rerender_step(shot, facts)
        if step is StepName.STITCH:
            return job_steps.stitch_step(facts)
        if step is StepName.DELIVER:
            return job_steps.deliver_step(shot, facts)
        return job_steps.report_step(shot, facts)

    @cached_property
    def content(self) -> PackingList | None:
        """The packing list of the crate, None where there is no crate."""
        from tidy_crate.core.crate.packing import FILE_NAME, read_packing_list

        return read_packing_list(self.shot.crate) if (self.shot.crate / FILE_NAME).is_file() else None

    @cached_property
    def job(self) -> JobRow | None:
        """The job of the crate as it is, None where it was not sent."""
        from tidy_crate.core.workflow import crate_steps

        return crate_steps.job_of(self.shot, self.content)

    @cached_property
    def offer(self) -> Offer | TidyCrateError | None:
        """The way to send the crate; None where it was sent or no farm is named, the error where none can be found."""
        shot = self.shot
        if self.job is not None or not shot.farms:
            return None
        try:
            return shot.desk.offer(shot.crate, shot.farms, shot.options)
        except TidyCrateError as error:
            return error

    @cached_property
    def facts(self) -> JobFacts | None:
        """The job as its farms know it, None where it was not sent."""
        from tidy_crate.core.workflow import job_steps

        return job_steps.job_facts(self.shot, self.job) if self.job is not None else None


def sent_as_it_is(shot: Shot) -> Shot:
    """Return a shot as its job, where its crate was sent and nothing that it was made from has changed since.

    What was looked at before it was sent need not be looked at again.
    """
    looks = Looks(shot)
    if looks.look(StepName.COLLECT).state is not StepState.DONE or looks.job is None:
        return shot
    return replace(shot, job=looks.job.id)


def trouble(step: StepName, error: TidyCrateError) -> Standing:
    """Return a step that an error stopped. Commands that nobody has agreed to are a question and no failure."""
    if isinstance(error, NotTrusted):
        text = str(error)
        ask = Question(text=text, commands=(("trust", str(error.folder)),), remedy="read them first: trust --show")
        return Standing(step=step, state=StepState.PERSON, said=text, questions=(ask,))
    return failed(step, error)


def stand(looks: Looks, known: dict[StepName, Standing] | None = None) -> Standings:
    """Look at every step. known: steps whose standing is known already, such as one that failed just now.

    What is done behind a step that is not is out of date.
    """
    first: Standing | None = None
    steps: list[Standing] = []
    for name in steps_of(looks.shot):
        found = (known or {}).get(name) or looks.look(name)
        if first is not None and found.state is StepState.DONE and not _goes_on(first, found):
            said = f"{found.said}; {first.step} comes first"
            found = found.model_copy(update={"state": StepState.STALE, "said": said})
        elif first is None and not found.state.over:
            first = found
        steps.append(found)
    shot = looks.shot
    job = looks.job.id if looks.job is not None else ""
    kind, target = ("job", job) if shot.job is not None else ("crate", str(shot.crate))
    if shot.scene is not None:
        kind, target = "scene", str(shot.scene)
    crate = str(shot.crate) if shot.job is None else ""
    return Standings(target=target, kind=kind, scene=str(shot.scene or ""), crate=crate, job=job, steps=tuple(steps))


def _goes_on(first: Standing, later: Standing) -> bool:
    """Return whether a later step holds although an earlier one is not over: frames come home while others render."""
    return first.step in _OF_JOB and later.step in _OF_JOB
