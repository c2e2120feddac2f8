"""Frames home: retrieve, review, decide, stitch, deliver, report."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.farms import FarmLinks, ledger
from tidy_crate.api.jobs import need_trust
from tidy_crate.api.scene import own_commands
from tidy_crate.api.user import User
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from tidy_crate.core.context.review_rules import ReviewRules
    from tidy_crate.core.job.accepting import Decided, Judged
    from tidy_crate.core.job.rerender import Rerender
    from tidy_crate.core.job.retrieve import Retrieved
    from tidy_crate.core.picture.tone import Tone
    from tidy_crate.core.review.deliver import Delivered
    from tidy_crate.core.review.pair import Pair
    from tidy_crate.core.review.record import Record
    from tidy_crate.core.review.stitch import Stitched
    from tidy_crate.core.review.verdicts import Review
    from tidy_crate.core.work.attempt import Verdict
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import Prepared


def retrieve(
    job: str,
    into: Path,
    *,
    follow: bool = False,
    verify_home: bool = False,
    folders: str | None = None,
    tell: Callable[[str], None] | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> Retrieved:
    """Bring frames home, verified.

    follow: stay until every farm is done. verify_home: read all that is at home again, touched since or not.
    folders: pattern of the folders below `into`, such as `{variant}/{camera}/{output}`, in place of the project's.
    tell: is told of outages of a farm, which following outlives.
    """
    from tidy_crate.core.job.outage import say_nothing
    from tidy_crate.core.job.retrieve import retrieve as core

    with ledger(user) as book, FarmLinks(user, tell) as links:
        return core(
            book, job, into, links, progress,
            follow=follow, verify_home=verify_home, folders=folders, tell=tell or say_nothing,
        )  # fmt: skip


def review(
    what: str | Path,
    *,
    expect: Path | None = None,
    rules: ReviewRules | None = None,
    meant: Iterable[int] = (),
    explain: int | None = None,
    workers: str | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> Review:
    """Open every frame of a job, or of a folder, and judge it, by itself and against its neighbours.

    expect: for a folder, the crate it was rendered from. rules: limits in place of those in the crate. meant: frames
    at which flashes, cuts and black pictures are meant. explain: a frame whose measures are returned too.
    workers: address of a Dask scheduler (`dasks://HOST:PORT`, or `dask://` on this machine) whose workers read the
    frames; they must see the folder under the same path.
    """
    from tidy_crate import __version__
    from tidy_crate.core.picture.readers import judge_here
    from tidy_crate.core.review.spread import judge_on_workers

    judge = (
        judge_here if workers is None else judge_on_workers(workers, __version__, (user or User.here()).certificates)
    )
    if Path(what).is_dir():
        # without a ledger, which takes longer to import than a frame to be read
        from tidy_crate.core.review.folder import review_folder

        content = None
        if expect is not None:
            from tidy_crate.core.crate.packing import read_packing_list

            content = read_packing_list(expect.absolute())
        return review_folder(Path(what), content, progress, rules=rules, meant=meant, explain=explain, judge=judge)
    if expect is not None:
        raise WrongUsage("a job knows its crate itself", what, "leave --expect out")
    from tidy_crate.core.review import run as core

    with ledger(user) as book:
        return core.review_job(book, str(what), progress, rules=rules, meant=meant, explain=explain, judge=judge)


def render_pair(
    crate: Path,
    frame: int,
    switch: str,
    *,
    job: str | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> Pair:
    """Render a frame of a crate here twice, as it is and with one setting switched, and compare both.

    switch: `NAME=VALUE`, or `PRIM:SET=CHOICE` for a variant. job: whose frame both are compared with too.
    """
    from tidy_crate.core.review.at_home import at_home
    from tidy_crate.core.review.pair import render_pair as core

    user = user or User.here()
    farm: dict[str, Path] = {}
    if job is not None:
        with ledger(user) as book:
            farm = {output: one.path for (key, output), one in at_home(book, job).items() if key[2] == frame}
        if not farm:
            raise WrongUsage("the job has no such frame at home", frame, f"tidy-crate retrieve {job} --into DIR")
    return core(crate, frame, switch, own_commands(crate, user), farm, progress)


def to_rerender(job: str, *, suspect: bool = False, user: User | None = None) -> Rerender:
    """Return what the last review or a person rejected, and what the farms failed to render.

    suspect: what is suspect too.
    """
    from tidy_crate.core.job.rerender import to_rerender as core

    with ledger(user) as book:
        return core(book, job, suspect=suspect)


def prepare_again(
    wanted: Rerender, farm: str, options: SendOptions | None = None, *, user: User | None = None
) -> Prepared:
    """Prepare tasks to be rendered again at any farm, on any machines. Nothing is sent: `send` does that."""
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import prepare_again as core

    user = user or User.here()
    with ledger(user) as book:
        return need_trust(core(wanted.job, wanted.tasks, farm, options or SendOptions(), user, book), user)


def judged_products(
    job: str,
    *,
    frames: Iterable[int] | None = None,
    verdicts: Iterable[Verdict] = (),
    output: str | None = None,
    user: User | None = None,
) -> tuple[Judged, ...]:
    """Return the frames of a job that a person may accept or reject; all where nothing is said of them."""
    from tidy_crate.core.job.accepting import judged_products as core

    with ledger(user) as book:
        return core(book, job, frames=frames, verdicts=verdicts, output=output)


def decide(job: str, products: Sequence[Judged], *, accept: bool, because: str, user: User | None = None) -> Decided:
    """Accept or reject frames, whatever the review says, and tell the farms whose bill depends on it."""
    from tidy_crate.core.job.accepting import decide as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, products, accept=accept, because=because, links=links)


def stitch(job: str, *, user: User | None = None, progress: Progress = silent) -> Stitched:
    """Put the tiles and sample shares of a job together to full frames, beside them."""
    from tidy_crate.core.review.stitch import stitch as core

    with ledger(user) as book:
        return core(book, job, progress)


def deliver(job: str, target: Path, *, user: User | None = None, progress: Progress = silent) -> Delivered:
    """Write the accepted frames of a job into a folder or an archive, as the brief orders, with their digests.

    Nothing is written while any frame is missing or not accepted: see `Delivered.missing`.
    """
    from tidy_crate.core.review.deliver import deliver as core

    with ledger(user) as book:
        return core(book, job, target.absolute(), progress)


def record(job: str, *, user: User | None = None) -> Record:
    """Gather what was asked, sent, waived, rendered, found, rendered again and paid. No farm is asked."""
    from tidy_crate.core.review.record import record as core

    with ledger(user) as book:
        return core(book, job)


def tone(job: str, output: str, *, user: User | None = None) -> Tone | None:
    """Return how the pictures of an output are shown: by the crate's colour configuration; None where it has none."""
    from tidy_crate.core.picture.tone import tone_of
    from tidy_crate.core.review.looks import configuration_of

    with ledger(user) as book:
        config, colour_space = configuration_of(book, job, output)
    return tone_of(config, colour_space) if config is not None else None


def rerender(wanted: Rerender, *, user: User | None = None) -> None:
    """Ask the farms for these tasks again, on their own numbers. This spends money."""
    from tidy_crate.core.job.rerender import rerender as core

    with ledger(user) as book, FarmLinks(user) as links:
        core(book, wanted, links)
