"""From where on a review calls a frame suspect: `[review]` in the project's file."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field

from tidy_crate.core.asset.frames import is_frame_list, parse_frames
from tidy_crate.core.model import Model

Positive = Annotated[float, Field(gt=0, le=1e6)]
Share = Annotated[float, Field(gt=0, le=1)]


class ReviewRules(Model):
    """Limits of the comparisons of a frame with its neighbours. A larger number suspects less."""

    brightness: Positive = 0.06
    """Stops by which a frame, over most of its picture, is brighter or darker than the frames on both sides."""
    picture: Positive = 0.05
    """Stops by which a picture differs on average from the frames on both sides."""
    part: Positive = 0.45
    """Stops by which the most different 3 % of a picture differ from the frames on both sides."""
    colour: Positive = 0.02
    """Share of colour, from 0 to 2, by which a picture differs on average from the frames on both sides."""
    vivid: Share = 0.004
    """Share of the picture that is saturated and of one hue, as a missing texture is drawn, on no side of the frame."""
    highlight: Positive = 1.5
    """Stops by which the brightest thousandth of a single frame is brighter than the frames on both sides."""
    flat: Annotated[int, Field(ge=1)] = 6
    """Small cells (16 x 16 pixels of a picture of 1920) without any detail that have some on both sides."""
    noise: Positive = 0.4
    """Factor, as a power of two, by which noise differs from the frames on both sides."""
    patch: Positive = 1.5
    """Factor, as a power of two, by which the noise of a 24th of the picture differs from the rest of it."""
    rows: Positive = 0.1
    """Share of the rows of a part that are less like the next one than like the one after that."""
    lines: Positive = 0.3
    """Stops by which a single row or column of pixels is off those on both sides of it."""
    jump: Positive = 0.012
    """Stops by which a picture moves on at once, on average."""
    times: Annotated[float, Field(ge=1, le=1000)] = 2.5
    """A difference is at least this many times what is usual around it."""
    bad: Annotated[float, Field(ge=1, le=1000)] = 3.0
    """A difference of this many times its limit makes a frame bad and not only suspect."""
    slow: Annotated[float, Field(ge=1, le=1e6)] = 4.0
    """A frame that rendered this many times as long as its neighbours is noted."""
    neighbours: bool = True
    """False for a set of separate views: frames are not compared with their neighbours."""
    meant: Annotated[str, AfterValidator(lambda text: text and is_frame_list(text))] = ""
    """Frames at which flashes, cuts and black pictures are meant: a frame list."""

    def meant_frames(self) -> frozenset[int]:
        """Return the frames at which differences are meant."""
        return frozenset(parse_frames(self.meant)) if self.meant else frozenset()
