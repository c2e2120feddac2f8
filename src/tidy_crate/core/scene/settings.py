"""Settings maps: what a renderer's own settings mean, in data rather than in code.

A map is a TOML file: `renderer`, the `namespace` its attributes share, and a table `means` from attribute name
to canonical name. `values` and `units` say what a raw value means, `features` which settings switch on something that
not every version has, `materials` which render contexts of a material the renderer reads. Canonical names are those of
`CANONICAL`. What no map covers stays unknown.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from importlib import resources
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Feature, Setting
from tidy_crate.core.toml import parse_toml, read_toml

CANONICAL = (
    "samples",  # per pixel
    "noise_target",  # the error at which a pixel is done
    "light_transport",  # the GI method, one of LIGHT_TRANSPORT
    "denoiser",
    "motion_blur",  # whether it is on
    "device",  # cpu or gpu
    "bucket_size",  # pixels along the edge of a render bucket
    "quality",  # `screen` where the render uses what was meant for the screen, else `render`
    "render_purposes",  # which purposes of geometry are rendered
    "material_purposes",  # which purposes of materials are rendered
    "colour_space",  # that is rendered in
    "resolution_scale",  # 1.0 is full size
    "renderer_version",
    "compression",
    "bit_depth",  # bits of a channel
)
# brute force; cached and interpolated again for each frame; solved once and stored; no bounces at all
LIGHT_TRANSPORT = ("path tracing", "interpolated", "stored", "direct")
UNKNOWN = "unknown"
_OFF = ("", "0", "0.0", "false", "none", "off", "[]")


class SettingFeature(Model):
    """Something that a setting switches on."""

    name: str = Field(min_length=1)
    since: str | None = None
    """The renderer's first version that has it."""
    experimental: bool = False
    """True if its makers call it so."""
    when: tuple[str, ...] = ()
    """The raw values that switch it on. Left out: every value but none and zero."""

    def used(self, value: Any) -> bool:
        """Return whether a raw value switches it on."""
        word = _word(value)
        return word in map(str.lower, self.when) if self.when else word not in _OFF


class SettingsMap(Model):
    """One renderer's settings. Attribute names are those of the scene; see the module."""

    renderer: str
    namespace: str = Field(min_length=1)
    means: dict[str, str] = Field(default_factory=dict)
    values: dict[str, dict[str, str | bool | float]] = Field(default_factory=dict)
    units: dict[str, Literal["percent"]] = Field(default_factory=dict)
    features: dict[str, SettingFeature] = Field(default_factory=dict)
    materials: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    """Attributes of type string, anywhere in a scene, whose text is the path of a file."""


def load_maps(extra: Iterable[Path] = (), maps: Iterable[SettingsMap] = ()) -> tuple[SettingsMap, ...]:
    """The maps that ship with the tool and those of a project, in files or read already; a later one wins."""
    found = []
    for resource in sorted(resources.files(__package__).joinpath("settings_maps").iterdir(), key=str):
        if resource.name.endswith(".toml"):
            own = parse_toml(SettingsMap, resource.read_text(encoding="utf-8"), "settings map", resource.name)
            found.append(_meanings_known(own, resource.name))
    for path in extra:
        found.append(_meanings_known(read_toml(SettingsMap, path, "settings map"), str(path)))
    return (*found, *maps)


def _meanings_known(found: SettingsMap, where: str) -> SettingsMap:
    for name in found.means.values():
        if name not in CANONICAL:
            raise UnreadableInput(
                f"the settings map gives a meaning that is not known: {name}",
                where,
                "use one of " + ", ".join(CANONICAL),
            )
    for name, words in found.values.items():
        if found.means.get(name) == "light_transport" and (odd := set(words.values()) - set(LIGHT_TRANSPORT)):
            raise UnreadableInput(
                f"the settings map gives a way of light transport that is not known: {min(map(str, odd))}",
                where,
                "use one of " + ", ".join(LIGHT_TRANSPORT),
            )
    return found


def setting(owner: str, name: str, value: Any, maps: Iterable[SettingsMap]) -> Setting:
    """A raw setting with what it means, in canonical terms, where a map knows that."""
    means, canonical_value = None, None
    for one in maps:
        if name.startswith(one.namespace) and name in one.means:
            means = one.means[name]
            canonical_value = one.values.get(name, {}).get(_word(value), value)
            if one.units.get(name) == "percent" and _is_number(value):
                canonical_value = value / 100
    return Setting(owner=owner, name=name, value=value, means=means, canonical=canonical_value)


def canonical(settings: Iterable[Setting]) -> dict[str, Any]:
    """Every canonical setting, `unknown` where the scene states none that a map covers."""
    found: dict[str, Any] = dict.fromkeys(CANONICAL, UNKNOWN)
    for one in settings:
        if one.means:
            found[one.means] = one.canonical
    return found


def renderer_of(settings: Iterable[Setting], maps: Iterable[SettingsMap]) -> SettingsMap | None:
    """The map of the renderer that the scene is set up for: the only one any setting belongs to, else None."""
    names = [one.name for one in settings]
    found = {one.renderer: one for one in maps if any(name.startswith(one.namespace) for name in names)}
    return next(iter(found.values())) if len(found) == 1 else None


def features_of(settings: Iterable[Setting], maps: Iterable[SettingsMap]) -> Iterable[Feature]:
    """Yield what the settings switch on, of that which the maps tell of."""
    known: Mapping[str, tuple[str, SettingFeature]] = {
        name: (one.renderer, feature) for one in maps for name, feature in one.features.items()
    }
    for own in settings:
        if own.name in known and known[own.name][1].used(own.value):
            renderer, feature = known[own.name]
            yield Feature(
                name=feature.name,
                software=renderer,
                since=feature.since,
                experimental=feature.experimental,
                where=own.owner,
            )


def _word(value: Any) -> str:
    return str(value).strip().lower()


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)
