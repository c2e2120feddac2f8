"""Least memory of a scene: decoded textures from their headers, geometry from the scene."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from pathlib import Path

from tidy_crate.core.asset.exr_header import read_exr_header
from tidy_crate.core.asset.head import open_picture, read_head
from tidy_crate.core.scene.formats.interface import SceneFormat
from tidy_crate.core.scene.model import Asset, MemoryNeed, Survey
from tidy_crate.core.scene.staging import StagingPlan

TEXTURE_ENDINGS = (".exr", ".hdr", ".png", ".jpg", ".jpeg", ".tif", ".tiff", ".tga", ".bmp", ".webp")
# bytes per channel of Pillow's modes that are not one byte
_PILLOW_DEPTH = {"I": 4, "F": 4, "I;16": 2, "I;16B": 2, "I;16L": 2, "1": 1}


def memory_need(
    form: SceneFormat, scene: Path, plan: StagingPlan, survey: Survey, survey_cache: Path | None = None
) -> MemoryNeed:
    """Sum up a scene as the plan stages it. Only headers of textures are read. survey_cache: see SceneFormat.read."""
    textures = {
        member.path
        for asset in _one_sample_each(survey.assets)
        for member in _held_at_once(asset.members)
        if member.path.suffix.lower() in TEXTURE_ENDINGS
    }
    sizes = {path: decoded_bytes(path) for path in sorted(textures)}
    return MemoryNeed(
        textures=sum(size for size in sizes.values() if size is not None),
        texture_files=len(sizes),
        geometry=form.geometry_bytes(scene, plan, survey_cache, survey.tokens),
        unknown=tuple(str(path) for path, size in sizes.items() if size is None),
    )


def _one_sample_each(assets: Iterable[Asset]) -> Iterator[Asset]:
    """The needed assets; of those that one property names one after the other in time only the largest."""
    largest: dict[tuple[Path, str], Asset] = {}
    for asset in assets:
        if not asset.needed:
            continue
        if asset.time is None:
            yield asset
            continue
        key = (asset.layer, asset.owner)
        if key not in largest or asset.bytes > largest[key].bytes:
            largest[key] = asset
    yield from largest.values()


def _held_at_once(members: Iterable) -> list:  # type: ignore[type-arg]
    """All tiles of a set, but of a sequence only its largest file: one frame is in memory at a time."""
    members = list(members)
    framed = [member for member in members if member.frame is not None]
    rest = [member for member in members if member.frame is None]
    return rest + ([max(framed, key=lambda member: member.bytes)] if framed else [])


def decoded_bytes(path: Path) -> int | None:
    """Bytes of a texture in memory at its own depth, with all mip levels (a third more); None if it cannot be read."""
    try:
        head = read_head(str(path))
        if head.size is not None and head.pixel_bytes is not None:
            return math.ceil(head.size[0] * head.size[1] * head.pixel_bytes * 4 / 3)
        pixels = _exr_bytes(path) if path.suffix.lower() == ".exr" else _pillow_bytes(path)
    except Exception:  # noqa: BLE001 - two libraries with errors of every kind, and a file from anywhere
        return None
    return math.ceil(pixels * 4 / 3)


def _pillow_bytes(path: Path) -> int:
    with open_picture(path) as image:
        width, height = image.size
        return width * height * len(image.getbands()) * _PILLOW_DEPTH.get(image.mode, 1)


def _exr_bytes(path: Path) -> int:
    return sum(part.decoded_bytes for part in read_exr_header(path))
