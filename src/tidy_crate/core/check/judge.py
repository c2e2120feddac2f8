"""Running every check on what it looks at, and setting the findings against the waivers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TypeVar

from tidy_crate.core.check.catalogue import catalogue, check_of
from tidy_crate.core.check.farm_machines import fits
from tidy_crate.core.check.finding import Check, Checked, Finding, Next, OnFarm, Severity, Trouble
from tidy_crate.core.check.mends import Mend, mends_for
from tidy_crate.core.check.result import CheckResult, FarmVerdict, MachineVerdict, UnusedWaiver
from tidy_crate.core.context.decisions import MendDecision, Waiver
from tidy_crate.core.context.rules import CheckRules
from tidy_crate.core.garbage import no_garbage_collection

_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}


def run_checks(
    scene: Checked,
    waivers: Sequence[Waiver] = (),
    *,
    as_found: Checked | None = None,
    farms: Sequence[OnFarm] = (),
    mends: tuple[MendDecision, ...] = (),
    checks: Mapping[str, Check] | None = None,
) -> CheckResult:
    """Run every check. Errors are never waived: they are fixed, let go, or stay.

    checks: by code, in place of all there are.
    as_found: the scene as the artist saved it, where staging changes it. Raises WrongUsage when the project gives a
    severity to a check that there is not.
    """
    for code in scene.rules.severity:
        check_of(code)
    with no_garbage_collection():
        return _run_checks(scene, waivers, as_found, farms, mends, catalogue() if checks is None else checks)


def _run_checks(
    scene: Checked,
    waivers: Sequence[Waiver],
    as_found: Checked | None,
    farms: Sequence[OnFarm],
    mends: tuple[MendDecision, ...],
    checks: Mapping[str, Check],
) -> CheckResult:
    possible = {} if scene.is_crate else mends_for(scene)
    here = list(_of_scene(scene, checks))
    before = list(_of_scene(as_found, checks)) if as_found is not None else here
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
        for one, trouble in _of_farm(farm, checks):
            finding = _finding(one, trouble, scene.rules, {}).model_copy(update={"farm": farm.card.name})
            findings.append(waiving.of(finding))
    findings.sort(key=lambda finding: (_ORDER[finding.severity], finding.waived))
    ran = {code for code, one in checks.items() if one.of_scene or farms}
    return CheckResult(
        scene=scene.survey.scene,
        findings=tuple(findings),
        settled=tuple(sorted(settled, key=lambda finding: _ORDER[finding.severity])),
        mends=mends,
        unused_waivers=() if scene.is_crate else tuple(waiving.unused(ran, scene.rules)),
        accepted=tuple(waiving.without_use()) if scene.is_crate else (),
        farms=tuple(_verdict(farm, findings) for farm in farms),
    )


def _of_scene(scene: Checked, checks: Mapping[str, Check]) -> Iterator[tuple[Check, Trouble]]:
    for one in checks.values():
        if one.of_scene is not None:
            yield from ((one, trouble) for trouble in _run(one, one.of_scene, scene))


def _of_farm(farm: OnFarm, checks: Mapping[str, Check]) -> Iterator[tuple[Check, Trouble]]:
    for one in checks.values():
        if one.of_farm is not None:
            yield from ((one, trouble) for trouble in _run(one, one.of_farm, farm))


T = TypeVar("T")


def _run(one: Check, function: Callable[[T], Iterable[Trouble]], target: T) -> list[Trouble]:
    """The troubles of one check. A check that fails says so under its own code: silence would read as all well."""
    try:
        return [_as_trouble(one) for one in function(target)]
    except Exception as error:  # noqa: BLE001 - another package's check may fail in any way
        what = f"the check itself failed ({type(error).__name__}: {str(error)[:200]})"
        return [Trouble("the check itself", what, "report it to the author of the check", Next.DECIDE)]


def _as_trouble(found: object) -> Trouble:
    if not isinstance(found, Trouble):
        raise TypeError(f"it gave {type(found).__name__}, not Trouble")
    return Trouble(str(found.subject), str(found.message), str(found.remedy), found.next and Next(found.next))


def _finding(one: Check, trouble: Trouble, rules: CheckRules, possible: Mapping[tuple[str, str], Mend]) -> Finding:
    mend = possible.get((one.code, trouble.subject))
    severity = Severity(rules.severity.get(one.code, one.severity))
    # a note blocks nothing, and an error is never waived
    remedy = trouble.remedy if severity is Severity.WARNING else trouble.remedy.removesuffix(", or waive")
    return Finding(
        code=one.code,
        severity=severity,
        subject=trouble.subject,
        message=trouble.message,
        why=one.why,
        remedy=remedy,
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
        """Yield those without effect, with the reason; not those of checks that were not asked this time."""
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
