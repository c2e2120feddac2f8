"""One sequence under review: the frames of one output, view, tile and share, one after the other."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Container, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture.decode import Form
from tidy_crate.core.picture.judge import ALL_BLACK, Judgement
from tidy_crate.core.picture.look import Look, brightened
from tidy_crate.core.picture.pass_look import PassLook, layer_of
from tidy_crate.core.review.kept import likeness_of
from tidy_crate.core.review.neighbours import LONGEST, Neighbours
from tidy_crate.core.review.passes import signs_of_passes
from tidy_crate.core.review.populations import Group, groups_of
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sequence import explained, signs_of
from tidy_crate.core.review.shifts import signs_of_shifts
from tidy_crate.core.review.sign import Figure, FrameGroup, Kind, Sign, Weight
from tidy_crate.core.review.times import time_signs

# share of the frames that have to agree on a form before another one is odd
MOST = 0.6
# at least so many frames tell what is usual of a sequence
FEW = 4
# a picture of a fade loses this share of the brightness that is left from one frame to the next
FADES = 0.25
# stops above which a picture is no longer dark, and the share of a shot's usual brightness that is dark in it
DARK, DARK_SHARE = 0.35, 0.3
# a shot that is nowhere brighter than the first, in stops, is looked at as if it were exposed for the second
NIGHT, EXPOSED = 1.0, 3.0
# frames that are waited for, until it is clear whether a shot is a night's
MOST_WAITING = 2000
# correlation of neighbouring pictures below which these are separate views, and no sequence
UNLIKE = 0.5
# frames after each one that it is compared with, for that
BESIDE = 3
SEPARATE = "neighbours"


@dataclass(slots=True)
class _Frame:
    number: int
    form: int
    black: bool
    empty: frozenset[str]
    rendered: Rendered | None


class Shot:
    """Takes the judged frames of a sequence in order, and says what is odd about them among each other.

    Keeps some numbers of each frame, and the looks of a few. spacing: what the numbers of two neighbours differ by.
    """

    def __init__(self, spacing: int, rules: ReviewRules, meant: Container[int] = ()) -> None:
        """meant: frames whose differences from others were accepted."""
        self._rules, self._meant = rules, meant
        self._neighbours = Neighbours(spacing)
        self._waiting: list[tuple[int, Look, Mapping[str, PassLook]]] = []
        self._times = 0.0
        """The factor of exposure that it is looked at with; 0 until that is known."""
        self._frames: list[_Frame] = []
        self._forms: list[Form] = []
        self.groups: tuple[FrameGroup, ...] = ()
        """Frames that share a difference from those beside them; known once the signs are."""

    def add(self, frame: int, judged: Judgement, rendered: Rendered | None = None) -> None:
        """Take the next frame that could be read. rendered: by which node, and how long it took."""
        assert judged.form is not None
        if judged.form not in self._forms:
            self._forms.append(judged.form)
        number = self._forms.index(judged.form)
        look = judged.look
        self._frames.append(_Frame(frame, number, judged.black, frozenset(judged.empty), rendered))
        # a black frame says nothing about those beside it
        if look is not None and self._rules.neighbours and not judged.black:
            self._waiting.append((frame, look, judged.passes))
            if self._times or look.level >= NIGHT or len(self._waiting) >= MOST_WAITING:
                self._measure()

    def _measure(self) -> None:
        """Measure the frames that wait. A dark shot is looked at as if it were exposed for more."""
        if not self._times and self._waiting:
            brightest = max(look.level for _, look, _ in self._waiting)
            light = 2.0 ** min(brightest, NIGHT) - 1
            self._times = 1.0 if brightest >= NIGHT or light <= 0 else (2.0**EXPOSED - 1) / light
        for frame, look, passes in self._waiting:
            self._neighbours.add(frame, look if self._times == 1 else brightened(look, self._times), passes)
        self._waiting.clear()

    @property
    def separate(self) -> bool:
        """Return True when the frames are separate views, which say nothing about each other."""
        self._measure()
        found, kept = self._neighbours.found, self._neighbours.kept
        likeness = [step.likeness for step in found.steps if step is not None and not step.same]
        if len(likeness) < FEW or float(np.median(likeness)) >= UNLIKE:
            return False
        # where every second frame has lost half of the picture, those two frames on are alike
        marks = found.marks
        best = []
        for at in range(len(marks) - 1):
            near = [kept.brightness(other) for other in range(at + 1, min(at + BESIDE + 1, len(marks)))
                    if marks[other] != marks[at]]  # fmt: skip
            best += [max(likeness_of(kept.brightness(at), one) for one in near)] if near else []
        return float(np.median(best)) < UNLIKE

    def signs(self) -> dict[int, list[Sign]]:
        """Return the signs of each frame that has any, by frame number."""
        self._measure()
        found: dict[int, list[Sign]] = {}

        def add(pairs: Iterable[tuple[int, Sign]]) -> None:
            for frame, sign in pairs:
                found.setdefault(frame, []).append(sign)

        add(self._odd_forms())
        add(self._black())
        add(self._empty_passes())
        add(time_signs([(one.number, one.rendered) for one in self._frames], self._rules))
        if self._rules.neighbours and self._neighbours.found.frames and not self.separate:
            measured = self._neighbours.found
            nodes = {one.number: one.rendered for one in self._frames if one.rendered is not None}
            known = [step is not None for step in measured.steps]
            kept = self._neighbours.kept
            groups, lights = groups_of(kept, measured.frames, known, nodes, self._rules)
            grouped = {index for one in groups for index in one.frames}
            for frame, signs in signs_of(measured, self._rules, nodes, grouped, lights, kept).items():
                add((frame, sign) for sign in signs)
            odd = {index for index, frame in enumerate(measured.frames) if frame in found} | grouped
            add(signs_of_shifts(measured.frames, known, kept, odd))
            add(signs_of_passes(measured.frames, known, kept, self._rules, grouped))
            self.groups = tuple(_frame_group(one, measured.frames) for one in groups)
            for group, one in zip(groups, self.groups, strict=True):
                sign = _group_sign(group, one)
                add((frame, sign) for frame in one.frames)
        for frame in found:
            if frame in self._meant:
                found[frame] = [_accepted(sign) for sign in found[frame]]
        return found

    def explain(self, frame: int) -> tuple[Figure, ...]:
        """Return the measures of a frame in comparison with others."""
        return explained(self._neighbours.found, self._rules, frame)

    def _odd_forms(self) -> Iterable[tuple[int, Sign]]:
        """Frames that are stored otherwise than most."""
        counts = Counter(one.form for one in self._frames)
        if len(counts) < 2 or len(self._frames) < FEW:
            return
        usual, times = counts.most_common(1)[0]
        if times < MOST * len(self._frames):
            return
        for one in self._frames:
            if one.form != usual:
                weight, words = _difference(self._forms[one.form], self._forms[usual])
                text = f"{words}, unlike {times} of {len(self._frames)} frames"
                share = counts[one.form] / len(self._frames)
                yield one.number, Sign(kind=Kind.FORM, weight=weight, text=text, figure=round(share, 3), limit=1 - MOST)

    def _black(self) -> Iterable[tuple[int, Sign]]:
        """Black frames, unless the picture fades into and out of them."""
        levels = dict(zip(self._neighbours.found.frames, self._neighbours.found.levels, strict=True))
        usual = float(np.median(list(levels.values()))) if levels else 0.0
        dark = min(DARK, DARK_SHARE * usual)
        for first, after in _runs(self._frames, lambda one: one.black):
            alone = first == 0 and after == len(self._frames)
            if not alone and self._fades(levels, first - 1, -1, dark) and self._fades(levels, after, 1, dark):
                continue
            text = ALL_BLACK if alone else f"{ALL_BLACK}, and the frames around it are not"
            sign = Sign(kind=Kind.BLACK, weight=Weight.BAD, text=text, figure=0, limit=round(dark, 3))
            for one in self._frames[first:after]:
                yield one.number, sign

    def _fades(self, levels: dict[int, float], index: int, way: int, dark: float) -> bool:
        """Return True when the picture is dark at an index or grows brighter from there, or there is no such frame."""
        if not 0 <= index < len(self._frames):
            return True
        own = levels.get(self._frames[index].number, 0.0)
        if own <= dark:
            return True
        beside = index + way
        if not 0 <= beside < len(self._frames):
            return False
        return levels.get(self._frames[beside].number, 0.0) - own >= FADES * own

    def _empty_passes(self) -> Iterable[tuple[int, Sign]]:
        """Passes that are 0 all over in a few frames, and in none before and after them."""
        channels = {name for one in self._frames if not one.black for name in one.empty}
        layers: dict[str, set[str]] = {}
        usual = self._forms[Counter(one.form for one in self._frames).most_common(1)[0][0]] if self._frames else Form()
        for name in usual.channels:
            layers.setdefault(layer_of(name), set()).add(name)
        for layer, own in layers.items():
            if not own <= channels:
                continue
            runs = list(_runs(self._frames, lambda one, own=own: own <= one.empty and not one.black))  # type: ignore[misc]
            empty = sum(after - first for first, after in runs)
            if empty > (1 - MOST) / 2 * len(self._frames) and empty > 1:
                continue
            for first, after in runs:
                if first > 0 and after < len(self._frames) and after - first <= LONGEST:
                    text = f"{layer} is 0 all over, and in the frames around it is not"
                    sign = Sign(kind=Kind.PASS, weight=Weight.SUSPECT, text=text, figure=0, limit=0)
                    for one in self._frames[first:after]:
                        yield one.number, sign


def _frame_group(group: Group, frames: Sequence[int]) -> FrameGroup:
    own = tuple(frames[at] for at in group.frames)
    # the pair that shows it best: an odd frame right beside one that is not
    beside = min(((abs(one - other), one, other) for one in group.frames for other in group.others), default=(0, 0, 0))
    return FrameGroup(
        frames=own, cause=group.cause, text=group.text, shows=(frames[beside[1]], frames[beside[2]]),
        figure=round(group.figure, 4),
    )  # fmt: skip


def _group_sign(group: Group, one: FrameGroup) -> Sign:
    if group.cause:
        text = f"{group.cause}: its {len(one.frames)} frames share a difference from those of others: {group.text}"
        return Sign(kind=Kind.NODE, weight=Weight.SUSPECT, text=text, figure=one.figure, limit=0)
    text = f"{len(one.frames)} frames share this difference: {group.text}"
    return Sign(kind=Kind.GROUP, weight=Weight.SUSPECT, text=text, figure=one.figure, limit=0)


def _runs(frames: list[_Frame], odd: Callable[[_Frame], bool]) -> Iterable[tuple[int, int]]:
    index = 0
    while index < len(frames):
        first = index
        while index < len(frames) and odd(frames[index]):
            index += 1
        if index > first:
            yield first, index
        else:
            index += 1


def _difference(own: Form, usual: Form) -> tuple[Weight, str]:
    if (own.width, own.height) != (usual.width, usual.height):
        return Weight.BAD, f"it is {own.width} x {own.height}, not {usual.width} x {usual.height}"
    lost = sorted(set(usual.channels) - set(own.channels))
    if lost:
        return Weight.BAD, f"it lacks {', '.join(lost[:6])}{' …' if len(lost) > 6 else ''}"
    if own.bits < usual.bits:
        return Weight.BAD, f"its channels have {own.bits} bits, not {usual.bits}"
    if (own.left, own.top, own.display) != (usual.left, usual.top, usual.display):
        text = f"its data window begins at {own.left}, {own.top}, not at {usual.left}, {usual.top}"
        return Weight.SUSPECT, text if (own.left, own.top) != (usual.left, usual.top) else "its display window differs"
    if own.compression != usual.compression:
        return Weight.SUSPECT, f"it is compressed with {own.compression or 'nothing known'}, not {usual.compression}"
    if own.colour != usual.colour:
        return Weight.SUSPECT, "its header says something else of the colour space"
    return Weight.SUSPECT, "it has other channels or parts"


def _accepted(sign: Sign) -> Sign:
    if sign.kind is Kind.FORM:
        return sign
    return sign.model_copy(update={"weight": Weight.NOTE, "text": f"{sign.text} (meant)"})
