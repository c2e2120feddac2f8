"""A check of the studio's own: every scene has the initials of the show in front."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Checked, Severity, Trouble, check

INITIALS = "lq_"


@check("studio-initials", Severity.WARNING, "C5")
def initials(scene: Checked) -> Iterator[Trouble]:
    """A scene without the initials of its show is sent for another show by mistake."""
    name = scene.original or scene.survey.scene.name
    if not name.startswith(INITIALS):
        yield Trouble(name, f"it does not begin with {INITIALS}", f"rename it to {INITIALS}{name}")
