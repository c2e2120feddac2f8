"""C1: outputs."""

from __future__ import annotations

import posixpath
import re
from collections import Counter, defaultdict
from collections.abc import Iterator

from tidy_crate.core.asset import paths
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.model import Output
from tidy_crate.core.scene.request import states_nothing
from tidy_crate.core.work.folders import folder_by
from tidy_crate.core.work.request import RenderRequest

# formats that hold one picture of at most four channels
ONE_PICTURE = {"png", "jpg", "jpeg", "tga", "bmp", "hdr"}
MOVIES = {"mov", "mp4", "avi", "mkv", "webm", "m4v", "mpg", "mpeg"}
KNOWN = ONE_PICTURE | MOVIES | {"exr", "tif", "tiff", "dpx", "jp2", "webp"}
WITHOUT_ALPHA = {"jpg", "jpeg", "hdr", "bmp"}
EIGHT_BIT = {"jpg", "jpeg", "png", "tga", "bmp"}
DATA_PASSES = ("depth", "normal", "position", "motion", "id", "vector", "uv", "cryptomatte")
# of these a half has too few digits: far things and large numbers fall onto one another
PRECISE_PASSES = ("depth", "position", "id", "cryptomatte")
MAKE_A_SEQUENCE = "render an image sequence and make the movie after"
# what a renderer itself fills in: the pass, the camera, the layer
_TOKEN = re.compile(r"<[A-Za-z][\w:.-]*>")
# of OpenEXR and TIFF
LOSSY = ("dwaa", "dwab", "b44", "b44a", "pxr24", "jpeg", "lossy")


@check("render-not-stated", Severity.ERROR, "C1", Next.ORDER)
def render_not_stated(scene: Checked) -> Iterator[Trouble]:
    """The scene says nothing of its rendering, as an asset does not. Say it from outside, or in the scene."""
    if lacking := states_nothing(scene.survey):
        cameras = ", ".join(one.path for one in scene.survey.cameras[:5])
        how = f"collect {scene.survey.scene.name} {' '.join(_OPTIONS[one] for one in lacking)}"
        what = f"it states no {', no '.join(lacking)}" + (f"; cameras: {cameras}" if cameras else "")
        yield Trouble(scene.survey.scene.name, what, how)


_OPTIONS = {"frame range": "--frames 1-48", "resolution": "--size 1920x1080", "output": "--product beauty="}


@check("output-none", Severity.ERROR, "C1")
def output_none(scene: Checked) -> Iterator[Trouble]:
    """The scene has no output: the farm renders, saves nothing, and bills it."""
    if not scene.survey.outputs and not scene.survey.render_settings_choices and not states_nothing(scene.survey):
        yield Trouble(scene.survey.scene.name, "the scene has no output", "add a render product with a path and passes")


@check("render-settings-not-chosen", Severity.ERROR, "C1")
def render_settings_not_chosen(scene: Checked) -> Iterator[Trouble]:
    """The scene has several render settings and chooses none. Each program uses different ones, with another camera,
    size and outputs.
    """
    if choices := scene.survey.render_settings_choices:
        text = f"there are {len(choices)} and the scene chooses none: {', '.join(choices[:5])}"
        yield Trouble("render settings", text, "name one of them in the scene's renderSettingsPrimPath")


@check("output-changes-over-time", Severity.ERROR, "C1")
def output_changes_over_time(scene: Checked) -> Iterator[Trouble]:
    """A job has one name and one size per output. A farm that splits the range uses those of any frame."""
    for output in scene.survey.outputs:
        for what in output.changing:
            yield Trouble(output.name, f"its {what} is given over time and changes in the range", "give it one value")


@check("output-path-empty", Severity.ERROR, "C1")
def output_path_empty(scene: Checked) -> Iterator[Trouble]:
    """An output without a path is rendered and paid for, and saved nowhere."""
    for output in scene.survey.outputs:
        if not output.path.strip():
            yield Trouble(output.name, "the output has no path", "give it a path with a frame token")


@check("output-no-frame-token", Severity.ERROR, "C1")
def output_no_frame_token(scene: Checked) -> Iterator[Trouble]:
    """The file name has no frame number: every frame overwrites the one before, and only one is left."""
    if scene.survey.frames.count <= 1:
        return
    for output in _written(scene):
        if output.format not in MOVIES and not scene.survey.tokens.has_frame(output.path):
            yield Trouble(output.name, f"{output.path} has no frame token", "put #### where the number belongs")


@check("output-frame-token-short", Severity.NOTE, "C1", Next.DECIDE)
def output_frame_token_short(scene: Checked) -> Iterator[Trouble]:
    """Frame numbers of unequal length sort in the wrong order: 10 comes before 9 in the edit."""
    frames = scene.survey.frames
    if frames.start is None or frames.end is None or frames.count <= 1:
        return
    for output in _written(scene):
        digits = [token.padding for token in scene.survey.tokens.find(output.path) if token.counts == "frame"]
        longest = max(len(str(abs(frames.start))), len(str(abs(frames.end))))
        shortest = min(len(str(abs(frames.start))), len(str(abs(frames.end))))
        if digits and min(digits) < longest and (shortest < longest):
            yield Trouble(output.name, f"frame {frames.end} has {longest} digits, {output.path} pads to {min(digits)}",
                          f"use {'#' * longest}")  # fmt: skip


@check("output-same-file", Severity.ERROR, "C1")
def output_same_file(scene: Checked) -> Iterator[Trouble]:
    """Two outputs write the same file: only the one written last is left."""
    by_path = defaultdict(list)
    for output in _written(scene):
        by_path[written_to(output.path, scene)].append(output)
    for outputs in by_path.values():
        if len(outputs) > 1:
            names = " and ".join(output.name for output in outputs)
            yield Trouble(names, f"both write {outputs[0].path}", "give each output a path of its own")


@check("output-home-folders-collide", Severity.ERROR, "C1")
def output_home_folders_collide(scene: Checked) -> Iterator[Trouble]:
    """Two outputs come home to the same path: one frame would replace the other."""
    if not (pattern := scene.rules.home_folders):
        return
    request = RenderRequest(name="main", frames="1", width=1, height=1, outputs=())
    by_path = defaultdict(list)
    for output in _written(scene):
        folder = folder_by(pattern, request, "", output.name, output.camera)
        by_path[str(folder / paths.file_name(output.path)).casefold()].append(output.name)
    for names in by_path.values():
        if len(names) > 1:
            what = f"by home_folders = {pattern!r} they come home to one path"
            yield Trouble(" and ".join(names), what, "put {output} into home_folders in the project's file")


@check("output-path-absolute", Severity.WARNING, "C1")
def output_path_absolute(scene: Checked) -> Iterator[Trouble]:
    """A path of the artist's machine does not exist on a node: the frames fail when they are saved, or are lost with
    the node.
    """
    for output in _written(scene):
        if paths.is_absolute(output.path):
            yield Trouble(output.name, f"{output.path} is valid on one machine only", "make it relative")


@check("output-path-climbs", Severity.ERROR, "C1")
def output_path_climbs(scene: Checked) -> Iterator[Trouble]:
    """The path leaves the folder of the job. A node refuses it, or writes into folders of other jobs."""
    for output in _written(scene):
        depth = 0
        for part in paths.parts(output.path):
            depth += -1 if part == ".." else 1
            if depth < 0:
                yield Trouble(output.name, f"{output.path} leaves the job's folder", "let it start at the scene")
                break


@check("output-name-not-portable", Severity.WARNING, "C1")
def output_name_not_portable(scene: Checked) -> Iterator[Trouble]:
    """The nodes' file system does not allow this name: every frame fails when it is written."""
    for output in _written(scene):
        absolute = paths.is_absolute(output.path)
        for part in paths.parts(output.path)[1 if absolute else 0 :]:
            # a token in angle brackets never gets as far as the file's name
            plain = _TOKEN.sub("x", scene.survey.tokens.at_frame(part, 1001))
            if part != ".." and (troubles := paths.name_troubles(plain)):
                yield Trouble(output.name, f"{part!r} {' and '.join(troubles)}", "rename it")


@check("output-switched-off", Severity.WARNING, "C1", Next.DECIDE)
def output_switched_off(scene: Checked) -> Iterator[Trouble]:
    """The render settings name this output, and the scene switches it off: some renderers write it, some do not."""
    for path in scene.survey.inactive_outputs:
        yield Trouble(path, "it is named as an output and is inactive", "switch it on, or take it out of the settings")


@check("output-format-unknown", Severity.WARNING, "C1")
def output_format_unknown(scene: Checked) -> Iterator[Trouble]:
    """The file extension is unknown. The renderer guesses the format, often wrongly."""
    for output in _written(scene):
        if output.format not in KNOWN:
            yield Trouble(output.name, f"{output.path} does not end in a known image format", "end it in .exr, say")


@check("output-movie", Severity.ERROR, "C1")
def output_movie(scene: Checked) -> Iterator[Trouble]:
    """Several machines cannot write one movie file: each would overwrite the frames of the others."""
    for output in scene.survey.outputs if not scene.for_farms else ():
        if output.format in MOVIES:
            yield Trouble(output.name, f"{output.path} is a movie", MAKE_A_SEQUENCE)


@check("output-no-passes", Severity.ERROR, "C1")
def output_no_passes(scene: Checked) -> Iterator[Trouble]:
    """An output without passes gives empty files, or whatever the renderer writes by default."""
    for output in scene.survey.outputs:
        if not output.passes:
            yield Trouble(output.name, "the output has no passes", "add at least the beauty pass")


@check("output-deep-in-flat-format", Severity.ERROR, "C1")
def output_deep_in_flat_format(scene: Checked) -> Iterator[Trouble]:
    """Deep samples need OpenEXR. Another format keeps only the front sample, or nothing is written."""
    for output in scene.survey.outputs:
        if output.product_type == "deepRaster" and output.format not in (None, "exr"):
            yield Trouble(output.name, f"a deep image in .{output.format}", "let its path end in .exr")


@check("output-pixels-not-square", Severity.WARNING, "C1")
def output_pixels_not_square(scene: Checked) -> Iterator[Trouble]:
    """Pictures with non-square pixels look squeezed in every program that ignores the pixel aspect."""
    for output in scene.survey.outputs:
        if abs(output.pixel_aspect - 1) > 0.001:
            what = f"a pixel is {output.pixel_aspect:.3g} times as wide as it is high"
            yield Trouble(output.name, what, "set the pixel aspect ratio to 1, or waive")


@check("output-passes-do-not-fit", Severity.ERROR, "C1")
def output_passes_do_not_fit(scene: Checked) -> Iterator[Trouble]:
    """The format holds a single picture: all passes but the first are dropped, and cannot be added later."""
    for output in scene.survey.outputs:
        passes = [name for name in output.passes if not _is_alpha(name)]
        if output.format in ONE_PICTURE and len(passes) > 1:
            yield Trouble(
                output.name,
                f".{output.format} cannot hold {len(passes)} passes",
                "use .exr, or one output per pass",
            )


@check("output-alpha-lost", Severity.WARNING, "C1")
def output_alpha_lost(scene: Checked) -> Iterator[Trouble]:
    """The format has no alpha channel: the alpha is lost, and nothing can be composited behind the picture."""
    for output in scene.survey.outputs:
        if output.format in WITHOUT_ALPHA and any(_is_alpha(name) for name in output.passes):
            yield Trouble(output.name, f".{output.format} has no alpha channel", "use .exr or .png")


@check("output-pass-twice", Severity.WARNING, "C1")
def output_pass_twice(scene: Checked) -> Iterator[Trouble]:
    """Two passes have the same source. They use space in every frame; often one was meant to be another pass."""
    for output in scene.survey.outputs:
        sources = Counter(one.source for one in output.variables if one.source)
        for source, count in sources.items():
            if count > 1:
                names = " and ".join(one.name for one in output.variables if one.source == source)
                yield Trouble(output.name, f"{names} both hold {source}", "remove one, or give it its own source")


@check("output-pass-without-source", Severity.ERROR, "C1")
def output_pass_without_source(scene: Checked) -> Iterator[Trouble]:
    """The pass does not say what it holds: it comes out black and is missing in compositing."""
    for output in scene.survey.outputs:
        for one in output.variables:
            if not one.source.strip():
                yield Trouble(f"{output.name} {one.name}", "the pass states no source", "say what it holds")


@check("output-data-in-eight-bit", Severity.WARNING, "C1")
def output_data_in_eight_bit(scene: Checked) -> Iterator[Trouble]:
    """Depth, normals and ids lose their precision in eight bits."""
    for output in scene.survey.outputs:
        if output.format in EIGHT_BIT and (data := _data(output)):
            yield Trouble(output.name, f"{', '.join(data)} in a .{output.format} file", "write data passes as .exr")


@check("output-data-compressed-with-loss", Severity.WARNING, "C1")
def output_data_compressed_with_loss(scene: Checked) -> Iterator[Trouble]:
    """Lossy compression changes values. In data passes that causes seams and wrong ids."""
    for output in scene.survey.outputs:
        word = (output.compression or "").lower()
        if word in LOSSY and (data := _data(output)):
            yield Trouble(output.name, f"{', '.join(data)} compressed by {word}", "compress data without loss: zip")


@check("output-data-in-half", Severity.NOTE, "C1", Next.DECIDE)
def output_data_in_half(scene: Checked) -> Iterator[Trouble]:
    """A half float has three significant digits: distant depths and large ids become equal, and matte edges break."""
    for output in scene.survey.outputs:
        half = [
            one.name
            for one in output.variables
            if _is_among(one.name, PRECISE_PASSES) and (_is_half(one.data_type) or output.bit_depth == 16)
        ]
        if half:
            yield Trouble(output.name, f"{', '.join(half)} in 16 bits", "use 32 bits for these passes")


@check("output-colour-space-unset", Severity.WARNING, "C1")
def output_colour_space_unset(scene: Checked) -> Iterator[Trouble]:
    """The colour space of the frames is not stated. A wrong guess changes how they look."""
    outputs = [output.name for output in scene.survey.outputs if output.colour_space is None and not _only_data(output)]
    if outputs:
        subject = "every output" if len(outputs) == len(scene.survey.outputs) > 1 else ", ".join(outputs)
        yield Trouble(subject, "no colour space is stated", "state it in the render settings, or waive")


@check("output-cameras-differ", Severity.NOTE, "C1", Next.NOTHING)
def output_cameras_differ(scene: Checked) -> Iterator[Trouble]:
    """Outputs use different cameras. That is right for several views, and wrong where one output was missed when the
    camera changed.
    """
    cameras = {output.camera for output in scene.survey.outputs if output.camera}
    if len(cameras) > 1:
        yield Trouble("outputs", f"they use {len(cameras)} cameras: {', '.join(sorted(cameras))}", "fine if intended")


@check("output-sizes-differ", Severity.NOTE, "C1", Next.NOTHING)
def output_sizes_differ(scene: Checked) -> Iterator[Trouble]:
    """Passes of different sizes do not match in compositing."""
    sizes = {output.resolution.rendered for output in scene.survey.outputs if output.resolution}
    if len(sizes) > 1:
        text = ", ".join(f"{width} x {height}" for width, height in sorted(sizes))
        yield Trouble("outputs", f"they come out in {text}", "fine if intended")


def written_to(path: str, scene: Checked) -> str:
    """Return one spelling for all paths that write the same file: `./`, `//`, `x/..`, capitals, frame tokens."""
    out, at = [], 0
    text = paths.to_slashes(path)
    for token in scene.survey.tokens.find(text):
        out += [text[at : token.start], f"<{token.counts} {token.padding}>"]
        at = token.end
    text = "".join([*out, text[at:]])
    if not paths.is_absolute(path):
        text = f"{scene.survey.scene.parent.as_posix()}/{text}"
    return paths.folded(posixpath.normpath(text))


def _written(scene: Checked) -> list[Output]:
    return [output for output in scene.survey.outputs if output.path.strip()]


def _is_alpha(name: str) -> bool:
    return name.lower() in ("alpha", "a")


def _is_among(name: str, words: tuple[str, ...]) -> bool:
    """Return whether a pass is one of a kind: `id` counts as a word of its own only, the others anywhere in the
    name.
    """
    lower = name.lower()
    return any(word in lower for word in words if word != "id") or (
        "id" in words and (lower == "id" or lower.endswith(("_id", "-id")) or name.endswith(("Id", "ID")))
    )


def _data(output: Output) -> list[str]:
    return [name for name in output.passes if _is_among(name, DATA_PASSES)]


def _only_data(output: Output) -> bool:
    return all(_is_alpha(name) or _is_among(name, DATA_PASSES) for name in output.passes)


def _is_half(data_type: str) -> bool:
    return data_type.startswith("half") or data_type.endswith(("3h", "4h"))
