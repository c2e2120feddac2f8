"""Writing a staged USD scene: a new root over it, and rewritten copies of the layers whose paths would break."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path, PurePosixPath

from pxr import Sdf

from tidy_crate.core.asset import paths
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import open_input, write_whole
from tidy_crate.core.handles import writable
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.formats.usd import package
from tidy_crate.core.scene.formats.usd.compose import Arc, Composed, compose, needs_stage, staged_root
from tidy_crate.core.scene.formats.usd.contexts import copies_by_context
from tidy_crate.core.scene.formats.usd.quiet import open_layer, open_stage, usd_messages
from tidy_crate.core.scene.formats.usd.slots import ARCS, REMOVED, Slot, rewrite
from tidy_crate.core.scene.model import Asset, Survey
from tidy_crate.core.scene.rewriting import new_texts
from tidy_crate.core.scene.staging import StagingPlan, UseCache


def apply(
    scene: Path, plan: StagingPlan, survey: Survey, crate_paths: Mapping[Path, PurePosixPath], folder: Path
) -> StagedScene:
    """Write the staged scene into `folder`. See SceneFormat.apply.

    The survey names every slot, so that no layer is walked again; only layers whose paths change are opened.
    """
    scene = scene.absolute()
    by_layer: dict[Path, list[Asset]] = {}
    for asset in survey.assets:
        by_layer.setdefault(asset.layer, []).append(asset)
    layer_of = cache(open_layer)
    written: list[PurePosixPath] = []
    copied: dict[PurePosixPath, Path] = {}
    copies = copies_by_context(by_layer, crate_paths)
    moved = copies.moved(survey.assets)
    with usd_messages(scene):
        for path in survey.layers:
            crate_path = crate_paths.get(path)
            if crate_path is None:
                continue  # it travels inside its package, or is where no node can see it
            for own, assets in copies.of(path, crate_path, by_layer.get(path, [])):
                texts = _new_texts(assets, own, crate_paths, moved)
                if texts:
                    layer = layer_of(path)
                    with writable(folder, own) as target:
                        export(_edited(layer, path, texts), target, _encoding(layer))
                    written.append(own)
                else:
                    copied[own] = path
        root = _root_path(crate_paths[scene], set(crate_paths.values()))
        caches = {e.simulation: paths.relative(crate_paths[e.layer], root.parent) for e in plan.of(UseCache)}
        source = compose(scene, _arcs(survey), survey.layers, layer_of).stage if needs_stage(plan) else None
        scene_text = paths.relative(crate_paths[scene], root.parent)
        staged = staged_root(source, layer_of(scene), plan, caches, scene_text)
        # asset paths in the metadata taken over from the scene's root stay valid: both are in one folder
        top = _new_texts([a for a in by_layer.get(scene, []) if a.owner == "/"], crate_paths[scene], crate_paths, moved)
        rewrite(staged, lambda slot: top.get((slot.path, slot.field, slot.text, slot.time), slot.text))
        with writable(folder, root) as target:
            export(staged, target, "usda")
    written.append(root)
    return StagedScene(root=root, written=tuple(written), copied=copied)


def staged_stage(scene: Path, plan: StagingPlan, survey: Survey) -> Composed:
    """Compose a scene as the plan stages it, without writing anything. survey: the staged survey."""
    layer_of = cache(open_layer)
    source = compose(scene, _arcs(survey), survey.layers, layer_of)
    if not needs_stage(plan):
        return source
    top = source.stage.GetRootLayer()
    with usd_messages(scene):
        caches = {edit.simulation: str(edit.layer) for edit in plan.of(UseCache)}
        staged = staged_root(source.stage, top, plan, caches, top.identifier)
    return Composed(open_stage(staged, scene), source.origin)


def _arcs(survey: Survey) -> Iterator[Arc]:
    """The places where one layer of the scene brings in another."""
    unseen = {one.path for one in survey.unread}
    for asset in survey.assets:
        named = asset.members if asset.field in ARCS else asset.field in REMOVED.values()
        if named and asset.resolved is not None and asset.resolved not in unseen:
            target = asset.resolved
            packaged = paths.split_package(paths.without_arguments(asset.value))
            if packaged is not None:
                target = package.joined(target, packaged[1])
            yield Arc(
                asset.layer, asset.owner, asset.field, asset.authored, target, asset.relinked, asset.within, asset.leads
            )


# owner, field, text as written, and time code of a time sample: the identity of a slot in its layer
Key = tuple[str, str, str, float | None]


def _new_texts(
    assets: list[Asset],
    crate_path: PurePosixPath,
    crate_paths: Mapping[Path, PurePosixPath],
    moved: Mapping[str, PurePosixPath],
) -> dict[Key, str]:
    """The slots of a layer whose text must change so that it points into the crate; empty when all hold as they are."""
    texts = new_texts(assets, crate_path, crate_paths, moved)
    return {
        (asset.owner, asset.field, asset.authored, asset.time): texts[asset.id] for asset in assets if asset.id in texts
    }


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
        with open_input(Path(layer.realPath)) as stream:
            return "usdc" if stream.read(8) == b"PXR-USDC" else "usda"
    return extension


def export(layer: Sdf.Layer, target: Path, encoding: str) -> None:
    """Write a layer freshly: the same content always gives the same bytes.

    The library writes into a private folder, since it resolves the path that it is given, links and handles included.
    From there the bytes go to their place as any other file's.
    """
    arguments = {"format": encoding} if target.suffix.lower() == ".usd" else {}
    with tempfile.TemporaryDirectory(prefix="tidy-crate-layer-") as private:
        draft = Path(private, f"layer{target.suffix}")
        if not layer.Export(str(draft), args=arguments):
            raise TidyCrateError(
                "cannot write the staged layer", target, "check free space and permissions, also for temporary files"
            )
        with open_input(draft) as source, write_whole(target) as out:
            shutil.copyfileobj(source, out, 1 << 20)


def _root_path(scene: PurePosixPath, taken: set[PurePosixPath]) -> PurePosixPath:
    stem = scene.stem
    for number in range(1, 1000):
        name = f"{stem}.staged.usda" if number == 1 else f"{stem}.staged{number}.usda"
        crate_path = scene.with_name(name)
        if crate_path not in taken:
            return crate_path
    raise TidyCrateError("no free name for the staged scene", scene)
