"""C3 cameras, C4 resolution."""

from __future__ import annotations

import math
from collections.abc import Iterator

from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.model import Camera, Resolution, SimulationState, Survey
from tidy_crate.core.scene.request import states_nothing
from tidy_crate.core.work.request import MOST_PIXELS


@check("camera-none", Severity.ERROR, "C3")
def camera_none(scene: Checked) -> Iterator[Trouble]:
    """Nothing can be rendered without a camera."""
    if not scene.survey.cameras:
        yield Trouble(scene.survey.scene.name, "the scene has no camera", "add one")


@check("camera-not-chosen", Severity.ERROR, "C3")
def camera_not_chosen(scene: Checked) -> Iterator[Trouble]:
    """No camera is chosen: the renderer uses any of them, often the wrong one."""
    count = len(scene.survey.cameras)
    there = "there is one" if count == 1 else f"there are {count}"
    for output in scene.survey.outputs:
        if output.camera is None and count:
            yield Trouble(output.name, f"no camera is chosen, {there}", "point the render settings at one")


@check("camera-gone", Severity.ERROR, "C3")
def camera_gone(scene: Checked) -> Iterator[Trouble]:
    """The chosen camera was renamed or deleted: the farm uses another one, or fails on every frame."""
    known = {camera.path for camera in scene.survey.cameras}
    for output in scene.survey.outputs:
        if output.camera is not None and output.camera not in known:
            yield Trouble(output.name, f"its camera {output.camera} is not in the scene", "choose one that is")


@check("camera-pose-unclear", Severity.ERROR, "C3")
def camera_pose_unclear(scene: Checked) -> Iterator[Trouble]:
    """No standard defines this camera transform. Programs interpret it differently, so the view differs from the
    artist's.
    """
    for camera in _rendering(scene):
        if camera.trouble is not None:
            remedy = "use only the standard's operations on it and above it, or bake it in the host"
            yield Trouble(camera.path, f"its position cannot be evaluated ({camera.trouble})", remedy)


@check("camera-live", Severity.ERROR, "C3", Next.BAKE)
def camera_live(scene: Checked) -> Iterator[Trouble]:
    """The camera has a live constraint, which starts again on every machine: the picture jumps where batches meet."""
    live = {s.name for s in scene.survey.simulations if s.state is SimulationState.LIVE}
    for camera in _rendering(scene):
        if camera.path in live:
            yield Trouble(camera.path, "the camera that renders has a live spring", "bake it")


@check("camera-still-beside-moving", Severity.WARNING, "C3")
def camera_still_beside_moving(scene: Checked) -> Iterator[Trouble]:
    """The original camera renders instead of its baked copy: every frame shows the same view."""
    simulated = {s.name for s in scene.survey.simulations}
    moving = [c.path for c in scene.survey.cameras if c.moves and not c.renders]
    for camera in _rendering(scene):
        known = camera.trouble is None and camera.path not in simulated
        if not camera.changes and known and moving:
            yield Trouble(camera.path, f"it stands still, and {moving[0]} moves", "choose the one that moves, or waive")


@check("camera-moves-elsewhere", Severity.WARNING, "C3")
def camera_moves_elsewhere(scene: Checked) -> Iterator[Trouble]:
    """The camera moves only outside the range: probably the wrong frames are rendered."""
    frames = scene.survey.frames
    for camera in _rendering(scene):
        if camera.keyed is None or camera.changes or frames.start is None or frames.end is None:
            continue
        # a single frame inside a move shows no move, and is meant
        inside = frames.count == 1 and camera.keyed[0] <= frames.start <= camera.keyed[1]
        if not inside and (camera.keyed[1] <= frames.start or camera.keyed[0] >= frames.end):
            yield Trouble(
                camera.path,
                f"it moves over {camera.keyed[0]}-{camera.keyed[1]}, the range is {frames.start}-{frames.end}",
                "set the range to the camera's move",
            )


@check("camera-shutter-closed", Severity.WARNING, "C3")
def camera_shutter_closed(scene: Checked) -> Iterator[Trouble]:
    """Motion blur is on and the shutter never opens: the frames cost more and have no blur."""
    if scene.survey.canonical.get("motion_blur") is not True:
        return
    for camera in _rendering(scene):
        if camera.shutter is not None and camera.shutter[1] <= camera.shutter[0]:
            yield Trouble(
                camera.path, f"the shutter opens at {camera.shutter[0]:g} and closes at {camera.shutter[1]:g}",
                "set the shutter, or switch motion blur off",
            )  # fmt: skip


@check("resolution-none", Severity.ERROR, "C4")
def resolution_none(scene: Checked) -> Iterator[Trouble]:
    """The scene has no resolution: the farm uses its own default."""
    choices = scene.survey.render_settings_choices
    if scene.survey.resolution is None and not choices and not states_nothing(scene.survey):
        yield Trouble("resolution", "the scene states no resolution", "set it in the render settings")


@check("resolution-impossible", Severity.ERROR, "C4")
def resolution_impossible(scene: Checked) -> Iterator[Trouble]:
    """No renderer can make a picture of this size: every frame runs out of memory."""
    for subject, size in sizes(scene.survey):
        width, height = size.rendered
        if not math.isfinite(size.scale):
            yield Trouble(subject, f"its scale is {size.scale}, which is not a number", "set the scale to 1")
        elif max(width, height) > MOST_PIXELS:
            yield Trouble(subject, f"{width} x {height}, and no edge may be over {MOST_PIXELS}", "set the resolution")


@check("resolution-scaled-down", Severity.WARNING, "C4")
def resolution_scaled_down(scene: Checked) -> Iterator[Trouble]:
    """A resolution scale left from a test is noticed only after the bill."""
    for subject, size in sizes(scene.survey):
        if size.scale >= 1:
            continue
        width, height = size.rendered
        yield Trouble(
            subject,
            f"scaled to {size.scale:g}, so {width} x {height} come out",
            "set the scale to full, or waive",
        )


@check("resolution-scaled-up", Severity.WARNING, "C4")
def resolution_scaled_up(scene: Checked) -> Iterator[Trouble]:
    """Twice the scale is four times the pixels and about four times the cost."""
    for subject, size in sizes(scene.survey):
        if size.scale <= 1:
            continue
        width, height = size.rendered
        yield Trouble(
            subject,
            f"scaled to {size.scale:g}, so {width} x {height} come out, {size.scale**2:.1f} times the pixels",
            "set the scale to full, or waive",
        )


@check("resolution-odd", Severity.NOTE, "C4", Next.NOTHING)
def resolution_odd(scene: Checked) -> Iterator[Trouble]:
    """Common movie formats store colour for every second pixel and refuse an odd width or height."""
    for subject, size in sizes(scene.survey):
        if any(pixels % 2 for pixels in size.rendered):
            width, height = size.rendered
            yield Trouble(subject, f"{width} x {height} has an odd side", "fine unless a movie is made of it")


@check("picture-cropped", Severity.WARNING, "C4")
def picture_cropped(scene: Checked) -> Iterator[Trouble]:
    """Only a region of the picture is rendered, often left from a test: the rest of every frame is black."""
    for output in scene.survey.outputs:
        if output.region is not None:
            left, bottom, right, top = output.region
            share = max(0.0, right - left) * max(0.0, top - bottom)
            if share < 0.999:
                yield Trouble(output.name, f"only {share:.0%} of the picture is rendered", "render all of it, or waive")


def sizes(survey: Survey) -> Iterator[tuple[str, Resolution]]:
    """The scene's resolution, and that of each output which has another one."""
    if survey.resolution is not None:
        yield "resolution", survey.resolution
    for output in survey.outputs:
        if output.resolution is not None and output.resolution != survey.resolution:
            yield output.name, output.resolution


def _rendering(scene: Checked) -> Iterator[Camera]:
    return (camera for camera in scene.survey.cameras if camera.renders)
