"""Standing: where a scene, a crate or a job stands, step by step."""

from __future__ import annotations

import shlex
from enum import StrEnum

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.model import Model
from tidy_crate.core.money import Cost


class StepName(StrEnum):
    """The steps from the saved scene to the report, in their order."""

    SURVEY = "survey"
    RELINK = "relink"
    BAKE = "bake"
    CHECK = "check"
    COLLECT = "collect"
    PROVE = "prove"
    PROBE = "probe"
    ESTIMATE = "estimate"
    SEND = "send"
    RENDER = "render"
    RETRIEVE = "retrieve"
    REVIEW = "review"
    RERENDER = "rerender"
    STITCH = "stitch"
    DELIVER = "deliver"
    REPORT = "report"


class StepState(StrEnum):
    """State of a step."""

    DONE = "done"
    """There is evidence of it."""
    STALE = "out of date"
    """It was done, and what it was done with has changed since."""
    TO_DO = "to do"
    """It needs no decision."""
    PERSON = "waits for you"
    """A person has to decide something."""
    FARM = "at the farm"
    """Only a farm can bring it on."""
    FAILED = "failed"
    UNNEEDED = "not needed"

    @property
    def over(self) -> bool:
        """Return whether the next step may begin."""
        return self in (StepState.DONE, StepState.UNNEEDED)

    @property
    def can_be_done(self) -> bool:
        """Return whether the step can be done without a person."""
        return self in (StepState.TO_DO, StepState.STALE)


class Question(Model):
    """One thing that a person has to decide or to mend."""

    text: str
    commands: tuple[tuple[str, ...], ...] = ()
    """Lines that answer it, without the program's name: any one of them."""
    remedy: str = ""
    """What to do where no command does it."""

    @property
    def lines(self) -> tuple[str, ...]:
        """The commands as they are typed."""
        return tuple(f"tidy-crate {shlex.join(words)}" for words in self.commands)


class Standing(Model):
    """One step."""

    step: StepName
    state: StepState
    said: str
    """By which evidence, what changed, what is to be done, or why it is not needed."""
    questions: tuple[Question, ...] = ()
    """What waits for a person, or how a failure is mended."""
    command: tuple[str, ...] = ()
    """The line that does the step alone; empty where no single command does."""
    seconds: float | None = None
    """Expected; None where that is not known."""
    cost: Cost | None = None
    """Expected; None where it costs nothing or is not known."""
    progress: tuple[int, int] | None = None
    """Tasks that a farm has rendered, and all of them."""

    @property
    def next(self) -> tuple[tuple[str, ...], ...]:
        """Return the lines that bring it on, as words without the program's name."""
        asked = tuple(words for one in self.questions for words in one.commands)
        return asked or ((self.command,) if self.command else ())


def failed(name: StepName, error: TidyCrateError) -> Standing:
    """Return a step that failed, with its remedy."""
    ask = Question(text=str(error), remedy=error.remedy or "")
    return Standing(step=name, state=StepState.FAILED, said=str(error), questions=(ask,))


class Standings(Model):
    """All steps of one scene, crate or job."""

    target: str
    kind: str
    """scene, crate or job."""
    scene: str = ""
    crate: str = ""
    job: str = ""
    """Empty where there is none yet."""
    steps: tuple[Standing, ...]

    @property
    def current(self) -> Standing | None:
        """Return the first step that is not over, None at the end."""
        return next((one for one in self.steps if not one.state.over), None)

    @property
    def done(self) -> bool:
        """Return whether nothing is left to do."""
        return self.current is None

    @property
    def next(self) -> tuple[tuple[str, ...], ...]:
        """Return the lines that bring it on, as words without the program's name."""
        return self.current.next if self.current is not None else ()


def counted(number: int, word: str) -> str:
    """Return a number with its noun."""
    return f"{number} {word}" + ("" if number == 1 else "s")
