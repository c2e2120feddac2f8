"""Judging frames, sequence by sequence: each by itself, and against the others of its sequence."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from itertools import groupby, pairwise
from pathlib import Path

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.picture.judge import ALL_BLACK, Expected, Judgement
from tidy_crate.core.picture.readers import JudgeFrames, Looked
from tidy_crate.core.progress import Progress, Step
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.shot import SEPARATE, Shot
from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.core.review.verdicts import Explanation, FrameVerdict, GroupVerdict, Review
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task


@dataclass(frozen=True)
class Wanted:
    """A frame file that is to be judged."""

    task: Task
    output: str
    path: Path
    expected: Expected
    rendered: Rendered | None = None

    @property
    def sequence(self) -> tuple[object, ...]:
        """Tells the sequences apart whose frames are compared with each other."""
        request, view, _, tile, share = self.task.key
        # without an output's name, frames of one folder may be of several sequences
        return request, view, tile, share, self.output, self.path.parent


class Judging:
    """Judges frames, sequence by sequence."""

    def __init__(
        self,
        rules: ReviewRules,
        meant: frozenset[int],
        accepted: dict[tuple[str, str], frozenset[int]],
        explain: int | None,
        judge: JudgeFrames,
    ) -> None:
        """accepted: by view and output, the frames whose differences were accepted before."""
        self._rules, self._accepted, self._explain, self._judge = rules, accepted, explain, judge
        self._meant = meant | rules.meant_frames()
        self._explained: tuple[Explanation, ...] = ()
        self._groups: tuple[GroupVerdict, ...] = ()

    def judge(self, wanted: list[Wanted], progress: Progress) -> Review:
        """Judge all of them, in the order of their sequences."""
        if self._explain is not None and not any(one.task.frame == self._explain for one in wanted):
            raise WrongUsage("there is no such frame", self._explain)
        wanted.sort(key=lambda one: (str(one.sequence[:4]), one.output, one.path.parent, one.task.frame))
        verdicts: list[FrameVerdict] = []
        with closing(self._judge([Looked(one.path, one.expected) for one in wanted])) as runs:
            for _, group in groupby(wanted, key=lambda one: one.sequence):
                verdicts += self._sequence(list(group), runs, progress, len(verdicts), len(wanted))
        return Review(frames=tuple(verdicts), groups=self._groups, explained=self._explained)

    def _sequence(
        self, own: list[Wanted], runs: Iterator[Judgement], progress: Progress, before: int, total: int
    ) -> list[FrameVerdict]:
        numbers = [one.task.frame for one in own]
        spacing = min((after - one for one, after in pairwise(numbers) if after > one), default=1)
        meant = self._meant | self._accepted.get((own[0].task.view, own[0].output), frozenset())
        shot = Shot(spacing, self._rules, meant)
        judged: list[tuple[Verdict, tuple[str, ...], tuple[str, ...]]] = []
        forms: dict[int, Judgement] = {}
        for done, (one, found) in enumerate(zip(own, runs, strict=False), before + 1):
            twice = len(judged) > 0 and numbers[len(judged) - 1] == one.task.frame
            if found.form is not None and not twice:
                shot.add(one.task.frame, found, one.rendered)
            if one.task.frame == self._explain:
                forms[len(judged)] = found
            judged.append((found.verdict, found.reasons, found.unchecked))
            progress(Step("review", done, total, "frames", one.path.name))
        signs = shot.signs()
        task = own[0].task
        self._groups += tuple(
            GroupVerdict(**one.model_dump(), request=task.request, view=task.view, output=own[0].output)
            for one in shot.groups
            if not set(one.frames) <= meant
        )
        separate = (SEPARATE,) if len(own) > 1 and (shot.separate or not self._rules.neighbours) else ()
        verdicts = [
            _verdict(one, *said, signs.get(one.task.frame, []), separate) for one, said in zip(own, judged, strict=True)
        ]
        for at, found in forms.items():
            self._explained += (Explanation(frame=verdicts[at], form=_words(found), figures=shot.explain(numbers[at])),)
        return verdicts


def _verdict(
    one: Wanted,
    verdict: Verdict,
    reasons: tuple[str, ...],
    unchecked: tuple[str, ...],
    signs: list[Sign],
    separate: tuple[str, ...],
) -> FrameVerdict:
    """Put what is wrong with a frame by itself and among the others together."""
    if ALL_BLACK in reasons:
        # whether that is wrong is for its neighbours to say
        reasons = tuple(reason for reason in reasons if reason != ALL_BLACK)
        verdict = verdict if reasons else Verdict.GOOD
    weights = {sign.weight for sign in signs}
    if verdict is Verdict.GOOD and weights & {Weight.BAD, Weight.SUSPECT}:
        verdict = Verdict.BAD if Weight.BAD in weights else Verdict.SUSPECT
    elif verdict is Verdict.SUSPECT and Weight.BAD in weights:
        verdict = Verdict.BAD
    signs = sorted(signs, key=lambda sign: _ORDER[sign.weight])
    told = [sign for sign in signs if sign.weight is not Weight.NOTE]
    hidden = {kind for sign in told for kind in _SAYS_TOO.get(sign.kind, ())}
    if reasons:
        # what is wrong by what was ordered needs no majority
        hidden.add(Kind.FORM)
    reasons += tuple(sign.text for sign in told if sign.kind not in hidden)
    return FrameVerdict.of(
        one.task,
        one.output,
        path=one.path,
        verdict=verdict,
        reasons=reasons,
        unchecked=unchecked + separate,
        signs=tuple(signs),
        node=one.rendered.node if one.rendered is not None else "",
        attempt=one.rendered.attempt if one.rendered is not None else 1,
        seconds=one.rendered.seconds if one.rendered is not None else None,
    )


_PICTURE = (Kind.BRIGHTNESS, Kind.PICTURE, Kind.PART)
# of the signs of one frame, which others say nothing new beside one of a kind
_SAYS_TOO = {
    Kind.BLACK: (*_PICTURE, Kind.LEVEL, Kind.COLOUR, Kind.FLAT, Kind.NOISE, Kind.PATCH, Kind.JUMP),
    Kind.LEVEL: _PICTURE,
    Kind.BRIGHTNESS: (Kind.PICTURE, Kind.PART),
    Kind.VIVID: (*_PICTURE, Kind.LEVEL, Kind.COLOUR, Kind.PATCH),
    Kind.FLAT: (*_PICTURE, Kind.LEVEL, Kind.COLOUR, Kind.NOISE, Kind.PATCH),
    Kind.PICTURE: (Kind.PART, Kind.COLOUR, Kind.PATCH),
    Kind.NOISE: (Kind.PATCH,),
}
_ORDER = {Weight.BAD: 0, Weight.SUSPECT: 1, Weight.NOTE: 2}


def _words(found: Judgement) -> dict[str, str]:
    if found.form is None:
        return {}
    form = found.form
    kinds = sorted(set(form.channels.values()))
    words = {
        "size": f"{form.width} x {form.height}",
        "data window": f"from {form.left}, {form.top}",
        "channels": f"{len(form.channels)}, {', '.join(kinds)}",
        "compression": form.compression,
        "colour": form.colour,
        "empty": ", ".join(found.empty),
    }
    if found.alpha is not None:
        words["alpha"] = f"{found.alpha[0]:.4g} to {found.alpha[2]:.4g}, mean {found.alpha[1]:.4g}"
    return {name: text for name, text in words.items() if text}
