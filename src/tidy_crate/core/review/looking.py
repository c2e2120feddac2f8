"""Pictures for the eye: all passes of a frame, the difference of two frames, a moving preview, and a timeline."""

from __future__ import annotations

import io
import shutil
import subprocess
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TypeVar

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from tidy_crate.core.drawing import COLOURS, INK, WARN, bare, need_ending, new_figure, save, title
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import os_reason
from tidy_crate.core.outputs import mark_file, refuse_foreign, write_output
from tidy_crate.core.picture.thumbnail import Thumbnail, passes, small, thumbnail
from tidy_crate.core.picture.tone import Tone, as_stored
from tidy_crate.core.review.verdicts import FrameVerdict
from tidy_crate.core.work.attempt import Verdict

PAPER, TEXT, DIM = (24, 26, 30), (225, 225, 220), (140, 144, 150)
GAP, CAPTION = 10, 22
# pixels along the longer edge of a pass, of a frame beside its difference, and of a preview
PASS_WIDTH, SIDE_WIDTH, PREVIEW_WIDTH = 400, 620, 640
MOVING = (".png", ".webp", ".mp4")
T = TypeVar("T")
# differences are shown this many times as bright
TIMES = 8.0


def draw_passes(path: Path, target: Path, tone: Tone | None = None) -> tuple[str, ...]:
    """Draw all passes of a frame side by side. Return their names. Raises TidyCrateError for one that is unreadable."""
    found = _read(path, lambda: passes(path, PASS_WIDTH, PASS_WIDTH, tone))
    cells = [(name, _image(picture)) for name, picture in found.items()]
    _save(_board(cells, 3, path.name), target)
    return tuple(found)


def draw_difference(
    one: Path, other: Path, target: Path, tone: Tone | None = None, names: tuple[str, str] | None = None
) -> dict[str, float]:
    """Draw two frames and their difference, enlarged. Return the mean, and the greatest difference of a cell.

    names: captions of the two, their file names where none are given.

    In the units of the files. Raises TidyCrateError for a frame that is unreadable, WrongUsage for two sizes.
    """
    values = [_read(path, lambda path=path: small(path, SIDE_WIDTH, SIDE_WIDTH)) for path in (one, other)]  # type: ignore[misc]
    if values[0].shape != values[1].shape:
        raise WrongUsage("the two frames differ in shape", other, f"compare it with one like {one.name}")
    shown = [_read(path, lambda path=path: thumbnail(path, SIDE_WIDTH, SIDE_WIDTH, tone)) for path in (one, other)]  # type: ignore[misc]
    apart = np.abs(values[0] - values[1])
    figures = {"mean": float(apart.mean()), "greatest": float(apart.max())}
    enlarged = (as_stored(apart * TIMES) * 255 + 0.5).astype(np.uint8)
    words = f"difference, {TIMES:g} times as bright: mean {figures['mean']:.4g}, greatest {figures['greatest']:.4g}"
    first, second = names or (one.name, other.name)
    cells = [(first, _image(shown[0])), (second, _image(shown[1])), (words, Image.fromarray(enlarged))]
    _save(_board(cells, 2, f"{first} and {second}" if names is None else one.name), target)
    return figures


def draw_preview(frames: Sequence[Path], target: Path, fps: float, tone: Tone | None = None) -> int:
    """Make a moving preview: `.png` (animated), `.webp`, or `.mp4` where ffmpeg is installed. Return its frames.

    Frames that cannot be read are left out.
    """
    if target.suffix.lower() not in MOVING:
        raise WrongUsage("no moving preview of that kind can be made", target, f"end its name in {', '.join(MOVING)}")
    pictures = []
    for path in frames:
        try:
            pictures.append(_image(thumbnail(path, PREVIEW_WIDTH, PREVIEW_WIDTH, tone)))
        except Exception:  # noqa: BLE001 - what is wrong with a frame is in its verdict; here it is left out
            continue
    pictures = [one for one in pictures if one.size == pictures[0].size]
    if not pictures:
        raise WrongUsage("there is no frame to show yet", target, "run retrieve first")
    if target.suffix.lower() == ".mp4":
        _movie(pictures, target, fps)
    else:
        kind = "PNG" if target.suffix.lower() == ".png" else "WEBP"
        stream = io.BytesIO()
        pictures[0].save(stream, kind, save_all=True, append_images=pictures[1:], duration=round(1000 / fps), loop=0)
        write_output(target, stream.getvalue())
    return len(pictures)


def _movie(pictures: Sequence[Image.Image], target: Path, fps: float) -> None:
    tool = shutil.which("ffmpeg")
    if tool is None:
        raise WrongUsage("a movie needs ffmpeg, which is not installed", target, "end the name in .webp or .png")
    refuse_foreign(target)
    # the codec takes even sizes only
    width, height = (max(2, edge // 2 * 2) for edge in pictures[0].size)
    line = [
        tool, "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24", "-s", f"{width}x{height}", "-r", f"{fps:g}",
        "-i", "-", "-pix_fmt", "yuv420p", str(target),
    ]  # fmt: skip
    data = b"".join(one.crop((0, 0, width, height)).tobytes() for one in pictures)
    done = subprocess.run(line, input=data, capture_output=True, check=False, timeout=600)
    if done.returncode != 0:
        raise TidyCrateError(f"ffmpeg cannot make the movie ({done.stderr.decode(errors='replace')[-200:]})", target)
    mark_file(target)


def draw_timeline(frames: Iterable[FrameVerdict], target: Path, name: str) -> None:
    """Draw seconds of each frame by node, with attempts and verdicts. Raises WrongUsage where nothing was rendered."""
    need_ending(target)
    known = [one for one in frames if one.seconds is not None]
    if not known:
        raise WrongUsage("nothing is known of the times of these frames", name, "a job that was rendered has them")
    figure = new_figure(12.8, 6.4)
    axis = figure.add_subplot()
    nodes = sorted({one.node for one in known})
    marks = ("o", "s", "^", "D", "v", "P", "X", "*")
    for number, node in enumerate(nodes):
        own = [one for one in known if one.node == node]
        axis.scatter(
            [one.frame for one in own], [one.seconds or 0.0 for one in own], s=26, color=COLOURS[number % len(COLOURS)],
            marker=marks[number % len(marks)], label=f"{node or 'unknown'} ({len(own)})", zorder=2,
        )  # fmt: skip
    poor = [one for one in known if one.verdict is not Verdict.GOOD]
    if poor:
        axis.scatter(
            [one.frame for one in poor], [one.seconds or 0.0 for one in poor], s=130, facecolors="none",
            edgecolors=WARN, linewidths=1.6, label="suspect or bad", zorder=3,
        )  # fmt: skip
    for one in known:
        if one.attempt > 1:
            axis.annotate(
                f"{one.attempt}", (one.frame, one.seconds), xytext=(5, 5), textcoords="offset points", fontsize=8
            )
    axis.set_ylim(bottom=0)
    axis.set_xlabel("frame", color=INK)
    axis.set_ylabel("seconds", color=INK)
    bare(axis, 9)
    axis.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9, title="node (frames)")
    title(figure, f"{name}: time of each frame; a number is the attempt, from the second on")
    save(figure, target)


def _read(path: Path, read: Callable[[], T]) -> T:
    try:
        return read()
    except FileNotFoundError as error:
        raise TidyCrateError("there is no such frame", path, "run retrieve first") from error
    except Exception as error:
        raise TidyCrateError(
            f"the frame cannot be read ({error})", path, "review says what is wrong with it"
        ) from error


def _image(picture: Thumbnail) -> Image.Image:
    return Image.frombytes("RGB", (picture.width, picture.height), picture.pixels)


def _board(cells: Sequence[tuple[str, Image.Image]], most_columns: int, name: str) -> Image.Image:
    """Pictures in rows with a caption below each."""
    columns = min(most_columns, len(cells))
    width = max(picture.width for _, picture in cells)
    height = max(picture.height for _, picture in cells)
    rows = -(-len(cells) // columns)
    top = GAP + CAPTION
    size = (GAP + columns * (width + GAP), top + GAP + rows * (height + CAPTION + GAP))
    board = Image.new("RGB", size, PAPER)
    draw = ImageDraw.Draw(board)
    large, plain = ImageFont.load_default(16), ImageFont.load_default(12)
    draw.text((GAP, GAP), name, TEXT, font=large)
    for at, (caption, picture) in enumerate(cells):
        x = GAP + at % columns * (width + GAP)
        y = top + GAP + at // columns * (height + CAPTION + GAP)
        board.paste(picture, (x, y))
        draw.text((x, y + height + 3), caption, DIM, font=plain)
    return board


def _save(picture: Image.Image, target: Path) -> None:
    if target.suffix.lower() != ".png":
        raise WrongUsage("this picture is a PNG", target, "end its name in .png")
    stream = io.BytesIO()
    picture.save(stream, "PNG")
    try:
        write_output(target, stream.getvalue())
    except OSError as error:
        raise TidyCrateError(f"cannot write the picture ({os_reason(error)})", target) from error
