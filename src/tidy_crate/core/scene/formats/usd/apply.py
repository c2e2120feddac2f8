"""Writing a staged USD scene: a new root over it, and rewritten copies of the layers whose paths would break."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from pxr import Sdf

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.formats.usd.compose import compose_source, staged_root
from tidy_crate.core.scene.formats.usd.layers import Walk, walk_layers
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.formats.usd.slots import Slot, rewrite
from tidy_crate.core.scene.model import Asset, Survey
from tidy_crate.core.scene.rewriting import new_texts
from tidy_crate.core.scene.staging import StagingPlan, UseCache


def apply(
    scene: Path, plan: StagingPlan, survey: Survey, places: Mapping[Path, PurePosixPath], folder: Path
) -> StagedScene:
    """Write the staged scene into `folder`. See SceneFormat.apply."""
    scene = scene.absolute()
    walk = walk_layers(scene, plan, Disk())
    by_layer: dict[Path, list[Asset]] = {}
    for asset in survey.assets:
        by_layer.setdefault(asset.layer, []).append(asset)
    written: list[PurePosixPath] = []
    copied: dict[PurePosixPath, Path] = {}
    with usd_messages():
        for path in walk.facts:
            place = places.get(path)
            if place is None:
                continue  # it travels inside its package, or lies where no node can see it
            texts = _new_texts(walk, path, place, by_layer.get(path, []), places)
            if texts:
                layer = walk.library.layer(path)
                export(_edited(layer, path, texts), folder / place, _encoding(layer))
                written.append(place)
            else:
                copied[place] = path
        root = _root_place(places[scene], set(places.values()))
        caches = {e.simulation: paths.relative(places[e.layer], root.parent) for e in plan.of(UseCache)}
        staged = staged_root(compose_source(walk).stage, plan, caches, paths.relative(places[scene], root.parent))
        # asset paths in the metadata taken over from the scene's root stay valid: both lie in one folder
        top = _new_texts(walk, scene, places[scene], [a for a in by_layer.get(scene, []) if a.owner == "/"], places)
        rewrite(staged, lambda slot: top.get((slot.path, slot.field, slot.text, slot.time), slot.text))
        export(staged, folder / root, "usda")
    written.append(root)
    return StagedScene(root=root, written=tuple(written), copied=copied)


Key = tuple[str, str, str, float | None]


def _new_texts(
    walk: Walk, layer: Path, place: PurePosixPath, assets: list[Asset], places: Mapping[Path, PurePosixPath]
) -> dict[Key, str]:
    """The slots of a layer whose text must change so that it points into the crate; empty when all hold as they are."""
    texts = new_texts(assets, place, places)
    # the field alone does not tell two time samples of one attribute apart, and need not: the text does
    return {
        (asset.owner, asset.field, asset.authored, time): texts[asset.id]
        for asset in assets
        if asset.id in texts
        for time in _times(walk, layer, asset)
    }


def _times(walk: Walk, layer: Path, asset: Asset) -> list[float | None]:
    if asset.field != "timeSamples":
        return [None]
    return list(walk.library.layer(layer).ListTimeSamplesForPath(asset.owner))


def _edited(layer: Sdf.Layer, path: Path, texts: dict[Key, str]) -> Sdf.Layer:
    # never edit a layer of the registry: every open stage would change with it
    copy = Sdf.Layer.CreateAnonymous(path.name)
    copy.TransferContent(layer)

    def new_text(slot: Slot) -> str:
        return texts.get((slot.path, slot.field, slot.text, slot.time), slot.text)

    rewrite(copy, new_text)
    return copy


def _encoding(layer: Sdf.Layer) -> str:
    """`usda` or `usdc`: a rewritten layer keeps the encoding it had."""
    extension = str(layer.GetFileFormat().formatId)
    if extension == "usd":
        with Path(layer.realPath).open("rb") as stream:
            return "usdc" if stream.read(8) == b"PXR-USDC" else "usda"
    return extension


def export(layer: Sdf.Layer, target: Path, encoding: str) -> None:
    """Write a layer freshly, beside its place and then into it: the same content always gives the same bytes."""
    target.parent.mkdir(parents=True, exist_ok=True)
    draft = target.with_name(f".{target.stem[:80]}.part{target.suffix}")
    arguments = {"format": encoding} if target.suffix.lower() == ".usd" else {}
    try:
        if not layer.Export(str(draft), args=arguments):
            raise TidyCrateError("cannot write the staged layer", target, "check free space and permissions")
        draft.replace(target)
    finally:
        draft.unlink(missing_ok=True)


def _root_place(scene: PurePosixPath, taken: set[PurePosixPath]) -> PurePosixPath:
    stem = scene.stem
    for number in range(1, 1000):
        name = f"{stem}.staged.usda" if number == 1 else f"{stem}.staged{number}.usda"
        place = scene.with_name(name)
        if place not in taken:
            return place
    raise TidyCrateError("no free name for the staged scene", scene)
