"""Running the catalogue on a scene or a crate, and setting the findings against the waivers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import TypeVar

from tidy_crate.core.check.brief import Brief
from tidy_crate.core.check.catalogue import catalogue, check_of
from tidy_crate.core.check.farm_machines import fits
from tidy_crate.core.check.finding import Check, Checked, Finding, Next, OnFarm, Severity, Trouble
from tidy_crate.core.check.mends import Mend, mends_for
from tidy_crate.core.check.rules import CheckRules
from tidy_crate.core.crate.layout import lay_out
from tidy_crate.core.crate.origin import changed_since
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.estimate.probe import ProbeResult, probe_folder, read_probe
from tidy_crate.core.estimate.quote import PRACTICE, estimate
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.files import inside
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.model import Model
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.decisions import MendDecision, Waiver
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.memory_need import memory_need
from tidy_crate.core.scene.model import Asset, MemoryNeed, Status, Survey
from tidy_crate.core.scene.request import RenderRequest, request_for
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.scene.staging import StagingPlan

_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}


@dataclass(frozen=True)
class Against:
    """What a scene is held against, beside the rules of its project.

    brief: in place of the project's. account: of a farm, that pays; balances: by farm, fresher than the card's.
    wishes: the machine class and number of nodes that money is reckoned for. today: needed for farm cards.
    """

    cards: tuple[FarmCard, ...] = ()
    brief: Brief | None = None
    today: date = date.min
    account: str | None = None
    balances: Mapping[str, Decimal] = field(default_factory=dict)
    wishes: Wishes = field(default_factory=Wishes)


NOTHING = Against()


class UnusedWaiver(Waiver):
    """A waiver that is of no use. reason: why."""

    reason: str


class MachineVerdict(Model):
    """Whether a machine class can render the scene, and why not. tiles: that a frame must be shared out in."""

    machine: str
    fits: bool
    reasons: tuple[str, ...]
    frame_seconds: float | None
    tiles: int


class FarmVerdict(Model):
    """One farm: whether the scene could be sent there. Counts are of its own findings, the waived left out."""

    farm: str
    title: str
    blocked: bool
    errors: int
    warnings: int
    notes: int
    machines: tuple[MachineVerdict, ...]
    cost: Decimal | None
    currency: str


class CheckResult(Model):
    """All findings, the worst first.

    settled: what is wrong in the scene as found, and right as it is staged. mends: in force. unused_waivers: those that
    match nothing any more. accepted: waivers of the scene of which its crate shows nothing. farms: a verdict each.
    """

    scene: Path
    findings: tuple[Finding, ...]
    settled: tuple[Finding, ...] = ()
    mends: tuple[MendDecision, ...] = ()
    unused_waivers: tuple[UnusedWaiver, ...] = ()
    accepted: tuple[Waiver, ...] = ()
    farms: tuple[FarmVerdict, ...] = ()

    @property
    def blocked(self) -> bool:
        """Whether an error stands, of the scene or of any farm that was asked about."""
        return any(finding.severity is Severity.ERROR for finding in self.findings)

    @property
    def blocked_by_scene(self) -> bool:
        """Whether an error stands that no other farm would help with."""
        return any(f.severity is Severity.ERROR and f.farm is None for f in self.findings)

    def count(self, severity: Severity) -> int:
        """How many findings of a severity are not waived."""
        return sum(finding.severity is severity and not finding.waived for finding in self.findings)


def check_scene(context: SceneContext, against: Against = NOTHING) -> CheckResult:
    """Check a scene as it would be staged now, and say what is wrong only as it was found."""
    staged, as_found = checked(context, against)
    farms = []
    if against.cards:
        layout = lay_out(staged.survey, context.plan, context.project)
        sizes = {m.path: m.bytes for asset in staged.survey.assets for m in asset.members}
        sizes.setdefault(context.scene, context.scene.stat().st_size)
        files = tuple((str(layout.places[path]), sizes.get(path, 0)) for path in layout.sources)
        memory = memory_need(context.format, context.scene, context.plan, staged.survey, context.memory)
        request = _request(staged.survey)
        farms = [_on_farm(staged, card, against, request, files, memory) for card in against.cards]
    return run_checks(
        staged, context.decisions.waive, as_found=as_found, farms=farms, mends=_in_force(context, staged.found)
    )


def checked(context: SceneContext, against: Against = NOTHING) -> tuple[Checked, Checked | None]:
    """What checks look at: the scene as staged, and as found where the two differ."""
    rules = context.project.rules()
    if against.brief is not None:
        rules = rules.model_copy(update={"brief": against.brief})
    found = context.survey_as_found()
    survey = context.survey() if context.plan.edits else found
    asked = bool(against.cards)
    staged = Checked(survey, found, context.project.root, rules, for_farms=asked)
    if survey is found:
        return staged, None
    return staged, replace(staged, survey=found)


def _in_force(context: SceneContext, found: Survey) -> tuple[MendDecision, ...]:
    """The mends that still find the scene as they were made for."""
    return tuple(one for one in context.decisions.mend if _still_holds(one, found))


def _still_holds(one: MendDecision, found: Survey) -> bool:
    edit = one.edit
    if edit.kind == "set-setting":
        now = next((s.value for s in found.settings if (s.owner, s.name) == (edit.owner, edit.name)), None)
        if now is None and edit.name == "includedPurposes":
            now = found.canonical.get("render_purposes")
        return edit.holds(now)
    output = next((o for o in found.outputs if o.name == edit.output), None)
    if output is None:
        return False
    return edit.holds(output.path if edit.kind == "output-path" else output.camera)


def check_crate(crate: Path, against: Against = NOTHING, origin: Path | None = None) -> CheckResult:
    """Check the staged scene inside a crate, by the rules and waivers it was packed with.

    origin: where collecting noted what the crate was made from, see `origin`.
    """
    crate = crate.absolute()
    content = read_packing_list(crate)
    scene = inside(crate, content.scene)
    form = format_of(scene)
    survey = form.read(scene, None, next(iter(content.requests), None), load_maps(maps=content.settings_maps))
    excused = {one.path: one.because for one in content.missing if one.let_go}
    assets = tuple(_as_packed(asset, crate, excused) for asset in survey.assets)
    survey = survey.model_copy(update={"assets": assets})
    rules = content.rules if against.brief is None else content.rules.model_copy(update={"brief": against.brief})
    changed = changed_since(origin) if origin is not None else ()
    staged = Checked(
        survey,
        survey,
        crate,
        rules,
        is_crate=True,
        original=content.original,
        for_farms=bool(against.cards),
        changed=changed,
    )
    farms = []
    if against.cards:
        files = tuple((file.path, file.bytes) for file in content.files)
        memory = memory_need(form, scene, StagingPlan(), survey)
        request = next(iter(content.requests), None)
        farms = [_on_farm(staged, card, against, request, files, memory, content, crate) for card in against.cards]
    return run_checks(staged, content.waived, farms=farms)


def _as_packed(asset: Asset, crate: Path, excused: dict[str, str]) -> Asset:
    """What was let go when the crate was packed is still let go in it."""
    if asset.resolved is None or not asset.resolved.is_relative_to(crate):
        return asset
    because = excused.get(asset.resolved.relative_to(crate).as_posix())
    return asset if because is None else asset.model_copy(update={"status": Status.LET_GO, "because": because})


def _request(survey: Survey) -> RenderRequest | None:
    try:
        return request_for(survey)
    except WrongUsage:
        return None


def _on_farm(
    staged: Checked,
    card: FarmCard,
    against: Against,
    request: RenderRequest | None,
    files: tuple[tuple[str, int], ...],
    memory: MemoryNeed,
    content: PackingList | None = None,
    crate: Path | None = None,
) -> OnFarm:
    probe = _probe(crate, card, against) if crate is not None else None
    quote = _quote(content, probe, card, against) if content is not None and probe is not None else None
    noted = card.account(against.account)
    if against.account is not None and card.balance and noted is None:
        names = ", ".join(one.account for one in card.balance)
        raise WrongUsage(f"{card.name} has no such account", against.account, f"its card notes {names}")
    return OnFarm(
        scene=staged,
        card=card,
        today=against.today,
        request=request,
        files=files,
        memory=memory,
        probe=probe,
        quote=quote,
        score_here=against.wishes.score_here,
        balance=against.balances.get(card.name, noted.amount if noted else None),
    )


def _probe(crate: Path, card: FarmCard, against: Against) -> ProbeResult | None:
    """The timings of a crate, where they say anything about this farm."""
    if not probe_folder(crate).is_dir():
        return None
    try:
        found = read_probe(crate)
    except UnreadableInput:
        return None
    return None if found.basis == PRACTICE and not card.practice and not against.wishes.accept_practice else found


def _quote(content: PackingList, probe: ProbeResult, card: FarmCard, against: Against) -> Quote | None:
    try:
        found = estimate(content, probe, [card], against.wishes)
    except TidyCrateError:
        return None
    return found.quotes[found.pick] if found.pick is not None else None


def run_checks(
    scene: Checked,
    waivers: Sequence[Waiver] = (),
    *,
    as_found: Checked | None = None,
    farms: Sequence[OnFarm] = (),
    mends: tuple[MendDecision, ...] = (),
) -> CheckResult:
    """Run every check. Errors are never waived: they are put right, let go, or stay.

    as_found: the scene as the artist saved it, where staging changes it. Raises WrongUsage when the project gives a
    severity to a check that there is not.
    """
    for code in scene.rules.severity:
        check_of(code)
    with no_garbage_collection():
        return _run_checks(scene, waivers, as_found, farms, mends)


def _run_checks(
    scene: Checked,
    waivers: Sequence[Waiver],
    as_found: Checked | None,
    farms: Sequence[OnFarm],
    mends: tuple[MendDecision, ...],
) -> CheckResult:
    possible = {} if scene.is_crate else mends_for(scene)
    here = list(_of_scene(scene))
    before = list(_of_scene(as_found)) if as_found is not None else here
    keys_before = {(one.code, trouble.subject) for one, trouble in before}
    keys_now = {(one.code, trouble.subject) for one, trouble in here}
    waiving = _Waiving(waivers)
    findings = []
    for one, trouble in here:
        seen = "both" if (one.code, trouble.subject) in keys_before else "staged"
        finding = _finding(one, trouble, scene.rules, possible).model_copy(update={"seen": seen})
        findings.append(waiving.of(finding))
    settled = tuple(
        _finding(one, trouble, scene.rules, {}).model_copy(update={"seen": "found"})
        for one, trouble in before
        if (one.code, trouble.subject) not in keys_now
    )
    for farm in farms:
        for one, trouble in _of_farm(farm):
            finding = _finding(one, trouble, scene.rules, {}).model_copy(update={"farm": farm.card.name})
            findings.append(waiving.of(finding))
    findings.sort(key=lambda finding: (_ORDER[finding.severity], finding.waived))
    ran = {code for code, one in catalogue().items() if one.of_scene or farms}
    return CheckResult(
        scene=scene.survey.scene,
        findings=tuple(findings),
        settled=tuple(sorted(settled, key=lambda finding: _ORDER[finding.severity])),
        mends=mends,
        unused_waivers=() if scene.is_crate else tuple(waiving.unused(ran, scene.rules)),
        accepted=tuple(waiving.without_use()) if scene.is_crate else (),
        farms=tuple(_verdict(farm, findings) for farm in farms),
    )


def _of_scene(scene: Checked) -> Iterator[tuple[Check, Trouble]]:
    for one in catalogue().values():
        if one.of_scene is not None:
            yield from ((one, trouble) for trouble in _run(one, one.of_scene, scene))


def _of_farm(farm: OnFarm) -> Iterator[tuple[Check, Trouble]]:
    for one in catalogue().values():
        if one.of_farm is not None:
            yield from ((one, trouble) for trouble in _run(one, one.of_farm, farm))


T = TypeVar("T")


def _run(one: Check, function: Callable[[T], Iterable[Trouble]], target: T) -> list[Trouble]:
    """The troubles of one check. A check that fails says so under its own code: silence would read as all well."""
    try:
        return list(function(target))
    except Exception as error:  # noqa: BLE001 - another package's check may fail in any way
        what = f"the check itself failed ({type(error).__name__}: {str(error)[:200]})"
        return [Trouble("the check itself", what, "report it to whoever wrote the check", Next.DECIDE)]


def _finding(one: Check, trouble: Trouble, rules: CheckRules, possible: Mapping[tuple[str, str], Mend]) -> Finding:
    mend = possible.get((one.code, trouble.subject))
    return Finding(
        code=one.code,
        severity=Severity(rules.severity.get(one.code, one.severity)),
        subject=trouble.subject,
        message=trouble.message,
        why=one.why,
        remedy=trouble.remedy,
        next=Next.MEND if mend else trouble.next or one.next,
        mend=mend.says if mend else None,
    )


def _verdict(farm: OnFarm, findings: list[Finding]) -> FarmVerdict:
    own = [f for f in findings if f.farm == farm.card.name and not f.waived]
    counts = {severity: sum(f.severity is severity for f in own) for severity in Severity}
    return FarmVerdict(
        farm=farm.card.name,
        title=farm.card.title or farm.card.name,
        blocked=any(f.severity is Severity.ERROR for f in findings if f.farm in (None, farm.card.name)),
        errors=counts[Severity.ERROR],
        warnings=counts[Severity.WARNING],
        notes=counts[Severity.NOTE],
        machines=tuple(
            MachineVerdict(
                machine=one.machine,
                fits=not one.reasons,
                reasons=one.reasons,
                frame_seconds=one.frame_seconds,
                tiles=one.tiles,
            )
            for one in fits(farm)
        ),
        cost=farm.quote.cost.likely if farm.quote else None,
        currency=farm.card.currency,
    )


class _Waiving:
    """Sets findings against waivers, and remembers which of them were of use."""

    def __init__(self, waivers: Sequence[Waiver]) -> None:
        self._waivers = waivers
        self._used: set[int] = set()
        self._on_error: set[int] = set()

    def of(self, finding: Finding) -> Finding:
        """The finding, waived where a waiver says so."""
        for at, waiver in enumerate(self._waivers):
            if waiver.code == finding.code and waiver.subject in (None, finding.subject):
                if finding.severity is Severity.ERROR:
                    self._on_error.add(at)
                    continue
                self._used.add(at)
                update = {
                    "waived": True,
                    "waived_because": waiver.because,
                    "waived_by": waiver.by,
                    "waived_on": waiver.on,
                }
                return finding.model_copy(update=update)
        return finding

    def without_use(self) -> Iterator[Waiver]:
        """Those that no finding met."""
        return (waiver for at, waiver in enumerate(self._waivers) if at not in self._used)

    def unused(self, ran: set[str], rules: CheckRules) -> Iterator[UnusedWaiver]:
        """Those of no use, with the reason; not those of checks that were not asked this time."""
        for at, waiver in enumerate(self._waivers):
            if at in self._used:
                continue
            if at in self._on_error:
                reason = "it is an error, and errors cannot be waived"
            elif waiver.code not in catalogue():
                reason = "there is no check of that code"
            elif waiver.code not in ran or (waiver.code.startswith("brief-") and rules.brief is None):
                continue
            else:
                reason = "it matches nothing any more"
            yield UnusedWaiver(**waiver.model_dump(), reason=reason)


def waive(context: SceneContext, waiver: Waiver) -> None:
    """Record a waiver. Raises WrongUsage for a code that does not exist or an error, which cannot be waived."""
    known = check_of(waiver.code)
    if Severity(context.project.rules().severity.get(waiver.code, known.severity)) is Severity.ERROR:
        raise WrongUsage(
            "this is an error, and errors cannot be waived",
            waiver.code,
            "put it right; a missing file can be let go by relink",
        )
    context.file.add("waive", [waiver.model_dump(exclude_none=True, exclude_defaults=True)])


def mend(context: SceneContext, reopen: Callable[[], SceneContext], against: Against = NOTHING) -> tuple[Mend, ...]:
    """Put right what needs no human decision, and write it down among the decisions. Returns what was done.

    reopen: opens the scene again with the decisions as they are now, since one mend may make the next possible.
    """
    done: dict[tuple[str, str], Mend] = {}
    for _ in range(5):
        staged, _as_found = checked(context, against)
        possible = {key: one for key, one in mends_for(staged).items() if key not in done}
        if not possible:
            break
        # a mend of an earlier version of the scene that holds no more makes room
        made = set(possible)
        context.file.drop_where("mend", lambda row, made=made: (row.get("code"), row.get("subject")) in made)  # type: ignore[misc]
        context.file.add("mend", [one.decision().as_written() for one in possible.values()])
        done |= possible
        context = reopen()
    return tuple(done.values())


def take_back(context: SceneContext, code: str) -> tuple[MendDecision, ...]:
    """Remove the mends of a check, or of all where `code` is `all`. Raises WrongUsage when there is none."""
    gone = tuple(one for one in context.decisions.mend if code in ("all", one.code))
    if not gone:
        known = ", ".join(sorted({one.code for one in context.decisions.mend})) or "none"
        raise WrongUsage("there is no such mend to take back", code, f"in force: {known}")
    context.file.drop_where("mend", lambda row: code in ("all", row.get("code")))
    return gone
