"""C1 to C4 against the brief: what was ordered, and what would be rendered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.check.finding import Checked, Severity, Trouble, check
from tidy_crate.core.context.brief import Brief, BriefOutput, name_by
from tidy_crate.core.patterns import matches
from tidy_crate.core.scene.model import FrameRange, Output


@check("brief-frames-differ", Severity.ERROR, "C2")
def brief_frames_differ(scene: Checked) -> Iterator[Trouble]:
    """Frames that were not ordered are paid for, or ordered ones are missing at delivery."""
    if (brief := scene.rules.brief) is None or brief.frames.start is None:
        return
    ours, theirs = scene.survey.frames, brief.frames
    ordered = (theirs.start, theirs.end, theirs.step)
    if ours.count and ordered not in _ranges(ours):
        step = f" every {theirs.step}" if theirs.step != 1 else ""
        yield Trouble(
            "frame range", f"{ours.start}-{ours.end} in the scene, {theirs.start}-{theirs.end}{step} were ordered",
            "set the range that was ordered",
        )  # fmt: skip


@check("brief-count-differs", Severity.ERROR, "C2")
def brief_count_differs(scene: Checked) -> Iterator[Trouble]:
    """A missing frame leaves a hole in the edit, an extra one is paid for in vain. Both ends of a range count."""
    if (brief := scene.rules.brief) is None or brief.frames.start is not None or brief.frames.count is None:
        return
    count = scene.survey.frames.count
    if count and count != brief.frames.count:
        yield Trouble("frame range", f"{count} frames, {brief.frames.count} were ordered", "set the range")


@check("brief-rate-differs", Severity.ERROR, "C2")
def brief_rate_differs(scene: Checked) -> Iterator[Trouble]:
    """At another frame rate the same frames last longer or shorter, and simulations differ."""
    brief, frames = scene.rules.brief, scene.survey.frames
    if brief is None or brief.frames.fps is None or not frames.count:
        return
    if abs(frames.fps - brief.frames.fps) > 0.001:
        yield Trouble("frame rate", f"{frames.fps:g} a second, {brief.frames.fps:g} were ordered", "set the rate")


@check("brief-camera-still", Severity.ERROR, "C3")
def brief_camera_still(scene: Checked) -> Iterator[Trouble]:
    """The camera has lost its animation: the whole shot shows the same view."""
    brief = scene.rules.brief
    # one frame shows no move
    if brief is None or brief.moving_camera is None or scene.survey.frames.count <= 1:
        return
    simulated = {one.name for one in scene.survey.simulations}
    for camera in scene.survey.cameras:
        if camera.renders and camera.trouble is None:
            moves = camera.changes or camera.path in simulated
            if moves != brief.moving_camera:
                is_now = "moves" if moves else "stands still"
                ordered = "moves" if brief.moving_camera else "stands still"
                yield Trouble(camera.path, f"it {is_now}, a camera that {ordered} was ordered", "choose the right one")


@check("brief-resolution-differs", Severity.ERROR, "C4")
def brief_resolution_differs(scene: Checked) -> Iterator[Trouble]:
    """Frames of the wrong size have to be rendered again, all of them."""
    if (brief := scene.rules.brief) is None:
        return
    main = scene.survey.resolution
    each = [("resolution", main, brief.resolution)]
    for output in scene.survey.outputs:
        own = one.resolution if (one := brief.of_output(output.name)) else None
        # an output of which nothing is ordered by name, and that has a size of its own, is held to the whole brief
        each.append((output.name, output.resolution, own or (brief.resolution if output.resolution != main else None)))
    for subject, size, ordered in each:
        if size is not None and ordered is not None and size.rendered != (ordered.width, ordered.height):
            come = f"{size.rendered[0]} x {size.rendered[1]} come out"
            yield Trouble(subject, f"{come}, {ordered.width} x {ordered.height} were ordered", "set it")


@check("brief-output-missing", Severity.ERROR, "C1")
def brief_output_missing(scene: Checked) -> Iterator[Trouble]:
    """An ordered output that is not rendered costs a second render of the whole shot."""
    if (brief := scene.rules.brief) is None:
        return
    there = {output.name.casefold() for output in scene.survey.outputs}
    for one in brief.output:
        if one.name.casefold() not in there:
            yield Trouble(one.name, "this output was ordered, and the scene has none of the name", "add it")


@check("brief-pass-missing", Severity.ERROR, "C1")
def brief_pass_missing(scene: Checked) -> Iterator[Trouble]:
    """Passes cannot be added after the render: a missing one costs a second render of the whole shot."""
    if (brief := scene.rules.brief) is None:
        return
    everywhere = {name.casefold() for output in scene.survey.outputs for name in output.passes}
    for name in brief.passes:
        if name.casefold() not in everywhere:
            yield Trouble(name, "this pass was ordered, and no output has it", "add it to an output")
    for output, ordered in _ordered(scene, brief):
        own = {name.casefold() for name in output.passes}
        for name in ordered.passes if ordered else ():
            if name.casefold() not in own:
                yield Trouble(f"{output.name} {name}", "this pass was ordered in this output", "add it")


@check("brief-format-differs", Severity.ERROR, "C1")
def brief_format_differs(scene: Checked) -> Iterator[Trouble]:
    """Another file format may hold less than was ordered, or cannot be opened by the client."""
    for output, wanted in _wanted(scene, "format"):
        if output.path.strip() and output.format != wanted:
            what = f".{output.format or '?'}, .{wanted} was ordered"
            yield Trouble(output.name, what, f"let its path end in .{wanted}")


@check("brief-bit-depth-differs", Severity.ERROR, "C1")
def brief_bit_depth_differs(scene: Checked) -> Iterator[Trouble]:
    """Too few bits show as bands in the grade, and cannot be added after the render."""
    for output, wanted in _wanted(scene, "bit_depth"):
        if output.bit_depth is not None and output.bit_depth != wanted:
            yield Trouble(output.name, f"{output.bit_depth} bits, {wanted} were ordered", "set the depth of the output")


@check("brief-colour-space-differs", Severity.ERROR, "C1")
def brief_colour_space_differs(scene: Checked) -> Iterator[Trouble]:
    """Frames in another colour space do not match the other shots."""
    for output, wanted in _wanted(scene, "colour_space"):
        if output.colour_space is not None and output.colour_space.casefold() != wanted.casefold():
            yield Trouble(output.name, f"{output.colour_space}, {wanted} was ordered", "set it in the render settings")


@check("brief-naming-differs", Severity.WARNING, "C1")
def brief_naming_differs(scene: Checked) -> Iterator[Trouble]:
    """Frames with another name are not found where they are expected, or replace those of another version."""
    if (brief := scene.rules.brief) is None or brief.naming is None:
        return
    for output in scene.survey.outputs:
        name = paths.file_name(output.path)
        if name and not _follows(name, output, brief.naming, scene):
            wanted = named(brief.naming, scene, output.name, output.format or "exr")
            yield Trouble(output.name, f"{name}, ordered is {wanted}", "rename it")


def _ranges(frames: FrameRange) -> list[tuple[int | None, int | None, int]]:
    """A scene's range as a brief may state it: in time codes, and in frames where those differ."""
    found: list[tuple[int | None, int | None, int]] = [(frames.start, frames.end, frames.step)]
    if frames.time_codes_per_second is not None and frames.start is not None:
        first = frames.start // frames.step
        found.append((first, first + frames.count - 1, 1))
    return found


def _ordered(scene: Checked, brief: Brief) -> Iterator[tuple[Output, BriefOutput | None]]:
    return ((output, brief.of_output(output.name)) for output in scene.survey.outputs)


def _wanted(scene: Checked, key: str) -> Iterator[tuple[Output, Any]]:
    """Each output of which something was ordered, with what: by its own name, else for all."""
    if (brief := scene.rules.brief) is None:
        return
    for output in scene.survey.outputs:
        if wanted := brief.ordered(output.name, key):
            yield output, wanted


def named(naming: str, scene: Checked, output: str, ending: str) -> str:
    """A path by a naming rule. Blanks become underscores, so that the result is a name everywhere."""
    return name_by(naming, scene.original or scene.survey.scene.name, output, ending)


def _follows(name: str, output: Output, naming: str, scene: Checked) -> bool:
    wanted = paths.file_name(named(naming, scene, output.name, output.format or "exr"))
    ours, theirs = _pattern(name, scene.survey.tokens), _pattern(wanted, scene.survey.tokens)
    return ours == theirs or matches(ours, theirs)


def _pattern(name: str, tokens: FrameTokens) -> str:
    """A name with its frame tokens in one spelling, without regard to capitals."""
    out, at = [], 0
    for token in tokens.find(name):
        out += [name[at : token.start], "\0" if token.counts == "frame" else "\1"]
        at = token.end
    return "".join([*out, name[at:]]).casefold()
