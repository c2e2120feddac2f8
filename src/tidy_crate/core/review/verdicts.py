"""Verdicts on frames: the result of a review."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field

from tidy_crate.core.model import Model
from tidy_crate.core.review.sign import Figure, FrameGroup, Sign
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import TaskOutput


class FrameVerdict(TaskOutput):
    """One frame file, judged."""

    path: Path
    verdict: Verdict
    reasons: tuple[str, ...]
    unchecked: tuple[str, ...] = ()
    signs: tuple[Sign, ...] = ()
    """Signs from the comparison with other frames, notes included."""
    node: str = ""
    """The node that rendered it, after the farm's name; empty where that is not known."""
    attempt: int = 1
    seconds: float | None = None
    """Seconds that it took; None where that is not known."""


class Explanation(Model):
    """All measures of one frame of one output."""

    frame: FrameVerdict
    form: dict[str, str]
    """Size, channels, compression and the like, in words."""
    figures: tuple[Figure, ...]
    """Against its neighbours; empty where there is nothing to compare with."""


class GroupVerdict(FrameGroup):
    """Frames of one output that share a difference: a person decides once for all of them."""

    request: str
    view: str
    output: str


class Review(Model):
    """All verdicts."""

    frames: tuple[FrameVerdict, ...]
    groups: tuple[GroupVerdict, ...] = ()
    """Frames that share a difference from those beside them, as a broken machine leaves them."""
    gaps: dict[str, str] = Field(default_factory=dict)
    """By sequence of a folder, the numbers between its first and last frame that are not there: a frame list."""
    explained: tuple[Explanation, ...] = ()
    """Measures of the frame that was asked for, one for each of its outputs."""

    def count(self, verdict: Verdict) -> int:
        """Return the number of frames with a verdict."""
        return sum(frame.verdict is verdict for frame in self.frames)

    @property
    def clean(self) -> bool:
        """Return True when every frame is good."""
        return all(frame.verdict is Verdict.GOOD for frame in self.frames)

    @property
    def shared_fault(self) -> str | None:
        """Return the reason that all frames of an output are not good for, None where they differ.

        A fault of every frame is in the scene or its settings: rendering again brings it again.
        """
        by_output: dict[str, set[tuple[str, ...]]] = {}
        for frame in self.frames:
            # one that is missing may only not be here yet
            faulty = frame.verdict in (Verdict.BAD, Verdict.SUSPECT)
            by_output.setdefault(frame.output, set()).add(frame.reasons if faulty else ())
        shared = [next(iter(found)) for found in by_output.values() if len(found) == 1 and found != {()}]
        enough = len({frame.frame for frame in self.frames}) > 1
        return "; ".join(shared[0]) if shared and enough else None
