"""A contact sheet: all frames of a review as small pictures on one page, rejected ones marked."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import os_reason
from tidy_crate.core.outputs import write_output
from tidy_crate.core.picture.decode import read_frame_head
from tidy_crate.core.picture.readers import FrameReaders, worth_processes
from tidy_crate.core.picture.thumbnail import Thumbnail
from tidy_crate.core.review.verdicts import FrameVerdict, Review
from tidy_crate.core.work.attempt import Verdict

THUMB = 150
CAPTION = 16
GAP = 6
COLUMNS = 8
# frames on one page
PAGE = 400
PAPER, INK, FAINT = (24, 26, 30), (225, 225, 220), (120, 124, 130)
MARK = {Verdict.BAD: (230, 80, 60), Verdict.MISSING: (230, 80, 60), Verdict.SUSPECT: (230, 180, 60)}


def write_contact_sheet(review: Review, path: Path) -> tuple[Path, ...]:
    """Draw the frames as PNG: a block per output, frames in order; a long shot on several pages. Return their files.

    Raises TidyCrateError when a page cannot be written.
    """
    found = []
    for number, start in enumerate(range(0, max(1, len(review.frames)), PAGE), 1):
        page = path if number == 1 else path.with_name(f"{path.stem}-{number}{path.suffix}")
        _write_page(review.frames[start : start + PAGE], page)
        found.append(page)
    return tuple(found)


def _write_page(frames: Sequence[FrameVerdict], path: Path) -> None:
    blocks = [(name, [f for f in frames if f.output == name]) for name in dict.fromkeys(f.output for f in frames)]
    shapes = {name: _thumb_height(frames) for name, frames in blocks}
    width = GAP + COLUMNS * (THUMB + GAP)
    height = GAP
    for name, frames in blocks:
        height += 2 * CAPTION + math.ceil(len(frames) / COLUMNS) * (shapes[name] + CAPTION + GAP)
    sheet = Image.new("RGB", (width, height + GAP), PAPER)
    draw = ImageDraw.Draw(sheet)
    small, large = ImageFont.load_default(11), ImageFont.load_default(15)
    pictures = _pictures([frame for _, frames in blocks for frame in frames], max(shapes.values(), default=THUMB))
    top = GAP
    for name, frames in blocks:
        good = sum(frame.verdict is Verdict.GOOD for frame in frames)
        draw.text((GAP, top), f"{name}   {good} of {len(frames)} good", INK, font=large)
        top += 2 * CAPTION
        for at, frame in enumerate(frames):
            x, y = (
                GAP + (at % COLUMNS) * (THUMB + GAP),
                top + (at // COLUMNS) * (shapes[name] + CAPTION + GAP),
            )
            _draw_frame(sheet, draw, frame, pictures.get(frame.path), (x, y), shapes[name], small)
        top += math.ceil(len(frames) / COLUMNS) * (shapes[name] + CAPTION + GAP)
    try:
        stream = io.BytesIO()
        sheet.save(stream, "PNG")
        write_output(path, stream.getvalue())
    except (OSError, ValueError) as error:
        reason = os_reason(error) if isinstance(error, OSError) else str(error)
        raise TidyCrateError(f"cannot write the contact sheet ({reason})", path) from error


def _draw_frame(
    sheet: Image.Image,
    draw: ImageDraw.ImageDraw,
    frame: FrameVerdict,
    picture: Thumbnail | None,
    at: tuple[int, int],
    height: int,
    font: ImageFont.FreeTypeFont | ImageFont.ImageFont,
) -> None:
    x, y = at
    box = (x, y, x + THUMB, y + height)
    if picture is None:
        draw.rectangle(box, fill=(40, 42, 46))
        draw.line((x, y + height, x + THUMB, y), fill=FAINT)
    else:
        shown = Image.frombytes("RGB", (picture.width, picture.height), picture.pixels)
        sheet.paste(shown.resize((THUMB, height), Image.Resampling.BOX), (x, y))
    caption, colour = str(frame.frame), FAINT
    mark = MARK.get(frame.verdict)
    if mark:
        # a bar under the picture and the word itself: colour alone says nothing to many eyes
        draw.rectangle((x, y + height - 4, x + THUMB, y + height), fill=mark)
        caption, colour = f"{frame.frame} {frame.verdict.value}", mark
    draw.text((x + 1, y + height + 1), caption, colour, font=font)


def _pictures(frames: list[FrameVerdict], height: int) -> dict[Path, Thumbnail | None]:
    """The frames that are there as small pictures, by their files."""
    paths = [frame.path for frame in frames if frame.verdict is not Verdict.MISSING]
    with FrameReaders(worth_processes(paths)) as readers:
        return dict(zip(paths, readers.thumbnails(paths, THUMB, height), strict=True))


def _thumb_height(frames: list[FrameVerdict]) -> int:
    for frame in frames:
        if frame.verdict is not Verdict.MISSING:
            try:
                head = read_frame_head(frame.path)
            except Exception:  # noqa: BLE001 - as above
                continue
            return max(20, min(4 * THUMB, round(THUMB * head.height / max(1, head.width))))
    return THUMB * 9 // 16
