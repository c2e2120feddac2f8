"""C6: simulations."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.check.finding import Checked, Severity, Trouble, check
from tidy_crate.core.scene.model import SimulationState


@check("simulation-live", Severity.ERROR, "C6")
def simulation_live(scene: Checked) -> Iterator[Trouble]:
    """Machines that start in the middle of the shot compute another motion than their neighbours."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.LIVE:
            yield Trouble(one.name, f"{one.kind}, solved anew by every machine", "bake it")


@check("simulation-stale", Severity.ERROR, "C6")
def simulation_stale(scene: Checked) -> Iterator[Trouble]:
    """A cache of an older scene shows motion that no longer fits what it moves with."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.STALE:
            yield Trouble(one.name, f"{one.kind}: the scene has changed since it was baked", "bake it again")


@check("simulation-partial", Severity.ERROR, "C6")
def simulation_partial(scene: Checked) -> Iterator[Trouble]:
    """Frames that the cache lacks freeze, vanish or are interpolated, and nothing says so."""
    for one in scene.survey.simulations:
        if one.state is SimulationState.PARTIAL:
            if one.covers is None:
                what = "the cache is missing or holds no frames"
            elif one.gaps:
                what = f"the cache lacks frames {format_frames(one.gaps[:50])}"
            else:
                what = f"the cache covers {one.covers[0]}-{one.covers[1]} only"
            yield Trouble(one.name, what, "bake it again")


@check("generator-not-frozen", Severity.ERROR, "B11")
def generator_not_frozen(scene: Checked) -> Iterator[Trouble]:
    """A node that lacks the plug-in, the font or the script renders nothing there, or something else."""
    for one in scene.survey.generators:
        if not one.frozen and not one.can_freeze:
            what = f"no node can evaluate this {one.kind}, and the sheet names no command that turns it into plain data"
            yield Trouble(one.name, what, "freeze it in the host application, or add commands.freeze to the sheet")


@check("generator-will-be-frozen", Severity.NOTE, "B11")
def generator_will_be_frozen(scene: Checked) -> Iterator[Trouble]:
    """What is frozen in the staged copy can be changed no more there, and is only as right as at that moment."""
    for one in scene.survey.generators:
        if not one.frozen and one.can_freeze:
            yield Trouble(
                one.name, f"the {one.kind} becomes plain data in the staged copy", "look at it in a test frame"
            )
