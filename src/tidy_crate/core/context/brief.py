"""The brief: what the production ordered, to compare a scene with."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, model_validator

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.frames import frame_count
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.model import Model
from tidy_crate.core.toml import read_toml

Ending = Annotated[str, Field(pattern=r"^[a-z0-9]+$")]


class BriefFrames(Model):
    """Both ends counted."""

    start: int | None = None
    end: int | None = None
    step: int = Field(default=1, ge=1)
    fps: float | None = Field(default=None, gt=0)
    count: int | None = Field(default=None, ge=1)
    """Number of frames, stated once more as a check."""
    seconds: float | None = Field(default=None, gt=0)
    """Length in seconds, stated once more as a check."""

    @model_validator(mode="after")
    def _agrees(self) -> BriefFrames:
        if (self.start is None) != (self.end is None):
            raise ValueError("frames need both a start and an end, or neither")
        if self.start is None or self.end is None:
            return self
        if self.end < self.start:
            raise ValueError(f"the frames end at {self.end}, before they start at {self.start}")
        count = frame_count(self.start, self.end, self.step)
        if self.count is not None and self.count != count:
            raise ValueError(f"frames {self.start}-{self.end} are {count}, not {self.count}: both ends count")
        if self.seconds is not None and self.fps is not None:
            length = (self.end - self.start + 1) / self.fps
            if abs(length - self.seconds) * self.fps > 1:
                raise ValueError(f"frames {self.start}-{self.end} at {self.fps:g} a second last {length:g} s")
        return self


class BriefResolution(Model):
    """Pixels that come out, after every scale."""

    width: int = Field(ge=1)
    height: int = Field(ge=1)


class BriefOutput(Model):
    """One output that was ordered: all of its passes together in one file."""

    name: str = Field(min_length=1)
    passes: tuple[str, ...] = ()
    format: Ending | None = None
    colour_space: str | None = None
    bit_depth: int | None = Field(default=None, ge=1)
    resolution: BriefResolution | None = None


class Brief(Model):
    """The order of the production. What it does not say is not compared."""

    title: str = ""
    frames: BriefFrames = BriefFrames()
    resolution: BriefResolution | None = None
    passes: tuple[str, ...] = ()
    """Each is needed in at least one output."""
    format: Ending | None = None
    colour_space: str | None = None
    bit_depth: int | None = Field(default=None, ge=1)
    naming: str | None = None
    """Name of output files, with {scene}, {version}, {output} and a frame token; `*` stands for anything."""
    moving_camera: bool | None = None
    """True if the camera is expected to move."""
    output: tuple[BriefOutput, ...] = ()

    @model_validator(mode="after")
    def _agrees(self) -> Brief:
        names = [one.name for one in self.output]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"the output {twice!r} is ordered twice")
        if self.naming is not None:
            ending = self.naming.rpartition(".")[2].lower() if "." in self.naming else ""
            if self.format is not None and ending.isalnum() and ending != self.format:
                raise ValueError(f"the naming ends in .{ending}, and the format ordered is {self.format}")
        for one in self.output:
            if one.format and self.format and one.format != self.format:
                raise ValueError(f"{one.name} is ordered as {one.format}, and all outputs as {self.format}")
        return self

    def of_output(self, name: str) -> BriefOutput | None:
        """Return what was ordered of one output, by name; capitals do not count."""
        return next((one for one in self.output if one.name.casefold() == name.casefold()), None)

    def ordered(self, name: str, key: str) -> Any:
        """Return what was ordered of one output under a key: by its own name, else for all; None for nothing."""
        own = self.of_output(name)
        return (own and getattr(own, key)) or getattr(self, key) or None


def name_by(naming: str, scene: str, output: str, ending: str) -> str:
    """Return a path by a naming rule, its frame token left in. Blanks become underscores: it is a name everywhere.

    scene: the scene's file name. output: the output's name. ending: of its files, without a dot.
    """
    stem = paths.scene_stem(scene)
    values = {
        "{scene}": paths.without_version(stem),
        "{version}": paths.version_of(stem) or "",
        "{output}": re.sub(r"[^\w.-]+", "_", output.strip("/").lower()),
        "{format}": ending,
    }
    for key, value in values.items():
        naming = naming.replace(key, value)
    return naming


def read_brief(path: Path, tokens: FrameTokens = STANDARD) -> Brief:
    """Read a brief. Raises UnreadableInput on a key that is not known, or when it contradicts itself.

    tokens: the frame tokens of the project.
    """
    found = read_toml(Brief, path, "brief")
    if found.naming is not None and not tokens.has_frame(found.naming) and (found.frames.count or 2) > 1:
        what = f"the brief's naming {found.naming!r} has no frame token, and there is more than one frame"
        raise UnreadableInput(what, path, "put #### where the frame number belongs")
    return found
