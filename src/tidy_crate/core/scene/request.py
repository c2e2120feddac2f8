"""Render request: what is to be rendered, apart from how and where."""

from __future__ import annotations

from pathlib import PurePosixPath

from pydantic import Field, field_validator

from tidy_crate.core.asset import paths, sequences
from tidy_crate.core.asset.frames import format_frames, parse_frames
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Output, Survey


class RenderRequest(Model):
    """What is to be rendered.

    name: tells requests of one crate apart, part of every task's identity. frames: a frame list. cameras: empty
    means the camera that each output names. samples: per pixel, None means as the scene has it.
    """

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")
    frames: str
    cameras: tuple[str, ...] = ()
    variants: dict[str, str] = Field(default_factory=dict)
    width: int = Field(ge=1, le=65536)
    height: int = Field(ge=1, le=65536)
    samples: int | None = Field(default=None, ge=1)
    outputs: tuple[str, ...]

    @field_validator("frames")
    @classmethod
    def _is_a_frame_list(cls, value: str) -> str:
        try:
            parse_frames(value)
        except WrongUsage as error:
            raise ValueError(str(error)) from error
        return value

    def numbers(self) -> tuple[int, ...]:
        """The frames in the order they are to be rendered."""
        return parse_frames(self.frames)


def request_for(survey: Survey, name: str = "main", frames: str | None = None) -> RenderRequest:
    """The request that a scene itself makes: its range (or `frames` of it), its resolution, all of its outputs.

    Raises WrongUsage when the scene lacks a frame range, a resolution or outputs.
    """
    chosen = format_frames(parse_frames(frames)) if frames is not None else None
    fix = "set it in the scene and save it again"
    if not survey.frames.count:
        raise WrongUsage("the scene has no frame range", survey.scene, fix)
    if survey.resolution is None:
        raise WrongUsage("the scene has no resolution", survey.scene, fix)
    if not survey.outputs:
        raise WrongUsage("the scene has no outputs, so nothing would be saved", survey.scene, fix)
    width, height = survey.resolution.rendered
    own = survey.frames
    text = f"{own.start}-{own.end}" + (f"x{own.step}" if own.step != 1 else "")
    return RenderRequest(
        name=name,
        frames=chosen or (text if own.count > 1 else str(own.start)),
        width=width,
        height=height,
        outputs=tuple(output.name for output in survey.outputs),
    )


def product_name(output: Output, frame: int) -> str:
    """File name of one output at one frame. Without a frame token in its path the number is put in all the same."""
    name = paths.file_name(output.path) or f"{output.name}.####.{output.format or 'exr'}"
    if not sequences.has_frame_token(name):
        pure = PurePosixPath(name)
        name = f"{pure.stem}.####{pure.suffix}"
    return sequences.at_frame(name, frame)
