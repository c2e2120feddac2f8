"""One turn at a shot of a night: all that can be done about it now, up to where it has to wait."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from decimal import Decimal
from enum import StrEnum
from typing import Protocol

from tidy_crate.core.errors import FarmBusy, TidyCrateError
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.money import Cost
from tidy_crate.core.workflow.carry import Acts, Carrier
from tidy_crate.core.workflow.looks import Looks, stand, trouble
from tidy_crate.core.workflow.shot import Shot
from tidy_crate.core.workflow.standing import Standing, StepName, StepState


class After(StrEnum):
    """What comes after a turn."""

    DONE = "done"
    FARM = "farm"
    """Only a farm brings it on: look again later."""
    OFFERED = "offered"
    """It could be sent, and waits for its place in the plan."""
    PERSON = "person"
    FAILED = "failed"
    TO_DO = "to do"
    """It was only looked at, and can be carried on."""
    ELSEWHERE = "elsewhere"
    """Another command carries it."""


@dataclass(frozen=True)
class Bill:
    """Money for a job."""

    billed: Decimal
    currency: str
    forecast: Cost | None
    """Of the whole job; None where it cannot be told."""
    cap: Decimal | None = None
    """That its farms keep, all together; None where one has none."""

    @property
    def most(self) -> Decimal:
        """Return the most that it may cost, as far as that is known."""
        if self.cap is not None:
            return max(self.cap, self.billed)
        return self.forecast.high if self.forecast is not None else self.billed


@dataclass(frozen=True)
class Turn:
    """What a turn came to."""

    after: After
    current: Standing | None = None
    """The step that it waits at; None at the end."""
    seen: dict[StepName, Standing] = field(default_factory=dict)
    """The steps that were looked at."""
    job: str = ""
    quotes: tuple[Quote, ...] = ()
    """Ways to send it, where it was offered."""
    bill: Bill | None = None
    seconds_left: float | None = None
    """Likely seconds of farm time."""
    news: bool = False
    """True if something was done, or came home."""
    farms: tuple[str, ...] = ()
    """Where its job is."""
    silent: tuple[str, ...] = ()
    """Those of them that do not answer."""
    messages: tuple[str, ...] = ()
    """What farms and lines had to say."""
    memory: int = 0
    """Bytes that the process and its helpers took at the most."""


class NightActs(Acts, Protocol):
    """Does the steps, and what a night needs beside them."""

    def fetch(self, looks: Looks) -> bool:
        """Bring home what a farm has rendered. Return whether anything came. Raises FarmBusy."""


def take_turn(shot: Shot, acts: NightActs, *, may_send: bool) -> Turn:
    """Do all that can be done about a shot now. may_send: whether it has its place in the plan."""
    # without its place, a shot is carried without a cap, and so stops before it is sent
    carrier = Carrier(shot if may_send else replace(shot, cap=None), acts)
    news, fetched = False, False
    while True:
        standing, can = carrier.turn()
        if standing is None:
            return _turn(carrier, After.DONE, None, news)
        if can:
            troubled = carrier.do(standing)
            if troubled is None:
                news = True
                continue
            carrier.seen[troubled.step] = troubled
            standing = troubled
        if standing.step is StepName.SEND and standing.state is StepState.PERSON and not may_send:
            return _offered(carrier, standing, news)
        if standing.state is StepState.FARM:
            if not fetched and standing.step in (StepName.RENDER, StepName.RERENDER):
                fetched = True
                if _fetched(carrier, acts):
                    news = True
                    continue
            return _turn(carrier, After.FARM, standing, news)
        after = After.FAILED if standing.state is StepState.FAILED else After.PERSON
        return _turn(carrier, after, standing, news)


def look_turn(shot: Shot) -> Turn:
    """Look at a shot without doing anything: how it stands, and for how much it could be sent."""
    looks = Looks(shot)
    found = stand(looks)
    seen = {one.step: one for one in found.steps}
    current = found.current
    after = {
        None: After.DONE, StepState.PERSON: After.PERSON, StepState.FARM: After.FARM, StepState.FAILED: After.FAILED,
    }.get(current.state if current is not None else None, After.TO_DO)  # fmt: skip
    quotes: tuple[Quote, ...] = ()
    if current is not None and current.step is StepName.SEND:
        offer = looks.offer
        if offer is not None and not isinstance(offer, TidyCrateError) and not offer.errors:
            quotes = offer.ways
        after = After.OFFERED if quotes else after
    return _told(looks, after, current, seen, news=False, quotes=quotes)


def failed_turn(error: TidyCrateError) -> Turn:
    """Return the turn of a shot that could not even be looked at."""
    found = trouble(StepName.SURVEY, error)
    return Turn(After.FAILED if found.state is StepState.FAILED else After.PERSON, found, {found.step: found})


def _fetched(carrier: Carrier, acts: NightActs) -> bool:
    try:
        return acts.fetch(carrier.looks)
    except FarmBusy:
        return False
    finally:
        carrier.looks.refresh()


def _offered(carrier: Carrier, standing: Standing, news: bool) -> Turn:
    offer = carrier.looks.offer
    if offer is None or isinstance(offer, TidyCrateError) or offer.errors:
        return _turn(carrier, After.PERSON, standing, news)
    quotes = offer.ways or ((offer.quote,) if offer.quote is not None else ())
    if not quotes:
        # without an estimate no plan can hold it: a person sends it
        return _turn(carrier, After.PERSON, standing, news)
    return replace(_turn(carrier, After.OFFERED, standing, news), quotes=quotes)


def _turn(carrier: Carrier, after: After, standing: Standing | None, news: bool) -> Turn:
    return _told(carrier.looks, after, standing, dict(carrier.seen), news=news)


def _told(
    looks: Looks,
    after: After,
    standing: Standing | None,
    seen: dict[StepName, Standing],
    *,
    news: bool,
    quotes: tuple[Quote, ...] = (),
) -> Turn:
    facts = looks.facts if looks.job is not None else None
    bill, left, job = None, None, ""
    farms: tuple[str, ...] = ()
    silent: tuple[str, ...] = ()
    if facts is not None:
        view, job = facts.view, facts.row.id
        if view.cost is not None and view.currency:
            caps = [one.cap for one in view.at if not one.given_up]
            # of a farm that was given up, what it has billed
            spent = sum((one.cost for one in view.at if one.given_up), Decimal(0))
            known = [cap for cap in caps if cap is not None]
            cap = sum(known, spent) if len(known) == len(caps) else None
            bill = Bill(view.cost, view.currency, view.forecast.cost, cap)
        left = view.forecast.seconds_left
        farms, silent = view.farms, tuple(one.farm for one in view.unheard)
    return Turn(after, standing, seen, job, quotes, bill, left, news, farms, silent)
