"""The whole way: where a scene, a crate or a job stands, and carrying it on."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api import checks
from tidy_crate.api.crate import collect, order, prove
from tidy_crate.api.desk import Desk
from tidy_crate.api.frames import deliver as deliver_frames
from tidy_crate.api.frames import record, rerender, retrieve, review, stitch, to_rerender
from tidy_crate.api.jobs import hand_over, prepare, prepare_rest, send
from tidy_crate.api.plan import probe
from tidy_crate.api.scene import bake, relink
from tidy_crate.api.user import User
from tidy_crate.core.errors import FarmBusy, TidyCrateError, WrongUsage
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from tidy_crate.core.review.record import Record
    from tidy_crate.core.scene.staging import RenderParts
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.core.workflow.looks import Looks
    from tidy_crate.core.workflow.shot import Shot
    from tidy_crate.core.workflow.standing import Standing, Standings, StepName

# seconds between two looks at a farm, the first and the longest
SOON, LATE = 0.5, 10.0


class Doing:
    """Does the steps for a user."""

    def __init__(
        self,
        desk: Desk,
        progress: Progress = silent,
        *,
        tell: Callable[[str], None] | None = None,
        write_report: Callable[[Path, Record], None] | None = None,
    ) -> None:
        """tell: is told of outages of a farm. write_report: writes the record of a job as a file."""
        self._desk, self._progress, self._tell = desk, progress, tell
        self._write_report = write_report
        self._pause = SOON

    def do(self, looks: Looks, standing: Standing) -> None:
        """Do a step; see `core.workflow.carry.Acts`."""
        self._pause = SOON
        getattr(self, f"_{standing.step}")(looks)

    def wait(self, looks: Looks) -> None:
        """Bring home what a farm has rendered, and wait: longer each time that nothing came."""
        came = False
        try:
            came = self.fetch(looks)
        except FarmBusy as error:
            self._pause = max(self._pause, error.after or 0.0)
        self._pause = SOON if came else min(LATE, self._pause * 1.5)
        time.sleep(self._pause)

    def fetch(self, looks: Looks) -> bool:
        """Bring home what a farm has rendered. Return whether anything came."""
        if looks.job is None:
            return False
        found = retrieve(looks.job.id, looks.shot.into, tell=self._tell, user=self._desk.user, progress=self._progress)
        return bool(found.retrieved)

    def _survey(self, looks: Looks) -> None:
        """Write down what is asked of the scene from outside; what makes no sense is not kept."""
        from tidy_crate.core.workflow.scene_steps import asked_anew

        shot = looks.shot
        context = self._desk.open_scene(_of(shot))
        order(context, asked_anew(shot, context))

    def _relink(self, looks: Looks) -> None:
        from tidy_crate.core.workflow.scene_steps import look_in

        shot = looks.shot
        relink(_of(shot), look_in(shot, self._desk.open_scene(_of(shot))), apply=True, by=shot.by, user=self._desk.user)

    def _bake(self, looks: Looks) -> None:
        bake(_of(looks.shot), user=self._desk.user, progress=self._progress)

    def _check(self, looks: Looks) -> None:
        """Fix what a rule lets be fixed; where nothing is left to fix, waive what a rule waives."""
        from tidy_crate.core.check.finding import Severity

        shot = looks.shot
        against = checks.against(shot.farms, user=self._desk.user)
        if shot.rules.mend and checks.mend(_of(shot), against, by=shot.by, user=self._desk.user):
            return
        found = checks.check(_of(shot), against, user=self._desk.user)
        warned = {one.code for one in found.findings if one.severity is Severity.WARNING and not one.waived}
        for code, because in shot.rules.waive.items():
            if code in warned:
                checks.waive(_of(shot), code, because, by=shot.by, user=self._desk.user)

    def _collect(self, looks: Looks) -> None:
        shot = looks.shot
        collect(_of(shot), shot.crate, user=self._desk.user, progress=self._progress)

    def _prove(self, looks: Looks) -> None:
        prove(looks.shot.crate, user=self._desk.user)

    def _probe(self, looks: Looks) -> None:
        probe(looks.shot.crate, user=self._desk.user, progress=self._progress)

    def _send(self, looks: Looks) -> None:
        from tidy_crate.core.workflow.shot import Offer

        shot = looks.shot
        # of a submission that no farm has confirmed there is no offer any more
        found = looks.offer
        offer = found if isinstance(found, Offer) else self._desk.offer(shot.crate, shot.farms, shot.options)
        cap = {"cap": shot.cap[0]} if shot.cap is not None else {}
        options = offer.options.model_copy(update=cap)
        prepared = prepare(shot.crate, offer.farm, options, user=self._desk.user)
        send(prepared, tell=self._tell, user=self._desk.user, progress=self._progress)

    def _render(self, looks: Looks) -> None:
        """Give the rest of a job to another farm, where its own is silent and a rule says so."""
        from tidy_crate.core.work.options import SendOptions
        from tidy_crate.core.workflow.job_steps import rest_of

        shot = looks.shot
        rest = rest_of(shot, looks.facts) if looks.facts is not None else None
        if rest is None:
            return
        name = _job(looks)
        wanted = SendOptions(cap=rest.cap)
        prepared = prepare_rest(name, rest.farm, wanted, given_up=rest.given_up, user=self._desk.user)
        hand_over(prepared, name, given_up=rest.given_up, user=self._desk.user, progress=self._progress)

    def _retrieve(self, looks: Looks) -> None:
        self.fetch(looks)

    def _review(self, looks: Looks) -> None:
        review(_job(looks), user=self._desk.user, progress=self._progress)

    def _rerender(self, looks: Looks) -> None:
        suspect = looks.shot.rules.suspect == "rerender"
        rerender(to_rerender(_job(looks), suspect=suspect, user=self._desk.user),
                        user=self._desk.user)  # fmt: skip

    def _stitch(self, looks: Looks) -> None:
        stitch(_job(looks), user=self._desk.user, progress=self._progress)

    def _deliver(self, looks: Looks) -> None:
        shot = looks.shot
        if shot.deliver is None:
            return
        found = deliver_frames(_job(looks), shot.deliver, user=self._desk.user, progress=self._progress)
        if found.missing:
            first = found.missing[0]
            left = len({one.frame for one in found.missing})
            what = f"{left} frame{' is' if left == 1 else 's are'} not good, so nothing was delivered"
            raise WrongUsage(what, f"frame {first.frame}", first.why)

    def _report(self, looks: Looks) -> None:
        shot = looks.shot
        if shot.report is None:
            return
        if self._write_report is None:
            raise WrongUsage("nothing here writes a record", shot.report)
        self._write_report(shot.report, record(_job(looks), user=self._desk.user))


def shot_for(
    target: Path | str,
    desk: Desk,
    *,
    crate_folder: Path | None = None,
    farms: Sequence[str] = (),
    cap: str | None = None,
    options: SendOptions | None = None,
    asked: RenderParts | None = None,
    look_in: Sequence[Path] = (),
    into: Path | None = None,
    deliver: Path | None = None,
    report: Path | None = None,
) -> Shot:
    """Return what a scene, a crate or a job is carried by: what is said here, and else the rules of its project.

    cap: such as `120 EUR`. asked: what is to be rendered, where that is said from outside of the scene.
    Raises WrongUsage for a target that is none of the three, or an amount without a currency.
    """
    from tidy_crate.core.asset.paths import crate_name
    from tidy_crate.core.context.project import Project
    from tidy_crate.core.crate.origin import scene_of
    from tidy_crate.core.crate.packing import is_crate
    from tidy_crate.core.money import parse_money
    from tidy_crate.core.scene.staging import RenderParts
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.core.workflow.shot import Shot, placed

    path = Path(target).absolute()
    scene_file: Path | None = None
    job: str | None = None
    if path.is_file():
        scene_file, folder = (
            path,
            crate_folder.absolute() if crate_folder is not None else path.with_name(crate_name(path.name)),
        )
    elif is_crate(path):
        folder = path
    elif path.exists():
        raise WrongUsage("this is neither a scene nor a crate", target, "name a scene file, a crate or a job")
    elif path.suffix or len(Path(target).parts) > 1:
        raise WrongUsage("there is no such scene, crate or job", target, "check the path; tidy-crate jobs lists jobs")
    else:
        from tidy_crate.core.job.ledger import submissions_of

        row, _ = submissions_of(desk.ledger, str(target))
        job, folder = row.id, Path(row.crate)
    origin = scene_file or scene_of(desk.origin_of(folder)) or folder / "scene"
    project = Project.of(origin)
    rules = project.content.carry
    root = project.root or origin.parent
    amount = cap or rules.cap
    if look_in:
        rules = rules.model_copy(update={"look_in": tuple(one.absolute() for one in look_in)})
    money = None
    if amount:
        money = parse_money(amount, "")
        if not money[1]:
            raise WrongUsage("the cap has no currency", repr(amount), "write an amount and a currency: '120 EUR'")
    home = into.absolute() if into is not None else None
    return Shot(
        desk=desk,
        rules=rules,
        rules_file=project.file,
        crate=folder,
        scene=scene_file,
        job=job,
        farms=tuple(farms) or project.farms,
        cap=money,
        asked=asked or RenderParts(),
        options=options or SendOptions(),
        into=home or (placed(rules.into, origin, root) if rules.into else folder.parent / "frames"),
        deliver=deliver.absolute() if deliver else placed(rules.deliver, origin, root) if rules.deliver else None,
        report=report.absolute() if report else placed(rules.report, origin, root) if rules.report else None,
    )


def standings(shot: Shot) -> Standings:
    """Return where a shot stands, step by step. Farms are asked; nothing is changed."""
    from tidy_crate.core.workflow.looks import Looks, stand

    return stand(Looks(shot))


def next_standing(
    target: Path | str, *, crate_folder: Path | None = None, tidy_dir: Path | None = None, user: User | None = None
) -> Standing | None:
    """Return the first step of a scene, a crate or a job that is not over; None at the end, or where it has no rules.

    No step behind it is looked at.
    """
    from tidy_crate.core.workflow.looks import Looks

    with Desk(user, tidy_dir=tidy_dir) as desk:
        try:
            return Looks(shot_for(target, desk, crate_folder=crate_folder)).first()
        except TidyCrateError:
            return None


def carry(shot: Shot, doing: Doing, tell: Callable[[Standing], None], *, until: StepName | None = None) -> Standings:
    """Do all steps that need no decision, up to the first one that does. This may spend money, up to the shot's cap.

    Raises Blocked while another command carries the shot.
    """
    from tidy_crate.core.files import only_one
    from tidy_crate.core.workflow.carry import carry as core

    with only_one(lock_of(shot), "carries this shot", shot.crate):
        return core(shot, doing, tell, until)


def lock_of(shot: Shot) -> Path:
    """Return the file that says that a shot is carried: beside its crate, where all who share it see it."""
    return shot.crate.parent / f".{shot.crate.name}.carried"


def _job(looks: Looks) -> str:
    if looks.job is None:
        raise WrongUsage("it was not sent", looks.shot.crate, "carry it on")
    return looks.job.id


def _of(shot: Shot) -> Path:
    if shot.scene is None:
        raise WrongUsage("there is no scene", shot.crate)
    return shot.scene
