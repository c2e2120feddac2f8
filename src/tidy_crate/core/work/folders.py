"""Folders for frames at home by a pattern of the project's own, such as `{variant}/{camera}/{output}`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from pathlib import PurePosixPath
from typing import Annotated

from pydantic import AfterValidator

from tidy_crate.core.asset import paths
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.work.product import SET_ASIDE, output_folder
from tidy_crate.core.work.request import RenderRequest

FIELDS = ("request", "view", "camera", "variant", "output")
_FIELD = re.compile(r"\{(\w+)\}")


def _checked(pattern: str) -> str:
    """Return a pattern as it is. Raises ValueError on an unknown field or a name that is not one everywhere."""
    for name in _FIELD.findall(pattern):
        if name not in FIELDS:
            known = ", ".join(f"{{{one}}}" for one in FIELDS)
            raise ValueError(f"{pattern!r} has the unknown field {{{name}}}: use {known}")
    for part in pattern.split("/"):
        plain = _FIELD.sub("x", part)
        if not plain or plain in (".", "..") or "{" in plain or "}" in plain or paths.name_troubles(plain):
            raise ValueError(f"{pattern!r} is not a path of folders: {part!r} cannot be the name of a folder")
    if pattern.split("/")[0].casefold() == SET_ASIDE:
        raise ValueError(f"{pattern!r} begins with {SET_ASIDE!r}, where frames are kept that are not in use")
    return pattern


FolderPattern = Annotated[str, AfterValidator(lambda pattern: pattern and _checked(pattern))]
"""Empty for the usual folders."""


def pattern(text: str | None) -> str | None:
    """Return a pattern that a person typed. Raises WrongUsage for one that cannot be."""
    try:
        return text and _checked(text)
    except ValueError as error:
        raise WrongUsage(str(error), "folders", 'such as "{variant}/{camera}/{output}"') from error


def folder_by(pattern: str, request: RenderRequest, view: str, output: str, camera: str | None) -> PurePosixPath:
    """Return the folder of one output by a pattern. Fields without a value leave no folder behind.

    camera: path of the output's own camera, which counts where the view names none.

    >>> request = RenderRequest(name="main", frames="1", width=1, height=1, outputs=("Beauty",))
    >>> folder_by("{request}/{variant}/{camera}/{output}", request, "", "Beauty", "/World/Cam").as_posix()
    'main/Cam/Beauty'
    """
    seen = request.view(view)
    values: Mapping[str, str] = {
        "request": request.name,
        "view": view,
        "camera": ((seen.camera if seen is not None else "") or camera or "").rpartition("/")[2],
        "variant": "-".join(one.choice for one in seen.variants) if seen is not None else "",
        "output": output,
    }

    def value(found: re.Match[str]) -> str:
        return output_folder(values[found[1]]) if values[found[1]] else ""

    parts = (_FIELD.sub(value, part) for part in pattern.split("/"))
    return PurePosixPath(*(part for part in parts if part.strip("._- ")))


def first_twice(places: Iterable[PurePosixPath]) -> PurePosixPath | None:
    """Return the first path that comes up twice, where capitals do not count; None for none."""
    seen: set[str] = set()
    for path in places:
        key = str(path).casefold()
        if key in seen:
            return path
        seen.add(key)
    return None
