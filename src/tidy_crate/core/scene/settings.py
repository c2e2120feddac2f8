"""Settings maps: what a renderer's own settings mean, in data rather than in code.

A map is a TOML file: `renderer`, the `namespace` its attributes share, and a table `means` from attribute name
to canonical name. Canonical names are those of `CANONICAL`. What no map covers stays unknown.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from importlib import resources
from pathlib import Path
from typing import Any

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import os_reason
from tidy_crate.core.model import Model, validated
from tidy_crate.core.scene.model import Setting

CANONICAL = (
    "samples",  # per pixel
    "noise_target",  # the error at which a pixel is done
    "light_transport",  # the GI method
    "denoiser",
    "motion_blur",  # whether it is on
    "device",  # cpu or gpu
    "resolution_scale",  # 1.0 is full size
    "renderer_version",
    "compression",
)
UNKNOWN = "unknown"


class SettingsMap(Model):
    """One renderer's settings."""

    renderer: str
    namespace: str
    means: dict[str, str]


def load_maps(extra: Iterable[Path] = ()) -> tuple[SettingsMap, ...]:
    """The maps that ship with the tool and those of a project; a later one wins."""
    found = []
    for resource in sorted(resources.files(__package__).joinpath("settings_maps").iterdir(), key=str):
        if resource.name.endswith(".toml"):
            found.append(_parsed(resource.read_text(encoding="utf-8"), resource.name))
    for path in extra:
        try:
            found.append(_parsed(path.read_text(encoding="utf-8"), str(path)))
        except OSError as error:
            raise UnreadableInput(f"cannot read the settings map ({os_reason(error)})", path) from error
    return tuple(found)


def _parsed(text: str, where: str) -> SettingsMap:
    try:
        content = tomllib.loads(text)
    except ValueError as error:
        raise UnreadableInput(f"the settings map is not valid TOML ({error})", where) from error
    found = validated(SettingsMap, content, "settings map", where)
    for name in found.means.values():
        if name not in CANONICAL:
            raise UnreadableInput(
                f"the settings map gives a meaning that is not known: {name}",
                where,
                "use one of " + ", ".join(CANONICAL),
            )
    return found


def meaning(name: str, maps: Iterable[SettingsMap]) -> str | None:
    """The canonical name of a raw setting, or None."""
    found = None
    for one in maps:
        if name.startswith(one.namespace):
            found = one.means.get(name, found)
    return found


def canonical(settings: Iterable[Setting]) -> dict[str, Any]:
    """Every canonical setting, `unknown` where the scene states none that a map covers."""
    found: dict[str, Any] = dict.fromkeys(CANONICAL, UNKNOWN)
    for setting in settings:
        if setting.means:
            found[setting.means] = setting.value
    return found
