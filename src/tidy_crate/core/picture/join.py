"""Putting a picture together from tiles and from shares of its samples, all passes and the header with it."""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from tidy_crate.core.files import open_input, os_reason
from tidy_crate.core.picture.block import MOST_BYTES
from tidy_crate.core.picture.decode import read_frame_head
from tidy_crate.core.scene.model import Pass
from tidy_crate.core.work.parts import Window

# passes whose numbers have no mean: between two objects, depths or directions there is nothing
DATA_WORDS = frozenset(
    {
        "depth", "z", "normal", "normals", "n", "position", "positions", "p", "id", "objectid", "materialid", "uv",
        "st", "motion", "velocity", "vector", "matteid",
    }
)  # fmt: skip
_DATA_TYPES = ("int", "uint", "normal", "point", "vector", "texcoord")
# mean difference across a seam, in stops, and in times of that between the lines beside it, from where on it shows
SEAM, SEAM_TIMES = 0.25, 4.0
_FLOOR = 0.01
_KINDS: dict[str, type] = {"I": np.int32, "F": np.float32}


class PartError(ValueError):
    """A part does not fit: which one, and why."""

    def __init__(self, index: int, why: str) -> None:
        super().__init__(why)
        self.index = index


@dataclass(frozen=True)
class Piece:
    """One file that a picture is put together from."""

    path: Path
    window: Window
    """Its pixels in the whole picture."""
    weight: float = 1.0
    """Its share of the samples of these pixels."""
    first: bool = True
    """True when passes that have no mean are taken from it: one share of these pixels gives them."""


def is_data(channel: str, passes: Sequence[Pass]) -> bool:
    """Return True when a channel's numbers have no mean."""
    layer, _, last = channel.rpartition(".")
    own = next((one for one in passes if layer and one.name == layer), None)
    words = {layer.lower(), channel.lower()}
    if own is not None:
        words |= {own.source.lower()}
        if own.data_type.startswith(_DATA_TYPES):
            return True
    return bool(words & DATA_WORDS) or (not layer and last in ("Z", "id"))


def join(pieces: Sequence[Piece], width: int, height: int, passes: Sequence[Pass], target: Path) -> list[str]:
    """Write the whole picture. Returns seams that show, in words.

    width, height: of the whole picture, in pixels. Raises PartError for a piece that does not fit the others, OSError
    when the picture cannot be written.
    """
    for index, piece in enumerate(pieces):
        _fits(index, piece)
    target.parent.mkdir(parents=True, exist_ok=True)
    draft = target.with_name(f".{target.stem}.{secrets.token_hex(3)}{target.suffix}")
    exr = target.suffix.lower() == ".exr"
    try:
        seams = (_join_exr if exr else _join_plain)(pieces, width, height, passes, draft)
        with draft.open("rb+") as stream:
            os.fsync(stream.fileno())
        draft.replace(target)
    finally:
        draft.unlink(missing_ok=True)
    return seams


def _fits(index: int, piece: Piece) -> None:
    try:
        head = read_frame_head(piece.path)
    except OSError as error:
        raise PartError(index, os_reason(error)) from error
    except Exception as error:
        raise PartError(index, f"it cannot be read ({error})") from error
    wanted = piece.window
    if (head.width, head.height) != (wanted.width, wanted.height):
        raise PartError(index, f"it is {head.width} x {head.height}, not {wanted.width} x {wanted.height}")
    at = (head.form.left, head.form.top)
    if at not in ((0, 0), (wanted.left, wanted.top)):
        raise PartError(index, f"its data window begins at {at[0]}, {at[1]}, not at {wanted.left}, {wanted.top}")


def _join_exr(pieces: Sequence[Piece], width: int, height: int, passes: Sequence[Pass], draft: Path) -> list[str]:
    import OpenEXR

    files = [OpenEXR.File(str(piece.path), separate_channels=True) for piece in pieces]
    parts: list[tuple[dict[str, Any], dict[str, np.ndarray]]] = []
    shown = None
    for number in range(len(files[0].parts)):
        planes: dict[str, np.ndarray] = {}
        kinds = {name: one.pixels.dtype for name, one in files[0].channels(number).items()}
        if width * height * sum(kind.itemsize for kind in kinds.values()) > MOST_BYTES:
            raise PartError(0, f"the whole picture takes more than {MOST_BYTES >> 30} GiB")
        for index, (piece, file) in enumerate(zip(pieces, files, strict=True)):
            if len(file.parts) != len(files[0].parts):
                raise PartError(index, f"it has {len(file.parts)} parts, not {len(files[0].parts)}")
            own = {name: one.pixels for name, one in file.channels(number).items()}
            if {name: pixels.dtype for name, pixels in own.items()} != kinds:
                raise PartError(index, f"it has other channels: {', '.join(sorted(set(own) ^ set(kinds))) or 'types'}")
            for name, pixels in own.items():
                data = kinds[name].kind in "ui" or is_data(name, passes)
                _add(planes, name, pixels, piece, (height, width), data)
        header = dict(files[0].header(number))
        header.pop("channels", None)
        header.pop("chunkCount", None)
        for window in ("dataWindow", "displayWindow"):
            header[window] = (np.array([0, 0], np.int32), np.array([width - 1, height - 1], np.int32))
        done = {name: np.ascontiguousarray(plane.astype(kinds[name])) for name, plane in planes.items()}
        parts.append((header, done))
        if shown is None:
            colour = [done[name] for name in "RGB" if name in done] or [next(iter(done.values()))]
            shown = np.mean([plane.astype(np.float32) for plane in colour], axis=0)
    whole = OpenEXR.File([OpenEXR.Part(*part) for part in parts]) if len(parts) > 1 else OpenEXR.File(*parts[0])
    whole.write(str(draft))
    return _seams(shown, pieces) if shown is not None else []


def _add(
    planes: dict[str, np.ndarray], name: str, pixels: np.ndarray, piece: Piece, shape: tuple[int, int], data: bool
) -> None:
    """Add a piece's pixels to a plane of the whole picture."""
    if name not in planes:
        planes[name] = np.zeros(shape, pixels.dtype if data else np.float32)
    at = piece.window
    part = planes[name][at.top : at.bottom, at.left : at.right]
    if not data:
        part += pixels.astype(np.float32) * np.float32(piece.weight)
    elif piece.first:
        part[...] = pixels


def _join_plain(pieces: Sequence[Piece], width: int, height: int, passes: Sequence[Pass], draft: Path) -> list[str]:
    from PIL import Image

    planes: dict[str, np.ndarray] = {}
    form = ""
    info: dict[str, Any] = {}
    for index, piece in enumerate(pieces):
        with open_input(piece.path) as stream, Image.open(stream) as image:
            image.load()
            if planes and image.mode != form:
                raise PartError(index, f"it is stored as {image.mode}, not as {form}")
            form, info = image.mode, info or {str(key): value for key, value in image.info.items()}
            pixels = np.atleast_3d(np.asarray(image))
        for band in range(pixels.shape[2]):
            _add(planes, str(band), pixels[..., band], piece, (height, width), data=False)
    kind = (
        np.uint16 if form.startswith("I;16") else np.int32 if form == "I" else np.float32 if form == "F" else np.uint8
    )
    whole = np.stack([plane + (0.5 if np.issubdtype(kind, np.integer) else 0) for plane in planes.values()], axis=-1)
    picture = Image.fromarray(np.squeeze(whole.astype(kind), axis=-1) if whole.shape[2] == 1 else whole.astype(kind))
    keep = {key: info[key] for key in ("icc_profile", "dpi") if key in info}
    picture.save(draft, **keep)
    return _seams(whole.mean(axis=-1) / 255.0, pieces)


def _seams(plane: np.ndarray, pieces: Sequence[Piece]) -> list[str]:
    """Edges between tiles across which the picture changes far more than beside them."""
    stops = np.log2(1 + np.clip(np.nan_to_num(plane), 0, 1e4) / _FLOOR)
    found = []
    windows = {(one.window.left, one.window.top): one.window for one in pieces}
    for window in windows.values():
        if window.top:
            found += _seam(lambda line, own=window: stops[line, own.left : own.right], window.top, "above", window)  # type: ignore[misc]
        if window.left:
            found += _seam(lambda line, own=window: stops[own.top : own.bottom, line], window.left, "left of", window)  # type: ignore[misc]
    return found


def _seam(line: Callable[[int], np.ndarray], at: int, where: str, window: Window) -> list[str]:
    across = float(np.abs(line(at) - line(at - 1)).mean())
    if at < 2 or window.width < 2 or window.height < 2:
        return []
    beside = max(
        float(np.abs(line(at - 1) - line(at - 2)).mean()),
        float(np.abs(line(at + 1) - line(at)).mean()),
    )
    if across < SEAM or across < SEAM_TIMES * beside:
        return []
    corner = f"{window.left}, {window.top}"
    return [f"the picture breaks {where} the tile at {corner}: {across:.2f} stops, {beside:.2f} beside it"]
