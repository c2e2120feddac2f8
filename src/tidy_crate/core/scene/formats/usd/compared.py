"""The composed scene with its files named in words that hold at the source and in a crate."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from pxr import Sdf, Usd

from tidy_crate.core.asset import paths
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.scene.composition import BY_LAYER, Composition, Packed
from tidy_crate.core.scene.formats.usd.apply import staged_stage
from tidy_crate.core.scene.formats.usd.composition import composition
from tidy_crate.core.scene.formats.usd.layer_digests import layer_digests
from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages
from tidy_crate.core.scene.formats.usd.slots import TEXTS
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.staging import StagingPlan

MISSING = "missing"
# scenes of more prims are compared by their layers, where these say all
MANY_PRIMS = 5_000


def compared(
    scene: Path, plan: StagingPlan, survey: Survey, packed: Callable[[str], Packed | None], method: int | None
) -> Composition | None:
    """Digest what plain USD composes from a scene under a plan. See SceneFormat.composition.

    The library resolves files. What it cannot resolve, and what a decision relinks, is taken from the survey.
    """
    if plan.edits:
        composed = staged_stage(scene, plan, survey)
        stage, named_by = composed.stage, composed.file_of
    else:
        stage = open_stage(open_layer(scene), scene)
        named_by = _own_file
    of_layer: dict[str, Path | None] = {}

    def file_of(layer: Sdf.Layer) -> Path | None:
        # the same few layers are asked about for each of very many paths
        name = layer.identifier
        if name not in of_layer:
            of_layer[name] = named_by(layer)
        return of_layer[name]

    known: dict[tuple[Path, str], Path | None] = {}
    decided: set[tuple[Path, str]] = set()
    for asset in survey.assets:
        # the library gives an expression as its value; a layer in memory has its relative paths written in full
        written = asset.evaluated or asset.authored
        for text in (written, str(asset.layer.parent / written)) if plan.edits else (written,):
            known[asset.layer, text] = asset.resolved if asset.members else None
            if asset.relinked:
                decided.add((asset.layer, text))

    def identity(layer: Sdf.Layer | None, resolved: str, text: str) -> str:
        file = file_of(layer) if layer is not None else None
        key = (file, text) if file is not None else None
        # the library knows nothing of decisions, of patterns for many files, and of paths as other systems write them
        if key is not None and key in known and (not resolved or key in decided):
            chosen = known[key]
            resolved = "" if chosen is None else chosen.as_posix()
        elif not resolved and layer is not None and not layer.anonymous:
            resolved = layer.ComputeAbsolutePath(text)
        outer, inner = _apart(resolved)
        file_there = packed(outer) if outer else None
        return f"{file_there.identity}{inner}" if file_there is not None else MISSING

    texts = {(asset.layer, asset.authored): asset.resolved for asset in survey.assets if asset.field in TEXTS}

    def text_identity(layer: Sdf.Layer, text: str) -> str | None:
        file = file_of(layer)
        if file is None or (file, text) not in texts:
            return None
        named = texts[file, text]
        file_there = packed(str(named)) if named is not None else None
        return MISSING if file_there is None else file_there.identity

    def packed_layer(layer: Sdf.Layer) -> Packed | None:
        file = file_of(layer)
        if file is None:
            return None
        outer, inner = _apart(str(file))
        found = packed(outer)
        return None if found is None else Packed(f"{found.path}{inner}", found.identity)

    try:
        with usd_messages(), no_garbage_collection():
            if method == BY_LAYER or (method is None and not texts and _many_prims(stage)):
                found = layer_digests(stage, identity, packed_layer)
                if found is not None or method == BY_LAYER:
                    return found
            return composition(stage, identity, text_identity if texts else None)
    except RecursionError as error:
        what = "a prim's metadata is nested so deeply that it cannot be compared"
        raise UnreadableInput(what, scene, "take the custom data out") from error


def _many_prims(stage: Usd.Stage) -> bool:
    walked = Usd.PrimRange(stage.GetPseudoRoot(), Usd.PrimAllPrimsPredicate)
    return any(number >= MANY_PRIMS for number, _ in enumerate(walked))


def _own_file(layer: Sdf.Layer) -> Path | None:
    return Path(layer.realPath) if layer.realPath else None


def _apart(path: str) -> tuple[str, str]:
    """Return the file on disk that a path leads to, and what follows it in brackets for a file of a package."""
    packaged = paths.split_package(path)
    return (path, "") if packaged is None else (packaged[0], path[len(packaged[0]) :])
