"""Outvote the frames beside one: by the very picture rendered here, or the same picture rendered a second time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.core.review.verdicts import FrameVerdict, GroupVerdict, Review
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import TaskKey

Key = tuple[TaskKey, str]
# signs from the comparison with other frames, which what is wrong by itself or by the order is not among
BY_OTHERS = frozenset(Kind) - {Kind.FORM, Kind.ALPHA, Kind.TIME, Kind.HERE}
# of so small a part of the picture that a test frame may agree in nearly all of it
SMALL = frozenset({Kind.FLAT, Kind.VIVID, Kind.HIGHLIGHT, Kind.PATCH})


@dataclass(frozen=True)
class Vote:
    """Another rendering of a frame that shows the same picture."""

    text: str
    exact: bool
    """True when no part of the picture differs by more than noise."""


def outvoted(review: Review, votes: Mapping[Key, Vote], from_here: Iterable[Key] = ()) -> Review:
    """Return a review in which frames are good whose picture another rendering confirms.

    What is said of a whole run of frames is taken back for all of it, and what is said of a group for all of it: then
    the frames that the group was compared with are the odd ones. from_here: the votes that are test frames, which alone
    say that of a group.
    """
    frames = {(one.task().key, one.output): one for one in review.frames}
    cleared: dict[str, str] = {}
    """By output and sentence, why it no longer holds."""
    here = frozenset(from_here)
    groups, turned = [], list[tuple[GroupVerdict, str]]()
    for group in review.groups:
        own = [key for key in votes if key in here and _is_in(group, key) and votes[key].exact]
        if own:
            turned.append((group, votes[own[0]].text))
        else:
            groups.append(group)
    for key, vote in votes.items():
        one = frames.get(key)
        if one is None:
            continue
        for sign in _against(one, vote):
            cleared[_name(one, sign)] = vote.text
    found = []
    for key, one in frames.items():
        for group, why in turned:
            if _sequence(one) == (group.request, group.view, group.output) and one.frame in group.frames:
                cleared |= {_name(one, sign): why for sign in one.signs if sign.kind in (Kind.NODE, Kind.GROUP)}
        found.append(_without(one, cleared, votes.get(key)))
    result = review.model_copy(update={"frames": tuple(found), "groups": tuple(groups)})
    for group, _ in turned:
        result = _turned(result, group)
    return result


def _sequence(one: FrameVerdict) -> tuple[str, str, str]:
    return one.request, one.view, one.output


def _is_in(group: GroupVerdict, key: Key) -> bool:
    (request, view, frame, _, _), output = key
    return (request, view, output) == (group.request, group.view, group.output) and frame in group.frames


def _name(one: FrameVerdict, sign: Sign) -> str:
    return repr((*_sequence(one), sign.kind, sign.text))


def _against(one: FrameVerdict, vote: Vote) -> list[Sign]:
    """Return the signs of a frame that a vote takes back: all that count, or none."""
    told = [sign for sign in one.signs if sign.weight is not Weight.NOTE]
    by_itself = set(one.reasons) - {sign.text for sign in told}
    if by_itself or any(sign.kind not in BY_OTHERS for sign in told):
        return []
    if not vote.exact and any(sign.kind in SMALL for sign in told):
        return []
    return told


def _without(one: FrameVerdict, cleared: Mapping[str, str], vote: Vote | None) -> FrameVerdict:
    """Return a frame without the signs that no longer hold, which stay as notes."""
    signs, gone, whys = [], set[str](), list[str]()
    for sign in one.signs:
        why = cleared.get(_name(one, sign)) if sign.weight is not Weight.NOTE else None
        if why is None:
            signs.append(sign)
            continue
        gone.add(sign.text)
        whys.append(why)
        signs.append(sign.model_copy(update={"weight": Weight.NOTE, "text": f"{sign.text}; but {why}"}))
    if not gone:
        return one
    reasons = tuple(text for text in one.reasons if text not in gone)
    weights = {sign.weight for sign in signs}
    verdict = one.verdict
    if not reasons and Weight.BAD not in weights and Weight.SUSPECT not in weights:
        verdict = Verdict.GOOD
    return one.model_copy(update={"signs": tuple(signs), "reasons": reasons, "verdict": verdict})


def _turned(review: Review, group: GroupVerdict) -> Review:
    """Return a review in which the frames that a group was compared with are the odd ones."""
    frames = []
    odd = []
    for one in review.frames:
        mine = _sequence(one) == (group.request, group.view, group.output)
        if mine and one.frame not in group.frames and one.verdict in (Verdict.GOOD, Verdict.SUSPECT):
            text = f"test frames agree with {len(group.frames)} others and not with these: {group.text}"
            sign = Sign(kind=Kind.GROUP, weight=Weight.SUSPECT, text=text, figure=-group.figure, limit=0)
            one = one.model_copy(
                update={"signs": (*one.signs, sign), "reasons": (*one.reasons, text), "verdict": Verdict.SUSPECT}
            )
            odd.append(one.frame)
        frames.append(one)
    other = group.model_copy(
        update={"frames": tuple(odd), "cause": "", "shows": group.shows[::-1], "figure": -group.figure}
    )
    return review.model_copy(update={"frames": tuple(frames), "groups": (*review.groups, other)})


def doubtful(review: Review, chosen: Callable[[FrameVerdict], bool]) -> list[FrameVerdict]:
    """Return the frames that are not good only for what the frames beside them are, of those that are chosen."""
    poor = (Verdict.SUSPECT, Verdict.BAD)
    sure = Vote("", exact=True)
    return [one for one in review.frames if one.verdict in poor and chosen(one) and _against(one, sure)]
