"""The stages as plain functions on the models of `core`: the one place that joins them.

The command line and the demo are its clients. Each function takes what it needs as arguments, returns a model, raises a
subclass of TidyCrateError, and reports progress to a callback. Heavy libraries load in the function that needs them.

    from pathlib import Path
    from tidy_crate import api

    scene = Path("shots/q010/scene_v003.usda")
    api.trust(scene)
    api.bake(scene)
    crate = api.collect(scene).crate
    assert api.prove(crate).whole
    job = api.send(api.prepare(crate, "harbour")).job
    api.retrieve(job, Path("frames"), follow=True)
    print(api.review(job).clean)
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.progress import Progress, Step, silent

if TYPE_CHECKING:
    from tidy_crate.core.bake.plan import PlannedBake
    from tidy_crate.core.bake.proof import OrderProof
    from tidy_crate.core.bake.run import BakeResult
    from tidy_crate.core.bake.verify import VerifiedCache
    from tidy_crate.core.check.mends import Mend
    from tidy_crate.core.check.result import CheckResult
    from tidy_crate.core.check.run import Against
    from tidy_crate.core.context.decisions import MendDecision, Waiver
    from tidy_crate.core.context.relink import Proposal
    from tidy_crate.core.context.review_rules import ReviewRules
    from tidy_crate.core.context.scene import SceneContext
    from tidy_crate.core.context.user import NotifySettings, OwnMachine, UserFile
    from tidy_crate.core.crate.collect import CollectResult
    from tidy_crate.core.crate.proving import Proof
    from tidy_crate.core.estimate.estimate import Answer
    from tidy_crate.core.estimate.probe_result import ProbeResult
    from tidy_crate.core.exchange import ExchangeRate
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.farm.links.interface import FarmLink, Trial
    from tidy_crate.core.farm.protocol import Account
    from tidy_crate.core.farm.sign_in import Keys
    from tidy_crate.core.installation import Part
    from tidy_crate.core.job.accepting import Decided, Judged
    from tidy_crate.core.job.actions import Refund
    from tidy_crate.core.job.balances import FarmBalance
    from tidy_crate.core.job.experience import Accuracy
    from tidy_crate.core.job.grid import Grid
    from tidy_crate.core.job.ledger import Ledger
    from tidy_crate.core.job.rerender import Rerender
    from tidy_crate.core.job.retrieve import Retrieved
    from tidy_crate.core.job.send import Sent
    from tidy_crate.core.job.tables import SubmissionRow
    from tidy_crate.core.job.track import JobLine, JobView
    from tidy_crate.core.picture.tone import Tone
    from tidy_crate.core.review.deliver import Delivered
    from tidy_crate.core.review.pair import Pair
    from tidy_crate.core.review.record import Record
    from tidy_crate.core.review.run import Review
    from tidy_crate.core.review.stitch import Stitched
    from tidy_crate.core.scene.model import Asset, Survey
    from tidy_crate.core.work.attempt import Verdict
    from tidy_crate.core.work.options import FarmOptions, SendOptions
    from tidy_crate.core.work.running import Commands
    from tidy_crate.core.work.task import Task, TaskRange
    from tidy_crate.core.work.trust import Claim, Trust
    from tidy_crate.estimating import Ask, TimingSource
    from tidy_crate.sending import Prepared

HOME = "TIDY_CRATE_HOME"
LEDGER = "TIDY_CRATE_LEDGER"
MOST_REMEMBERED = 40
USUAL_BATCH = 4
SCORE_HERE = 100.0


# seconds after which a job that is followed is shown, though not all of its changes were read
AT_ONCE = 0.5


@dataclass(frozen=True)
class User:
    """Paths of a user's ledger, farm cards and notes."""

    home: Path
    """The folder for the ledger, cards and configuration."""
    cache: Path
    """The folder for what can be worked out again."""
    cwd: Path
    """Cards are looked for in `farms` below it too."""
    environment: Mapping[str, str] = field(repr=False)
    """Tokens for farms, and the environment of the proof."""

    @classmethod
    def here(cls, environment: Mapping[str, str] | None = None) -> User:
        """The user of this process: TIDY_CRATE_HOME, or the system's usual folders."""
        environment = os.environ if environment is None else environment
        if environment.get(HOME):
            home = Path(environment[HOME]).absolute()
            return cls(home, home / "memory", Path.cwd(), environment)
        import platformdirs

        home = Path(platformdirs.user_data_dir("tidy-crate", appauthor=False))
        cache = Path(platformdirs.user_cache_dir("tidy-crate", appauthor=False), "scenes")
        return cls(home, cache, Path.cwd(), environment)

    @property
    def ledger(self) -> Path | str:
        """The ledger: TIDY_CRATE_LEDGER, or the user's configuration, or an SQLite file in the user's folder."""
        named = self.environment.get(LEDGER) or self._configuration.ledger
        return named or self.home / "ledger.sqlite"

    @property
    def card_folders(self) -> list[Path]:
        """Return where a card is looked for by name."""
        return [self.home / "farms", self.cwd / "farms"]

    @property
    def keys(self) -> Keys:
        """Return what the user has to sign in to farms with."""
        from tidy_crate.core.farm.sign_in import Keys

        return Keys(self.environment, self.home / "token-addresses.json", self._configuration.token_variables)

    @property
    def trust(self) -> Trust:
        """The commands of projects that the user lets run."""
        from tidy_crate.core.work.trust import Trust

        return Trust(self.home / "trusted.json")

    @property
    def own_machine(self) -> OwnMachine:
        """Return what this machine is and costs, as far as the user's configuration says."""
        return self._configuration.here

    @property
    def notify(self) -> NotifySettings:
        """Return who is told when a job is done or in trouble."""
        return self._configuration.notify

    @property
    def send_options(self) -> FarmOptions:
        """Wishes for submissions in the user's configuration."""
        return self._configuration.send

    @property
    def exchange(self) -> tuple[ExchangeRate, ...]:
        """Rates of exchange in the user's configuration."""
        return self._configuration.exchange

    def for_programs(self) -> dict[str, str]:
        """Return the environment for programs of a project, without tokens."""
        from tidy_crate.core.process import without_tokens

        return without_tokens(self.environment, self._configuration.token_variables)

    @property
    def _configuration(self) -> UserFile:
        from tidy_crate.core.context.user import FILE_NAME, read_user_file

        return read_user_file(self.home / FILE_NAME)

    def memory_of(self, scene: Path) -> Path:
        """The file in which a scene's format keeps results. Those of scenes not opened for long make room."""
        kept = sorted(self.cache.glob("*.json"), key=lambda path: path.stat().st_mtime) if self.cache.is_dir() else []
        for path in kept[:-MOST_REMEMBERED]:
            path.unlink(missing_ok=True)
            for survey in self.cache.glob(f"{path.stem}-*"):
                survey.unlink(missing_ok=True)
        return self.cache / f"{_mark(scene)}.json"

    def origin_of(self, crate: Path) -> Path:
        """Return where this machine notes what a crate was made from."""
        return self.home / "crates" / f"{_mark(crate)}.json"

    @property
    def name(self) -> str:
        """Return who uses this machine, for the record of a waiver; empty where the system does not say."""
        import getpass

        try:
            return getpass.getuser()
        except (OSError, KeyError, ImportError):
            return ""


def _mark(path: Path) -> str:
    return hashlib.sha256(str(path.absolute()).encode(errors="surrogatepass")).hexdigest()[:24]


# ---- the scene


def open_scene(scene: Path, *, tidy_dir: Path | None = None, user: User | None = None) -> SceneContext:
    """Open a scene with its format, project, decisions and caches. tidy_dir: where decisions and caches are."""
    from tidy_crate.core.context.scene import open_scene as core

    user = user or User.here()
    return core(scene, tidy_dir, user.memory_of(scene), user.trust, user.for_programs())


def survey(scene: Path, *, as_saved: bool = False, tidy_dir: Path | None = None, user: User | None = None) -> Survey:
    """Return what is in a scene as it would be staged now, or as the artist saved it."""
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    return context.survey_as_found() if as_saved else context.survey()


def bake(
    scene: Path,
    only: Iterable[str] = (),
    *,
    again: bool = False,
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> BakeResult:
    """Write simulations into caches; what is up to date is skipped unless `again`. only: by name."""
    from tidy_crate.core.bake.run import bake as core
    from tidy_crate.core.crate.staged_copy import staged_copy

    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    return core(context, only, again, progress, staged_copy=staged_copy)


def plan_bake(
    scene: Path, only: Iterable[str] = (), *, tidy_dir: Path | None = None, user: User | None = None
) -> tuple[PlannedBake, ...]:
    """Return what a bake would do, in its order. Nothing is written."""
    from tidy_crate.core.bake.plan import plan_bake as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user), tuple(only))


def verify_caches(scene: Path, *, tidy_dir: Path | None = None, user: User | None = None) -> tuple[VerifiedCache, ...]:
    """Look at every cache of a scene, down to its bytes."""
    from tidy_crate.core.bake.verify import verify_caches as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user))


def prove_order(
    scene: Path,
    batch: int = 2,
    *,
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> OrderProof:
    """Show that frames come out the same in any order. batch: frames that a node takes at a time."""
    from tidy_crate.core.bake.proof import prove_order as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user), batch, progress)


@dataclass(frozen=True)
class Relinked:
    """Proposals and decisions of a relink."""

    proposals: tuple[Proposal, ...]
    applied: tuple[Proposal, ...]
    """Written into the decisions."""
    still_missing: tuple[Asset, ...]
    decisions: Path
    """The decisions file."""


# chooses among proposals, given everything that is missing
Choose = Callable[[tuple["Proposal", ...], "list[Asset]"], "tuple[Proposal, ...]"]


def relink(
    scene: Path,
    look_in: Sequence[Path] = (),
    maps: Sequence[tuple[str, str]] = (),
    *,
    apply: bool = False,
    choose: Choose | None = None,
    tidy_dir: Path | None = None,
    user: User | None = None,
) -> Relinked:
    """Propose files for what is missing, and with `apply` or `choose` write decisions.

    look_in: folders to search. maps: pairs of an old prefix and what takes its place. choose: asked to choose.
    """
    from tidy_crate.core.context import relink as core
    from tidy_crate.core.context.outside import folder_claim
    from tidy_crate.core.crate.memory import collected_contents

    user = user or User.here()
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    found = context.survey()
    lacking = core.missing(found)
    proposals = core.propose(found, look_in, maps, collected_contents(context.tidy))
    chosen = choose(proposals, lacking) if choose else proposals
    applied = core.apply_relinks(context, chosen, found) if apply or choose else ()
    if applied:
        # taking a file from a folder is agreement to that folder
        user.trust.add(context.root, {folder_claim(one.candidate.parent) for one in applied})
    # what was found may name files of its own that are missing, and may be part of a set only
    still = core.missing(open_scene(scene, tidy_dir=tidy_dir, user=user).survey()) if applied else lacking
    return Relinked(tuple(proposals), tuple(applied), tuple(still), context.file.path)


def let_go(scene: Path, asset: str, because: str, *, tidy_dir: Path | None = None, user: User | None = None) -> None:
    """Decide to do without a missing file, by id or path as written, for a reason."""
    from tidy_crate.core.context import relink as core

    if not because.strip():
        raise WrongUsage("a file is let go with a reason", asset, 'add --because "..."')
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    core.let_go(context, context.survey(), asset, because)


# ---- trust


@dataclass(frozen=True)
class Trusting:
    """The commands of a folder, and whether they may run."""

    place: Path
    """The folder that is trusted, or not."""
    claims: tuple[Claim, ...]
    trusted: tuple[bool, ...]
    """For each command."""


def commands_of(target: Path, *, user: User | None = None) -> Trusting:
    """Return the commands that a scene, a crate, an archive of one, or all scenes of a folder name."""
    from tidy_crate.core.crate.commands import commands_in

    user = user or User.here()
    found = commands_in(target.absolute(), user.trust, user.origin_of)
    holds = user.trust.of(found.places)
    return Trusting(found.places[0], found.claims, tuple(holds(one.mark_words) for one in found.claims))


def trust(target: Path, *, user: User | None = None) -> Trusting:
    """Let the commands run that a folder names now. One that changes later has to be trusted again."""
    user = user or User.here()
    found = commands_of(target, user=user)
    user.trust.add(found.place, found.claims)
    return commands_of(target, user=user)


def trust_commands(place: Path, commands: Iterable[Claim], *, user: User | None = None) -> None:
    """Let these commands of a folder run, as named by NotTrusted."""
    (user or User.here()).trust.add(place, commands)


def distrust(target: Path, *, user: User | None = None) -> bool:
    """Let no command of a folder run any more. Return whether any was trusted."""
    user = user or User.here()
    return user.trust.remove(commands_of(target, user=user).place)


def _crate_commands(crate: Path, user: User) -> Commands:
    from tidy_crate.core.crate.commands import crate_commands

    return crate_commands(crate.absolute(), user.trust, user.origin_of, user.for_programs())


# ---- checks


def against(
    farms: Iterable[str] = (),
    *,
    brief: Path | None = None,
    account: str | None = None,
    score_here: float = SCORE_HERE,
    accept_practice: bool = False,
    user: User | None = None,
) -> Against:
    """Return what a scene is checked against. farms: cards by file or name; account: at a farm, that pays."""
    from tidy_crate.core.check.run import Against
    from tidy_crate.core.context.brief import read_brief
    from tidy_crate.core.estimate.model import Wishes

    cards = tuple(load_card(name, user=user)[0] for name in farms)
    names = [card.name for card in cards]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise WrongUsage("two of the cards have one name", twice, "name each farm once")
    return Against(
        cards=cards,
        brief=read_brief(brief) if brief is not None else None,
        today=date.today(),
        account=account,
        wishes=Wishes(score_here=score_here, accept_practice=accept_practice),
    )


def check(
    target: Path, what: Against | None = None, *, tidy_dir: Path | None = None, user: User | None = None
) -> CheckResult:
    """Check a scene or a crate. what: see `against`."""
    from tidy_crate.core.check import run as core

    user = user or User.here()
    if target.is_dir():
        return core.check_crate(target, what or core.NOTHING, user.origin_of(target))
    return core.check_scene(open_scene(target, tidy_dir=tidy_dir, user=user), what or core.NOTHING)


def mend(
    scene: Path, what: Against | None = None, *, tidy_dir: Path | None = None, user: User | None = None
) -> tuple[Mend, ...]:
    """Fix in the staged copy what needs no human decision, and return what was done."""
    from tidy_crate.core.check import decide
    from tidy_crate.core.check.run import NOTHING

    def reopen() -> SceneContext:
        return open_scene(scene, tidy_dir=tidy_dir, user=user)

    return decide.mend(reopen(), reopen, what or NOTHING)


def take_back(
    scene: Path, code: str, *, tidy_dir: Path | None = None, user: User | None = None
) -> tuple[MendDecision, ...]:
    """Remove the fixes of one check, or of `all`."""
    from tidy_crate.core.check import decide

    return decide.take_back(open_scene(scene, tidy_dir=tidy_dir, user=user), code)


def waive(
    scene: Path,
    code: str,
    because: str,
    *,
    subject: str | None = None,
    by: str = "",
    tidy_dir: Path | None = None,
    user: User | None = None,
) -> Waiver:
    """Accept a warning for a reason, and return what was written down."""
    from tidy_crate.core.check import decide
    from tidy_crate.core.context.decisions import Waiver

    user = user or User.here()
    if not because.strip():
        raise WrongUsage("a waiver needs a reason", code, 'add --because "..."')
    waiver = Waiver(code=code, subject=subject, because=because, by=by or user.name, on=date.today())
    decide.waive(open_scene(scene, tidy_dir=tidy_dir, user=user), waiver)
    return waiver


# ---- the crate


def collect(
    scene: Path,
    crate: Path | None = None,
    *,
    frames: str | None = None,
    using: str = "copy",
    needed_frames_only: bool = False,
    on_share: Sequence[str] = (),
    from_outside: Sequence[Path] = (),
    let_through: Sequence[Path] = (),
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> CollectResult:
    """Copy the staged scene and every file it names into one folder. Originals are only read.

    frames: a frame list, the scene's own range when None. using: `copy`, `reflink` or `hard-link`.
    on_share: `LOCAL=NODE` each, for shared storage. from_outside: folders outside the project that its files may come
    from, from now on. let_through: files that would be held back as private or of another kind. Raises HeldBack.
    """
    from tidy_crate.core.context.outside import file_claim, folder_claim
    from tidy_crate.core.crate import collect as core
    from tidy_crate.core.crate.copying import Way
    from tidy_crate.core.crate.shared import read_share
    from tidy_crate.core.scene.request import request_for

    if using not in list(Way):
        raise WrongUsage("unknown way to copy files", using, f"use one of {', '.join(Way)}")
    user = user or User.here()
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    if from_outside or let_through:
        user.trust.add(context.root, [*map(folder_claim, from_outside), *map(file_claim, let_through)])
    requests = () if frames is None else (request_for(context.survey(), frames=frames),)
    target = crate or core.default_crate(context.scene)
    return core.collect(
        context,
        target,
        requests,
        progress,
        way=Way(using),
        needed_frames_only=needed_frames_only,
        shares=[read_share(text) for text in on_share],
        origin=user.origin_of(target),
    )


def archive(crate: Path, file: Path, progress: Progress = silent) -> int:
    """Write a crate as one file, `.zip` or `.tar.zst`, and return its bytes."""
    from tidy_crate.core.crate.archive import write_archive

    return write_archive(crate, file.absolute(), progress)


def prove(crate: Path, *, frame: int | None = None, test: bool = True, user: User | None = None) -> Proof:
    """Show that a crate, or an archive of one, is complete with no way back to the originals.

    frame: the test frame, the middle one when None. test: whether to render one.
    """
    from tidy_crate.core.crate.archive import unpacked
    from tidy_crate.core.crate.prove import prove as core

    user = user or User.here()
    commands = _crate_commands(crate, user)
    with unpacked(crate.absolute()) as folder:
        # what an archive was unpacked to is gone in a moment
        return core(folder, user.environment, commands, frame, test=test, keep=folder == crate.absolute())


# ---- before spending


def load_card(name: str, *, user: User | None = None) -> tuple[FarmCard, Path]:
    """Return a farm card, by path or name, and its file."""
    from tidy_crate.core.farm.card import find_card, read_card

    path = find_card(name, (user or User.here()).card_folders)
    return read_card(path), path


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
    return core(crate, _crate_commands(crate, user), wishes, progress, earlier)


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


def farm_moved(farm: str, *, user: User | None = None) -> tuple[FarmCard, str]:
    """Note that a farm's token belongs to the address on its card from now on. Return the card and the address."""
    user = user or User.here()
    card, path = load_card(farm, user=user)
    return card, user.keys.move(card, path)


def examine_installation(
    *, farms: bool = False, user: User | None = None, progress: Progress = silent
) -> tuple[Part, ...]:
    """Examine this installation: libraries, optional parts, sandbox, disk, ledger, keyring. farms: known farms too."""
    from tidy_crate.core.farm.card import SUFFIX
    from tidy_crate.core.installation import Part, State, examine

    user = user or User.here()
    parts: list[Part] = []
    for one in examine(user.ledger, user.home):
        parts.append(one)
        progress(Step("ready", len(parts), 0, "parts", one.name))
    if not farms:
        return tuple(parts)
    for path in sorted(path for folder in user.card_folders for path in folder.glob(f"*{SUFFIX}")):
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
        parts.append(Part(group="farms", name=name, state=state, found=said, remedy=remedy))
        progress(Step("ready", len(parts), 0, "parts", name))
    return tuple(parts)


def try_farm(farm: str, *, user: User | None = None) -> tuple[FarmCard, tuple[Trial, ...], Account | None]:
    """Try the way to a farm out, step by step. Nothing is ordered.

    Return its card, what each step came to, and who is signed in with what is left to spend; None where the farm does
    not tell that, or a step does not work.
    """
    from tidy_crate.core.farm.links.interface import needed, tried
    from tidy_crate.core.farm.protocol import Capability

    card, path = load_card(farm, user=user)
    with FarmLinks(user) as links:
        link = links.to(str(path))
        if link.trial is None:
            # a link of another package: that much can be tried out with any
            known = needed(link.account, link, Capability.ACCOUNT)

            def signed_in() -> str:
                found = known.account()
                return f"as {found.user}, {found.balance} {found.currency} left"

            steps: tuple[Trial, ...] = (tried("sign in", signed_in),)
        else:
            steps = tuple(link.trial())
        if link.account is None or not all(one.works for one in steps):
            return card, steps, None
        return card, steps, link.account.account()


# ---- jobs


@contextmanager
def ledger(user: User | None = None) -> Iterator[Ledger]:
    """The user's ledger, open for as long as the block runs."""
    from tidy_crate.core.job.ledger import Ledger

    found = Ledger((user or User.here()).ledger)
    try:
        yield found
    finally:
        found.close()


class FarmLinks:
    """One open link per farm, by the card that a submission noted. Use it as a context manager."""

    def __init__(self, user: User | None = None) -> None:
        self._user = user or User.here()
        self._open: dict[str, FarmLink] = {}

    def __call__(self, row: SubmissionRow) -> FarmLink:
        """The link to the farm of a submission."""
        return self.to(row.card)

    def to(self, card: str) -> FarmLink:
        """The link to the farm of a card, by path or name."""
        from tidy_crate.core.farm.sign_in import open_link

        if card not in self._open:
            found, path = load_card(card, user=self._user)
            self._open[card] = open_link(found, path, self._user.keys)
        return self._open[card]

    def __enter__(self) -> FarmLinks:
        return self

    def __exit__(self, *_: object) -> None:
        for link in self._open.values():
            link.close()


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
        return _trusted(core(crate, farm, wanted or SendOptions(), user, book, views, tasks), user)


def _trusted(prepared: Prepared, user: User) -> Prepared:
    """Return a submission. Raises NotTrusted where nodes would run a command of the crate that the user does not trust.

    Farms have programs of their own. One's own machines may have none on their card: then the scene's own command runs.
    """
    card, render = prepared.card, prepared.sending.delivered.render
    if card.runs_scene_commands and render is not None:
        _crate_commands(prepared.sending.crate, user).need(render.command)
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
    with ledger(user) as book, FarmLinks(user) as links:
        return send_all(every, links.to, book, progress, job=job, again=again, tell=tell or say_nothing)


def prepare_rest(
    job: str, farm: str, wanted: SendOptions | None = None, *, given_up: Sequence[str] = (), user: User | None = None
) -> Prepared:
    """Prepare what no farm renders of a job, and what the given-up farms have not delivered. Nothing is sent."""
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import prepare_rest as core

    user = user or User.here()
    with ledger(user) as book:
        return _trusted(core(job, given_up, farm, wanted or SendOptions(), user, book), user)


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
    from tidy_crate.core.job.track import list_jobs

    with ledger(user) as book:
        return list_jobs(book)


def track(
    job: str,
    *,
    frames: bool = True,
    follow: Callable[[JobView], None] | None = None,
    pause: float = 0.5,
    tell: Callable[[str], None] | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> JobView:
    """Ask the farms how a job stands. follow: is shown every state until the job has ended, `pause` seconds apart.

    Following shows the first state at once, however much there is to catch up with: see `JobView.behind`.
    tell: is told of outages of a farm, which following outlives.
    """
    from tidy_crate.core.errors import FarmBusy
    from tidy_crate.core.farm.protocol import JobState
    from tidy_crate.core.job.notify import Notifier
    from tidy_crate.core.job.outage import Outage, say_nothing
    from tidy_crate.core.job.submission import wait_for_changes
    from tidy_crate.core.job.track import track as core

    owner = user or User.here()
    with ledger(owner) as book, FarmLinks(owner) as links:
        outage = Outage(tell or say_nothing)
        notifier = Notifier(owner.notify, owner.keys.secret, tell or say_nothing)
        while True:
            try:
                limit = None if follow is None else AT_ONCE
                view = core(book, job, links, frames=frames, seconds=limit, progress=progress)
            except FarmBusy as error:
                if follow is None:
                    raise
                outage.wait(error)
                continue
            outage.over()
            if view.behind and follow is not None:
                follow(view)
                continue
            notifier.look(book, view)
            if follow is None or (view.state in list(JobState) and JobState(view.state).ended):
                return view
            follow(view)
            wait_for_changes(book, job, links, pause)


def frame_grid(job: str, most: int, *, user: User | None = None) -> Grid:
    """Return all frames of a job in at most `most` cells, as far as the ledger knows."""
    from tidy_crate.core.job.grid import frame_grid as core

    with ledger(user) as book:
        return core(book, job, most)


def act(job: str, action: str, *, priority: int | None = None, user: User | None = None) -> tuple[str, ...]:
    """Pause, resume, or give another priority to a job. Return the farms at which that was done.

    action: `pause`, `resume` or `priority`.
    """
    from tidy_crate.core.farm.protocol import Action
    from tidy_crate.core.job.actions import act as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, job, Action(action), links, priority=priority)


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


def balances(*, user: User | None = None) -> tuple[FarmBalance, ...]:
    """Ask every farm that jobs were sent to what is left to spend there."""
    from tidy_crate.core.job.balances import balances as core

    with ledger(user) as book, FarmLinks(user) as links:
        return core(book, links)


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

    with ledger(user) as book, FarmLinks(user) as links:
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
    workers: address of a Dask scheduler (`dask://HOST:PORT`) whose workers read the frames; they must see the folder
    under the same path.
    """
    from tidy_crate import __version__
    from tidy_crate.core.picture.readers import judge_here
    from tidy_crate.core.review import run as core
    from tidy_crate.core.review.spread import judge_on_workers

    judge = judge_here if workers is None else judge_on_workers(workers, __version__)
    if Path(what).is_dir():
        from tidy_crate.core.crate.packing import read_packing_list

        content = read_packing_list(expect.absolute()) if expect is not None else None
        return core.review_folder(Path(what), content, progress, rules=rules, meant=meant, explain=explain, judge=judge)
    if expect is not None:
        raise WrongUsage("a job knows its crate itself", what, "leave --expect out")
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
    return core(crate, frame, switch, _crate_commands(crate, user), farm, progress)


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
        return _trusted(core(wanted.job, wanted.tasks, farm, options or SendOptions(), user, book), user)


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
