"""A picture of what each simulation does over time, and which frames its cache covers."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.drawing import COLOURS, FAINT, INK, WARN, bare, need_ending, new_figure, save, title
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.formats.baking import Curve
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState

MOST_ROWS = 12
MOST_CURVES = 8
_WIDTH, _ROW = 12.8, 1.45
_SOUND = "#1f7a6d"


def plot_bakes(context: SceneContext, target: Path) -> int:
    """Draw all simulations of a scene into a file. Returns how many were drawn.

    Raises WrongUsage when there is none, or the file's ending is not known.
    """
    need_ending(target)
    survey = context.survey()
    shown = survey.simulations[:MOST_ROWS]
    if not shown:
        raise WrongUsage("nothing in this scene depends on the frame before", context.scene)
    baker = context.format.baker()
    figure = new_figure(_WIDTH, max(3.2, 1.3 + _ROW * len(shown)))
    axes = figure.subplots(len(shown), 1, sharex=True, squeeze=False)[:, 0]
    for axis, one in zip(axes, shown, strict=True):
        _row(axis, one, survey.frames, baker.curves(one) if baker is not None and one.cache is not None else [])
    axes[-1].set_xlabel("frame", color=INK)
    more = len(survey.simulations) - len(shown)
    title(figure, f"{context.scene.name}: simulations and their caches" + (f" (and {more} more)" if more else ""))
    figure.supxlabel(
        "shaded: frames to render     green: frames in the cache     red: frames it lacks     dotted: where it begins",
        fontsize=8, color=FAINT,
    )  # fmt: skip
    save(figure, target)
    return len(shown)


def _row(axis, one: Simulation, frames: FrameRange, curves: list[Curve]) -> None:  # type: ignore[no-untyped-def]
    axis.set_title(f"{one.name}   {one.kind}", loc="left", fontsize=10, color=INK, pad=4)
    good = one.state is SimulationState.CACHED
    word = one.state.value if one.covers is None else f"{one.state.value}, {one.covers[0]} to {one.covers[1]}"
    axis.set_title(word, loc="right", fontsize=10, color=_SOUND if good else WARN, pad=4)
    if frames.start is not None and frames.end is not None:
        axis.axvspan(frames.start, frames.end, color="#eef3f6", zorder=0)
    for number, curve in enumerate(curves[:MOST_CURVES]):
        name = curve.prim.rpartition("/")[2] if len(curves) > 1 else None
        axis.plot(curve.times, curve.values, color=COLOURS[number], linewidth=1.4, label=name)
    if len(curves) > MOST_CURVES:
        axis.plot([], [], color="none", label=f"and {len(curves) - MOST_CURVES} more")
    if curves:
        axis.set_ylabel(curves[0].label, fontsize=8, color=INK)
        if min(float(curve.values.min()) for curve in curves) >= 0:
            axis.set_ylim(bottom=0)
        if len(curves) > 1:
            axis.legend(fontsize=7, loc="upper left", bbox_to_anchor=(1.0, 1.05), frameon=False, ncols=1)
    else:
        axis.set_yticks([])
        axis.text(0.5, 0.5, "not cached: nothing to show", transform=axis.transAxes, ha="center", color=FAINT)
    if one.covers is not None:
        axis.plot(one.covers, [0, 0], transform=axis.get_xaxis_transform(), color=_SOUND, linewidth=5, clip_on=False,
                  solid_capstyle="butt")  # fmt: skip
        for gap in one.gaps:
            axis.plot([gap - 0.5, gap + 0.5], [0, 0], transform=axis.get_xaxis_transform(), color=WARN, linewidth=5,
                      clip_on=False, solid_capstyle="butt")  # fmt: skip
    axis.axvline(one.start, color=FAINT, linewidth=1, linestyle=":")
    bare(axis, 8)
