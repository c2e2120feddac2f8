"""The packing list: what a crate holds and what it is for. It knows no farm, no user, no machine and no time."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field

from tidy_crate.core.check.rules import CheckRules
from tidy_crate.core.errors import Blocked, UnreadableInput
from tidy_crate.core.files import inside, read_json, write_json
from tidy_crate.core.model import Model, validated
from tidy_crate.core.scene.decisions import RenderCommand, Waiver
from tidy_crate.core.scene.model import FrameRange, Output, Survey
from tidy_crate.core.scene.request import RenderRequest
from tidy_crate.core.scene.settings import SettingsMap

FILE_NAME = "packing-list.json"
# lies in the folder while collect has not come to its end
UNFINISHED = ".tidy-crate-unfinished"
VERSION = 1


class PackedFile(Model):
    """One file. path: in the crate, forward slashes. source: where it came from, by a root's alias, never absolute."""

    path: str
    bytes: int = Field(ge=0)
    blake3: str = Field(pattern=r"^[0-9a-f]{64}$")
    source: str
    rewritten: bool = False


class SharedFile(Model):
    """One file that stays on shared storage. path: as nodes see it."""

    path: str
    bytes: int = Field(ge=0)


class MissingFile(Model):
    """Something the scene names and the crate lacks. path: where the crate's scene now points for it."""

    asset: str
    authored: str
    path: str
    needed: bool
    let_go: bool
    because: str


class Essentials(Model):
    """What must be the same in the staged scene and in the crate, whoever reads it."""

    frames: FrameRange
    up_axis: str
    meters_per_unit: float
    cameras: tuple[str, ...]
    outputs: tuple[Output, ...]
    simulations: dict[str, str]
    found: tuple[str, ...]
    missing: tuple[str, ...]


class EditNote(Model):
    """One edit of the staging plan, as a line of the record."""

    kind: str
    origin: str
    subject: str
    because: str


class PackingList(Model):
    """The whole list. scene: the staged scene that a node opens, relative to the crate; original: the name it had.

    shared: what stays on shared storage, in a crate that was made for it. frame_tokens, settings_maps, rules: those of
    the project.
    """

    packing_list: int = VERSION
    tool: str
    name: str
    format: str
    scene: str
    original: str = ""
    requests: tuple[RenderRequest, ...]
    essentials: Essentials
    render: RenderCommand | None
    files: tuple[PackedFile, ...]
    shared: tuple[SharedFile, ...] = ()
    frame_tokens: dict[str, int] = Field(default_factory=dict)
    missing: tuple[MissingFile, ...] = ()
    edits: tuple[EditNote, ...] = ()
    waived: tuple[Waiver, ...] = ()
    settings_maps: tuple[SettingsMap, ...] = ()
    rules: CheckRules = CheckRules()

    @property
    def bytes(self) -> int:
        """Size of all files."""
        return sum(file.bytes for file in self.files)

    @property
    def blocking(self) -> tuple[MissingFile, ...]:
        """What is missing, needed and not let go."""
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


def essentials(survey: Survey, places: dict[Path, str], missing: tuple[str, ...] = ()) -> Essentials:
    """Sum up a survey. places: where each file lies in the crate."""
    found = {places[member.path] for asset in survey.assets for member in asset.members if member.path in places}
    return Essentials(
        frames=survey.frames,
        up_axis=survey.up_axis,
        meters_per_unit=survey.meters_per_unit,
        cameras=tuple(camera.path for camera in survey.cameras),
        outputs=survey.outputs,
        simulations={simulation.name: simulation.state.value for simulation in survey.simulations},
        found=tuple(sorted(found)),
        missing=tuple(sorted(missing)),
    )


def is_crate(folder: Path) -> bool:
    """Whether a folder holds a crate, finished or not."""
    return (folder / FILE_NAME).is_file() or (folder / UNFINISHED).exists()


def read_packing_list(crate: Path) -> PackingList:
    """Read and check a crate's packing list.

    Raises UnreadableInput when there is none, when collecting has not come to its end, or a path in it is hostile.
    """
    if not crate.is_dir():
        raise UnreadableInput("there is no such crate", crate, "collect writes one")
    if (crate / UNFINISHED).exists():
        raise UnreadableInput("the crate is not finished", crate, "run collect again, it goes on where it stopped")
    if not is_crate(crate):
        raise UnreadableInput("this folder is no crate", crate, "collect writes one")
    return last_packing_list(crate)


def last_packing_list(crate: Path) -> PackingList:
    """The list of the last time that collecting came to its end, whatever has happened to the crate since."""
    path = crate / FILE_NAME
    found = validated(PackingList, read_json(path, "packing list"), "packing list", path)
    if found.packing_list != VERSION:
        raise UnreadableInput(f"the packing list is of version {found.packing_list}, this tool reads {VERSION}", path)
    for file in found.files:
        inside(crate, file.path)
    inside(crate, found.scene)
    return found


def write_packing_list(crate: Path, content: PackingList) -> None:
    """Write the list: the last step of collecting, which makes the crate finished."""
    write_json(crate / FILE_NAME, content.model_dump(mode="json"))
