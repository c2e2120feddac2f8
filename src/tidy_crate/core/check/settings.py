"""C8 settings, C9 fonts and colour."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from tidy_crate.core.asset import paths
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.settings import UNKNOWN

# colour spaces that every program knows without a configuration
PLAIN_SPACES = {"raw", "srgb", "linear", "auto", "data"}
ASKED = ("samples", "light_transport", "denoiser", "motion_blur", "device")


@check("settings-unknown", Severity.NOTE, "C8", Next.NOTHING)
def settings_unknown(scene: Checked) -> Iterator[Trouble]:
    """No settings map covers this renderer's settings, so they were not checked."""
    if not scene.survey.outputs:
        return
    unknown = [name.replace("_", " ") for name in ASKED if scene.survey.canonical.get(name, UNKNOWN) == UNKNOWN]
    if unknown:
        renderer = scene.survey.renderer or "the renderer"
        yield Trouble(
            renderer, f"no settings map explains: {', '.join(unknown)}", "add them to a settings map of the project"
        )


@check("samples-very-high", Severity.WARNING, "C8", Next.DECIDE)
def samples_very_high(scene: Checked) -> Iterator[Trouble]:
    """Render time grows with the samples, noise shrinks with their square root: four times the cost for half the
    noise.
    """
    samples, most = _number(scene, "samples"), scene.rules.limits.samples
    if samples is not None and samples > most:
        yield Trouble("samples", f"{samples:g} a pixel, over {most}", "lower them, or use a noise target")


@check("samples-none", Severity.ERROR, "C8")
def samples_none(scene: Checked) -> Iterator[Trouble]:
    """The number of samples is zero: the frames are black, or the renderer uses its own default."""
    samples = _number(scene, "samples")
    if samples is not None and samples < 1:
        yield Trouble("samples", f"{samples:g} a pixel", "set them")


@check("light-interpolated-in-animation", Severity.WARNING, "C8")
def light_interpolated_in_animation(scene: Checked) -> Iterator[Trouble]:
    """Light that is cached and interpolated for each frame flickers, more so between machines."""
    if _known(scene, "light_transport") == "interpolated" and _is_animation(scene):
        yield Trouble(
            "light transport", "interpolated again for each frame", "use path tracing, or store the light once"
        )


@check("light-stored-while-things-move", Severity.WARNING, "C8")
def light_stored_while_things_move(scene: Checked) -> Iterator[Trouble]:
    """Stored light does not follow moving objects: their shadows stand still."""
    if _known(scene, "light_transport") == "stored" and _is_animation(scene) and scene.survey.motion == "things":
        yield Trouble("light transport", "stored once, and things move", "solve it per frame, or waive")


@check("bucket-does-not-suit-device", Severity.WARNING, "C8")
def bucket_does_not_suit_device(scene: Checked) -> Iterator[Trouble]:
    """Small buckets leave a GPU mostly idle; large ones leave CPU cores waiting at the end of each frame."""
    bucket, device, limits = _number(scene, "bucket_size"), _known(scene, "device"), scene.rules.limits
    if bucket is None or not isinstance(device, str):
        return
    if device.lower() == "gpu" and bucket < limits.bucket_on_gpu:
        yield Trouble("bucket size", f"{bucket:g} pixels on a GPU", f"use {limits.bucket_on_gpu} or more")
    if device.lower() == "cpu" and bucket > limits.bucket_on_cpu:
        yield Trouble("bucket size", f"{bucket:g} pixels on a CPU", f"use {limits.bucket_on_cpu} or fewer")


@check("screen-quality-in-render", Severity.WARNING, "C8")
def screen_quality_in_render(scene: Checked) -> Iterator[Trouble]:
    """Subdivision or detail settings for the viewport are used in the render."""
    if _known(scene, "quality") == "screen":
        yield Trouble("quality", "the render uses what was set for the screen", "switch to the quality of the render")


@check("proxies-rendered", Severity.WARNING, "C8")
def proxies_rendered(scene: Checked) -> Iterator[Trouble]:
    """Proxy geometry is rendered beside or instead of the full geometry."""
    purposes = scene.survey.canonical.get("render_purposes")
    if isinstance(purposes, list) and "proxy" in purposes:
        yield Trouble("render purposes", f"{', '.join(purposes)} are rendered", "leave out proxy")


@check("guides-rendered", Severity.WARNING, "C8")
def guides_rendered(scene: Checked) -> Iterator[Trouble]:
    """Guides are helper geometry for the viewport. They appear in every frame."""
    purposes = scene.survey.canonical.get("render_purposes")
    if isinstance(purposes, list) and "guide" in purposes:
        yield Trouble("render purposes", f"{', '.join(purposes)} are rendered", "leave out guide")


@check("preview-materials-rendered", Severity.WARNING, "C8", Next.DECIDE)
def preview_materials_rendered(scene: Checked) -> Iterator[Trouble]:
    """The preview materials take precedence over the full ones and appear in every frame."""
    purposes = scene.survey.canonical.get("material_purposes")
    if isinstance(purposes, list) and "preview" in purposes and "full" not in purposes[: purposes.index("preview")]:
        yield Trouble("material purposes", f"{', '.join(purposes)} in this order", "put full first, or waive")


@check("font-not-collected", Severity.WARNING, "C9", Next.DECIDE)
def font_not_collected(scene: Checked) -> Iterator[Trouble]:
    """The font is looked up by name. A node that lacks it uses another one, and the text changes."""
    files = " ".join(paths.file_name(a.value).casefold() for a in scene.survey.assets if a.kind == "font" and a.members)
    for name in scene.survey.fonts:
        if name.casefold().replace(" ", "") not in files.replace(" ", "").replace("-", "").replace("_", ""):
            yield Trouble(name, "the scene uses this font, and no file of it travels", "turn the text into shapes")


@check("colour-configuration-from-machine", Severity.WARNING, "C9")
def colour_configuration_from_machine(scene: Checked) -> Iterator[Trouble]:
    """The scene names no colour configuration. Each node uses its own, so the same frame may look different."""
    space = _known(scene, "colour_space")
    if isinstance(space, str) and scene.survey.colour_configuration is None and space.casefold() not in PLAIN_SPACES:
        plain = space.casefold().startswith(("lin_", "srgb_", "g22_", "g18_"))
        if not plain:
            yield Trouble(space, "no configuration says what this colour space is", "name one in the scene")


@check("colour-space-not-in-configuration", Severity.ERROR, "C9")
def colour_space_not_in_configuration(scene: Checked) -> Iterator[Trouble]:
    """The colour configuration does not contain this colour space: every frame fails, or uses another one."""
    spaces = {o.colour_space for o in scene.survey.outputs if o.colour_space}
    spaces |= {space} if isinstance(space := _known(scene, "colour_space"), str) else set()
    for asset in scene.survey.assets:
        if asset.authored != scene.survey.colour_configuration or not asset.members:
            continue
        known = _spaces_in(asset.members[0].path)
        for space in sorted(spaces):
            if known and space.casefold() not in known:
                yield Trouble(
                    space, f"{asset.members[0].path.name} does not know this colour space", "use one it knows"
                )


@check("colour-configuration-invalid", Severity.WARNING, "C9", Next.DECIDE)
def colour_configuration_invalid(scene: Checked) -> Iterator[Trouble]:
    """The colour library finds fault with this configuration. Some programs refuse it, others go on without a word."""
    for asset in scene.survey.assets:
        if asset.kind == "colour configuration" and asset.needed:
            for member in asset.members:
                for what in _faults_of(member.path):
                    yield Trouble(member.path.name, what, "mend it in the configuration, or take the one it is from")


def _faults_of(path: Any) -> list[str]:
    from tidy_crate.core.asset.follow.ocio import troubles

    try:
        return troubles(path)
    except (OSError, ValueError):
        # one that cannot be read at all is told as that
        return []


def _spaces_in(path: Any) -> set[str]:
    """The colour spaces, roles and aliases of a configuration, in small letters; none where it cannot be read."""
    from tidy_crate.core.asset.follow.ocio import names_in

    try:
        return {name.casefold() for name in names_in(path)}
    except (OSError, ValueError):
        return set()


def _known(scene: Checked, name: str) -> Any:
    found = scene.survey.canonical.get(name, UNKNOWN)
    return None if found == UNKNOWN else found


def _number(scene: Checked, name: str) -> float | None:
    found = _known(scene, name)
    return float(found) if isinstance(found, int | float) and not isinstance(found, bool) else None


def _is_animation(scene: Checked) -> bool:
    return scene.survey.frames.count > 1 and (scene.survey.motion != "still" or bool(scene.survey.simulations))
