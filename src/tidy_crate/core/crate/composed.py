"""Composition of a scene at its source and in its crate, in digests that can be compared."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path, PurePosixPath

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.scene.composition import BY_LAYER, BY_PRIM, Composition, Packed
from tidy_crate.core.scene.formats.interface import SceneFormat
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.staging import StagingPlan


def composition_of_source(
    context: SceneContext,
    survey: Survey,
    crate_paths: Mapping[Path, PurePosixPath],
    content: PackingList,
    crate: Path,
    method: int | None = None,
) -> Composition | None:
    """Return what the staged source composes to, None for a format that composes nothing.

    crate: all its files are written. method: see `SceneFormat.composition`. Where the crate's digest by layers is not
    the same, prims are compared: two layers may be written differently and compose to the same.
    """
    in_crate = _files_of(content)
    by_text = {str(path): str(crate_path) for path, crate_path in crate_paths.items()}

    def packed(path: str) -> Packed | None:
        crate_path = by_text.get(path)
        return None if crate_path is None else in_crate(crate_path)

    form, plan = context.format, context.plan
    found = form.composition(context.scene, plan, survey, packed, method)
    if found is None or found.method != BY_LAYER:
        return found
    # the crate is composed without its own survey, which would take as long as that of the source
    nothing_known = survey.model_copy(update={"assets": ()})
    if composition_in_crate(form, crate / content.scene, nothing_known, content, crate, BY_LAYER) == found:
        return found
    return form.composition(context.scene, plan, survey, packed, BY_PRIM)


def composition_in_crate(
    form: SceneFormat, scene: Path, survey: Survey, content: PackingList, crate: Path, method: int
) -> Composition | None:
    """Return what a crate composes to. method: of the digest that it is compared with."""
    in_crate, lead = _files_of(content), str(crate) + os.sep
    # the root over the scene has no source to be compared with
    added = {file.path for file in content.files if file.source == "staging"} & {content.scene}

    def packed(path: str) -> Packed | None:
        crate_path = path[len(lead) :].replace(os.sep, "/") if path.startswith(lead) else None
        # where paths lead that have nothing to lead to
        if crate_path is None or crate_path.startswith("missing/") or crate_path in added:
            return None
        return in_crate(crate_path)

    return form.composition(scene, StagingPlan(), survey, packed, method)


def _files_of(content: PackingList) -> Callable[[str], Packed]:
    """Return what gives a file, or the pattern of a set, by its path in the crate."""
    identities = content.identities()
    return lambda crate_path: Packed(crate_path, identities.get(crate_path, crate_path))
