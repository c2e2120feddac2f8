"""A night of shots: a shot list, its turns in processes of their own, and what came of it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import ExitStack
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.desk import Desk
from tidy_crate.api.farms import load_card
from tidy_crate.api.frames import record
from tidy_crate.api.user import User
from tidy_crate.api.workflow import Doing, lock_of, shot_for

if TYPE_CHECKING:
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.job.notify import News
    from tidy_crate.core.review.record import Record
    from tidy_crate.core.workflow.morning import ShotOutcome
    from tidy_crate.core.workflow.night import Night, Place, Purse, ShotState
    from tidy_crate.core.workflow.shot import Shot
    from tidy_crate.core.workflow.shot_list import ShotEntry, ShotList
    from tidy_crate.core.workflow.turn import Turn

# writes the record of a job as a file; a function of a module, so that other processes find it
WriteReport = Callable[[Path, "Record"], None]
# bytes that one turn is taken to need before any was measured
USUAL_MEMORY = 1 << 30


@dataclass(frozen=True)
class Ticket:
    """What a process of its own needs for a turn at a shot: plain values."""

    entry: ShotEntry
    asked: ShotEntry
    """The same with what is asked of all shots."""
    folder: Path
    """The list's folder."""
    job: str
    """Its job, once it was sent; empty before."""
    place: Place | None
    environment: dict[str, str]
    write_report: WriteReport | None
    look_only: bool = False


def shot_of(ticket: Ticket, desk: Desk) -> Shot:
    """Return a shot of a list as it is carried. Where it has a place in the plan, by that."""
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.core.workflow.shot_list import filled

    entry, asked = ticket.entry, ticket.asked

    def place(pattern: str) -> Path | None:
        return ticket.folder / filled(pattern, entry.name, ticket.folder) if pattern else None

    options = SendOptions(machine=asked.machine, nodes=asked.nodes)
    shot = shot_for(
        entry.scene, desk, crate_folder=entry.crate, farms=asked.farms, options=options, asked=entry.render,
        into=place(asked.into or "frames/{shot}"), deliver=place(asked.deliver), report=place(asked.report),
    )  # fmt: skip
    if ticket.job:
        shot = replace(shot, job=ticket.job)
    if ticket.place is None:
        return shot
    chosen = ticket.place
    farm = next((one for one in shot.farms if desk.card(one).name == chosen.farm), chosen.farm)
    return replace(shot, farms=(farm,), spare=shot.farms, options=chosen.options, cap=(chosen.cap, chosen.currency))


def take_turn(ticket: Ticket) -> Turn:
    """Take a turn at a shot, in this process. Whatever goes wrong is the outcome of the turn, and of no other shot."""
    from tidy_crate.core.errors import TidyCrateError
    from tidy_crate.core.workflow.turn import failed_turn

    try:
        return _taken(ticket)
    except TidyCrateError as error:
        return failed_turn(error)
    except Exception as error:  # noqa: BLE001 - the other shots of the night go on
        what = f"an unexpected error occurred ({type(error).__name__}: {str(error)[:200]})"
        return failed_turn(TidyCrateError(what, None, "carry it alone, and report what is shown then"))


def _taken(ticket: Ticket) -> Turn:
    import psutil

    from tidy_crate.core.errors import Blocked
    from tidy_crate.core.files import only_one
    from tidy_crate.core.workflow.looks import sent_as_it_is
    from tidy_crate.core.workflow.turn import After, look_turn
    from tidy_crate.core.workflow.turn import Turn as Result
    from tidy_crate.core.workflow.turn import take_turn as core

    os.environ.update(ticket.environment)
    _SAID.clear()
    with ExitStack() as stack:
        desk = _desk()
        shot = shot_of(ticket, desk)
        if ticket.look_only:
            return look_turn(sent_as_it_is(shot))
        try:
            stack.enter_context(only_one(lock_of(shot), "carries this shot", shot.crate))
        except Blocked as error:
            return Result(After.ELSEWHERE, messages=(error.what,))
        if not shot.job and ticket.place is None:
            shot = sent_as_it_is(shot)
        doing = Doing(desk, tell=_SAID.append, write_report=ticket.write_report)
        found = core(shot, doing, may_send=ticket.place is not None or bool(shot.job))
    own = psutil.Process()
    memory = own.memory_info().rss + sum(one.memory_info().rss for one in own.children(recursive=True))
    return replace(found, messages=tuple(dict.fromkeys(_SAID)), memory=memory)


# what farms and lines said in this turn
_SAID: list[str] = []


@cache
def _desk() -> Desk:
    """Return the desk of this process: its ledger and its links to farms stay open from turn to turn."""
    return Desk(User.here(), tell=_SAID.append)


class Turns:
    """Takes turns in processes of their own. Use it as a context manager."""

    def __init__(
        self, found: ShotList, folder: Path, user: User, write_report: WriteReport | None, *, look_only: bool = False
    ) -> None:
        """look_only: nothing is done in a turn."""
        self._list, self._folder, self._write_report, self._look_only = found, folder, write_report, look_only
        self._environment = {"TIDY_CRATE_HOME": str(user.home)} if "TIDY_CRATE_HOME" in user.environment else {}
        self._entries = {one.name: one for one in found.shot}
        self._pool: ProcessPoolExecutor | None = None

    def begin(self, state: ShotState) -> Future[Turn]:
        """Begin a turn at a shot."""
        entry = self._entries[state.name]
        asked = entry.model_copy(update=dict(self._list.of(entry)))
        ticket = Ticket(
            entry, asked, self._folder, state.job, state.place, self._environment, self._write_report, self._look_only
        )
        if self._pool is None:
            self._pool = self._new()
        try:
            return self._pool.submit(take_turn, ticket)
        except BrokenProcessPool:
            # a process of the pool ended without a word: all of them are made anew
            self._pool = self._new()
            return self._pool.submit(take_turn, ticket)

    @staticmethod
    def slots(memory: int) -> int:
        """Return how many turns may run side by side. memory: bytes that one takes at the most."""
        import psutil

        free = psutil.virtual_memory().available
        return max(1, min(_processors(), int(free // max(memory, USUAL_MEMORY))))

    @staticmethod
    def _new() -> ProcessPoolExecutor:
        import multiprocessing

        # a fresh process each: what a scene leaves in memory is its own
        context = multiprocessing.get_context("spawn")
        return ProcessPoolExecutor(_processors(), context, _begin, (os.getpid(),))

    def __enter__(self) -> Turns:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if self._pool is None:
            return
        if kind is not None:
            # interrupted: what is under way ends now, and is gone on with at the next run
            import multiprocessing

            for process in multiprocessing.active_children():
                process.terminate()
        self._pool.shutdown(wait=True, cancel_futures=True)


def _begin(parent: int) -> None:
    """Begin a process that takes turns: it ends with its parent, which alone listens to the keyboard."""
    import signal

    from tidy_crate.core.process import watch_parent

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    watch_parent(parent)


def read_list(path: Path) -> ShotList:
    """Read a shot list; its paths are absolute. Raises UnreadableInput and WrongUsage that name the line."""
    from tidy_crate.core.workflow.shot_list import read_shot_list

    return read_shot_list(path, datetime.now().astimezone())


def carry_night(
    path: Path,
    show: Callable[[Night], None],
    *,
    budget: str | None = None,
    finish_by: str | None = None,
    write_report: WriteReport | None = None,
    look_only: bool = False,
    user: User | None = None,
) -> Night:
    """Carry all shots of a list until nothing more happens by itself. This may spend money, up to the budget.

    budget, finish_by: in place of those of the list. show: is shown how it stands. look_only: nothing is done or spent;
    the night then says how each shot stands, and what would be sent.
    """
    import time

    from tidy_crate.core.workflow.night import Night

    user = user or User.here()
    found = read_list(path)
    with Turns(found, path.absolute().parent, user, write_report, look_only=look_only) as turns:
        convert = converter(found, budget, user)
        night = Night(
            states_of(found, convert),
            turns.begin,
            turns.slots,
            purse_of(found, budget, finish_by),
            machines_of(found, user),
            convert,
            time.monotonic,
            look_only=look_only,
        )
        try:
            night.go(show)
        finally:
            night.stop()
    return night


def outcomes(found: ShotList, jobs: Mapping[str, str], user: User | None = None) -> tuple[ShotOutcome, ...]:
    """Return what came of the shots of a list that have a job. jobs: by shot."""
    from tidy_crate.core.context.project import FILE_NAME
    from tidy_crate.core.workflow.morning import outcome_of

    return tuple(
        outcome_of(one.name, record(jobs[one.name], user=user), FILE_NAME) for one in found.shot if jobs.get(one.name)
    )


def tell_others(news: News, tell: Callable[[str], None], user: User | None = None) -> None:
    """Send news by mail and web hook, as far as the user's configuration names any."""
    from tidy_crate.core.job.notify import Notifier

    user = user or User.here()
    if user.notify.is_set:
        Notifier(user.notify, user.keys.secret, tell).send(news)


def states_of(found: ShotList, convert: Callable[[Decimal, str], Decimal | None]) -> list[ShotState]:
    """Return the shots of a list, the most urgent first. convert: into the currency of the budget."""
    from tidy_crate.core.errors import WrongUsage
    from tidy_crate.core.money import parse_money
    from tidy_crate.core.workflow.night import ShotState
    from tidy_crate.core.workflow.shot_list import in_order

    states = []
    for entry in in_order(found.shot, found):
        asked = found.of(entry)
        cap = None
        if text := _cap_of(found, entry):
            amount, currency = parse_money(text, "")
            cap = convert(amount, currency)
            if cap is None:
                what = f"no rate of exchange is known for the cap of {entry.name}, {text}"
                raise WrongUsage(
                    what, entry.scene, "add [[exchange]] to config.toml, or give all amounts in one currency"
                )
        states.append(ShotState(entry.name, asked.priority or "normal", cap))
    return states


def purse_of(found: ShotList, budget: str | None = None, finish_by: str | None = None) -> Purse:
    """Return the money and the time of a list. Raises WrongUsage for an amount without a currency, or a past time."""
    from tidy_crate.core.errors import WrongUsage
    from tidy_crate.core.estimate.when import parse_when
    from tidy_crate.core.money import parse_money
    from tidy_crate.core.workflow.night import Purse as Found

    text, when = budget or found.budget, finish_by or found.finish_by
    now = datetime.now().astimezone()
    amount, currency = parse_money(text, "") if text else (None, "")
    if text and not currency:
        raise WrongUsage("the budget has no currency", repr(text), "write an amount and a currency: '120 EUR'")
    if not currency:
        caps = [text for one in found.shot if (text := _cap_of(found, one))]
        currency = parse_money(caps[0], "")[1] if caps else "EUR"
    seconds = (parse_when(when, now) - now).total_seconds() if when else None
    return Found(amount, currency, seconds)


def _cap_of(found: ShotList, entry: ShotEntry) -> str:
    """Return the cap of a shot: by the list, else by the rules of its project; empty for none."""
    from tidy_crate.core.context.project import Project

    return found.of(entry).cap or Project.of(entry.scene).content.carry.cap


def machines_of(found: ShotList, user: User) -> Callable[[str, str], int]:
    """Return how many machines a farm has of a class, by the names on its card."""
    from tidy_crate.core.context.project import Project

    names: Sequence[str] = [farm for one in found.shot for farm in found.of(one).farms or Project.of(one.scene).farms]

    @cache
    def cards() -> dict[str, FarmCard]:
        return {card.name: card for card, _ in (load_card(name, user=user) for name in dict.fromkeys(names))}

    def machines(farm: str, machine: str) -> int:
        card = cards().get(farm) or load_card(farm, user=user)[0]
        return card.machine_named(machine).nodes

    return machines


def converter(found: ShotList, budget: str | None, user: User) -> Callable[[Decimal, str], Decimal | None]:
    """Return what turns amounts into the currency of the budget; None for one without a known rate."""
    from tidy_crate.core.exchange import Exchange

    own = purse_of(found, budget).currency
    rates = Exchange.of(user.exchange)

    def convert(amount: Decimal, currency: str) -> Decimal | None:
        if currency == own:
            return amount
        rate = rates.rate(currency, own)
        return amount * rate[0] if rate is not None else None

    return convert


def _processors() -> int:
    counted = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(1, counted)
