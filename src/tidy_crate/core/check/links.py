"""C5: places of a scene that lead to something which is not there, or not as it should be."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.model import BrokenLink, LinkKind


@check("composition-error", Severity.ERROR, "C5")
def composition_error(scene: Checked) -> Iterator[Trouble]:
    """A part that does not compose is missing in the picture, and its files are not reported missing."""
    for one in _of(scene, LinkKind.COMPOSITION):
        if one.needed:
            yield Trouble(one.where, one.what, "repair the reference in the scene, or remove it")


@check("composition-error-unused", Severity.NOTE, "C5", Next.NOTHING)
def composition_error_unused(scene: Checked) -> Iterator[Trouble]:
    """A part that does not compose is not rendered in these frames. It may be missing in the next shot."""
    for one in _of(scene, LinkKind.COMPOSITION):
        if not one.needed:
            yield Trouble(one.where, f"{one.what}, but nothing that renders needs it", "nothing to do for this render")


@check("target-gone", Severity.ERROR, "C5")
def target_gone(scene: Checked) -> Iterator[Trouble]:
    """A link points to a prim that does not exist: the output, pass or material is left out without notice."""
    for one in _of(scene, LinkKind.TARGET):
        if one.needed:
            yield Trouble(one.where, one.what, "point it at something that is there, or remove it")


@check("target-gone-unused", Severity.NOTE, "C5", Next.NOTHING)
def target_gone_unused(scene: Checked) -> Iterator[Trouble]:
    """A link that these frames do not use points to a prim that does not exist, often after a rename."""
    for one in (*_of(scene, LinkKind.TARGET), *_of(scene, LinkKind.OTHER_TARGET)):
        if not one.needed:
            yield Trouble(one.where, one.what, "nothing to do for this render")


@check("units-differ", Severity.WARNING, "C5", Next.DECIDE)
def units_differ(scene: Checked) -> Iterator[Trouble]:
    """Units are not converted: the part appears at the wrong scale or rotated."""
    for one in _of(scene, LinkKind.UNITS):
        if one.needed:
            yield Trouble(one.where, one.what, "scale or rotate it where it is brought in, or waive")


def _of(scene: Checked, kind: LinkKind) -> Iterator[BrokenLink]:
    return (one for one in scene.survey.broken_links if one.kind is kind)
