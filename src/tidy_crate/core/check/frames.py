"""C2: frames."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.asset.frames import MOST_FRAMES
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.request import states_nothing

# rates that films, television and games are made at; others are more often a slip than meant
RATES = (
    8, 10, 12, 12.5, 15, 16, 18, 20, 23.976, 24, 25, 29.97, 30, 48, 50, 59.94, 60, 72, 75, 90, 96, 100, 119.88, 120, 240
)  # fmt: skip


@check("frames-none", Severity.ERROR, "C2")
def frames_none(scene: Checked) -> Iterator[Trouble]:
    """The scene has no frame range: the farm uses a range of its own."""
    frames = scene.survey.frames
    if (frames.start is None or frames.end is None) and not states_nothing(scene.survey):
        yield Trouble("frame range", "the scene states no frame range", "set its start and end time code")


@check("frames-reversed", Severity.ERROR, "C2")
def frames_reversed(scene: Checked) -> Iterator[Trouble]:
    """A range that ends before it starts contains no frames."""
    frames, authored = scene.survey.frames, scene.survey.fraction
    ends = (frames.start, frames.end) if authored is None else authored
    if ends[0] is not None and ends[1] is not None and ends[1] < ends[0]:
        yield Trouble("frame range", f"it runs from {ends[0]:g} to {ends[1]:g}", "swap the two")


@check("frames-too-many", Severity.ERROR, "C2")
def frames_too_many(scene: Checked) -> Iterator[Trouble]:
    """A range of millions of frames is usually a mistake. A farm that accepts it renders until the money is gone."""
    count = scene.survey.frames.count
    if count > MOST_FRAMES:
        yield Trouble("frame range", f"{count} frames, over {MOST_FRAMES}", "set the range of the shot")


@check("frames-no-whole-one", Severity.ERROR, "C2")
def frames_no_whole_one(scene: Checked) -> Iterator[Trouble]:
    """The range contains no whole frame: one program renders nothing, another renders the frame next to it."""
    if scene.survey.fraction is not None and not scene.survey.frames.count:
        start, end = scene.survey.fraction
        if start <= end:
            yield Trouble("frame range", f"{start:g} to {end:g} holds no whole frame", "let it start on a whole frame")


@check("frames-between-time-codes", Severity.ERROR, "C2")
def frames_between_time_codes(scene: Checked) -> Iterator[Trouble]:
    """Some frames are between the scene's time codes. Each program numbers and renders them differently."""
    frames = scene.survey.frames
    codes = frames.time_codes_per_second
    if codes is not None and frames.fps and frames.step == 1:
        yield Trouble(
            "frame rate", f"{codes:g} time codes and {frames.fps:g} frames a second", "set timeCodesPerSecond to"
            " framesPerSecond, and the range to frames",
        )  # fmt: skip


@check("frames-skip-time-codes", Severity.WARNING, "C2")
def frames_skip_time_codes(scene: Checked) -> Iterator[Trouble]:
    """A program that treats each time code as a frame renders, and bills, several times as many frames."""
    frames = scene.survey.frames
    if frames.time_codes_per_second is not None and frames.step > 1 and frames.count:
        codes = (frames.end or 0) - (frames.start or 0) + 1
        what = f"{frames.time_codes_per_second:g} time codes and {frames.fps:g} frames a second: {frames.count} frames"
        yield Trouble("frame rate", f"{what}, {codes} time codes", "set both rates to that of the show, or waive")


@check("frames-between-whole-ones", Severity.WARNING, "C2")
def frames_between_whole_ones(scene: Checked) -> Iterator[Trouble]:
    """The range starts or ends between two frames. Each program rounds it differently: off by one."""
    frames = scene.survey.frames
    if scene.survey.fraction is not None and frames.count:
        start, end = scene.survey.fraction
        yield Trouble(
            "frame range", f"it runs from {start:g} to {end:g}; {frames.start}-{frames.end} are taken",
            "let it start and end on whole frames",
        )  # fmt: skip


@check("frames-single", Severity.NOTE, "C2", Next.NOTHING)
def frames_single(scene: Checked) -> Iterator[Trouble]:
    """A single frame runs on a single machine. A farm only helps if the frame is split by tiles or samples."""
    if scene.survey.frames.count == 1:
        yield Trouble("frame range", "there is a single frame", "render it here, or in tiles")


@check("frames-stepped", Severity.NOTE, "C2", Next.DECIDE)
def frames_stepped(scene: Checked) -> Iterator[Trouble]:
    """A frame step left from a test leaves holes in the sequence that are seen only in the edit."""
    step = scene.survey.frames.step
    if step > 1 and scene.survey.frames.count and scene.survey.frames.time_codes_per_second is None:
        yield Trouble("frame range", f"only every {step}. frame is rendered", "fine if intended")


@check("frames-rate-odd", Severity.WARNING, "C2")
def frames_rate_odd(scene: Checked) -> Iterator[Trouble]:
    """At a wrong frame rate sound and picture drift apart, and simulations run at the wrong speed."""
    fps = scene.survey.frames.fps
    if scene.survey.frames.count and not any(abs(fps - rate) < 0.005 for rate in RATES):
        yield Trouble(
            "frame rate", f"{fps:g} frames a second is not a rate that is delivered", "set the rate of the show"
        )


@check("frames-nothing-moves", Severity.WARNING, "C2", Next.DECIDE)
def frames_nothing_moves(scene: Checked) -> Iterator[Trouble]:
    """All frames look the same and each is paid for, or something has lost its animation."""
    frames = scene.survey.frames
    still = scene.survey.motion == "still" and not scene.survey.simulations
    if frames.count > 1 and still and not _may_move_unseen(scene):
        yield Trouble("frame range", f"{frames.count} frames, and nothing moves", "render one, or find the animation")


@check("frames-beyond-animation", Severity.WARNING, "C2", Next.DECIDE)
def frames_beyond_animation(scene: Checked) -> Iterator[Trouble]:
    """Nothing moves in some of the frames, and each of them is paid for."""
    frames, moving = scene.survey.frames, scene.survey.animated
    if frames.count <= 1 or moving is None or frames.start is None or frames.end is None or _may_move_unseen(scene):
        return
    starts = [one.start for one in scene.survey.simulations]
    # a simulation moves on when all keys have come to an end
    if frames.start < min(moving[0], *starts, moving[0]) or (frames.end > moving[1] and not starts):
        yield Trouble(
            "frame range",
            f"frames {frames.start}-{frames.end}, but the animation runs over {moving[0]}-{moving[1]}",
            "make the range fit the animation",
        )


@check("frames-animation-cut", Severity.NOTE, "C2", Next.NOTHING)
def frames_animation_cut(scene: Checked) -> Iterator[Trouble]:
    """Some animation is outside the range and is not rendered. That is right for handles, and wrong for a range left
    from a test.
    """
    frames, moving = scene.survey.frames, scene.survey.animated
    if frames.count > 1 and moving and frames.start is not None and frames.end is not None:
        before, after = max(0, frames.start - moving[0]), max(0, moving[1] - frames.end)
        if before or after:
            yield Trouble(
                "frame range",
                f"the animation goes on for {before} frames before and {after} after the range",
                "fine if these are handles",
            )


def _may_move_unseen(scene: Checked) -> bool:
    """Return whether something may move that the survey cannot see: in files without a reader here, or by sequences."""
    return bool(scene.survey.unread) or any(
        asset.needed and len(asset.members) > 1 and asset.members[0].frame is not None for asset in scene.survey.assets
    )
