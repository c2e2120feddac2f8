"""Carrying a night of shots: who has a turn when, what is sent by which plan, and what is told of all of them.

It decides, and does nothing itself: turns are taken by others, in processes of their own.
"""

from __future__ import annotations

import heapq
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from decimal import ROUND_DOWN, Decimal

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.money import CENT, by_currency
from tidy_crate.core.work.options import SendOptions
from tidy_crate.core.workflow.night_plan import Limits, Plan, Way, plan_night
from tidy_crate.core.workflow.shot import options_of
from tidy_crate.core.workflow.standing import Standing, StepName, failed
from tidy_crate.core.workflow.turn import After, Turn

# seconds between two looks at a farm: the first, and the longest
SOON, LATE = 1.0, 30.0
# seconds after which a shot that waits for a person is looked at again, while others are carried
AGAIN = 30.0
# caps are at the most so many times what a shot is unlikely to cost: frames are rendered again, and a farm may be slow
MOST_SLACK = 10.0
# why a shot has no place in the plan
NO_WAY = "no way to render it is left within the budget and the time"
# how often the process of a shot may end without a word before the shot is left alone
MOST_CRASHES = 2


@dataclass(frozen=True)
class Place:
    """A shot's place in the plan: where it is sent, on what, and for how much at the most."""

    farm: str
    machine: str
    nodes: int
    options: SendOptions
    cap: Decimal
    currency: str


@dataclass
class ShotState:
    """One shot of the night."""

    name: str
    priority: str
    cap: Decimal | None = None
    """Most that it may cost by its own words, in the currency of the budget."""
    turn: Turn | None = None
    """The last one."""
    steps: dict[StepName, Standing] = field(default_factory=dict)
    place: Place | None = None
    job: str = ""
    left_out: str = ""
    """Why the plan has no place for it."""
    running: bool = False
    pause: float = SOON
    crashes: int = 0

    @property
    def suspected(self) -> bool:
        """Return whether its process may have ended because of it, which a turn alone will tell."""
        return 0 < self.crashes < MOST_CRASHES

    @property
    def after(self) -> After | None:
        """What comes after its last turn, None before the first."""
        return self.turn.after if self.turn is not None else None

    @property
    def settled(self) -> bool:
        """Return whether nothing more happens to it by itself."""
        if self.running or self.turn is None:
            return False
        if self.turn.after is After.OFFERED:
            return bool(self.left_out)
        return self.turn.after in (After.DONE, After.PERSON, After.FAILED, After.ELSEWHERE)


@dataclass(frozen=True)
class Purse:
    """The money of a night."""

    budget: Decimal | None
    """None for no limit on all shots together; then each needs a cap of its own."""
    currency: str
    seconds: float | None
    """Until the last frame should be home, from now."""


@dataclass(frozen=True)
class Money:
    """What a night costs: by currency of the farms."""

    billed: Mapping[str, Decimal]
    forecast: Mapping[str, Decimal]
    """Likely, of all jobs that were sent."""


# a shot's turn, begun; its place in the plan and its job go along
Begin = Callable[[ShotState], "Future[Turn]"]
# by farm and machine class, how many machines there are
Machines = Callable[[str, str], int]
# an amount of one currency in that of the budget, None where no rate is known
Convert = Callable[[Decimal, str], Decimal | None]


class Night:
    """All shots, the most urgent first."""

    def __init__(
        self,
        shots: Sequence[ShotState],
        begin: Begin,
        slots: Callable[[int], int],
        purse: Purse,
        machines: Machines,
        convert: Convert,
        now: Callable[[], float],
        *,
        look_only: bool = False,
    ) -> None:
        """begin: begins a turn. slots: how many turns may run side by side, given the memory that one takes at most.

        now: seconds of a clock that only goes forward. look_only: one turn each, in which nothing is done; the plan is
        then what would be sent.
        """
        self.shots = list(shots)
        self._begin, self._slots, self._purse = begin, slots, purse
        self._machines, self._convert, self._now = machines, convert, now
        self._look_only = look_only
        # by what comes first: those that are not sent yet, then those at farms; each by urgency
        self._ready: list[int] = []
        self._at_farms: list[int] = []
        for at in range(len(self.shots)):
            self._queue(at)
        self._asleep: list[tuple[float, int]] = []
        self._running: dict[Future[Turn], int] = {}
        # by farm that does not answer, when the next shot asks it; the others wait for that one
        self._silent: dict[str, float] = {}
        self._began = now()
        self._memory = 0
        self.plan: Plan | None = None
        self.messages: list[str] = []

    def go(self, show: Callable[[Night], None], *, tick: float = 0.5) -> None:
        """Carry all shots until nothing more happens by itself. show: is shown how it stands, every `tick` seconds."""
        while not all(map(self._settled, self.shots)):
            self._wake()
            self._fill()
            self._collect(tick)
            if not self._look_only:
                self._place()
            show(self)
        if self._look_only:
            able = [one for one in self.shots if one.after is After.OFFERED]
            self.plan = self._planned(able) if able else None
            show(self)

    def _settled(self, one: ShotState) -> bool:
        return one.turn is not None and not one.running if self._look_only else one.settled

    def stop(self) -> None:
        """Take no further turn."""
        for future in self._running:
            future.cancel()

    @property
    def money(self) -> Money:
        """Return what is billed and what is likely to be, by currency."""
        bills = [one.turn.bill for one in self.shots if one.turn is not None and one.turn.bill is not None]
        likely = ((one.forecast.likely if one.forecast is not None else one.billed, one.currency) for one in bills)
        return Money(by_currency((one.billed, one.currency) for one in bills), by_currency(likely))

    def _wake(self) -> None:
        now = self._now()
        while self._asleep and self._asleep[0][0] <= now:
            at = heapq.heappop(self._asleep)[1]
            turn = self.shots[at].turn
            silent = [one for one in (turn.farms if turn is not None else ()) if one in self._silent]
            if silent and (until := max(self._silent[one] for one in silent)) > now:
                heapq.heappush(self._asleep, (until + 0.1, at))
                continue
            for farm in silent:
                # this one asks, and the others of that farm wait for what it hears
                self._silent[farm] = now + LATE
            self._queue(at)

    def _queue(self, at: int) -> None:
        heapq.heappush(self._at_farms if self.shots[at].job else self._ready, at)

    def _fill(self) -> None:
        """Begin turns as memory and processors allow, the most urgent shots first."""
        if any(one.suspected for one in self.shots):
            # it has its turn alone: then it is known whose process ends
            suspect = next((at for at in (*self._ready, *self._at_farms) if self.shots[at].suspected), None)
            if suspect is not None and not self._running:
                queue = self._ready if suspect in self._ready else self._at_farms
                queue.remove(suspect)
                heapq.heapify(queue)
                self._start(suspect)
            return
        slots = max(1, self._slots(self._memory))
        while (self._ready or self._at_farms) and len(self._running) < slots:
            # what is sent early is home early, but one turn at a time is always for frames that are to come home
            fetching = any(self.shots[one].job for one in self._running.values())
            farms_first = self._at_farms and (not self._ready or not fetching)
            self._start(heapq.heappop(self._at_farms if farms_first else self._ready))

    def _start(self, at: int) -> None:
        self.shots[at].running = True
        self._running[self._begin(self.shots[at])] = at

    def _collect(self, tick: float) -> None:
        """Take in the turns that have ended, for `tick` seconds at the most."""
        until = self._asleep[0][0] - self._now() if self._asleep else tick
        if not self._running:
            # nothing to wait for but the clock
            time.sleep(max(0.0, min(tick, until)))
            return
        ended, _ = wait(self._running, timeout=max(0.0, min(tick, until)), return_when=FIRST_COMPLETED)
        for future in ended:
            self._take(self.shots[self._running[future]], self._running.pop(future), future)

    def _take(self, shot: ShotState, at: int, future: Future[Turn]) -> None:
        shot.running = False
        try:
            turn = future.result()
        except BrokenProcessPool:
            shot.crashes += 1
            if shot.crashes < MOST_CRASHES:
                self._queue(at)
                return
            turn = _crashed(shot, TidyCrateError("the process that carried it ended without a word, twice"))
        except TidyCrateError as error:
            turn = _crashed(shot, error)
        else:
            shot.crashes = 0
        self._memory = max(self._memory, turn.memory)
        self.messages += [f"{shot.name}: {one}" for one in turn.messages]
        shot.turn = turn
        shot.steps |= turn.seen
        shot.job = turn.job or shot.job
        if turn.after is After.DONE:
            # its cap is free again, as far as it was not spent
            for one in self.shots:
                one.left_out = "" if one.left_out == NO_WAY else one.left_out
        for farm in turn.farms:
            self._silent.pop(farm, None)
        for farm in turn.silent:
            self._silent[farm] = self._now() + min(LATE, max(SOON, shot.pause))
        self._again(shot, at, turn)

    def _again(self, shot: ShotState, at: int, turn: Turn) -> None:
        """Say when a shot has its next turn."""
        if self._look_only:
            return
        if turn.after is After.FARM:
            shot.pause = SOON if turn.news else min(LATE, shot.pause * 1.5)
            heapq.heappush(self._asleep, (self._now() + shot.pause, at))
        elif turn.after in (After.PERSON, After.ELSEWHERE):
            # somebody may settle it while the others are carried
            heapq.heappush(self._asleep, (self._now() + AGAIN, at))

    def _place(self) -> None:
        """Give a place to those that could be sent, if none that comes first is still being made ready."""
        offered = [one for one in self.shots if self._waits_for_place(one)]
        if not offered:
            return
        order = ("first", "normal", "last")
        unready = [
            order.index(one.priority)
            for one in self.shots
            if one.place is None and not one.job and (one.running or one.turn is None)
        ]
        # what comes first gets the money first; without a budget there is nothing to share
        bound = min(unready, default=len(order)) if self._purse.budget is not None else len(order)
        able = [one for one in offered if order.index(one.priority) <= bound]
        if not able:
            return
        if self._purse.budget is None:
            for one in able:
                if one.cap is None:
                    one.left_out = "it costs money, and neither a budget nor a cap was said"
            able = [one for one in able if not one.left_out]
        try:
            self.plan = self._planned(able)
        except TidyCrateError as error:
            for one in able:
                one.left_out = error.what
            return
        placed = {way.shot: way for way in self.plan.ways}
        slack = self._slack(len(able), len(unready))
        for one in able:
            way = placed.get(one.name)
            if way is None:
                one.left_out = NO_WAY
                continue
            quote = one.turn.quotes[way.quote] if one.turn is not None else None
            if quote is None:
                continue
            one.place = _place_of(quote, self._cap(one, quote, slack))
            one.left_out = ""
            self._queue(self.shots.index(one))

    @staticmethod
    def _waits_for_place(one: ShotState) -> bool:
        return one.after is After.OFFERED and not one.running and one.place is None and not one.left_out

    def _planned(self, able: Sequence[ShotState]) -> Plan:
        ways = []
        for one in able:
            for at, quote in enumerate(one.turn.quotes if one.turn is not None else ()):
                high, likely = (self._convert(x, quote.cost.currency) for x in (quote.cost.high, quote.cost.likely))
                if quote.eligible and not quote.shares and high is not None and likely is not None:
                    if one.cap is not None and likely > one.cap:
                        continue
                    cost = float(high if one.cap is None else min(high, one.cap))
                    ways.append(Way(one.name, quote.farm, quote.machine, quote.nodes, cost, float(likely),
                                    quote.seconds.high, at))  # fmt: skip
        pools = {way.pool: self._machines(*way.pool) for way in ways}
        left = None
        if self._purse.budget is not None:
            left = float(self._purse.budget - self._committed())
        seconds = None
        if self._purse.seconds is not None:
            seconds = max(0.0, self._purse.seconds - (self._now() - self._began))
        limits = Limits(pools, left, seconds, self._busy())
        plan = plan_night(ways, {one.name: one.priority for one in able}, limits)
        if seconds is not None and plan.left_out:
            # too late is better than not at all, within the money
            late = plan_night(ways, {one.name: one.priority for one in able}, Limits(pools, left, None, self._busy()))
            if len(late.left_out) < len(plan.left_out):
                return late
        return plan

    def _committed(self) -> Decimal:
        """Return the most that the jobs may cost that were sent, or are being sent, in the currency of the budget."""
        total = Decimal(0)
        for one in self.shots:
            done = one.turn is not None and one.turn.after is After.DONE
            if one.place is not None and not done:
                total += self._convert(one.place.cap, one.place.currency) or Decimal(0)
            elif one.turn is not None and one.turn.bill is not None:
                # done, or sent by an earlier run, which gave it a cap: what it is likely to cost is known
                bill = one.turn.bill
                amount = bill.billed if done else bill.most
                total += self._convert(amount, bill.currency) or Decimal(0)
        return total

    def _busy(self) -> dict[tuple[str, str], float]:
        """Return the machine seconds of what is at the farms already."""
        found: dict[tuple[str, str], float] = {}
        for one in self.shots:
            if one.place is not None and one.turn is not None and one.turn.after is After.FARM:
                pool = (one.place.farm, one.place.machine)
                found[pool] = found.get(pool, 0.0) + (one.turn.seconds_left or 0.0) * one.place.nodes
        return found

    def _slack(self, placed: int, unready: int) -> float:
        """Return by how much caps are above what is unlikely to be cost: as the budget allows, all caps together.

        Shots that are still made ready are taken to cost as much as those that are sent now.
        """
        if self._purse.budget is None or self.plan is None or not self.plan.cost or not placed:
            return MOST_SLACK
        left = float(self._purse.budget - self._committed())
        return min(MOST_SLACK, max(1.0, left / self.plan.cost * placed / (placed + unready)))

    def _cap(self, one: ShotState, quote: Quote, slack: float) -> Decimal:
        """Return the most that a shot may cost, in the farm's currency."""
        wanted = quote.cost.high * Decimal(str(round(slack, 6)))
        rate = self._convert(Decimal(1), quote.cost.currency)
        if one.cap is None or not rate:
            return wanted
        return min(wanted, one.cap / rate) if self._purse.budget is not None else one.cap / rate


def _place_of(quote: Quote, cap: Decimal) -> Place:
    return Place(
        farm=quote.farm,
        machine=quote.machine,
        nodes=quote.nodes,
        options=options_of(quote),
        cap=cap.quantize(CENT, ROUND_DOWN),
        currency=quote.cost.currency,
    )


def _crashed(shot: ShotState, error: TidyCrateError) -> Turn:
    step = shot.turn.current.step if shot.turn is not None and shot.turn.current is not None else StepName.SURVEY
    remedy = error.remedy or "carry it alone to see what happens"
    found = failed(step, TidyCrateError(error.what, error.where, remedy))
    return Turn(After.FAILED, found, {step: found}, shot.job)
