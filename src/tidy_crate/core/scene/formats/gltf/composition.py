"""Digest of a glTF file with the contents of all that it names: the same at the source and in the crate."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from blake3 import blake3

from tidy_crate.core.files import CHUNK, open_input
from tidy_crate.core.scene.composition import Composition, Packed
from tidy_crate.core.scene.formats.gltf.document import links, read_document, with_texts
from tidy_crate.core.scene.formats.gltf.read import EXTRAS, FIELD, order_in
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.staging import RenderOrder, StagingPlan

MISSING = "nothing"


def composition(scene: Path, plan: StagingPlan, survey: Survey, packed: Callable[[str], Packed | None]) -> Composition:
    """Return a digest of each entry of the file's tables. See SceneFormat.composition."""
    scene = scene.absolute()
    document = read_document(scene)
    order = plan.render or order_in(document.content)
    named = {asset.owner: asset.resolved for asset in survey.assets if asset.layer == scene and asset.field == FIELD}

    def identity(pointer: str) -> str:
        path = named.get(pointer)
        found = packed(str(path)) if path is not None else None
        return MISSING if found is None else found.identity

    content = with_texts(document.content, {link.pointer: identity(link.pointer) for link in links(document.content)})
    extras = content.pop("extras", None)
    extras = {key: value for key, value in extras.items() if key != EXTRAS} if isinstance(extras, dict) else extras
    parts = {"/extras": _digest(extras or None)}
    for key, value in content.items():
        if isinstance(value, list):
            parts |= {f"/{key}/{number}": _digest(row) for number, row in enumerate(value)}
        else:
            parts[f"/{key}"] = _digest(value)
    parts["/the binary part"] = _rest(scene, document.rest)
    parts["/what is to be rendered"] = _digest(_plain(order))
    return Composition.of_entries(parts)


def _plain(order: RenderOrder | None) -> Any:
    return order.model_dump(mode="json", exclude={"because", "origin"}) if order is not None else None


def _digest(value: Any) -> str:
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


def _rest(scene: Path, at: int | None) -> str:
    """Return the digest of what follows the JSON in a binary file: it is copied as it is."""
    if at is None:
        return ""
    digest = blake3()
    with open_input(scene) as stream:
        stream.seek(at)
        while chunk := stream.read(CHUNK):
            digest.update(chunk)
    return digest.hexdigest()
