"""Checks of outputs, sizes and names against a farm card (C1, C2, C4, C5)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from tidy_crate.core.asset import paths
from tidy_crate.core.check.finding import Next, OnFarm, Severity, Trouble, farm_check
from tidy_crate.core.check.outputs import MAKE_A_SEQUENCE, MOVIES, written_to
from tidy_crate.core.farm.fit import GIB, gib
from tidy_crate.core.farm.overlay import output_path


@farm_check("farm-changes-output-path", Severity.NOTE, "C1", Next.NOTHING)
def farm_changes_output_path(on: OnFarm) -> Iterator[Trouble]:
    """This farm saves the frames to another path than the scene states. A script that waits for them must use that
    path.
    """
    for output in on.survey.outputs:
        path = output_path(on.card, output.path)
        if output.path.strip() and path != output.path:
            yield Trouble(output.name, f"it is asked to write {path}", "nothing to do: send puts it so")


@farm_check("farm-outputs-collide", Severity.ERROR, "C1", Next.SCENE)
def farm_outputs_collide(on: OnFarm) -> Iterator[Trouble]:
    """This farm drops the folders of outputs. Two outputs then have the same path, and one replaces the other."""
    by_path = defaultdict(list)
    for output in on.survey.outputs:
        if output.path.strip():
            by_path[written_to(output_path(on.card, output.path), on.scene)].append(output)
    for outputs in by_path.values():
        apart = {written_to(output.path, on.scene) for output in outputs}
        if len(outputs) > 1 and len(apart) > 1:
            names = " and ".join(output.name for output in outputs)
            yield Trouble(names, f"both become {output_path(on.card, outputs[0].path)}", "give them different names")


@farm_check("farm-format-not-taken", Severity.ERROR, "C1")
def farm_format_not_taken(on: OnFarm) -> Iterator[Trouble]:
    """The farm does not write this format: the first frame fails, or the frames come out in another format."""
    taken = on.card.outputs.formats
    for output in on.survey.outputs:
        if taken and output.format and output.format not in taken and output.format not in MOVIES:
            yield Trouble(output.name, f".{output.format}, it takes {', '.join(taken)}", "another format or farm")


@farm_check("farm-makes-no-movie", Severity.ERROR, "C1")
def farm_makes_no_movie(on: OnFarm) -> Iterator[Trouble]:
    """The farm does not say that it assembles movies: each machine would overwrite the movie of the others."""
    for output in on.survey.outputs:
        if output.format in MOVIES and not on.card.outputs.movies:
            yield Trouble(output.name, f"{output.path} is a movie", MAKE_A_SEQUENCE, Next.SCENE)


@farm_check("farm-renumbers", Severity.WARNING, "C2", Next.DECIDE)
def farm_renumbers(on: OnFarm) -> Iterator[Trouble]:
    """This farm numbers frames from zero. Without correction they get the wrong numbers, above all when only some are
    rendered again.
    """
    frames = on.survey.frames
    if on.card.outputs.from_zero and frames.count and (frames.start, frames.step) != (0, 1):
        yield Trouble("frame range", f"it numbers from 0, the scene from {frames.start}",
                      "send it whole ranges, and put the numbers back by hand")  # fmt: skip


@farm_check("farm-no-negative-frames", Severity.ERROR, "C2")
def farm_no_negative_frames(on: OnFarm) -> Iterator[Trouble]:
    """The farm refuses a negative frame number, or drops its sign and overwrites another frame."""
    start = on.survey.frames.start
    if not on.card.outputs.negative_frames and start is not None and start < 0:
        yield Trouble("frame range", f"it starts at {start}", "shift the range, or take another farm")


@farm_check("farm-too-many-frames", Severity.ERROR, "C2")
def farm_too_many_frames(on: OnFarm) -> Iterator[Trouble]:
    """The job has more frames than the farm allows: it is refused after the upload, or cut off."""
    most = on.card.limits.frames
    count = len(on.request.numbers()) if on.request else on.survey.frames.count
    if most is not None and count > most:
        yield Trouble("frame range", f"{count} frames, it takes {most} a job", "split the range")


@farm_check("farm-too-many-pixels", Severity.ERROR, "C4")
def farm_too_many_pixels(on: OnFarm) -> Iterator[Trouble]:
    """The frames are above the farm's limit: they are refused, or rendered smaller without notice."""
    most = on.card.limits.pixels
    for output in on.survey.outputs:
        if most is not None and output.resolution is not None:
            width, height = output.resolution.rendered
            if width * height > most:
                yield Trouble(output.name, f"{width} x {height} are {width * height:,} pixels, it takes {most:,}",
                              "render it smaller, or at another farm")  # fmt: skip


@farm_check("farm-too-many-samples", Severity.ERROR, "C8")
def farm_too_many_samples(on: OnFarm) -> Iterator[Trouble]:
    """The farm limits samples: the frames are noisier than the approved ones, or are refused."""
    most, samples = on.card.limits.samples, on.survey.canonical.get("samples")
    if most is not None and isinstance(samples, int | float) and samples > most:
        yield Trouble("samples", f"{samples:g} a pixel, it takes {most}", "lower them, or take another farm")


@farm_check("farm-upload-too-large", Severity.ERROR, "C10")
def farm_upload_too_large(on: OnFarm) -> Iterator[Trouble]:
    """The upload is above the farm's limit: it fails after hours."""
    most = on.card.limits.upload_gb
    if most is not None and on.bytes > most * GIB:
        yield Trouble(
            "the crate", f"{gib(on.bytes)}, it takes {most:g} GiB", "send only what the frames need, or elsewhere"
        )


@farm_check("farm-path-too-long", Severity.ERROR, "C5")
def farm_path_too_long(on: OnFarm) -> Iterator[Trouble]:
    """In the farm's folder the path becomes longer than its system can open: the file is missing for the renderer."""
    most, lead = on.card.limits.path_length, len(on.card.nodes.unpacked_in)
    for path, _ in on.files if most is not None else ():
        if most is not None and lead + len(path) > most:
            yield Trouble(path[:80], f"{lead + len(path)} characters there, it takes {most}", "shorten it")


@farm_check("farm-name-not-possible", Severity.ERROR, "C5")
def farm_name_not_possible(on: OnFarm) -> Iterator[Trouble]:
    """The nodes' file system does not allow this name: the file is not unpacked, and is missing in every frame."""
    if on.card.nodes.system != "windows":
        return
    seen = set()
    for path, _ in on.files:
        for part in path.split("/"):
            if part not in seen:
                seen.add(part)
                if troubles := paths.name_troubles(part):
                    yield Trouble(path[:80], f"{part!r} {' and '.join(troubles)}", "rename it")
