"""The packing list: what a crate holds and what it is for. It knows no farm, no user, no machine and no time."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import Any

from blake3 import blake3
from pydantic import Field
from pydantic_core import from_json

from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.context.rules import CheckRules
from tidy_crate.core.crate.colours import colour_outcomes
from tidy_crate.core.errors import Blocked, UnreadableInput, WrongUsage
from tidy_crate.core.files import MOST_LIST, inside, quoted, read_json, write_bytes
from tidy_crate.core.handles import writable
from tidy_crate.core.model import Model, validated
from tidy_crate.core.scene.composition import Composition
from tidy_crate.core.scene.formats.registry import is_scene
from tidy_crate.core.scene.model import FrameRange, Output, Survey
from tidy_crate.core.scene.request import naming
from tidy_crate.core.scene.settings import SettingsMap
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.folders import first_twice, folder_by
from tidy_crate.core.work.product import file_name, product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task

FILE_NAME = "packing-list.json"
# is in the folder while collect has not come to its end
UNFINISHED = ".tidy-crate-unfinished"
VERSION = 2


class PackedFile(Model):
    """One file."""

    path: str
    """Relative to the crate, with forward slashes."""
    bytes: int = Field(ge=0, lt=2**63)
    blake3: str = Field(pattern=r"^[0-9a-f]{64}$")
    source: str
    """The original, by a root's alias. Never an absolute path."""
    rewritten: bool = False


class SharedFile(Model):
    """One file that stays on shared storage."""

    path: str
    """As nodes see it."""
    bytes: int = Field(ge=0, lt=2**63)


class MissingFile(Model):
    """Something the scene names and the crate lacks."""

    asset: str
    authored: str
    path: str
    """The path that the crate's scene now names for it."""
    needed: bool
    let_go: bool
    because: str


class Essentials(Model):
    """Facts that must be the same in the staged scene and in the crate."""

    frames: FrameRange
    up_axis: str
    meters_per_unit: float
    cameras: tuple[str, ...]
    outputs: tuple[Output, ...]
    simulations: dict[str, str]
    found: tuple[str, ...]
    missing: tuple[str, ...]
    colours: dict[str, dict[str, tuple[float, ...]]] = Field(default_factory=dict)
    """By colour configuration and space, six colours to the reference and six from it; nothing where it fails."""


class EditNote(Model):
    """One edit of the staging plan, as a line of the record."""

    kind: str
    origin: str
    subject: str
    because: str
    unsolved: tuple[str, ...] = ()
    """Parts of a cached simulation that the bake could not solve, by prim."""


class IdentifierNote(Model):
    """An identifier of an asset system that the scene writes, and the file that it stood for."""

    identifier: str
    version: str = ""
    """As the asset system calls it."""
    path: str
    """In the crate."""


class PackingList(Model):
    """The whole list."""

    packing_list: int = VERSION
    tool: str
    name: str
    format: str
    scene: str
    """The staged scene that a node opens, relative to the crate."""
    original: str = ""
    """The file name that the scene had."""
    requests: tuple[RenderRequest, ...]
    essentials: Essentials
    render: RenderCommand | None
    files: tuple[PackedFile, ...]
    shared: tuple[SharedFile, ...] = ()
    """Files that stay on shared storage, in a crate that was made for it."""
    frame_tokens: dict[str, int] = Field(default_factory=dict)
    """Those of the project."""
    missing: tuple[MissingFile, ...] = ()
    edits: tuple[EditNote, ...] = ()
    identifiers: tuple[IdentifierNote, ...] = ()
    waived: tuple[Waiver, ...] = ()
    settings_maps: tuple[SettingsMap, ...] = ()
    """Those of the project."""
    rules: CheckRules = CheckRules()
    """Those of the project."""
    composition: Composition | None = None
    """Digest of the staged source's composition; None where the format composes nothing, or files stay on a share."""

    def identities(self) -> dict[str, str]:
        """By path in the crate, what a file is: its contents, or its path where staging rewrote it."""
        return {file.path: file.path if file.rewritten else file.blake3 for file in self.files}

    @property
    def from_outside(self) -> tuple[str, ...]:
        """The sources of files that are neither of the project nor made by this tool."""
        own = ("project:", "caches:", "staging")
        return tuple(file.source for file in self.files if not file.source.startswith(own))

    @property
    def tokens(self) -> FrameTokens:
        """The frame tokens that count in the names of this crate's files."""
        return FrameTokens.of(self.frame_tokens)

    @property
    def digest(self) -> str:
        """BLAKE3 of the whole list: another one for any change of what the crate holds or asks for."""
        return blake3(self.model_dump_json().encode()).hexdigest()

    @property
    def tasks(self) -> int:
        """Return how many tasks the requests come to."""
        return sum(request.task_count for request in self.requests)

    def product_path(self, output: str, task: Task) -> PurePosixPath:
        """Return where a product of this crate is at home, below the folder of its job."""
        known = self.output(output)
        if pattern := self.rules.home_folders:
            request = next(one for one in self.requests if one.name == task.request)
            folder = folder_by(pattern, request, task.view, output, known.camera)
            return folder / file_name(naming(known), task, self.tokens)
        return product_path(naming(known), task, by_request=len(self.requests) > 1, tokens=self.tokens)

    def with_home_folders(self, pattern: str | None) -> PackingList:
        """Return this list with another pattern for the folders of frames at home; None for the project's."""
        if pattern is None:
            return self
        return self.model_copy(update={"rules": self.rules.model_copy(update={"home_folders": pattern})})

    def need_paths_apart(self) -> None:
        """Raise WrongUsage where the pattern for folders at home gives two frames one path."""
        if not (pattern := self.rules.home_folders):
            return
        first = (
            self.product_path(output, Task(request.name, request.numbers()[0], view))
            for request in self.requests
            for view in request.view_names
            for output in request.outputs
        )
        if (twice := first_twice(first)) is not None:
            what = f"the folders {pattern!r} give two frames one path: {twice}"
            raise WrongUsage(what, self.name, "put what tells them apart into the pattern: {output}, {view}, {request}")

    @property
    def bytes(self) -> int:
        """Size of all files."""
        return sum(file.bytes for file in self.files)

    @property
    def blocking(self) -> tuple[MissingFile, ...]:
        """Return what is missing, needed and not let go."""
        return tuple(one for one in self.missing if one.needed and not one.let_go)

    def to_render(self) -> tuple[RenderRequest, ...]:
        """The render requests. Raises Blocked when the scene stated nothing that could be rendered."""
        if not self.requests:
            raise Blocked(
                "the crate holds nothing to render: the scene lacks outputs, a frame range or a resolution",
                self.scene,
                "set them in the scene and collect again",
            )
        return self.requests

    def output(self, name: str) -> Output:
        """An output by name."""
        found = next((output for output in self.essentials.outputs if output.name == name), None)
        if found is None:
            raise UnreadableInput("the packing list names an output that it does not describe", name)
        return found


def _views_for_cameras(content: dict[str, Any]) -> dict[str, Any]:
    """From version 1: requests had a list of cameras, and variants that nothing read."""
    requests = []
    for request in content.get("requests", []):
        old = dict(request)
        cameras = old.pop("cameras", [])
        old.pop("variants", None)
        views = [{"name": f"camera-{number}", "camera": camera} for number, camera in enumerate(cameras, 1)]
        requests.append(old | {"views": views})
    return content | {"requests": requests}


SCHEMA = Schema("packing list", "packing_list", VERSION, {1: _views_for_cameras})


def essentials(survey: Survey, crate_paths: dict[Path, str], missing: tuple[str, ...] = ()) -> Essentials:
    """Sum up a survey. crate_paths: where each file is in the crate."""
    found = {
        crate_paths[member.path] for asset in survey.assets for member in asset.members if member.path in crate_paths
    }
    return Essentials(
        frames=survey.frames,
        up_axis=survey.up_axis,
        meters_per_unit=survey.meters_per_unit,
        cameras=tuple(camera.path for camera in survey.cameras),
        outputs=survey.outputs,
        simulations={simulation.name: simulation.state.value for simulation in survey.simulations},
        found=tuple(sorted(found)),
        missing=tuple(sorted(missing)),
        colours=colour_outcomes(survey, crate_paths),
    )


def is_crate(folder: Path) -> bool:
    """Return whether a folder holds a crate, finished or not."""
    return (folder / FILE_NAME).is_file() or (folder / UNFINISHED).exists()


def packing_list_of(text: str | bytes, where: Path | str) -> PackingList:
    """The packing list in a text, of any version. Raises UnreadableInput when it is none."""
    try:
        content = from_json(text)
    except ValueError as error:
        raise UnreadableInput(f"the packing list is not valid JSON ({error})", where) from error
    return validated(PackingList, SCHEMA.upgraded(content, where), SCHEMA.what, where)


def read_packing_list(crate: Path) -> PackingList:
    """Read and check a crate's packing list.

    Raises UnreadableInput when there is none, when collecting has not come to its end, or a path in it is hostile.
    """
    if crate.is_file():
        kind = "a scene" if is_scene(crate) else "a file"
        remedy = f"collect it first: tidy-crate collect {quoted(crate)} -o CRATE" if is_scene(crate) else "name a crate"
        raise UnreadableInput(f"this is {kind}, not a crate", crate, remedy)
    if not crate.is_dir():
        raise UnreadableInput("there is no such crate", crate, "tidy-crate collect SCENE -o CRATE writes one")
    if (crate / UNFINISHED).exists():
        raise UnreadableInput("the crate is not finished", crate, "run collect again to continue")
    if not is_crate(crate):
        remedy = "tidy-crate collect SCENE -o CRATE writes one"
        raise UnreadableInput("this folder is not a crate", crate, remedy)
    return last_packing_list(crate)


def last_packing_list(crate: Path) -> PackingList:
    """The list of the last time that collecting came to its end, whatever has happened to the crate since."""
    path = crate / FILE_NAME
    content = SCHEMA.upgraded(read_json(path, SCHEMA.what, MOST_LIST), path)
    found = validated(PackingList, content, SCHEMA.what, path)
    for file in found.files:
        inside(crate, file.path)
    inside(crate, found.scene)
    return found


def write_packing_list(crate: Path, content: PackingList) -> None:
    """Write the list: the last step of collecting, which makes the crate finished."""
    with writable(crate, PurePosixPath(FILE_NAME)) as target:
        write_bytes(target, content.model_dump_json(indent=1).encode() + b"\n")
