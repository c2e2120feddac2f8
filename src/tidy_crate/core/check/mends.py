"""C13: fixes that need no human decision: edits of the staged copy, each listed and reversible."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from pathlib import PurePosixPath
from typing import Any

from tidy_crate.core.asset import paths
from tidy_crate.core.check.cameras import sizes
from tidy_crate.core.check.finding import Checked
from tidy_crate.core.check.ordered import named
from tidy_crate.core.check.outputs import LOSSY, MOVIES
from tidy_crate.core.context.decisions import MendDecision, MendEdit
from tidy_crate.core.farm.overlay import inside_job
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Output, Setting, Survey
from tidy_crate.core.scene.staging import ChooseCamera, OutputPath, SetSetting

LOSSLESS = "zip"
# in a name: a number, or what programs put where they fill something in
_NUMBER_OR_MARK = re.compile(r"[\d#@%$<>{}()\[\]*?~]")


class Mend(Model):
    """A possible fix of one finding."""

    code: str
    subject: str
    says: str
    """Description in plain words."""
    edit: MendEdit

    def decision(self) -> MendDecision:
        """As it is written down."""
        return MendDecision(code=self.code, subject=self.subject, because=self.says, edit=self.edit)


Maker = Callable[[Checked], Iterator[Mend]]


# by the code of the check
MENDERS: dict[str, Maker] = {}


def mends_for(scene: Checked) -> dict[tuple[str, str], Mend]:
    """All mends that are possible now, by code and subject of the finding."""
    found: dict[tuple[str, str], Mend] = {}
    for make in MENDERS.values():
        try:
            for mend in make(scene):
                found.setdefault((mend.code, mend.subject), mend)
        except Exception:  # noqa: BLE001 - what goes wrong here goes wrong in the check too, which says so
            continue
    return found


def mender(code: str) -> Callable[[Maker], Maker]:
    """Register what puts the findings of a check right."""

    def register(function: Maker) -> Maker:
        MENDERS[code] = function
        return function

    return register


@mender("output-path-empty")
def name_output(scene: Checked) -> Iterator[Mend]:
    """A path by the project's naming rule, in the format of the brief, else of the other outputs."""
    taken = {paths.folded(one.path) for one in scene.survey.outputs}
    for output in scene.survey.outputs:
        if not output.path.strip():
            path = named(scene.rules.naming, scene, output.name, _format(scene, output))
            # a rule that does not tell two outputs apart leaves the second to a person
            if paths.folded(path) not in taken:
                taken.add(paths.folded(path))
                yield _path("output-path-empty", output, path, f"its path follows the naming rule: {path}")


def _format(scene: Checked, output: Output) -> str:
    brief = scene.rules.brief
    ordered = brief.of_output(output.name) if brief else None
    said = (ordered and ordered.format) or (brief and brief.format)
    others = [one.format for one in scene.survey.outputs if one.format and one.format not in MOVIES]
    return said or (others[0] if others else "exr")


@mender("output-no-frame-token")
def add_frame_token(scene: Checked) -> Iterator[Mend]:
    """Four digits before the ending, as many more as the range needs: of a name that says nothing of numbers itself.

    What holds a number, or a mark that some program fills in, is left to a person: it may be meant as one.
    """
    frames = scene.survey.frames
    digits = max(4, len(str(abs(frames.start or 0))), len(str(abs(frames.end or 0))))
    if frames.count <= 1:
        return
    for output in scene.survey.outputs:
        stem, dot, ending = paths.file_name(output.path).rpartition(".")
        plain = bool(stem and dot and ending.isalpha()) and not _NUMBER_OR_MARK.search(stem)
        if plain and output.format not in MOVIES and "name" not in output.changing:
            path = f"{output.path.rstrip()[: -len(ending) - 1]}.{'#' * digits}.{ending}"
            yield _path("output-no-frame-token", output, path, f"its path gets a frame number: {path}")


@mender("output-path-absolute")
def make_output_relative(scene: Checked) -> Iterator[Mend]:
    """The name alone, in a folder of the output's own, so that no two meet."""
    for output in scene.survey.outputs:
        if paths.is_absolute(output.path):
            folder = PurePosixPath(named("renders/{output}/", scene, output.name, ""))
            path = str(folder / paths.file_name(output.path))
            yield _path("output-path-absolute", output, path, f"it is written to {path}, from the scene's folder")


@mender("output-path-climbs")
def keep_output_inside(scene: Checked) -> Iterator[Mend]:
    """The same path, without what leaves the job's folder."""
    for output in scene.survey.outputs:
        if not paths.is_absolute(output.path) and ".." in paths.parts(output.path):
            path = inside_job(output.path)
            if path and path not in {one.path for one in scene.survey.outputs}:
                yield _path("output-path-climbs", output, path, f"it is written to {path}, inside the job's folder")


@mender("camera-not-chosen")
def choose_camera(scene: Checked) -> Iterator[Mend]:
    """The only camera there is."""
    if len(scene.survey.cameras) != 1:
        return
    camera = scene.survey.cameras[0].path
    for output in scene.survey.outputs:
        if output.camera is None:
            edit = ChooseCamera(output=output.name, camera=camera, was="", origin="mend")
            yield Mend(code="camera-not-chosen", subject=output.name, says=f"it renders {camera}", edit=edit)


@mender("camera-still-beside-moving")
def choose_baked_camera(scene: Checked) -> Iterator[Mend]:
    """The baked copy of the camera that renders: the only other one, which moves and has the same name."""
    for camera in scene.survey.cameras:
        copies = [one.path for one in scene.survey.cameras if one.moves and _is_copy(one.path, camera.path)]
        still = not camera.changes and camera.trouble is None
        if camera.renders and still and len(copies) == 1:
            for output in scene.survey.outputs:
                if output.camera == camera.path:
                    edit = ChooseCamera(output=output.name, camera=copies[0], was=camera.path, origin="mend")
                    says = f"{output.name} renders {copies[0]}, the moving copy of {camera.path}"
                    yield Mend(code="camera-still-beside-moving", subject=camera.path, says=says, edit=edit)


@mender("resolution-scaled-down")
def full_size(scene: Checked) -> Iterator[Mend]:
    """The scale back to one."""
    yield from _scale(scene, "resolution-scaled-down")


@mender("resolution-scaled-up")
def full_size_again(scene: Checked) -> Iterator[Mend]:
    """The scale back to one."""
    yield from _scale(scene, "resolution-scaled-up")


def _scale(scene: Checked, code: str) -> Iterator[Mend]:
    prims = {output.name: output.prim for output in scene.survey.outputs}
    for subject, size in sizes(scene.survey):
        if size.scale == 1 or (size.scale < 1) != (code == "resolution-scaled-down"):
            continue
        own = _setting(scene, "resolution_scale", prims.get(subject))
        if own is not None and isinstance(own.value, int | float) and own.canonical:
            # 50 of a hundred becomes 100, 0.5 of one becomes 1
            full = own.value / own.canonical
            value = int(full) if isinstance(own.value, int) else float(full)
            yield _set(code, subject, own, value, f"full size: {size.width} x {size.height}")


@mender("screen-quality-in-render")
def render_quality(scene: Checked) -> Iterator[Mend]:
    """Switch off a switch; the right value of a word is unknown."""
    own = _setting(scene, "quality")
    if own is not None and own.value is True and scene.survey.canonical.get("quality") == "screen":
        yield _set("screen-quality-in-render", "quality", own, False, "the quality of the render is used")


@mender("output-data-compressed-with-loss")
def lossless(scene: Checked) -> Iterator[Mend]:
    """Zip, which every program reads."""
    for output in scene.survey.outputs:
        owned = [s for s in scene.survey.settings if s.means == "compression" and s.owner == output.prim]
        own = owned[-1] if owned else _setting(scene, "compression")
        if own is not None and str(own.value).lower() in LOSSY and (output.compression or "").lower() in LOSSY:
            says = f"compressed without loss, by {LOSSLESS}"
            yield _set("output-data-compressed-with-loss", output.name, own, LOSSLESS, says)


@mender("proxies-rendered")
def leave_out_proxies(scene: Checked) -> Iterator[Mend]:
    """All purposes but that one."""
    yield from _purposes(scene, "proxies-rendered", "proxy")


@mender("guides-rendered")
def leave_out_guides(scene: Checked) -> Iterator[Mend]:
    """All purposes but that one."""
    yield from _purposes(scene, "guides-rendered", "guide")


def _purposes(scene: Checked, code: str, unwanted: str) -> Iterator[Mend]:
    purposes = scene.survey.canonical.get("render_purposes")
    if isinstance(purposes, list) and unwanted in purposes and scene.survey.settings_prim:
        # both mends take out both, so that they do not undo one another
        left = tuple(one for one in purposes if one not in ("proxy", "guide"))
        edit = SetSetting(
            owner=scene.survey.settings_prim, name="includedPurposes", value=left, was=tuple(purposes), origin="mend"
        )
        yield Mend(
            code=code, subject="render purposes", says=f"only {', '.join(left) or 'default'} is rendered", edit=edit
        )


def _is_copy(path: str, original: str) -> bool:
    """Return whether one prim has another's name with something added: Camera_baked, CameraBake1, baked_Camera."""
    name, other = path.rpartition("/")[2].casefold(), original.rpartition("/")[2].casefold()
    return path != original and other in name and "bak" in name.replace(other, "", 1)


def _setting(scene: Checked, means: str, prim: str | None = None) -> Setting | None:
    """The setting of that meaning in force: that of a prim of its own, where it has one."""
    found = [one for one in scene.survey.settings if one.means == means]
    owned = [one for one in found if one.owner == prim]
    return (owned or found)[-1] if found else None


def _path(code: str, output: Output, path: str, says: str) -> Mend:
    edit = OutputPath(output=output.name, path=path, was=output.path, origin="mend")
    return Mend(code=code, subject=output.name, says=says, edit=edit)


def _set(code: str, subject: str, own: Setting, value: Any, says: str) -> Mend:
    edit = SetSetting(owner=own.owner, name=own.name, value=value, was=own.value, origin="mend")
    return Mend(code=code, subject=subject, says=says, edit=edit)


def mendable() -> frozenset[str]:
    """The codes of checks whose findings can be fixed without a person, often or always."""
    return frozenset(MENDERS)


def in_force(mends: Iterable[MendDecision], found: Survey) -> tuple[MendDecision, ...]:
    """The mends that still find the scene as they were made for."""
    return tuple(one for one in mends if _still_holds(one, found))


def _still_holds(one: MendDecision, found: Survey) -> bool:
    edit = one.edit
    if edit.kind == "set-setting":
        now = next((s.value for s in found.settings if (s.owner, s.name) == (edit.owner, edit.name)), None)
        if now is None and edit.name == "includedPurposes":
            now = found.canonical.get("render_purposes")
        return edit.holds(now)
    output = next((o for o in found.outputs if o.name == edit.output), None)
    if output is None:
        return False
    return edit.holds(output.path if edit.kind == "output-path" else output.camera)
