"""The signs of a sequence, from its measures: which frames differ from both sides, jump, or repeat another one.

A difference is a sign when it is over its limit (`ReviewRules`) and so many times what is usual around it. What comes
back again and again, as a flashing light does, is taken for a part of the shot.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass
from typing import Protocol, TypeVar

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.review.jumps import (
    AROUND,
    EVENTS,
    FEW,
    OFTEN,
    is_cut,
    jumps_of,
    signs_of_jumps,
    sizes_of,
    usual_and_limit,
    usual_step,
)
from tidy_crate.core.review.kept import Kept
from tidy_crate.core.review.neighbours import COLUMNS, LONGEST, Difference, Measured, Step
from tidy_crate.core.review.never_content import is_a_fault
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.repeats import misplaced, repeats
from tidy_crate.core.review.sign import Figure, Kind, Sign, Weight

# times its limit that a difference needs where too few comparisons tell what is usual
UNKNOWN = 5.0
# the share of them that is below what is usual
USUAL = 90
# of what no shot does, however often it comes
HALF = 50
# what a candle or a flame changes; times the flicker around it that such a difference has to be
_LIGHT = (Kind.LEVEL, Kind.BRIGHTNESS, Kind.PICTURE)
FLICKERS = 2.5
# what something that passes close to the camera changes
_PICTURES = (Kind.LEVEL, Kind.BRIGHTNESS, Kind.PICTURE, Kind.PART, Kind.COLOUR)
# share of the picture of one hue, above which it is rather a thing close to the camera than one without its texture
MOST_VIVID = 0.4
# frames for which something plain may fill the picture of a camera that moves
WALL = 4
# share of a difference in mean brightness that is there over most of the picture
ALL_OVER = 0.4
# stops that the most different part differs by, where it is a part that makes the difference; and where it is noise
LEAST_PART, MOST_OF_NOISE = 0.45, 0.3
# the steps at both ends of a run, in its size, and in the steps within it
END, OF_A_PIECE = 0.6, 1.5


@dataclass(frozen=True)
class _Event:
    kind: Kind
    first: int
    """Index of the first frame."""
    count: int
    figure: float
    limit: float
    score: float
    """The figure divided by its limit."""

    @property
    def frames(self) -> range:
        return range(self.first, self.first + self.count)


@dataclass(frozen=True)
class _Feature:
    kind: Kind
    column: str
    """Field of a `Difference`."""
    rule: str
    """The field of the rules that is its limit."""
    text: str
    content: bool = True
    """True when it may be a part of the shot where it comes often."""
    alone: bool = False
    """True for what counts in a single frame only, and only where it is more than on both sides."""

    def counts(self, figure: float) -> bool:
        """Return whether a figure of this sign may be one: in either direction, or more only."""
        return not self.alone or figure >= 0

    def of(self, change: Difference) -> float:
        """The figure of a step."""
        return float(getattr(change, self.column))

    def of_runs(self, measured: Measured, length: int) -> np.ndarray:
        """The figures of all runs of a length, by the index of the frame after them; not a number where unknown."""
        column = COLUMNS.index(self.column)
        return np.array([one[length - 1, column] if len(one) >= length else np.nan for one in measured.asides])

    def limit(self, rules: ReviewRules) -> float:
        """From where on it is a sign."""
        return float(getattr(rules, self.rule))


_FEATURES = (
    _Feature(Kind.LEVEL, "level", "brightness",
             "as a whole it is {figure:+.2f} stops off the frames on both sides"),
    _Feature(Kind.BRIGHTNESS, "brightness", "brightness",
             "it is {figure:+.2f} stops off the frames on both sides, over most of the picture"),
    _Feature(Kind.PICTURE, "picture", "picture",
             "its picture differs from the frames on both sides, by {figure:.2f} stops on average"),
    _Feature(Kind.PART, "part", "part",
             "a part of it differs from the frames on both sides, by {figure:.2f} stops"),
    _Feature(Kind.COLOUR, "colour", "colour",
             "its colours differ from the frames on both sides, by {figure:.3f} on average"),
    _Feature(Kind.VIVID, "vivid", "vivid",
             "{figure:.1%} of it is of one saturated colour that both sides lack, as a missing texture is"),
    _Feature(Kind.HIGHLIGHT, "highlight", "highlight",
             "its brightest parts are {figure:.1f} stops brighter than on both sides, as fireflies are",
             # a glint lasts some frames, and a lamp that something passes in front of comes back
             alone=True),
    _Feature(Kind.FLAT, "flat", "flat",
             "{figure:.0f} small cells have no detail where the frames on both sides have some: unfinished or lost",
             content=False),
    _Feature(Kind.NOISE, "noise", "noise",
             "its noise is {times:.2f} times that of the frames on both sides"),
    _Feature(Kind.PATCH, "patch", "patch",
             "the noise of a part of it is {times:.1f} times more off the rest than on both sides"),
    _Feature(Kind.ROWS, "comb", "rows",
             "every second row of a part of it is of another picture", content=False),
    _Feature(Kind.LINES, "lines", "lines",
             "it has a row or column of pixels that is {figure:.2f} stops off those beside it, as edges of tiles are",
             content=False),
)  # fmt: skip


def signs_of(
    measured: Measured,
    rules: ReviewRules,
    rendered: Mapping[int, Rendered] | None = None,
    grouped: Set[int] = frozenset(),
    lights: Set[int] = frozenset(),
    kept: Kept | None = None,
) -> dict[int, list[Sign]]:
    """Return the signs of each frame that has any, by frame number.

    rendered: by frame, which node rendered it. Where two nodes or attempts meet, a jump is looked for more closely.
    grouped: indices of frames that are known to differ as a group. Nothing is said of a frame for not being like them.
    lights: indices of frames with which a light of the shot goes on or off: what changes there is content.
    kept: numbers of the frames. With them, a frame is bad for another picture only where that is no shot's; something
    may have passed close to the camera.
    """
    meets = _meets(measured.frames, rendered or {})
    found: dict[int, list[Sign]] = {}

    def add(index: int, sign: Sign) -> None:
        found.setdefault(measured.frames[index], []).append(sign)

    events = [one for one in _asides(measured, rules) if not _explained_by(one, grouped, lights)]
    for event in events:
        text = next(one.text for one in _FEATURES if one.kind is event.kind)
        words = text.format(figure=event.figure, times=2.0 ** abs(event.figure))
        if event.count > 1:
            words += f" of the run of {event.count} frames"
        clear = event.score >= rules.bad and not _is_a_shot(measured, event) and not _may_be_a_wall(measured, event)
        if clear and kept is not None and event.kind in _PICTURES:
            clear = is_a_fault(kept.part(slice(event.first - 1, event.first + event.count + 1)).cells)
        if event.kind is Kind.VIVID and event.figure > MOST_VIVID:
            clear = False
        weight = Weight.BAD if clear else Weight.SUSPECT
        for index in event.frames:
            add(index, _sign(event, weight, words))
    repeated = [*repeats(measured, meets), *misplaced(measured)]
    for index, sign in repeated:
        add(index, sign)
    edges = _edges(events, repeated) | {edge for index in grouped for edge in (index, index + 1)} | lights
    for index, sign in signs_of_jumps(measured, list(jumps_of(measured, rules, edges, meets)), meets):
        add(index, sign)
    return found


def _is_a_shot(measured: Measured, event: _Event) -> bool:
    """Return True for a run between two cuts: another shot, or something that stands in front of the camera."""
    ends = [measured.steps[at] for at in (event.first, event.first + event.count) if at < len(measured.steps)]
    return event.count > 1 and all(one is not None and is_cut(one) for one in ends)


def _may_be_a_wall(measured: Measured, event: _Event) -> bool:
    """Return True for a longer run of one still picture: something plain may fill it for so long."""
    inner = measured.steps[event.first + 1 : event.first + event.count]
    return event.count >= WALL and all(one is not None and one.same for one in inner)


def _explained_by(event: _Event, grouped: Set[int], lights: Set[int]) -> bool:
    """Return True for a run of frames that only differs from a group's frames beside it, or lasts as a light does."""
    if event.first in lights and event.first + event.count in lights:
        return True
    beside = event.first - 1 in grouped or event.first + event.count in grouped
    return beside and any(index not in grouped for index in event.frames)


def _edges(events: Iterable[_Event], repeated: Iterable[tuple[int, Sign]]) -> set[int]:
    """Return the steps that other signs explain: into runs and out of them, and around a repeated frame."""
    edges = {edge for event in events for edge in (event.first, event.first + event.count)}
    # what a repeated frame missed is caught up with
    return edges | {edge for index, _ in repeated for edge in (index, index + 1)}


def _sign(event: _Event, weight: Weight, text: str) -> Sign:
    return Sign(kind=event.kind, weight=weight, text=text, figure=round(event.figure, 4), limit=round(event.limit, 4))


def _asides(measured: Measured, rules: ReviewRules) -> list[_Event]:
    """Runs of frames that differ from what is before and after them, the clearest first, none over another."""
    found: list[_Event] = []
    for feature in _FEATURES:
        candidates = [
            event
            for length in range(1, 2 if feature.alone else LONGEST + 1)
            for event in _candidates(measured, rules, feature, length)
        ]
        own = apart_from_each_other(sorted(candidates, key=lambda one: (-abs(one.figure), one.count, one.first)))
        damaged = sum(event.count for event in own)
        often = len(own) > EVENTS and damaged > OFTEN * len(measured.frames)
        if not (often and feature.content):
            found += own
    return found


def _candidates(measured: Measured, rules: ReviewRules, feature: _Feature, length: int) -> Iterable[_Event]:
    """Runs of a length, by one feature. A run ends before the frame with the index at which its values are kept."""
    values = feature.of_runs(measured, length)
    sizes = np.abs(values)
    least = feature.limit(rules)
    for index in map(int, np.flatnonzero(sizes >= least)):
        _, limit = _usual_and_limit(measured, rules, feature, sizes, index, length)
        if (
            feature.counts(float(values[index]))
            and sizes[index] >= limit
            and not _is_content(measured, feature, index, length, float(values[index]))
            and not (feature.kind in _LIGHT and sizes[index] < FLICKERS * _flicker(measured, index))
            and _has_ends(measured, feature, index - length, length, float(sizes[index]))
        ):
            yield _Event(feature.kind, index - length, length, float(values[index]), limit, float(sizes[index] / limit))


def _is_content(measured: Measured, feature: _Feature, index: int, length: int, figure: float) -> bool:
    """Return True for a difference that something in the picture makes, and no fault of its own kind.

    An exposure that is off is so nearly all over. Noise that is off leaves the means of the cells as they are.
    """
    row = measured.asides[index][length - 1]
    if feature.kind is Kind.LEVEL:
        return abs(float(row[COLUMNS.index("brightness")])) < ALL_OVER * abs(figure) and (
            float(row[COLUMNS.index("part")]) < LEAST_PART
        )
    if feature.kind in (Kind.NOISE, Kind.PATCH):
        return float(row[COLUMNS.index("part")]) >= MOST_OF_NOISE
    return False


def _flicker(measured: Measured, index: int) -> float:
    """Return by how many stops the light of a shot goes up and down from frame to frame, around an index."""
    levels = np.array(measured.levels[max(0, index - AROUND) : index + AROUND])
    return float(np.median(np.abs(np.diff(levels, 2)))) / 2 if len(levels) >= 2 * FEW else 0.0


def _usual_and_limit(
    measured: Measured, rules: ReviewRules, feature: _Feature, sizes: np.ndarray, index: int, length: int
) -> tuple[float | None, float]:
    """Return the usual figure around an index, None for too few, and from where on a figure is a sign there."""
    least = feature.limit(rules)
    usual = _usual_aside(sizes, index, length, USUAL if feature.content else HALF)
    if usual is not None:
        return usual, max(least, rules.times * usual)
    # of a short sequence the steps tell, which are larger where anything moves
    own = set(range(index - length, index + 1))
    step = usual_step(measured, lambda step: abs(feature.of(step.change)), index, own)
    return None, max(least, min(rules.times * step, UNKNOWN * least)) if step is not None else UNKNOWN * least


def _has_ends(measured: Measured, feature: _Feature, first: int, length: int, size: float) -> bool:
    """Return True when a run begins and ends with a step of about its own size, and its inner steps are smaller.

    What moves passes through the picture and is outside what both sides span too, but it comes and goes step by step.
    """

    def of(step: Step) -> float:
        return abs(feature.of(step.change))

    own = range(first, first + length + 1)
    steps = [of(step) if (step := measured.steps[index]) is not None else 0.0 for index in own]
    ends = min(steps[0], steps[-1])
    if ends < END * size:
        return False
    if not feature.content:
        return True
    before, after = measured.steps[first], measured.steps[first + length]
    if before is not None and after is not None and _crosses_cut(before, after):
        return False
    usual = usual_step(measured, of, first, set(own)) or 0.0
    return ends >= OF_A_PIECE * max(usual, *steps[1:-1], 0.0)


def _crosses_cut(before: Step, after: Step) -> bool:
    """Return True for a run that has a cut at one end: the frames on both sides are of two shots."""
    return any(
        is_cut(one) and not is_cut(other) and other.change.picture < 0.5 * one.change.picture
        for one, other in ((before, after), (after, before))
    )


def _usual_aside(sizes: np.ndarray, index: int, length: int, share: float) -> float | None:
    """Return the usual figure around a run, from runs of its length that share no frame with it; None for too few."""
    low, high = max(0, index - AROUND - length), min(len(sizes), index + AROUND + length + 1)
    near = np.concatenate([sizes[low : max(low, index - length - 1)], sizes[index + length + 2 : high]])
    near = near[~np.isnan(near)]
    return float(np.percentile(near, share)) if len(near) >= FEW else None


class _Stretch(Protocol):
    """Some frames in a row."""

    @property
    def first(self) -> int: ...
    @property
    def count(self) -> int: ...


_S = TypeVar("_S", bound=_Stretch)


def apart_from_each_other(clearest: Iterable[_S]) -> list[_S]:
    """Return those that neither share frames with a clearer one nor touch it, in order.

    clearest: the clearest first.
    """
    found: list[_S] = []
    for one in clearest:
        if all(one.first > other.first + other.count or other.first > one.first + one.count for other in found):
            found.append(one)
    return sorted(found, key=lambda one: one.first)


def _meets(frames: Sequence[int], rendered: Mapping[int, Rendered]) -> set[int]:
    """The indices of frames that begin a batch, or that another node or attempt rendered than the one before.

    None where that is most of them.
    """
    known = [rendered.get(frame) for frame in frames]
    found = {
        at
        for at in range(1, len(frames))
        if (now := known[at]) is not None
        and (before := known[at - 1]) is not None
        and (now.begins or (now.node, now.attempt) != (before.node, before.attempt))
    }
    return found if 2 * len(found) <= len(frames) else set()


def explained(measured: Measured, rules: ReviewRules, frame: int) -> tuple[Figure, ...]:
    """Return what was measured of a frame against the frames beside it. Empty for one that was not compared."""
    if frame not in measured.frames:
        return ()
    index = measured.frames.index(frame)
    found = []
    after = index + 1
    if after < len(measured.frames) and len(measured.asides[after]):
        for feature in _FEATURES:
            values = feature.of_runs(measured, 1)
            usual, limit = _usual_and_limit(measured, rules, feature, np.abs(values), after, 1)
            figure = float(values[after])
            over = feature.counts(figure) and abs(figure) >= limit
            found.append(_figure(feature.kind, "apart from both sides", figure, usual, limit, over))
    step = measured.steps[index]
    if step is not None:
        edges = _edges(_asides(measured, rules), repeats(measured))
        for what, size, least in sizes_of(rules):
            known = usual_and_limit(measured, rules, size, least, index, edges, set())
            if known is not None:
                found.append(_figure(Kind.JUMP, what, size(step), *known, size(step) >= known[1]))
    return tuple(found)


def _figure(kind: Kind, what: str, figure: float, usual: float | None, limit: float, over: bool) -> Figure:
    usual = None if usual is None else round(usual, 4)
    return Figure(kind=kind, what=what, figure=round(figure, 4), usual=usual, limit=round(limit, 4), over=over)
