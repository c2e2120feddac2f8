"""The scene sheet itself, with a published JSON Schema (`tidy-crate sheet schema`)."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import Field, field_validator

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import read_json
from tidy_crate.core.model import Model, validated
from tidy_crate.core.patterns import in_words
from tidy_crate.core.scene.model import SimulationState
from tidy_crate.core.work.command import RenderCommand

VERSION = 1
# bytes
MOST_SHEET = 256 << 20
SUFFIX = ".sheet.json"


class SheetSoftware(Model):
    """A program with its version as it states it itself."""

    name: str = Field(min_length=1)
    version: str = Field(min_length=1)


class SheetFrames(Model):
    """Both ends counted."""

    start: int
    end: int
    step: int = Field(default=1, ge=1)
    fps: float = Field(gt=0)
    """Frames per second."""


class SheetResolution(Model):
    """Pixels before the scale factor, and the factor."""

    width: int = Field(ge=1)
    height: int = Field(ge=1)
    scale: float = Field(default=1.0, gt=0)


class SheetCamera(Model):
    """A camera."""

    name: str = Field(min_length=1)
    moves: tuple[int, int] | None = None
    """First and last frame at which its pose changes, null for one that stands still."""


class SheetPass(Model):
    """A render pass (AOV)."""

    name: str = Field(min_length=1)
    source: str = ""
    """The quantity that the renderer computes. Left out: the name itself."""
    data_type: str = ""


class SheetOutput(Model):
    """One product of a render."""

    name: str = Field(min_length=1)
    path: str
    """With a frame token. Empty where the scene states none."""
    passes: tuple[SheetPass, ...] = ()
    camera: str | None = None
    colour_space: str | None = None
    compression: str | None = None
    """The file format's own word for it."""
    bit_depth: int | None = Field(default=None, ge=1)
    """Bits of a channel."""


class SheetAsset(Model):
    """One place in the scene that names a file."""

    slot: str = Field(min_length=1)
    """A name for this asset, by which the host's relink command finds it again."""
    path: str = Field(min_length=1)
    """As the scene has it, relative to the scene's folder."""
    kind: str = "file"
    needed: bool = True
    """False only where the exporter is sure that these frames do not use it."""
    because: str = ""


class SheetSimulation(Model):
    """Something whose look at a frame depends on the frame before."""

    name: str = Field(min_length=1)
    kind: str = "simulation"
    cache: str = ""
    """The file name that the host's bake command gives to the cache of each frame, with a frame token."""
    slot: str = ""
    """The slot by which the relink command is told the path of the cache.

    The scene must then use the cache and solve no more.
    """
    state: SimulationState
    start: int
    covers: tuple[int, int] | None = None
    depends_on: tuple[str, ...] = ()
    why: str = "its look at a frame depends on the frame before"


class SheetGenerator(Model):
    """Something that a node without the same plug-ins, fonts or scripts cannot evaluate."""

    name: str = Field(min_length=1)
    kind: str = Field(min_length=1)
    """In plain words: "text", "plug-in generator", "script", "stored lighting"."""
    frozen: bool = False
    """True if it is plain data already."""


class SheetFeature(Model):
    """Something in use that not every version of a program has."""

    name: str = Field(min_length=1)
    software: str = ""
    """Left out: the host."""
    since: str | None = None
    """The first version that has it."""
    experimental: bool = False
    where: str = ""


class SheetMaterial(Model):
    """A material that works in certain renderers only."""

    name: str = Field(min_length=1)
    renderers: tuple[str, ...] = Field(min_length=1)


class SheetCommands(Model):
    """The host's own command lines, as lists of words with placeholders; run on the staged copy only."""

    relink: tuple[str, ...] = ()
    """Takes {host_scene} and {paths}, a JSON file from slot to new path."""
    export: tuple[str, ...] = ()
    """Takes {host_scene} and {sheet}. Writes a fresh sheet, by which the copy is verified."""
    bake: tuple[str, ...] = ()
    """Takes {host_scene}, {simulation}, {start}, {first}, {last} and {cache_folder}."""
    bake_done: str | None = None
    """A regular expression for the line that it prints per baked frame, with the group `frame`."""
    freeze: tuple[str, ...] = ()
    """Takes {host_scene} and {names}, a JSON list of generators that become plain data."""
    time_limit: float = Field(default=1800.0, gt=0)
    """Seconds for each of the commands."""
    render: RenderCommand | None = None
    """See the render command of a project.

    {host_scene} is the host's scene, {python} the interpreter that runs this tool.
    """

    @field_validator("bake_done")
    @classmethod
    def _has_its_group(cls, text: str | None) -> str | None:
        if text is not None:
            in_words("bake_done", text, ["frame"])
        return text

    def lines(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Yield the command lines that there are, each with its purpose."""
        own = {"relink": self.relink, "export": self.export, "bake": self.bake, "freeze": self.freeze}
        yield from ((purpose, words) for purpose, words in own.items() if words)
        if self.render is not None:
            yield "render", self.render.command


class Sheet(Model):
    """A whole scene sheet."""

    scene_sheet: int = VERSION
    scene: str = Field(min_length=1)
    """The host's scene file, relative to the sheet's folder."""
    host: SheetSoftware
    renderer: SheetSoftware | None = None
    plugins: tuple[SheetSoftware, ...] = ()
    frames: SheetFrames | None = None
    up_axis: str = Field(default="Y", pattern="^[XYZ]$")
    meters_per_unit: float = Field(default=1.0, gt=0)
    resolution: SheetResolution | None = None
    cameras: tuple[SheetCamera, ...] = ()
    outputs: tuple[SheetOutput, ...] = ()
    assets: tuple[SheetAsset, ...] = ()
    simulations: tuple[SheetSimulation, ...] = ()
    generators: tuple[SheetGenerator, ...] = ()
    features: tuple[SheetFeature, ...] = ()
    materials: tuple[SheetMaterial, ...] = ()
    fonts: tuple[str, ...] = ()
    """Families that the host looks up on the machine."""
    scripts: tuple[str, ...] = ()
    """Names of scripts that run when the scene opens."""
    colour_configuration: str | None = None
    """The path as the scene has it."""
    settings: dict[str, Any] = Field(default_factory=dict)
    """The renderer's own settings, by the names that settings maps use."""
    motion: str = Field(default="things", pattern="^(still|camera|things)$")
    commands: SheetCommands = SheetCommands()


def read_sheet(path: Path) -> Sheet:
    """Read and check a sheet. Raises UnreadableInput that names the first thing wrong with it."""
    sheet = validated(Sheet, read_json(path, "scene sheet", MOST_SHEET), "scene sheet", path)
    if sheet.scene_sheet != VERSION:
        raise UnreadableInput(f"the scene sheet is of version {sheet.scene_sheet}, this tool reads {VERSION}", path)
    for what, names in (
        ("slot", [asset.slot for asset in sheet.assets]),
        ("output", [output.name for output in sheet.outputs]),
        ("camera", [camera.name for camera in sheet.cameras]),
        ("simulation", [simulation.name for simulation in sheet.simulations]),
        ("generator", [generator.name for generator in sheet.generators]),
    ):
        twice = next((name for name in names if names.count(name) > 1), None) if len(set(names)) < len(names) else None
        if twice is not None:
            raise UnreadableInput(
                f"the scene sheet names the {what} '{twice}' twice", path, "give each a name of its own"
            )
    return sheet


def host_scene(path: Path, sheet: Sheet) -> Path:
    """The host's scene file that a sheet speaks for."""
    return path.parent / sheet.scene
