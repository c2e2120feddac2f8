"""Render request: what is to be rendered, apart from how and where."""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import AfterValidator, Field, model_validator

from tidy_crate.core.asset.frames import is_frame_list, parse_frames
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import Model

Slug = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")]
MOST_TILES = 64
MOST_SHARES = 4096


class VariantChoice(Model):
    """One choice of a variant set."""

    prim: str
    """Path of the prim that holds the variant set."""
    set: str
    choice: str


class View(Model):
    """One way of looking at the scene: a camera, a choice of variants, or both."""

    name: Slug
    """Tells the views of a request apart, in tasks and in folder names."""
    camera: str = ""
    """Path of the camera; empty for the one that each output names."""
    variants: tuple[VariantChoice, ...] = ()


# along an edge of a picture
MOST_PIXELS = 65536
_SIZE = re.compile(r"(\d{1,6})x(\d{1,6})")
_SHARE = re.compile(r"(\d{1,4}(?:\.\d{1,4})?)%")


def size_of(text: str, whole: tuple[int, int] | None = None) -> tuple[int, int]:
    """Return the width and height in pixels that a text asks for, such as `1920x1080`.

    whole: the size of which a share such as `50%` is taken; None where there is none, and a share is no size.
    Raises WrongUsage for what is no size, or none that can be rendered.
    """
    if match := _SIZE.fullmatch(text.replace(" ", "")):
        width, height = int(match[1]), int(match[2])
    elif whole is not None and (match := _SHARE.fullmatch(text.strip())):
        share = float(match[1]) / 100
        width, height = (max(1, round(edge * share)) for edge in whole)
    else:
        fix = "write 1920x1080" if whole is None else "write 1920x1080, or a share such as 50%"
        raise WrongUsage("not a size", repr(text[:40]), fix)
    if not (0 < width <= MOST_PIXELS and 0 < height <= MOST_PIXELS):
        raise WrongUsage("not a size that can be rendered", repr(text[:40]), f"1 to {MOST_PIXELS} pixels an edge")
    return width, height


class RenderRequest(Model):
    """A render request."""

    name: Slug
    """Tells the requests of one crate apart; part of the identity of every task."""
    frames: Annotated[str, AfterValidator(is_frame_list)]
    """A frame list such as `1001-1048` or `1-10x2,15`, in the order in which they are to be rendered."""
    views: tuple[View, ...] = ()
    """Cameras and variants; empty for one picture per frame as the scene stands."""
    width: int = Field(ge=1, le=MOST_PIXELS)
    """Pixels that come out, after every scale."""
    height: int = Field(ge=1, le=MOST_PIXELS)
    samples: int | None = Field(default=None, ge=1)
    """Samples per pixel; None as the scene has it."""
    outputs: tuple[str, ...]
    """Names of the outputs that are to be written."""
    camera: str = ""
    """The camera that the render command is told, for a scene that has no place to choose one; else empty."""
    tiles: tuple[Annotated[int, Field(ge=1, le=MOST_TILES)], Annotated[int, Field(ge=1, le=MOST_TILES)]] = (1, 1)
    """Columns and rows that each picture is split into. A part of (1, 1) is the whole picture."""
    shares: int = Field(default=1, ge=1, le=MOST_SHARES)
    """Into how many parts the samples of each picture are split."""

    @model_validator(mode="after")
    def _agrees(self) -> RenderRequest:
        names = [view.name for view in self.views]
        if len(set(names)) != len(names):
            raise ValueError("two views have one name")
        if self.tiles[0] > self.width or self.tiles[1] > self.height:
            raise ValueError(f"{self.tiles[0]} x {self.tiles[1]} tiles do not fit {self.width} x {self.height} pixels")
        if self.shares > 1 and self.samples is not None and self.samples < self.shares:
            raise ValueError(f"{self.samples} samples cannot be split into {self.shares} shares")
        return self

    def numbers(self) -> tuple[int, ...]:
        """Return the frames in the order in which they are to be rendered."""
        return parse_frames(self.frames)

    @property
    def view_names(self) -> tuple[str, ...]:
        """The views by name; one empty name where the request has none."""
        return tuple(view.name for view in self.views) or ("",)

    def view(self, name: str) -> View | None:
        """Return a view by name, None for the empty name. Raises WrongUsage for one that the request does not have."""
        if not name:
            return None
        found = next((view for view in self.views if view.name == name), None)
        if found is None:
            raise WrongUsage("the request has no such view", name, f"it has {', '.join(self.view_names)}")
        return found

    @property
    def tile_count(self) -> int:
        """Return how many tiles each picture is split into."""
        return self.tiles[0] * self.tiles[1]

    @property
    def task_count(self) -> int:
        """Return how many tasks the request has."""
        return len(self.numbers()) * len(self.view_names) * self.tile_count * self.shares
