"""C1: outputs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from tidy_crate.core.asset import sequences
from tidy_crate.core.check.finding import Checked, Severity, Trouble, check

# formats that hold one picture of at most four channels
ONE_PICTURE = {"png", "jpg", "jpeg", "tga", "bmp", "hdr"}
MOVIES = {"mov", "mp4", "avi", "mkv", "webm", "m4v", "mpg", "mpeg"}
KNOWN = ONE_PICTURE | MOVIES | {"exr", "tif", "tiff", "dpx", "jp2", "webp"}
DATA_PASSES = ("depth", "normal", "position", "motion", "id", "vector", "uv")


@check("output-none", Severity.ERROR, "C1")
def output_none(scene: Checked) -> Iterator[Trouble]:
    """Without an output the farm renders and saves nothing, and bills it all the same."""
    if not scene.survey.outputs:
        yield Trouble(scene.survey.scene.name, "the scene has no output", "add a render product with a path and passes")


@check("output-path-empty", Severity.ERROR, "C1")
def output_path_empty(scene: Checked) -> Iterator[Trouble]:
    """An output without a path is rendered, paid for and saved nowhere."""
    for output in scene.survey.outputs:
        if not output.path.strip():
            yield Trouble(output.name, "the output has no path", "give it a path with a frame token")


@check("output-no-frame-token", Severity.ERROR, "C1")
def output_no_frame_token(scene: Checked) -> Iterator[Trouble]:
    """Without the frame number in the name every frame overwrites the one before, and one is left."""
    if scene.survey.frames.count <= 1:
        return
    for output in scene.survey.outputs:
        is_movie = output.format in MOVIES
        if output.path.strip() and not is_movie and not sequences.has_frame_token(output.path):
            yield Trouble(output.name, f"{output.path} has no frame token", "put #### where the number belongs")


@check("output-same-file", Severity.ERROR, "C1")
def output_same_file(scene: Checked) -> Iterator[Trouble]:
    """Two outputs that write one file leave only the one that comes last."""
    by_path = defaultdict(list)
    for output in scene.survey.outputs:
        if output.path.strip():
            by_path[output.path.replace("\\", "/").lower()].append(output)
    for outputs in by_path.values():
        if len(outputs) > 1:
            names = " and ".join(output.name for output in outputs)
            yield Trouble(names, f"both write {outputs[0].path}", "give each output a path of its own")


@check("output-format-unknown", Severity.WARNING, "C1")
def output_format_unknown(scene: Checked) -> Iterator[Trouble]:
    """A renderer guesses the format of a path with an ending it does not know, and often guesses wrong."""
    for output in scene.survey.outputs:
        if output.path.strip() and output.format not in KNOWN:
            yield Trouble(output.name, f"{output.path} does not end in a known image format", "end it in .exr, say")


@check("output-movie", Severity.ERROR, "C1")
def output_movie(scene: Checked) -> Iterator[Trouble]:
    """Machines that render apart cannot write one movie: each would overwrite the others' frames."""
    for output in scene.survey.outputs:
        if output.format in MOVIES:
            yield Trouble(output.name, f"{output.path} is a movie", "render an image sequence and make the movie after")


@check("output-passes-do-not-fit", Severity.ERROR, "C1")
def output_passes_do_not_fit(scene: Checked) -> Iterator[Trouble]:
    """A format that holds one picture drops every pass but the first, and passes cannot be added afterwards."""
    for output in scene.survey.outputs:
        passes = [name for name in output.passes if name.lower() not in ("alpha", "a")]
        if output.format in ONE_PICTURE and len(passes) > 1:
            yield Trouble(
                output.name,
                f".{output.format} cannot hold {len(passes)} passes",
                "use .exr, or one output per pass",
            )


@check("output-data-in-eight-bit", Severity.WARNING, "C1")
def output_data_in_eight_bit(scene: Checked) -> Iterator[Trouble]:
    """Depth, normals and ids lose what they are for when they are squeezed into eight bits or compressed with loss."""
    for output in scene.survey.outputs:
        if output.format in ("jpg", "jpeg", "png", "tga", "bmp"):
            data = [name for name in output.passes if any(word in name.lower() for word in DATA_PASSES)]
            if data:
                yield Trouble(output.name, f"{', '.join(data)} in a .{output.format} file", "write data passes as .exr")


@check("output-no-passes", Severity.ERROR, "C1")
def output_no_passes(scene: Checked) -> Iterator[Trouble]:
    """An output without passes gives empty files, or whatever the renderer happens to put in."""
    for output in scene.survey.outputs:
        if not output.passes:
            yield Trouble(output.name, "the output has no passes", "add at least the beauty pass")
