"""Result of a check."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.context.decisions import MendDecision, Waiver
from tidy_crate.core.model import Model


class UnusedWaiver(Waiver):
    """A waiver without effect."""

    reason: str
    """The reason why it has no effect."""


class MachineVerdict(Model):
    """Verdict on a machine class: whether it can render the scene, and why not."""

    machine: str
    fits: bool
    reasons: tuple[str, ...]
    frame_seconds: float | None
    tiles: int
    """Number of tiles that a frame must be shared out in."""


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
    """All findings, the worst first."""

    scene: Path
    findings: tuple[Finding, ...]
    settled: tuple[Finding, ...] = ()
    """Findings of the scene as saved that the staged scene does not have."""
    mends: tuple[MendDecision, ...] = ()
    """Fixes in force."""
    unused_waivers: tuple[UnusedWaiver, ...] = ()
    """Waivers that match nothing any more."""
    accepted: tuple[Waiver, ...] = ()
    """Waivers of the scene of which its crate shows nothing."""
    farms: tuple[FarmVerdict, ...] = ()
    """A verdict for each farm."""

    @property
    def blocked(self) -> bool:
        """Return whether an error stands, of the scene or of any farm that was asked about."""
        return any(finding.severity is Severity.ERROR for finding in self.findings)

    @property
    def blocked_by_scene(self) -> bool:
        """Return whether an error stands that no other farm would help with."""
        return any(f.severity is Severity.ERROR and f.farm is None for f in self.findings)

    def count(self, severity: Severity) -> int:
        """Return how many findings of a severity are not waived."""
        return sum(finding.severity is severity and not finding.waived for finding in self.findings)
