"""C2 frames, C3 camera, C4 resolution."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Checked, Severity, Trouble, check
from tidy_crate.core.scene.model import SimulationState


@check("frames-none", Severity.ERROR, "C2")
def frames_none(scene: Checked) -> Iterator[Trouble]:
    """Without a range of its own the scene renders whatever range the farm takes for granted."""
    frames = scene.survey.frames
    if frames.start is None or frames.end is None:
        yield Trouble("frame range", "the scene states no frame range", "set its start and end time code")


@check("frames-reversed", Severity.ERROR, "C2")
def frames_reversed(scene: Checked) -> Iterator[Trouble]:
    """A range that ends before it starts has no frames."""
    frames = scene.survey.frames
    if frames.start is not None and frames.end is not None and frames.end < frames.start:
        yield Trouble("frame range", f"it runs from {frames.start} to {frames.end}", "swap the two")


@check("frames-single", Severity.NOTE, "C2")
def frames_single(scene: Checked) -> Iterator[Trouble]:
    """One frame goes to one machine: a farm gains nothing unless the frame is shared out by tiles or samples."""
    if scene.survey.frames.count == 1:
        yield Trouble("frame range", "there is a single frame", "render it here, or in tiles")


@check("frames-beyond-animation", Severity.WARNING, "C2")
def frames_beyond_animation(scene: Checked) -> Iterator[Trouble]:
    """Frames on which nothing moves any more are paid for like all others."""
    frames, moving = scene.survey.frames, scene.survey.animated
    if frames.count <= 1 or moving is None or frames.start is None or frames.end is None:
        return
    if frames.start < moving[0] or frames.end > moving[1]:
        yield Trouble(
            "frame range",
            f"frames {frames.start}-{frames.end}, but the animation runs over {moving[0]}-{moving[1]}",
            "make the range fit the animation",
        )


@check("frames-animation-cut", Severity.NOTE, "C2")
def frames_animation_cut(scene: Checked) -> Iterator[Trouble]:
    """Animation outside the range is not rendered, right for handles, wrong for a range left from a test."""
    frames, moving = scene.survey.frames, scene.survey.animated
    if frames.count and moving and frames.start is not None and frames.end is not None:
        before, after = max(0, frames.start - moving[0]), max(0, moving[1] - frames.end)
        if before or after:
            yield Trouble(
                "frame range",
                f"the animation goes on for {before} frames before and {after} after the range",
                "fine if these are handles",
            )


@check("camera-none", Severity.ERROR, "C3")
def camera_none(scene: Checked) -> Iterator[Trouble]:
    """Without a camera nothing can be rendered."""
    if not scene.survey.cameras:
        yield Trouble(scene.survey.scene.name, "the scene has no camera", "add one")


@check("camera-not-chosen", Severity.ERROR, "C3")
def camera_not_chosen(scene: Checked) -> Iterator[Trouble]:
    """When no camera is chosen the renderer takes any, often the wrong one."""
    for output in scene.survey.outputs:
        if output.camera is None and scene.survey.cameras:
            count = len(scene.survey.cameras)
            yield Trouble(output.name, f"no camera is chosen, there are {count}", "point the render settings at one")


@check("camera-gone", Severity.ERROR, "C3")
def camera_gone(scene: Checked) -> Iterator[Trouble]:
    """A camera that was renamed or deleted makes the farm fall back to another one, or fail on every frame."""
    known = {camera.path for camera in scene.survey.cameras}
    for output in scene.survey.outputs:
        if output.camera is not None and output.camera not in known:
            yield Trouble(output.name, f"its camera {output.camera} is not in the scene", "choose one that is")


@check("camera-live", Severity.ERROR, "C3")
def camera_live(scene: Checked) -> Iterator[Trouble]:
    """A camera on a live constraint starts anew on every machine: the picture jumps where batches meet."""
    live = {s.name for s in scene.survey.simulations if s.state is SimulationState.LIVE}
    for camera in scene.survey.cameras:
        if camera.renders and camera.path in live:
            yield Trouble(camera.path, "the camera that renders hangs on a live spring", "bake it")


@check("resolution-none", Severity.ERROR, "C4")
def resolution_none(scene: Checked) -> Iterator[Trouble]:
    """Without a resolution the farm renders at whatever it takes for granted."""
    if scene.survey.resolution is None:
        yield Trouble("resolution", "the scene states no resolution", "set it in the render settings")


@check("resolution-scaled-down", Severity.WARNING, "C4")
def resolution_scaled_down(scene: Checked) -> Iterator[Trouble]:
    """A scale left from testing is seen only after the bill."""
    size = scene.survey.resolution
    if size is not None and size.scale < 1:
        width, height = size.rendered
        yield Trouble(
            "resolution",
            f"scaled to {size.scale:g}, so {width} x {height} come out",
            "set the scale to full, or waive",
        )
