"""The picture of an estimate: frame times with their test frames, cost against time, and where time and money go."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from tidy_crate.core.drawing import COLOURS, FAINT, INK, WARN, bare, need_ending, new_figure, save, title
from tidy_crate.core.estimate.estimate import Answer
from tidy_crate.core.estimate.model import Estimate, Quote, least_by
from tidy_crate.core.estimate.timing import ShotTimes

_BAND, _LINE = "#cfdde6", "#2a5d8f"
# farms differ by mark and by colour, so that the picture reads without colour too
_MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
_HATCHES = ("", "///", "...", "xxx", "\\\\\\", "---", "+++", "ooo")
_MOST_BARS = 6


def draw(answer: Answer, target: Path) -> None:
    """Draw an estimate into a file. Raises WrongUsage when its ending is not known."""
    need_ending(target)
    figure = new_figure(12.8, 8.0)
    grid = figure.add_gridspec(2, 2, height_ratios=(1, 1.25))
    _frames(figure.add_subplot(grid[0, :]), answer.work.shots)
    _trade(figure.add_subplot(grid[1, 0]), answer.estimate)
    _parts(figure.add_subplot(grid[1, 1]), answer.estimate)
    changed = f", with {answer.estimate.what_if}" if answer.estimate.what_if else ""
    title(figure, f"Estimate for {answer.estimate.frames} frames{changed}, from {answer.estimate.source}")
    save(figure, target)


def _bare(axis: Any, words: str) -> None:
    axis.set_title(words, loc="left", fontsize=11, color=INK)
    bare(axis, 9)


def _frames(axis: Any, shots: Sequence[ShotTimes]) -> None:
    """Seconds of each frame on the measured machine: median, range of eight in ten, and what was measured."""
    _bare(axis, "Time of each frame on the machine that was measured")
    most = 0.0
    for at, shot in enumerate(shots[: len(COLOURS)]):
        order = np.argsort(shot.numbers)
        numbers = np.array(shot.numbers)[order]
        low, high = (one[order] for one in np.quantile(shot.draws, (0.1, 0.9), axis=0))
        # the geometric mean is the median of these draws, with less noise
        likely = np.exp(np.log(shot.draws).mean(axis=0))[order]
        colour = COLOURS[at]
        single = len(shots) == 1
        band, strength = (_BAND, 1.0) if single else (colour, 0.2)
        label = "eight of ten" if single else None
        axis.fill_between(numbers, low, high, color=band, alpha=strength, linewidth=0, label=label)
        axis.plot(
            numbers,
            likely,
            color=_LINE if single else colour,
            linewidth=1.4,
            label="likely" if single else shot.request,
        )
        known = sorted(shot.measured)
        seconds = [shot.measured[frame] for frame in known]
        axis.plot(known, seconds, linestyle="none", marker="o", markersize=6, markerfacecolor="white",
                  markeredgewidth=1.6, color=INK, label="measured" if at == 0 else None)  # fmt: skip
        most = max(most, float(np.quantile(high, 0.98)), *shot.measured.values())
    axis.set_ylim(0, most * 1.15)
    axis.set_xlabel("frame", color=INK, fontsize=9)
    axis.set_ylabel("seconds", color=INK, fontsize=9)
    axis.legend(fontsize=9, frameon=False, ncols=4, loc="upper right")


def _trade(axis: Any, estimate: Estimate) -> None:
    """Cost against time of every quote that can be taken, with the front and the pick."""
    _bare(axis, "Cost against time")
    able = [at for at, one in enumerate(estimate.quotes) if one.comparable]
    if not able:
        axis.text(0.5, 0.5, "no farm can take it", transform=axis.transAxes, ha="center", color=FAINT)
        axis.set_xticks([])
        axis.set_yticks([])
        return
    farms = list(dict.fromkeys(estimate.quotes[at].farm for at in able))
    scale, unit = _unit([estimate.quotes[at].seconds.likely for at in able])
    front = [estimate.quotes[at] for at in estimate.front]
    axis.plot([one.seconds.likely / scale for one in front], [_cost(one) for one in front], color=INK, linewidth=1.2,
              drawstyle="steps-pre", zorder=1, label="the best there is")  # fmt: skip
    for number, farm in enumerate(farms):
        here = [estimate.quotes[at] for at in able if estimate.quotes[at].farm == farm]
        axis.plot([one.seconds.likely / scale for one in here], [_cost(one) for one in here], linestyle="none",
                  marker=_MARKS[number % len(_MARKS)], markersize=6, color=COLOURS[number % len(COLOURS)], alpha=0.85,
                  label=farm)  # fmt: skip
    if estimate.pick is not None:
        one = estimate.quotes[estimate.pick.index]
        own = one.cost_own
        assert own is not None
        sooner, later = one.seconds.likely - one.seconds.low, one.seconds.high - one.seconds.likely
        axis.errorbar([one.seconds.likely / scale], [_cost(one)], xerr=[[sooner / scale], [later / scale]],
                      yerr=[[float(own.likely - own.low)], [float(own.high - own.likely)]], color=WARN, capsize=3,
                      marker="o", markersize=13, markerfacecolor="none", markeredgewidth=2, linewidth=1.4,
                      label="taken, with its range")  # fmt: skip
    axis.set_xscale("log")
    axis.set_xlabel(f"done in, {unit}", color=INK, fontsize=9)
    axis.set_ylabel(f"cost, {estimate.currency}", color=INK, fontsize=9)
    costs = [_cost(estimate.quotes[at]) for at in able]
    wide = min(costs) > 0 and max(costs) > 8 * min(costs)
    if wide:
        axis.set_yscale("log")
    else:
        axis.set_ylim(bottom=0)
    _plain_ticks(axis.xaxis)
    if wide:
        _plain_ticks(axis.yaxis)
    axis.legend(fontsize=8, frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.14), ncols=4)


def _plain_ticks(side: Any) -> None:
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    side.set_major_locator(LogLocator(base=10, subs=(1, 2, 5)))
    side.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    side.set_minor_formatter(NullFormatter())


def _cost(quote: Quote) -> float:
    return float(quote.cost_own.likely) if quote.cost_own is not None else 0.0


def _unit(seconds: Sequence[float]) -> tuple[float, str]:
    middle = float(np.median(seconds))
    return (3600.0, "hours") if middle > 5400 else (60.0, "minutes") if middle > 120 else (1.0, "seconds")


def _parts(axis: Any, estimate: Estimate) -> None:
    """Draw where the time of the best way at each farm goes, as stacked bars with hatches."""
    _bare(axis, "Where the time goes")
    quotes = estimate.quotes
    able = [at for at, one in enumerate(quotes) if one.parts is not None and one.eligible]
    best = least_by(quotes, able, lambda one: one.farm)
    if estimate.pick is not None and estimate.quotes[estimate.pick.index].parts is not None:
        best[estimate.quotes[estimate.pick.index].farm] = estimate.pick.index
    shown = [estimate.quotes[at] for at in list(best.values())[:_MOST_BARS]][::-1]
    if not shown:
        axis.text(0.5, 0.5, "no farm can take it", transform=axis.transAxes, ha="center", color=FAINT)
        axis.set_xticks([])
        axis.set_yticks([])
        return
    scale, unit = _unit([one.seconds.likely for one in shown])
    left = np.zeros(len(shown))
    names = ("upload", "processing", "queue", "startup", "rendering", "retrieval", "again", "stitching")
    words = {"startup": "start-up", "retrieval": "frames home", "again": "bad frames again"}
    for number, name in enumerate(names):
        took = np.array([getattr(one.parts, name) for one in shown]) / scale
        if took.max() * scale < 0.5:
            continue
        axis.barh(range(len(shown)), took, left=left, height=0.55, color=COLOURS[number], alpha=0.8,
                  hatch=_HATCHES[number], edgecolor="white", linewidth=0.6, label=words.get(name, name))  # fmt: skip
        left += took
    axis.set_yticks(range(len(shown)), [f"{one.farm}\n{one.nodes} x {one.machine}" for one in shown])
    axis.set_xlabel(unit, color=INK, fontsize=9)
    axis.set_ylim(-0.6, len(shown) - 0.4 + 0.5 * (len(shown) > 1))
    axis.legend(fontsize=8, frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.14), ncols=4)
