"""Estimates for the user: puts together timings, farm cards, the ledger and the user's configuration.

Part of `tidy_crate.api`, which hands on what is public here.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path
from typing import Protocol

import numpy as np

from tidy_crate.core.check.finding import Severity
from tidy_crate.core.check.run import Against, check_crate
from tidy_crate.core.context.user import OwnMachine
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.estimate import Answer, Question, estimate
from tidy_crate.core.estimate.model import SCORE_HERE, Quote, Wishes
from tidy_crate.core.estimate.probe_result import read_probe
from tidy_crate.core.estimate.timings import Timings
from tidy_crate.core.estimate.what_if import parse_change
from tidy_crate.core.estimate.when import parse_when
from tidy_crate.core.estimate.written import table_timings, typed_timings
from tidy_crate.core.exchange import Exchange, ExchangeRate
from tidy_crate.core.farm.card import FarmCard, Machine, find_card, known_farms, read_card
from tidy_crate.core.job.experience import Experiences
from tidy_crate.core.job.job_timings import Machines, left_of_job, timings_of_job
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.own_quotes import ByName, with_own_quotes
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.money import parse_money
from tidy_crate.core.work.request import RenderRequest


class Asking(Protocol):
    """User data that an estimate needs."""

    @property
    def card_folders(self) -> list[Path]:
        """Return where a farm card is looked for by name."""

    @property
    def own_machine(self) -> OwnMachine:
        """Return what this machine is and costs."""

    @property
    def exchange(self) -> tuple[ExchangeRate, ...]:
        """Rates of exchange."""

    def survey_cache_of(self, scene: Path) -> Path:
        """Return the file in which the survey of a scene or a crate is kept."""


@dataclass(frozen=True)
class TimingSource:
    """Source of timings; the crate's test frames where none is given."""

    table: Path | None = None
    """A CSV file."""
    per_frame: str | None = None
    """A time for every frame, such as `80s`."""
    single: tuple[str, ...] = ()
    """Times of single frames, such as `1=80s,120=350s`."""
    load: str | None = None
    """The time to load the scene, for timings that are typed in."""
    job: str | None = None
    """An earlier job."""
    accept_old: bool = False
    """Take test frames of an earlier state of the crate."""


@dataclass(frozen=True)
class Ask:
    """Options of an estimate as typed."""

    machine: str | None = None
    nodes: int | None = None
    batch: int | None = None
    priority: str | None = None
    reclaimable: bool | None = None
    score_here: float | None = None
    upload_mbit: float | None = None
    currency: str | None = None
    accept_practice: bool = False
    finish_by: str | None = None
    """Such as `Fri 18:00`."""
    budget: str | None = None
    """Such as `120 EUR`."""
    ask_farms: bool = False
    """Ask farms that make quotes of their own."""
    what_if: str | None = None
    """Such as `samples=64,size=50%`."""


def find_timings(
    crate: Path,
    content: PackingList,
    source: TimingSource,
    requests: tuple[RenderRequest, ...],
    ledger: Ledger,
    cards: Sequence[Path],
) -> tuple[Timings, Mapping[str, np.ndarray]]:
    """Return the timings that a source names, and where the frames stand along the shot where that is known.

    Raises WrongUsage when two sources are named, UnreadableInput when there are no timings.
    """
    named = {
        "--timings": source.table is not None,
        "--seconds-per-frame": source.per_frame is not None,
        "--timing": bool(source.single),
        "--from-job": source.job is not None,
    }
    if sum(named.values()) > 1:
        both = " and ".join(name for name, given in named.items() if given)
        raise WrongUsage("timings can come from one place only", both, "give one of them")
    if source.table is not None:
        return table_timings(source.table, requests), {}
    if source.per_frame is not None or source.single:
        return typed_timings(source.per_frame, source.single, requests, source.load), {}
    if source.job is not None:
        return timings_of_job(ledger, source.job, _machines(cards), requests), {}
    found = read_probe(crate, content, accept_old=source.accept_old)
    positions = {name: np.array(each) for name, each in found.positions.items()}
    return found.timings(requests), positions


def _machines(folders: Sequence[Path]) -> Machines:
    def machine(card: str, name: str) -> Machine:
        return read_card(find_card(card, folders)).machine_named(name)

    return machine


def ask(
    target: str,
    farms: Sequence[str],
    wanted: Ask,
    source: TimingSource,
    user: Asking,
    ledger: Ledger,
    links: ByName | None = None,
) -> Answer:
    """Estimate a crate, or what is left of a job. target: the crate's folder or the job's name.

    links: opens the link to a farm, for quotes of its own.
    """
    job = None
    crate = Path(target).absolute()
    content = read_packing_list(crate) if crate.is_dir() else None
    # without a farm named, all that are known by name
    paths = [
        find_card(name, user.card_folders)
        for name in farms or (known_farms(user.card_folders) if content is not None else ())
    ]
    cards = [read_card(path) for path in paths]
    requests: tuple[RenderRequest, ...] | None = None
    delivered: frozenset[str] = frozenset()
    if content is None:
        row, submissions = submissions_of(ledger, target)
        job, crate, content = row.id, Path(row.crate), row.packing_list()
        requests = left_of_job(ledger, job)
        if not requests:
            raise WrongUsage("every frame of this job is rendered, so nothing is left to estimate", job,
                             "tidy-crate estimate --accuracy shows how its estimate did")  # fmt: skip
        delivered = frozenset(one.site or f"name {one.farm}" for one in submissions)
        known = {card.name for card in cards} | {card.site for card in cards}
        for one in submissions:
            if one.farm not in known and one.site not in known:
                cards.append(read_card(find_card(one.card, user.card_folders)))
        if source == TimingSource():
            source = TimingSource(job=job)
    cards_once = tuple({card.name: card for card in cards}.values())
    if len(cards_once) < len(cards):
        raise WrongUsage(
            "two of the cards have one name", ", ".join(card.name for card in cards), "name each farm once"
        )
    every = requests if requests is not None else content.to_render()
    timings, positions = _timings(crate, content, source, every, ledger, user, job)
    own = user.own_machine
    for name, number in (("--score-here", wanted.score_here), ("--upload-mbit", wanted.upload_mbit)):
        if number is not None and not 1e-6 <= number <= 1e9:
            raise WrongUsage("this is not a number that a machine or a line can have", f"{name} {number}")
    currency = (wanted.currency or (cards_once[0].currency if cards_once else "EUR")).upper()
    exchange = Exchange.of(user.exchange)
    most_money = None
    if wanted.budget is not None:
        amount, of = parse_money(wanted.budget, currency)
        rate = exchange.rate(of, currency)
        if rate is None:
            raise WrongUsage(
                f"no rate of exchange from {of} to {currency} is known", repr(wanted.budget),
                f"give the budget in {currency}, or add [[exchange]] to config.toml",
            )  # fmt: skip
        most_money = amount * rate[0]
    now = datetime.now().astimezone()
    finish = parse_when(wanted.finish_by, now) if wanted.finish_by is not None else None
    wishes = Wishes(
        machine=wanted.machine,
        nodes=wanted.nodes,
        batch=wanted.batch,
        score_here=wanted.score_here or own.score or SCORE_HERE,
        accept_practice=wanted.accept_practice,
        priority=wanted.priority,
        reclaimable=wanted.reclaimable,
        upload_mbit=wanted.upload_mbit or own.upload_mbit,
        most_seconds=(finish - now).total_seconds() if finish is not None else None,
        most_money=most_money,
        currency=currency,
    )
    answer = estimate(
        Question(
            content=content,
            timings=timings,
            cards=cards_once,
            wishes=wishes,
            exchange=exchange,
            experience=Experiences(ledger),
            requests=requests,
            delivered=delivered,
            refused=_refused(crate, cards_once, user.survey_cache_of(crate)),
            positions=positions,
            change=parse_change(wanted.what_if) if wanted.what_if is not None else None,
            hour_here=(own.price_per_hour, own.currency) if own.price_per_hour is not None else None,
        )
    )
    if not wanted.ask_farms or links is None:
        return answer
    cards_of = {card.name: str(path) for card, path in zip(cards, paths, strict=False)}
    asked = with_own_quotes(
        answer.estimate, content, every, ledger, cards_once, lambda farm: links(cards_of.get(farm, farm))
    )
    return replace(answer, estimate=asked)


def _refused(crate: Path, cards: tuple[FarmCard, ...], survey_cache: Path) -> dict[str, tuple[str, ...]]:
    """Return by farm what `check` finds that forbids sending the crate there."""
    found: dict[str, tuple[str, ...]] = {}
    try:
        result = check_crate(crate, Against(cards=cards, today=date.today()), survey_cache=survey_cache)
    except TidyCrateError:
        return found  # `check` and `send` say what is wrong with it
    for one in result.findings:
        if one.farm is not None and one.severity is Severity.ERROR and not one.waived:
            found[one.farm] = (*found.get(one.farm, ()), f"{one.subject}: {one.message}")
    return found


def _timings(
    crate: Path,
    content: PackingList,
    source: TimingSource,
    requests: tuple[RenderRequest, ...],
    ledger: Ledger,
    user: Asking,
    job: str | None,
) -> tuple[Timings, Mapping[str, np.ndarray]]:
    try:
        return find_timings(crate, content, source, requests, ledger, user.card_folders)
    except UnreadableInput:
        if job is None or source.job != job:
            raise
        # nothing of the job is rendered yet: its test frames have to do
        return find_timings(crate, content, TimingSource(accept_old=True), requests, ledger, user.card_folders)


def own_quote(sending: Sending, card: FarmCard, user: Asking, ledger: Ledger) -> Quote:
    """Return the quote of one way of sending a crate, or a part of it. Raises TidyCrateError without timings."""
    # the test frames are of the crate as it was packed, whatever is asked of it
    content = sending.delivered
    timings, positions = find_timings(
        sending.crate, content, TimingSource(), content.requests, ledger, user.card_folders
    )
    packed = {request.name: sorted(request.numbers()) for request in content.requests}
    ordered = _ordered(sending)
    same = {request.name for request in ordered if sorted(request.numbers()) == packed.get(request.name)}
    positions = {name: each for name, each in positions.items() if name in same}
    wishes = Wishes(
        machine=sending.machine,
        nodes=sending.nodes,
        batch=sending.batch,
        score_here=user.own_machine.score or SCORE_HERE,
        priority=sending.options.priority or (card.priority[0].name if card.priority else None),
        reclaimable=bool(sending.options.reclaimable),
    )
    question = Question(
        content, timings, (card,), wishes, experience=Experiences(ledger), requests=ordered,
        positions=positions, split=False,
    )  # fmt: skip
    return estimate(question).estimate.quotes[0]


def _ordered(sending: Sending) -> tuple[RenderRequest, ...]:
    """Return the requests with those frames and views that are sent."""
    requests = {request.name: request for request in sending.packing.to_render()}
    found = []
    for one in sending.ranges:
        request = requests[one.request]
        views = tuple(view for view in request.views if not one.views or view.name in one.views)
        found.append(request.model_copy(update={"frames": one.frames, "views": views}))
    return tuple(found)
