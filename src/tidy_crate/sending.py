"""Sending for the user: puts together crate, farm cards, configuration, estimate, ledger and links.

Part of `tidy_crate.api`, which hands on what is public here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import Protocol

from tidy_crate.core.context.project import Project
from tidy_crate.core.crate.origin import scene_of
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError, TidyCrateError, WrongUsage
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.farm.card import FarmCard, find_card, read_card
from tidy_crate.core.farm.links.interface import FarmLink, needed
from tidy_crate.core.farm.protocol import Capability
from tidy_crate.core.job.handover import left_over
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.outage import say_nothing
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.prepare import prepare as look_over
from tidy_crate.core.job.repeats import Earlier, sent_before
from tidy_crate.core.job.send import Sent
from tidy_crate.core.job.send import send as submit
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.work.options import FarmOptions, SendOptions
from tidy_crate.core.work.task import Task, TaskRange, ranges_of, slices, tasks_of
from tidy_crate.estimating import Asking, own_quote


class Sender(Asking, Protocol):
    """The facts about a user that sending needs."""

    @property
    def send_options(self) -> FarmOptions:
        """Wishes in the user's configuration."""

    def origin_of(self, crate: Path) -> Path:
        """Return the file in which this machine notes the sources of a crate."""


# opens the link to the farm of a card, by the card's path
ByCard = Callable[[str], FarmLink]


@dataclass(frozen=True)
class Prepared:
    """A submission that could be made."""

    sending: Sending
    card: FarmCard
    card_path: Path
    quote: Quote | None
    """Quote of this submission, where the crate was probed."""
    no_quote: str = ""
    """Why there is no quote."""
    earlier: Earlier | None = None
    """The submission that it would repeat."""


def wishes_for(crate: Path, card: FarmCard, said: SendOptions, user: Sender) -> list[tuple[str, SendOptions]]:
    """Return all wishes for a crate at a farm, from the one that counts least on. said: on the command line."""
    noted = scene_of(user.origin_of(crate.absolute()))
    project = Project.of(noted if noted is not None else crate.absolute() / "scene")
    layers: list[tuple[str, SendOptions]] = [(f"card {card.name}", card.send)]
    layers.append(("user's configuration", user.send_options.at(card.name)))
    if project.file is not None:
        layers.append((str(project.file), project.content.send.at(card.name)))
    return [*layers, ("command line", said)]


def prepare(
    crate: Path,
    farm: str,
    said: SendOptions,
    user: Sender,
    ledger: Ledger,
    views: tuple[str, ...] = (),
    tasks: tuple[TaskRange, ...] = (),
) -> Prepared:
    """Check a crate against a farm, as it is asked for, and quote it. Nothing is sent.

    views: see `send.prepare`. tasks: only these; all of them where none is named.
    """
    path = find_card(farm, user.card_folders)
    card = read_card(path)
    layers = wishes_for(crate, card, said, user)
    cache = user.survey_cache_of(crate)
    sending = look_over(crate, card, layers, date.today(), user.origin_of(crate), views, cache)
    if tasks:
        sending = sending.of(tasks)
    return _quoted(Prepared(sending, card, path, None), user, ledger)


def _quoted(prepared: Prepared, user: Sender, ledger: Ledger) -> Prepared:
    sending = prepared.sending
    quote, why = None, ""
    try:
        quote = own_quote(sending, prepared.card, user, ledger)
    except TidyCrateError as error:
        why = f"{error.what}; run probe on it"
    earlier = sent_before(ledger, sending.packing, sending.ranges, prepared.card)
    return replace(prepared, quote=quote, no_quote=why, earlier=earlier)


def split(prepared: Sequence[Prepared], weights: Mapping[str, float], user: Sender, ledger: Ledger) -> list[Prepared]:
    """Share the tasks of one crate out between farms: each task once, in shares that fit speed and quotas.

    weights: by farm, where other shares are wanted than by speed. Raises WrongUsage where the quotas do not hold all.
    """
    names = [one.card.name for one in prepared]
    if len(set(names)) < len(names):
        raise WrongUsage("a farm is named twice", ", ".join(names))
    strange = next((name for name in weights if name not in names), None)
    if strange is not None:
        raise WrongUsage("a share is for a farm that is not named", strange, f"the farms are {', '.join(names)}")
    first = prepared[0].sending.packing
    if any(one.sending.packing != first for one in prepared):
        what = "the farms' own wishes ask for different pictures, so that they cannot share one job"
        raise WrongUsage(what, None, "say size, samples and views on the command line, for all of them")
    tasks = list(tasks_of(prepared[0].sending.ranges, first.requests))
    shares = weights_by_speed(prepared) | {name: Fraction(str(value)) for name, value in weights.items()}
    quotas = {one.card.name: one.card.limits.frames for one in prepared if one.card.limits.frames is not None}
    found = []
    for one, own in zip(prepared, _within(tasks, shares, quotas), strict=True):
        if own:
            found.append(_quoted(replace(one, sending=one.sending.of(ranges_of(own))), user, ledger))
    return found


def weights_by_speed(prepared: Sequence[Prepared]) -> dict[str, Fraction]:
    """Return by farm how many tasks it finishes in the same time: by the quotes where all have one, else by scores."""
    found = {}
    quoted = all(one.quote is not None and one.quote.task_seconds for one in prepared)
    for one in prepared:
        nodes = one.sending.nodes
        if quoted and one.quote is not None and one.quote.task_seconds:
            found[one.card.name] = Fraction(nodes) / Fraction(one.quote.task_seconds)
        else:
            found[one.card.name] = nodes * Fraction(one.card.machine_named(one.sending.machine).speed)
    return found


def _within(tasks: Sequence[Task], shares: Mapping[str, Fraction], quotas: Mapping[str, int]) -> list[tuple[Task, ...]]:
    """Share tasks out by weight with no share above its quota: what is too much goes to the others."""
    sizes: dict[str, int] = {}
    left = dict(shares)
    total = len(tasks)
    while left:
        cut = {name: len(own) for name, own in slices(tasks[: total - sum(sizes.values())], left).items()}
        over = [name for name, size in cut.items() if name in quotas and size > quotas[name]]
        if not over:
            sizes |= cut
            break
        sizes |= {name: quotas[name] for name in over}
        left = {name: weight for name, weight in left.items() if name not in over}
    if sum(sizes.values()) < total:
        raise WrongUsage(
            f"the quotas of these farms hold {sum(sizes.values())} of {total} frames", None, "add another farm"
        )
    found, at = [], 0
    for name in shares:
        found.append(tuple(tasks[at : at + sizes[name]]))
        at += sizes[name]
    return found


def send_all(
    prepared: Sequence[Prepared],
    links: ByCard,
    ledger: Ledger,
    progress: Progress = silent,
    *,
    job: str | None = None,
    again: bool = False,
    tell: Callable[[str], None] = say_nothing,
) -> Sent:
    """Send to one farm, or one job to several. This spends money.

    job: adds to a job that there is. Where a farm fails after another one has its share, the job goes on there, and the
    error says how to send the rest elsewhere.
    """
    sent: Sent | None = None
    for one in prepared:
        name = sent.job if sent is not None else job
        try:
            found = submit(
                one.sending, one.card, one.card_path, links(str(one.card_path)), ledger, one.quote, progress,
                job=name, again=again, adds=job is None, tell=tell,
            )  # fmt: skip
        except TidyCrateError as error:
            if sent is None:
                raise
            done = ", ".join(each.farm for each in sent.submissions)
            remedy = f"{sent.job} runs at {done}; for the rest: tidy-crate handover {sent.job} --to FARM"
            raise FarmError(f"{one.card.name} did not take its share: {error.what}", error.where, remedy) from error
        sent = (
            found if sent is None else sent.model_copy(update={"submissions": (*sent.submissions, *found.submissions)})
        )
    if sent is None:
        raise WrongUsage("there is nothing to send")
    return sent


def to_send(prepared: Prepared, links: ByCard) -> int:
    """Return how many bytes would be uploaded. Asks the farm; nothing is sent."""
    link = links(str(prepared.card_path))
    deliver = needed(link.deliver, link, Capability.DELIVER)
    return deliver.to_send(prepared.sending.crate, prepared.sending.delivered)


def prepare_rest(
    job: str, given_up: Sequence[str], farm: str, said: SendOptions, user: Sender, ledger: Ledger
) -> Prepared:
    """Prepare what no farm renders of a job: tasks that no farm has, and those of the farms that are given up.

    Raises WrongUsage when nothing is left over.
    """
    crate, packing, tasks = left_over(ledger, job, given_up)
    if not tasks:
        raise WrongUsage("nothing of this job is left to render", job, f"track {job} shows which farm renders what")
    return _for_job(crate, packing, tasks, farm, said, user, ledger)


def prepare_again(
    job: str, tasks: Sequence[Task], farm: str, said: SendOptions, user: Sender, ledger: Ledger
) -> Prepared:
    """Prepare some tasks of a job to be rendered again, at any farm and on any machines."""
    row, _ = submissions_of(ledger, job)
    return _for_job(Path(row.crate), row.packing_list(), tasks, farm, said, user, ledger)


def _for_job(
    crate: Path,
    packing: PackingList,
    tasks: Sequence[Task],
    farm: str,
    said: SendOptions,
    user: Sender,
    ledger: Ledger,
) -> Prepared:
    """Prepare tasks of a job that was sent. Raises WrongUsage where its crate has changed since."""
    path = find_card(farm, user.card_folders)
    card = read_card(path)
    # the pictures are those of the job; only the machines are chosen again
    same = {"frames", "cameras", "variants", "size", "samples", "outputs", "tiles", "shares", "order", "spread"}
    layers = [
        (origin, SendOptions.model_construct(**{k: v for k, v in one.said().items() if k not in same}))
        for origin, one in wishes_for(crate, card, said, user)
    ]
    cache = user.survey_cache_of(crate)
    sending = look_over(crate, card, layers, date.today(), user.origin_of(crate), survey_cache=cache)
    if sending.delivered.model_copy(update={"requests": packing.requests}) != packing:
        what = "the crate was collected again since the job was sent, so that its frames would differ"
        raise WrongUsage(what, crate, "send it as a job of its own")
    sending = sending.model_copy(update={"packing": packing}).of(ranges_of(tasks))
    return _quoted(Prepared(sending, card, path, None), user, ledger)
