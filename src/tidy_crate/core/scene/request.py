"""The render request that a scene itself makes."""

from __future__ import annotations

from tidy_crate.core.asset.frames import MOST_FRAMES, format_frames, parse_frames
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.scene.model import Output, Survey
from tidy_crate.core.work.product import OutputNaming
from tidy_crate.core.work.request import MOST_PIXELS, RenderRequest


def request_for(survey: Survey, name: str = "main", frames: str | None = None) -> RenderRequest:
    """The request that a scene itself makes: its range (or `frames` of it), its resolution, all of its outputs.

    Raises WrongUsage when the scene lacks a frame range, a resolution or outputs.
    """
    wanted = frames if frames is not None else survey.asked_frames
    chosen = format_frames(parse_frames(wanted)) if wanted is not None else None
    fix = "set it in the scene and save it again, or say it from outside: collect --frames, --camera, --size"
    if not survey.frames.count:
        raise WrongUsage("the scene has no frame range", survey.scene, fix)
    need_few_frames(survey)
    if survey.resolution is None:
        raise WrongUsage("the scene has no resolution", survey.scene, fix)
    if not survey.outputs:
        raise WrongUsage("the scene has no outputs, so nothing would be saved", survey.scene, fix)
    width, height = survey.resolution.rendered
    own = survey.frames
    text = f"{own.start}-{own.end}" + (f"x{own.step}" if own.step != 1 else "")
    if max(width, height) > MOST_PIXELS:
        what = f"the resolution {width} x {height} cannot be rendered, no edge may be over {MOST_PIXELS}"
        raise WrongUsage(what, survey.scene, fix)
    return RenderRequest(
        name=name,
        frames=chosen or (text if own.count > 1 else str(own.start)),
        width=width,
        height=height,
        outputs=tuple(output.name for output in survey.outputs),
        camera=_camera(survey),
    )


def _camera(survey: Survey) -> str:
    """Return the camera that is chosen from outside, where the scene has no place to say it: the renderer is told."""
    cameras = {output.camera for output in survey.outputs if output.camera}
    return next(iter(cameras)) if "camera" in survey.said and survey.format != "openusd" and len(cameras) == 1 else ""


def states_nothing(survey: Survey) -> list[str]:
    """Return what a scene lacks that says nothing of its rendering; nothing for one that says a part of it."""
    lacks = {
        "frame range": survey.frames.start is None or survey.frames.end is None,
        "resolution": survey.resolution is None,
        "output": not survey.outputs,
    }
    # a choice between several settings is another question
    whole = lacks["resolution"] and lacks["output"] and not survey.render_settings_choices
    return [name for name, lacking in lacks.items() if lacking] if whole else []


def need_few_frames(survey: Survey) -> None:
    """Raise WrongUsage for a range of more frames than a shot has: it would fill the memory."""
    if survey.frames.count > MOST_FRAMES:
        what = f"the scene has {survey.frames.count} frames, over {MOST_FRAMES}"
        raise WrongUsage(what, survey.scene, "set the range of the shot, and save it again")


def naming(output: Output) -> OutputNaming:
    """Return what the names of an output's files are made from."""
    return OutputNaming(output.name, output.path, output.format)
