"""The estimate: timings, cards and wishes in, quotes and a plan out. It joins the parts of this package."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.estimate.model import Estimate, Quote, Wishes
from tidy_crate.core.estimate.offer import Experience, Offer
from tidy_crate.core.estimate.plan import (
    front_of,
    here_of,
    nearest_of,
    need_rates,
    pick_of,
    search,
    splits,
)
from tidy_crate.core.estimate.timing import Array
from tidy_crate.core.estimate.timings import PRACTICE, Timings
from tidy_crate.core.estimate.what_if import Change, changed, every_second
from tidy_crate.core.estimate.work import JobWork, work_of_job
from tidy_crate.core.exchange import Exchange
from tidy_crate.core.farm.card import FarmCard, Machine
from tidy_crate.core.money import Amount
from tidy_crate.core.work.request import RenderRequest

SEED = 20261101


@dataclass(frozen=True)
class Question:
    """Input of an estimate."""

    content: PackingList
    timings: Timings
    cards: tuple[FarmCard, ...]
    wishes: Wishes = field(default_factory=Wishes)
    exchange: Exchange = field(default_factory=Exchange)
    experience: Callable[[FarmCard, str], Experience] = lambda card, machine: Experience()
    """Experience of earlier jobs with a farm's machine class."""
    requests: tuple[RenderRequest, ...] | None = None
    """In place of the crate's: what is left of a job."""
    delivered: frozenset[str] = frozenset()
    """Farms that have the crate already."""
    refused: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """By farm, why it cannot take the scene: its programs, its rules."""
    positions: Mapping[str, Array] = field(default_factory=dict)
    """By request, where its frames stand along the shot."""
    change: Change | None = None
    hour_here: tuple[Amount, str] | None = None
    """Price of an hour on this machine, and its currency."""
    split: bool = True
    """True if splits between farms are looked at."""


@dataclass(frozen=True)
class Answer:
    """An estimate, and the work that it is of, for pictures."""

    estimate: Estimate
    work: JobWork


def estimate(question: Question) -> Answer:
    """Quote a crate on every card and machine class, and choose.

    Raises Blocked when it has nothing to render, UnreadableInput when a request has no timing, WrongUsage on wishes
    that no card can keep by its own account.
    """
    if not question.cards:
        raise WrongUsage(
            "no farm is known to estimate for", "--farm", "name a farm card, or make one known with farm add"
        )
    requests = question.requests if question.requests is not None else question.content.to_render()
    timings = question.timings
    requests = tuple(_with_samples(request, timings) for request in requests)
    timings = _as_asked(timings, requests)
    if question.change is not None:
        requests = changed(requests, question.change)
        if question.change.speed:
            timings = _faster(timings, question.change.speed)
    wishes = question.wishes
    currency = wishes.currency or question.cards[0].currency
    work = _work(question, requests, timings)
    found = search(_offers(question, work, timings), wishes, question.exchange, currency)
    quotes = found.quotes
    need_rates(quotes, currency)
    if question.split and wishes.nodes is None and wishes.machine is None:
        quotes += splits(found, front_of(quotes), question.exchange, currency)
    front = front_of(quotes)
    pick = pick_of(quotes, front, wishes)
    wishing = wishes.most_money is not None or wishes.most_seconds is not None
    nearest = (
        nearest_of(wishes, quotes, _changes(question, requests, timings, currency))
        if wishing and pick is None and front
        else ()
    )
    hour = question.hour_here
    slower = (timings.score or wishes.score_here) / wishes.score_here
    timed = {(one.request, one.frame) for one in timings.frames}
    return Answer(
        Estimate(
            quotes=quotes,
            front=front,
            pick=pick,
            here=here_of(work, slower, hour[0] if hour else None, hour[1] if hour else None),
            nearest=nearest,
            basis=timings.basis,
            source=timings.source,
            currency=currency,
            frames=work.pictures,
            timed=len(timed),
            width=work.width,
            what_if=str(question.change) if question.change is not None else "",
            notes=tuple(_notes(question, requests, timings, quotes)),
        ),
        work,
    )


def _with_samples(request: RenderRequest, timings: Timings) -> RenderRequest:
    """Return a request that states its samples, where it leaves them to the scene and test frames tell them."""
    if request.samples is not None:
        return request
    # with fewer samples to save time, one test frame has as many as the scene
    known = max((one.samples for one in timings.of(request.name) if one.samples), default=None)
    return request if known is None else request.model_copy(update={"samples": known})


def _as_asked(timings: Timings, requests: Sequence[RenderRequest]) -> Timings:
    """Return timings of which those without a size or samples are of what was asked before any change of it."""
    known = {request.name: request for request in requests}
    if len({(request.width, request.height, request.samples) for request in requests}) == 1:
        # a timing that counts for every request
        known[""] = requests[0]
    frames = []
    for one in timings.frames:
        request = known.get(one.request)
        if request is not None and not (one.width and one.height):
            one = replace(one, width=request.width, height=request.height)
        if request is not None and one.samples is None:
            one = replace(one, samples=request.samples)
        frames.append(one)
    return replace(timings, frames=tuple(frames))


def _work(question: Question, requests: Sequence[RenderRequest], timings: Timings) -> JobWork:
    outputs = {output.name: output for output in question.content.essentials.outputs}
    # a changed range has other frames than the positions are of
    fitting = {
        request.name: question.positions[request.name]
        for request in requests
        if request.name in question.positions and len(question.positions[request.name]) == len(request.numbers())
    }
    return work_of_job(requests, outputs, timings, question.content.bytes, SEED, fitting)


def _offers(question: Question, work: JobWork, timings: Timings) -> list[Offer]:
    return [
        Offer(
            card=card,
            machine=machine,
            work=work,
            timings=timings,
            wishes=question.wishes,
            experience=question.experience(card, machine.name),
            delivered=card.site in question.delivered,
            refused=question.refused.get(card.name, ()),
            seed=SEED,
        )
        for card in question.cards
        for machine in _machines(card, question.wishes.machine)
    ]


def _machines(card: FarmCard, wanted: str | None) -> Iterable[Machine]:
    return (card.machine_named(wanted),) if wanted else card.machine


def _faster(timings: Timings, speed: float) -> Timings:
    frames = tuple(replace(one, seconds=one.seconds / speed) for one in timings.frames)
    return replace(timings, frames=frames)


def _changes(
    question: Question, requests: tuple[RenderRequest, ...], timings: Timings, currency: str
) -> Iterable[tuple[str, Callable[[], Sequence[Quote]]]]:
    """Changes of what is rendered, from the least that is lost on."""

    def quotes_of(other: tuple[RenderRequest, ...]) -> Sequence[Quote]:
        work = _work(question, other, timings)
        return search(_offers(question, work, timings), question.wishes, question.exchange, currency).quotes

    samples = [request.samples for request in requests]
    if not timings.noise_target and all(one is not None and one > 1 for one in samples):
        for share in (0.75, 0.5, 0.25):
            fewer = tuple(
                request.model_copy(update={"samples": max(1, round((request.samples or 1) * share))})
                for request in requests
            )
            counts = ", ".join(sorted({str(request.samples) for request in fewer}))
            yield f"{counts} samples", lambda fewer=fewer: quotes_of(fewer)  # type: ignore[misc]
    for scale in (0.75, 0.5):
        smaller = changed(requests, Change(scale=scale))
        yield f"a scale of {scale:.0%}", lambda smaller=smaller: quotes_of(smaller)  # type: ignore[misc]
    if any(len(request.numbers()) > 1 for request in requests):
        yield "every second frame", lambda: quotes_of(every_second(requests))


def _notes(
    question: Question, requests: Sequence[RenderRequest], timings: Timings, quotes: Sequence[Quote]
) -> Iterable[str]:
    for request in requests:
        timed = sum((request.name, view) in timings.views for view in request.view_names)
        rest = len(request.view_names) - 1 - timed
        if rest > 0 and timings.basis in ("measured", PRACTICE):
            like = "to differ as those that were timed do" if timed else "to be alike"
            count = f"{timed + 1} of {len(request.view_names)} views of {request.name}"
            yield f"{count} were timed: the rest are taken {like}"
    if timings.load_seconds == 0 and timings.basis == "measured":
        yield "the render command tells no time for each frame, so that loading the scene counts for every frame"
    if timings.warning:
        yield timings.warning
    if timings.load_seconds is None:
        yield "the time to load the scene is not known, and counts as none"
    if timings.memory_bytes is None:
        yield "the memory that a frame takes is not known: no machine was left out for its memory"
    if not timings.home_bytes:
        yield "the size of a frame file is a guess from its pixels and passes"
    missing = sorted({quote.cost.currency for quote in quotes if quote.cost_own is None})
    if missing:
        yield f"no rate of exchange is known for {', '.join(missing)}: these quotes are not compared"
    wrong = sorted({quote.farm for quote in quotes if quote.corrected_by})
    if wrong:
        yield f"corrected by earlier jobs at {', '.join(wrong)}"
