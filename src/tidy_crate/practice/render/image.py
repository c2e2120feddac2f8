"""Writing a picture's passes as one multi-layer OpenEXR file."""

from __future__ import annotations

import secrets
from pathlib import Path

import numpy as np
import OpenEXR

from tidy_crate.core.scene.model import Output
from tidy_crate.practice.render.shade import Picture


def write_exr(path: Path, output: Output, picture: Picture, width: int, height: int) -> None:
    """Write the passes that an output asks for. A pass this renderer does not know is left out, and review sees it."""
    channels: dict[str, np.ndarray] = {}
    for variable in output.variables:
        channels.update(_channels(variable.source, variable.name, picture, width, height))
    if not channels:
        raise ValueError(f"output {output.name} has no pass that can be rendered")
    path.parent.mkdir(parents=True, exist_ok=True)
    draft = path.with_name(f".{path.stem}.{secrets.token_hex(3)}.exr")
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    try:
        OpenEXR.File(header, channels).write(str(draft))
        draft.replace(path)
    finally:
        draft.unlink(missing_ok=True)


def _channels(source: str, name: str, picture: Picture, width: int, height: int) -> dict[str, np.ndarray]:
    def plane(values: np.ndarray, kind: type) -> np.ndarray:
        return np.ascontiguousarray(values.reshape(height, width), dtype=kind)

    if source == "beauty":
        return {c: plane(picture.beauty[:, i], np.float16) for i, c in enumerate("RGB")}
    if source == "alpha":
        return {"A": plane(picture.alpha, np.float16)}
    if source == "depth":
        return {f"{name}.Z": plane(picture.depth, np.float32)}
    if source == "normal":
        return {f"{name}.{c}": plane(picture.normal[:, i], np.float16) for i, c in enumerate("XYZ")}
    if source == "objectId":
        return {f"{name}.id": plane(picture.object_id, np.uint32)}
    return {}
