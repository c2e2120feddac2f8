"""Writing a staged glTF scene: the file itself, with URIs that lead into the crate."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.files import write_whole
from tidy_crate.core.handles import writable
from tidy_crate.core.scene.formats.gltf.document import Link, read_document, rewrite
from tidy_crate.core.scene.formats.gltf.read import EXTRAS, FIELD
from tidy_crate.core.scene.formats.interface import StagedScene
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.rewriting import crate_path_of, new_texts
from tidy_crate.core.scene.staging import StagingPlan


def apply(
    scene: Path, plan: StagingPlan, survey: Survey, crate_paths: Mapping[Path, PurePosixPath], folder: Path
) -> StagedScene:
    """Copy the scene where its URIs hold and nothing is ordered, else rewrite it. See SceneFormat.apply."""
    scene = scene.absolute()
    crate_path = crate_paths[scene]
    own = [asset for asset in survey.assets if asset.layer == scene and asset.field == FIELD]
    # a name that is only written with percent signs is the same name
    plain = [asset.model_copy(update={"authored": asset.value}) if not asset.relinked else asset for asset in own]
    if not new_texts(plain, crate_path, crate_paths) and plan.render is None:
        return StagedScene(root=crate_path, written=(), copied={crate_path: scene})
    by_pointer = {asset.owner: paths.relative(crate_path_of(asset, crate_paths), crate_path.parent) for asset in own}

    def new_path(link: Link) -> str:
        text = by_pointer[link.pointer]
        return text.removeprefix("./")

    document = read_document(scene)
    if plan.render is not None:
        extras = document.content.get("extras")
        order = plan.render.model_dump(mode="json", exclude_none=True, exclude={"because", "origin"})
        document.content["extras"] = {**(extras if isinstance(extras, dict) else {}), EXTRAS: order}
    with writable(folder, crate_path) as target, write_whole(target) as stream:
        rewrite(scene, document, stream, new_path)
    return StagedScene(root=crate_path, written=(crate_path,), copied={})
