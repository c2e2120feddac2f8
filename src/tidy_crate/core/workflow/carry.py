"""Carrying: doing every step that needs no decision, up to the first one that does."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from tidy_crate.core.errors import FarmBusy, TidyCrateError
from tidy_crate.core.workflow.looks import Looks, stand, steps_of, trouble
from tidy_crate.core.workflow.shot import Shot
from tidy_crate.core.workflow.standing import Standing, Standings, StepName, StepState, failed

# after this step an earlier one is looked at again: a frame that is rendered again has to come home again
_BACK = {StepName.RERENDER: StepName.RENDER, StepName.RENDER: StepName.RENDER}


class Acts(Protocol):
    """Does the steps."""

    def do(self, looks: Looks, standing: Standing) -> None:
        """Do a step, by what was found while it was looked at. Raises TidyCrateError where it cannot be done."""

    def wait(self, looks: Looks) -> None:
        """Bring home what a farm has rendered, and let some time pass."""


Tell = Callable[[Standing], None]


class Carrier:
    """Carries one shot, a turn at a time, so that many can be carried side by side."""

    def __init__(self, shot: Shot, acts: Acts, until: StepName | None = None) -> None:
        """until: the last step that is done; all of them where none is named."""
        self.looks = Looks(shot)
        self._acts = acts
        every = steps_of(shot)
        self._steps = every if until is None else tuple(one for one in every if _up_to(one, until))
        self._at = 0
        # by step, what it said when it was last done: said again, doing it has not helped
        self._tried: dict[StepName, str] = {}
        self._failed: dict[StepName, Standing] = {}
        self.seen: dict[StepName, Standing] = {}
        """The steps as they were last looked at."""

    def turn(self) -> tuple[Standing | None, bool]:
        """Return the step that is next, None at the end, and whether anything can be done about it here and now."""
        while self._at < len(self._steps):
            step = self._steps[self._at]
            found = self.seen[step] = self._failed.get(step) or self.looks.look(step)
            if not found.state.over:
                return found, found.state.can_be_done
            self._at += 1
        return None, False

    def do(self, standing: Standing) -> Standing | None:
        """Do the step of a turn. Return it as failed where it did not work."""
        step = standing.step
        if self._tried.get(step) == standing.said:
            error = TidyCrateError(f"{step} was done and did not help: {standing.said}", None, "do it by hand to see")
            self._failed[step] = failed(step, error)
            return self._failed[step]
        self._tried[step] = standing.said
        try:
            self._acts.do(self.looks, standing)
        except FarmBusy as error:
            # what may pass is tried again at the next turn
            del self._tried[step]
            self._failed.pop(step, None)
            return failed(step, error).model_copy(update={"state": StepState.FARM})
        except TidyCrateError as error:
            self._failed[step] = trouble(step, error)
            return self._failed[step]
        finally:
            self.looks.refresh()
        if step in _BACK:
            self._at = self._steps.index(_BACK[step])
            for later in self._steps[self._at :]:
                self._tried.pop(later, None)
        return None

    def wait(self) -> None:
        """Let a farm go on."""
        try:
            self._acts.wait(self.looks)
        finally:
            self.looks.refresh()

    def standings(self) -> Standings:
        """Return how every step stands now."""
        self.looks.refresh()
        return stand(self.looks, self._failed)


def carry(shot: Shot, acts: Acts, tell: Tell, until: StepName | None = None) -> Standings:
    """Carry one shot until nothing is left to do, or a person is needed.

    tell: is told of each step before it is done, and of what waits. A farm is waited for.
    """
    carrier = Carrier(shot, acts, until)
    said = ""
    while True:
        standing, can = carrier.turn()
        if standing is None:
            return carrier.standings()
        if can:
            tell(standing)
            troubled = carrier.do(standing)
            if troubled is not None:
                tell(troubled)
                if troubled.state is not StepState.FARM:
                    return carrier.standings()
                carrier.wait()
        elif standing.state is StepState.FARM:
            # not every frame that a farm has rendered, but that it renders, or has fallen silent
            news = standing.step.value if standing.progress is not None else standing.said
            if news != said:
                tell(standing)
                said = news
            carrier.wait()
        else:
            return carrier.standings()


def _up_to(step: StepName, until: StepName) -> bool:
    every = list(StepName)
    return every.index(step) <= every.index(until)
