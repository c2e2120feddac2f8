"""What came of the shots of a night: frames, bill against estimate, and what was decided by rule."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.model import Model
from tidy_crate.core.money import Amount, Cost, by_currency
from tidy_crate.core.review.record import Record
from tidy_crate.core.work.attempt import Verdict

# pictures of a shot that are shown: the first, one in the middle, the last
SHOWN = 3
RULE = "rule"


class ShotOutcome(Model):
    """One shot that has a job."""

    shot: str
    job: str
    counts: dict[str, int]
    """Files by verdict."""
    billed: dict[str, Amount]
    """By currency, refunds taken off."""
    estimated: tuple[Cost, ...]
    """With which it was sent, for each submission that had an estimate."""
    within: bool | None
    """Whether every bill is within its range; None without an estimate, or before the end."""
    by_rule: tuple[str, ...]
    """What was decided without a person, in sentences, each with its rule."""
    pictures: tuple[Path, ...]
    """Some of its frames, in order."""


def outcome_of(shot: str, found: Record, rules: str) -> ShotOutcome:
    """Return what came of a shot. rules: the file of the rules that it was carried by, as it is called."""
    return ShotOutcome(
        shot=shot,
        job=found.job,
        counts=found.counts,
        billed=by_currency((one.cost, one.currency) for one in found.submissions),
        estimated=tuple(one.cost for one in found.accuracy),
        within=all(one.cost_in_range for one in found.accuracy) if found.accuracy else None,
        by_rule=tuple(_by_rule(found, rules)),
        pictures=tuple(_pictures(found)),
    )


def _by_rule(found: Record, rules: str) -> Iterable[str]:
    for one in found.waived:
        if one.by.startswith(RULE):
            subject = f" of {one.subject}" if one.subject else ""
            yield f"waived {one.code}{subject}: {one.because} ({one.by})"
    for edit in found.edits:
        if edit.because.endswith(f"({RULE} in {rules})"):
            yield f"{edit.kind} of {edit.subject}: {edit.because}"
    again = sorted({one.frame for one in found.again})
    if again:
        yield f"rendered again: {format_frames(again)} (rerender in {rules})"
    for sent in found.submissions:
        if sent.cap is not None:
            yield f"sent to {sent.farm} for {sent.cap:.2f} {sent.currency} at the most (cap or budget)"


def _pictures(found: Record) -> list[Path]:
    outputs = list(dict.fromkeys(one.output for one in found.frames))
    good = (
        [one.path for one in found.frames if one.output == outputs[0] and one.verdict is Verdict.GOOD]
        if outputs
        else []
    )
    if len(good) <= SHOWN:
        return good
    return [good[round(at * (len(good) - 1) / (SHOWN - 1))] for at in range(SHOWN)]
