"""How a night of shots stands: a line for each shot, what needs a person, and the money."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from decimal import Decimal
from enum import StrEnum

from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount
from tidy_crate.core.workflow.night import Night, ShotState
from tidy_crate.core.workflow.standing import Question, Standing, StepName, StepState
from tidy_crate.core.workflow.turn import After


class ShotWord(StrEnum):
    """A shot in one word, those first that need a person."""

    PERSON = "waits for you"
    FAILED = "failed"
    LEFT_OUT = "left out"
    ELSEWHERE = "carried elsewhere"
    FARM = "at the farm"
    CARRIED = "in work"
    TO_DO = "to do"
    QUEUED = "not begun"
    DONE = "done"


# the columns of a board, and the steps that each stands for
COLUMNS: dict[str, tuple[StepName, ...]] = {
    "ready": (StepName.SURVEY, StepName.RELINK, StepName.BAKE, StepName.CHECK),
    "packed": (StepName.COLLECT, StepName.PROVE),
    "priced": (StepName.PROBE, StepName.ESTIMATE),
    "sent": (StepName.SEND,),
    "frames": (StepName.RENDER, StepName.RETRIEVE),
    "good": (StepName.REVIEW, StepName.RERENDER, StepName.STITCH),
    "delivered": (StepName.DELIVER, StepName.REPORT),
}


# what the column says that a shot is at, by its state
_AT = {ShotWord.PERSON: "you", ShotWord.LEFT_OUT: "you", ShotWord.FAILED: "failed", ShotWord.TO_DO: "next"}


class ShotStanding(Model):
    """One shot."""

    shot: str
    scene: str
    priority: str
    state: ShotWord
    step: StepName | None
    """The step that it is at; None where it is done, or was not looked at."""
    said: str
    questions: tuple[Question, ...]
    job: str
    steps: dict[StepName, StepState]
    progress: tuple[int, int] | None
    """Tasks that a farm has rendered, and all of them."""
    billed: Amount | None
    forecast: Amount | None
    """Likely, of the whole job."""
    currency: str

    def column(self, name: str) -> str:
        """Return what a column of the board says: done, now, you, failed, nothing, or how many frames."""
        steps = COLUMNS[name]
        if self.step in steps:
            if self.progress is not None and name == "frames":
                return f"{self.progress[0]} of {self.progress[1]}"
            return _AT.get(self.state, "now")
        last = max((list(StepName).index(one) for one in self.steps), default=-1)
        at = list(StepName).index(self.step) if self.step is not None else last + 1
        before = all(list(StepName).index(one) < at for one in steps)
        return "done" if self.state is ShotWord.DONE or (before and last >= 0) else ""


class PlannedShot(Model):
    """A shot's place in the plan of a night."""

    shot: str
    farm: str
    machine: str
    nodes: int
    likely: float
    """In the currency of the budget."""
    high: float
    """90th percentile."""
    seconds: float
    """90th percentile, with nothing else at the farm."""


class NightStanding(Model):
    """The whole night."""

    title: str
    shots: tuple[ShotStanding, ...]
    """Those first that need a person."""
    billed: dict[str, Amount]
    forecast: dict[str, Amount]
    """Likely, of all jobs that were sent, by currency."""
    budget: Amount | None
    currency: str
    """Of the budget."""
    finish: datetime | None
    """When the frames that are at farms are likely done; None where nothing is at a farm."""
    began: datetime
    now: datetime
    planned: tuple[PlannedShot, ...] = ()
    """What would be sent now, and where."""
    planned_seconds: float | None = None
    """In which all of it is home at the latest; None where nothing is planned."""
    not_planned: tuple[str, ...] = ()
    """Shots that could be sent, and for which budget or time leave no way."""

    def count(self, *states: ShotWord) -> int:
        """Return how many shots are in one of some states."""
        return sum(one.state in states for one in self.shots)

    @property
    def done(self) -> bool:
        """Return whether every shot is delivered as it was asked."""
        return all(one.state is ShotWord.DONE for one in self.shots)


def standing_of(
    night: Night,
    title: str,
    scenes: Mapping[str, str],
    budget: Decimal | None,
    currency: str,
    began: datetime,
    now: datetime,
) -> NightStanding:
    """Return how a night stands. scenes: by shot. began, now: with their zones."""
    order = list(ShotWord)
    shots = [_shot(one, scenes.get(one.name, "")) for one in night.shots]
    money = night.money
    left = [
        one.turn.seconds_left
        for one in night.shots
        if one.turn is not None and one.turn.after is After.FARM and one.turn.seconds_left is not None
    ]
    return NightStanding(
        title=title,
        shots=tuple(sorted(shots, key=lambda one: order.index(one.state))),
        billed=dict(money.billed),
        forecast=dict(money.forecast),
        budget=budget,
        currency=currency,
        finish=now + timedelta(seconds=max(left)) if left else None,
        began=began,
        now=now,
        planned=tuple(
            PlannedShot(shot=one.shot, farm=one.farm, machine=one.machine, nodes=one.nodes, likely=one.likely,
                        high=one.cost, seconds=one.seconds)
            for one in (night.plan.ways if night.plan is not None else ())
        ),
        planned_seconds=night.plan.seconds if night.plan is not None and night.plan.ways else None,
        not_planned=night.plan.left_out if night.plan is not None else (),
    )  # fmt: skip


def _shot(one: ShotState, scene: str) -> ShotStanding:
    turn = one.turn
    current = turn.current if turn is not None else None
    bill = turn.bill if turn is not None else None
    word, said, questions = _word(one, current)
    return ShotStanding(
        shot=one.name,
        scene=scene,
        priority=one.priority,
        state=word,
        step=current.step if current is not None else None,
        said=said,
        questions=questions,
        job=one.job,
        steps={name: standing.state for name, standing in one.steps.items()},
        progress=current.progress if current is not None else None,
        billed=bill.billed if bill is not None else None,
        forecast=bill.forecast.likely if bill is not None and bill.forecast is not None else None,
        currency=bill.currency if bill is not None else "",
    )


def _word(one: ShotState, current: Standing | None) -> tuple[ShotWord, str, tuple[Question, ...]]:
    said = current.said if current is not None else ""
    if one.left_out:
        commands = (current.command,) if current is not None and current.command else ()
        return ShotWord.LEFT_OUT, one.left_out, (Question(text=one.left_out, commands=commands),)
    if one.turn is None:
        return (ShotWord.CARRIED if one.running else ShotWord.QUEUED), said, ()
    if one.turn.after is After.DONE:
        return ShotWord.DONE, said, ()
    if one.turn.after is After.FARM:
        return ShotWord.FARM, said, ()
    if one.turn.after is After.TO_DO:
        return ShotWord.TO_DO, said, ()
    if one.turn.after is After.ELSEWHERE:
        return ShotWord.ELSEWHERE, "; ".join(one.turn.messages), ()
    if one.turn.after is After.OFFERED and not one.running:
        return ShotWord.TO_DO, "it is ready, and waits for its place in the plan", ()
    if one.running:
        return ShotWord.CARRIED, "it is being sent" if one.place is not None and not one.job else said, ()
    asked = current.questions if current is not None else ()
    return (ShotWord.FAILED if one.turn.after is After.FAILED else ShotWord.PERSON), said, asked
