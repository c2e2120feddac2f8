"""Running the catalogue and setting the findings against the waivers."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from tidy_crate.core.check import files, frames, outputs, simulations
from tidy_crate.core.check.finding import CATALOGUE, Checked, Finding, Severity
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.files import inside
from tidy_crate.core.model import Model
from tidy_crate.core.scene.context import SceneContext
from tidy_crate.core.scene.decisions import Waiver
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import Asset, Status
from tidy_crate.core.scene.settings import load_maps

# importing a group registers its checks
GROUPS = (outputs, frames, files, simulations)
_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}


class CheckResult(Model):
    """All findings, the worst first. unused_waivers: waivers that match nothing any more."""

    findings: tuple[Finding, ...]
    unused_waivers: tuple[Waiver, ...] = ()

    @property
    def blocked(self) -> bool:
        """Whether an error stands."""
        return any(finding.severity is Severity.ERROR for finding in self.findings)

    def count(self, severity: Severity) -> int:
        """How many findings of a severity are not waived."""
        return sum(finding.severity is severity and not finding.waived for finding in self.findings)


def check_scene(context: SceneContext) -> CheckResult:
    """Check a scene as it would be staged now."""
    found = context.survey_as_found()
    survey = context.survey() if context.plan.edits else found
    return run_checks(Checked(survey, found, context.project.root), context.decisions.waive)


def check_crate(crate: Path) -> CheckResult:
    """Check the staged scene inside a crate, against the waivers it was packed with."""
    crate = crate.absolute()
    content = read_packing_list(crate)
    scene = inside(crate, content.scene)
    survey = format_of(scene).read(scene, None, next(iter(content.requests), None), load_maps())
    excused = {one.path: one.because for one in content.missing if one.let_go}
    assets = tuple(_as_packed(asset, crate, excused) for asset in survey.assets)
    survey = survey.model_copy(update={"assets": assets})
    return run_checks(Checked(survey, survey, crate, is_crate=True), content.waived)


def _as_packed(asset: Asset, crate: Path, excused: dict[str, str]) -> Asset:
    """What was let go when the crate was packed is still let go in it."""
    if asset.resolved is None or not asset.resolved.is_relative_to(crate):
        return asset
    because = excused.get(asset.resolved.relative_to(crate).as_posix())
    return asset if because is None else asset.model_copy(update={"status": Status.LET_GO, "because": because})


def run_checks(scene: Checked, waivers: Sequence[Waiver] = ()) -> CheckResult:
    """Run every check. Errors are never waived: they are put right, let go, or stay."""
    findings = []
    used: set[int] = set()
    for one in CATALOGUE.values():
        for trouble in one.run(scene):
            at = _waiver(one.code, trouble.subject, waivers) if one.severity is not Severity.ERROR else None
            if at is not None:
                used.add(at)
            findings.append(
                Finding(
                    code=one.code,
                    severity=one.severity,
                    subject=trouble.subject,
                    message=trouble.message,
                    why=one.why,
                    remedy=trouble.remedy,
                    waived=at is not None,
                    waived_because=waivers[at].because if at is not None else None,
                )
            )
    findings.sort(key=lambda finding: (_ORDER[finding.severity], finding.waived))
    unused = tuple(waiver for index, waiver in enumerate(waivers) if index not in used)
    return CheckResult(findings=tuple(findings), unused_waivers=unused)


def _waiver(code: str, subject: str, waivers: Iterable[Waiver]) -> int | None:
    for index, waiver in enumerate(waivers):
        if waiver.code == code and waiver.subject in (None, subject):
            return index
    return None


def waive(context: SceneContext, waiver: Waiver) -> None:
    """Record a waiver. Raises WrongUsage for a code that does not exist or an error, which cannot be waived."""
    known = CATALOGUE.get(waiver.code)
    if known is None:
        raise WrongUsage("there is no check of that code", waiver.code, "check lists the codes of its findings")
    if known.severity is Severity.ERROR:
        raise WrongUsage(
            "this is an error, and errors cannot be waived",
            waiver.code,
            "put it right; a missing file can be let go by relink",
        )
    context.file.add("waive", [waiver.model_dump(exclude_none=True, exclude_defaults=True)])
