"""Jobs: send, track, and what is done about them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.farms import FarmLinks, ledger
from tidy_crate.api.scene import own_commands
from tidy_crate.api.user import AT_ONCE, User
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from decimal import Decimal

    from tidy_crate.core.job.actions import Refund
    from tidy_crate.core.job.grid import Grid
    from tidy_crate.core.job.listing import JobLine
    from tidy_crate.core.job.send import Sent
    from tidy_crate.core.job.track import JobView
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.core.work.task import Task, TaskRange
    from tidy_crate.sending import Prepared


def prepare(
    crate: Path,
    farm: str,
    wanted: SendOptions | None = None,
    *,
    views: tuple[str, ...] = (),
    tasks: tuple[TaskRange, ...] = (),
    user: User | None = None,
) -> Prepared:
    """Check a crate against a farm, as it is asked for, and quote it. Nothing is sent.

    views: some of the views that the wishes come to, by name; all of them where none is named. tasks: only these.
    """
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import prepare as core

    user = user or User.here()
    with ledger(user) as book:
        return need_trust(core(crate, farm, wanted or SendOptions(), user, book, views, tasks), user)


def need_trust(prepared: Prepared, user: User) -> Prepared:
    """Return a submission. Raises NotTrusted where nodes would run a command of the crate that the user does not trust.

    Farms have programs of their own. One's own machines may have none on their card: then the scene's own command runs.
    """
    card, render = prepared.card, prepared.sending.delivered.render
    if card.runs_scene_commands and render is not None:
        own_commands(prepared.sending.crate, user).need(render.command, render.reads)
    return prepared


def split(
    prepared: Sequence[Prepared], weights: Mapping[str, float] | None = None, *, user: User | None = None
) -> list[Prepared]:
    """Share one crate's tasks out between farms, each task once. weights: by farm; by speed where nothing is said."""
    from tidy_crate.sending import split as core

    user = user or User.here()
    with ledger(user) as book:
        return core(prepared, weights or {}, user, book)


def to_send(prepared: Prepared, *, user: User | None = None) -> int:
    """Return how many bytes would be uploaded. Asks the farm; nothing is sent."""
    from tidy_crate.sending import to_send as core

    with FarmLinks(user) as links:
        return core(prepared, links.to)


def is_other_account(prepared: Prepared, *, user: User | None = None) -> bool:
    """Return True when the submission that this one would repeat was made by another account at the same farm.

    The farm is asked who is signed in, where it can tell.
    """
    if prepared.earlier is None or not prepared.earlier.account:
        return False
    with FarmLinks(user) as links:
        link = links.to(str(prepared.card_path))
        return link.account is not None and link.account.account().user != prepared.earlier.account


def send(
    prepared: Prepared | Sequence[Prepared],
    *,
    job: str | None = None,
    again: bool = False,
    tell: Callable[[str], None] | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> Sent:
    """Upload what the farms lack and submit. This spends money.

    job: adds the submission to that job. again: sends although the farm has the same crate and frames already.
    tell: is told of outages of a farm, which the upload outlives.
    """
    from tidy_crate.core.job.outage import say_nothing
    from tidy_crate.sending import Prepared as One
    from tidy_crate.sending import send_all

    every = (prepared,) if isinstance(prepared, One) else tuple(prepared)
    with ledger(user) as book, FarmLinks(user, tell) as links:
        return send_all(every, links.to, book, progress, job=job, again=again, tell=tell or say_nothing)


def prepare_rest(
    job: str, farm: str, wanted: SendOptions | None = None, *, given_up: Sequence[str] = (), user: User | None = None
) -> Prepared:
    """Prepare what no farm renders of a job, and what the given-up farms have not delivered. Nothing is sent."""
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import prepare_rest as core

    user = user or User.here()
    with ledger(user) as book:
        return need_trust(core(job, given_up, farm, wanted or SendOptions(), user, book), user)


def hand_over(
    prepared: Prepared, job: str, *, given_up: Sequence[str] = (), user: User | None = None, progress: Progress = silent
) -> tuple[Sent, dict[str, str]]:
    """Send the rest of a job to another farm, and give others up. This spends money.

    Return what was sent, and by farm why it could not be told that the job is called off there.
    """
    from tidy_crate.core.job.handover import give_up
    from tidy_crate.sending import send_all

    with ledger(user) as book, FarmLinks(user) as links:
        trouble = give_up(book, job, given_up, links)
        return send_all((prepared,), links.to, book, progress, job=job), trouble


def jobs(*, user: User | None = None) -> tuple[JobLine, ...]:
    """List all jobs at all farms, as far as the ledger knows."""
    from tidy_crate.core.job.listing import list_jobs

    with ledger(user) as book:
        return list_jobs(book)


def track(
    job: str,
    *,
    frames: bool = True,
    follow: Callable[[JobView], None] | None = None,
    last_known: bool = False,
    pause: float = 0.5,
    tell: Callable[[str], None] | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> JobView:
    """Ask the farms how a job stands. follow: is shown every state until the job has ended, `pause` seconds apart.

    Following shows the first state at once, however much there is to catch up with: see `JobView.behind`.
    last_known: whether a farm that does not answer is shown as it was last heard, in place of an error; following
    shows that once, and goes on asking. tell: is told of outages of a farm or of the ledger, which following outlives.
    """
    from tidy_crate.core.errors import FarmBusy
    from tidy_crate.core.farm.protocol import JobState
    from tidy_crate.core.job.notify import Notifier
    from tidy_crate.core.job.outage import Outage, say_nothing
    from tidy_crate.core.job.submission import wait_for_changes
    from tidy_crate.core.job.track import track as core

    owner = user or User.here()
    with ledger(owner) as book, FarmLinks(owner, tell) as links:
        outage = Outage(tell or say_nothing)
        notifier = Notifier(owner.notify, owner.keys.secret, tell or say_nothing)
        if follow is None:
            view = core(book, job, links, frames=frames, last_known=last_known, progress=progress)
            if not view.unheard:
                notifier.look(book, view)
            return view
        shown = not last_known
        while True:
            try:
                view = core(book, job, links, frames=frames, seconds=AT_ONCE, last_known=not shown, progress=progress)
                shown = True
                if not view.unheard:
                    outage.over()
                if view.unheard or view.behind:
                    follow(view)
                    continue
                notifier.look(book, view)
                if view.state in list(JobState) and JobState(view.state).ended:
                    return view
                follow(view)
                wait_for_changes(book, job, links, pause)
            except FarmBusy as error:
                outage.wait(error)


def frame_grid(job: str, most: int, *, user: User | None = None) -> Grid:
    """Return all frames of a job in at most `most` cells, as far as the ledger knows."""
    from tidy_crate.core.job.grid import frame_grid as core

    with ledger(user) as book:
        return core(book, job, most)


def act(
    job: str,
    action: str,
    *,
    priority: int | None = None,
    cap: tuple[Decimal, str] | None = None,
    user: User | None = None,
) -> tuple[str, ...]:
    """Pause, resume, or give another priority to a job. Return the farms at which that was done.

    action: `pause`, `resume` or `priority`. cap: for `resume`, another limit on its cost at each farm.
    """
    from tidy_crate.core.farm.protocol import Action
    from tidy_crate.core.job.actions import act as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, Action(action), links, priority=priority, cap=cap)


def refunds(job: str, *, user: User | None = None) -> tuple[Refund, ...]:
    """Work out what cancelling a job would bring back at each farm."""
    from tidy_crate.core.job.actions import refunds as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, links)


def resubmit_failed(job: str, *, user: User | None = None) -> tuple[Task, ...]:
    """Ask the farms again for the tasks that failed there. This spends money."""
    from tidy_crate.core.job.actions import resubmit_failed as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, links)


def cancel(job: str, *, user: User | None = None) -> JobView:
    """Stop a job at all its farms. What has rendered stays there."""
    from tidy_crate.core.job.track import cancel as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, links)


def release(job: str, *, user: User | None = None) -> JobView:
    """Note that the machines that were rented for a job are shut down."""
    from tidy_crate.core.job.track import release as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, links)


def first_request(job: str, *, user: User | None = None) -> str:
    """Return the name of a job's first request."""
    from tidy_crate.core.job.ledger import submissions_of

    with ledger(user) as book:
        return submissions_of(book, job)[0].packing_list().requests[0].name


def log(job: str, task: Task, *, user: User | None = None) -> str:
    """Return the log of the last attempt at a task."""
    from tidy_crate.core.job.track import log_of

    with ledger(user) as book, FarmLinks(user) as links:
        return log_of(book, job, task, links)
