"""Before money is spent: cards, test frames, estimates, and the installation."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.farms import FarmLinks, ledger, try_farm
from tidy_crate.api.scene import own_commands
from tidy_crate.api.user import User
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from tidy_crate.core.estimate.estimate import Answer
    from tidy_crate.core.estimate.probe_result import ProbeResult
    from tidy_crate.core.installation import Part
    from tidy_crate.core.job.experience import Accuracy
    from tidy_crate.estimating import Ask, TimingSource


def probe(
    crate: Path,
    *,
    frames: int | None = None,
    scale: float = 1.0,
    samples: float = 1.0,
    width: float = 0.15,
    seconds: float = 1800.0,
    user: User | None = None,
    progress: Progress = silent,
) -> ProbeResult:
    """Render test frames on this machine and measure them, until their total is known well enough.

    frames: exactly so many. scale: of width and height. samples: share of the samples. width: wanted width of the 80 %
    range of the total, as a share of it. seconds: after which no further test frame begins.
    """
    from tidy_crate.core.crate.packing import read_packing_list
    from tidy_crate.core.estimate.probe import ProbeWishes
    from tidy_crate.core.estimate.probe import probe as core
    from tidy_crate.core.job.job_timings import earlier_times

    wishes = ProbeWishes(frames, scale, samples, width, seconds)
    user = user or User.here()
    earlier: dict[int, float] = {}
    # they only help: an unreachable ledger must not prevent test frames
    with suppress(TidyCrateError), ledger(user) as book:
        earlier = earlier_times(book, read_packing_list(crate.absolute()).name)
    return core(crate, own_commands(crate, user), wishes, progress, earlier)


def take_timings(crate: Path, source: TimingSource, *, user: User | None = None) -> ProbeResult:
    """Keep timings from elsewhere as those of a crate, in place of test frames."""
    from tidy_crate.core.crate.packing import read_packing_list
    from tidy_crate.core.estimate.probe_result import keep_timings
    from tidy_crate.estimating import find_timings

    user = user or User.here()
    content = read_packing_list(crate)
    with ledger(user) as book:
        found, _ = find_timings(crate, content, source, content.to_render(), book, user.card_folders)
    return keep_timings(crate, content, found)


def estimate(
    target: Path | str,
    farms: Iterable[str],
    wanted: Ask | None = None,
    source: TimingSource | None = None,
    *,
    user: User | None = None,
) -> Answer:
    """Say what a crate, or what is left of a job, costs and takes on each farm, and which way to take.

    target: the crate's folder, or the job's name. source: of the timings; the crate's test frames when None.
    """
    from tidy_crate.estimating import Ask, TimingSource, ask

    user = user or User.here()
    with ledger(user) as book, FarmLinks(user) as links:
        return ask(str(target), tuple(farms), wanted or Ask(), source or TimingSource(), user, book, links.to)


def estimate_accuracy(*, user: User | None = None) -> tuple[Accuracy, ...]:
    """Say how the estimates of finished jobs did."""
    from tidy_crate.core.job.experience import accuracy

    with ledger(user) as book:
        return accuracy(book)


def examine_installation(
    *, farms: bool = False, user: User | None = None, show: Callable[[Part], None] | None = None
) -> tuple[Part, ...]:
    """Examine this installation: libraries, optional parts, sandbox, disk, ledger, keyring.

    farms: known farms too. show: is given each part as it is known.
    """
    from tidy_crate.core.farm.card import SUFFIX, known_cards
    from tidy_crate.core.installation import Part, State, examine

    user = user or User.here()
    parts: list[Part] = []

    def add(part: Part) -> None:
        parts.append(part)
        if show is not None:
            show(part)

    for one in examine(user.ledger, user.home):
        add(one)
    if not farms:
        return tuple(parts)
    for path in known_cards(user.card_folders):
        name = path.name.removesuffix(SUFFIX)
        try:
            _, steps, account = try_farm(str(path), user=user)
            works = all(one.works for one in steps)
            left = "" if account is None else f"; {account.balance} {account.currency} left"
            said = f"it can be reached{left}" if works else next(one.said for one in steps if not one.works)
        except TidyCrateError as error:
            works, said = False, error.what
        state = State.WORKS if works else State.BROKEN
        remedy = "" if works else f"tidy-crate farm test {name}"
        add(Part(group="farms", name=name, state=state, found=said, remedy=remedy))
    return tuple(parts)
