"""Signs: what was noticed of a frame, with the figure that was measured and the limit it is over."""

from __future__ import annotations

from enum import StrEnum

from tidy_crate.core.model import Model


class Kind(StrEnum):
    """The subject of a sign."""

    LEVEL = "level"
    BRIGHTNESS = "brightness"
    COLOUR = "colour"
    PICTURE = "picture"
    PART = "part"
    VIVID = "vivid"
    HIGHLIGHT = "highlight"
    FLAT = "flat"
    NOISE = "noise"
    PATCH = "patch"
    ROWS = "rows"
    LINES = "lines"
    SHIFT = "shift"
    JUMP = "jump"
    CUT = "cut"
    REPEAT = "repeat"
    BLACK = "black"
    PASS = "pass"
    ALPHA = "alpha"
    FORM = "form"
    NODE = "node"
    GROUP = "group"
    TIME = "time"
    HERE = "here"


class Weight(StrEnum):
    """The weight of a sign in a verdict."""

    NOTE = "note"
    SUSPECT = "suspect"
    BAD = "bad"


class Sign(Model):
    """One thing that was noticed of a frame."""

    kind: Kind
    weight: Weight
    text: str
    """In one sentence, with the figure."""
    figure: float
    """The measured value."""
    limit: float
    """From where on it is a sign."""


class Figure(Model):
    """One measure of a frame, with its limit."""

    kind: Kind
    what: str
    figure: float
    usual: float | None
    """The usual value around the frame; None where too few frames tell."""
    limit: float
    over: bool


class FrameGroup(Model):
    """Frames of one sequence that share a difference from those beside them."""

    frames: tuple[int, ...]
    cause: str
    """The node or attempt that they share; empty where nothing is known of that."""
    text: str
    """The difference, with its figure."""
    shows: tuple[int, int]
    """A frame of the group, and the nearest one that is not of it: side by side they show the difference."""
    figure: float
