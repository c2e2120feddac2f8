"""Survey: all that was found in a scene, in one shape for every scene format."""

from __future__ import annotations

import math
from enum import StrEnum
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any

from pydantic import ConfigDict, Field, PlainSerializer, PlainValidator, computed_field

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.frames import frame_count
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.model import Model


class FrameRange(Model):
    """First and last frame, both counted. A frame's number is its time code in the scene."""

    # `count` is written out for scripts, and is no input when it is read back
    model_config = ConfigDict(frozen=True, extra="ignore")

    start: int | None
    """None where the scene states none."""
    end: int | None
    step: int = 1
    """Time codes from one frame to the next."""
    fps: float
    """Frames per second."""
    time_codes_per_second: float | None = None
    """None where a frame is a time code, as in most scenes."""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def count(self) -> int:
        """Return how many frames that is: `(end - start) // step + 1`."""
        return 0 if self.start is None or self.end is None else frame_count(self.start, self.end, self.step)

    @property
    def codes_per_second(self) -> float:
        """The rate at which the scene's time runs: what a simulation's step is worked out from."""
        return self.time_codes_per_second or self.fps

    def numbers(self) -> range:
        """All frame numbers; empty where there is no valid range."""
        return range(self.start, self.end + 1, self.step) if self.count else range(0)  # type: ignore[operator,arg-type]


class Camera(Model):
    """A camera."""

    path: str
    shutter: tuple[float, float] | None = None
    """Frames from a frame's own time to the opening and the closing. None where the format does not say."""
    moves: tuple[int, int] | None = None
    """First and last frame at which its pose changes, None for one that stands still."""
    lens: tuple[int, int] | None = None
    """First and last frame at which its zoom, focus or another value of its own changes."""
    keyed: tuple[int, int] | None = None
    """First and last frame at which its pose is keyed at all, inside the range or not."""
    renders: tuple[str, ...] = ()
    trouble: str | None = None
    """The reason why its pose cannot be evaluated, so that its motion is unknown."""

    @property
    def changes(self) -> bool:
        """Return whether its picture of a scene in which nothing moves differs from frame to frame."""
        return self.moves is not None or self.lens is not None


class Resolution(Model):
    """Pixels before the scale factor, and the factor."""

    width: int
    height: int
    scale: float = 1.0

    @property
    def rendered(self) -> tuple[int, int]:
        """Width and height that really come out. A scale that is not a number counts for nothing, and check says so."""
        scale = self.scale if math.isfinite(self.scale) else 1.0
        return max(1, round(self.width * scale)), max(1, round(self.height * scale))


class Pass(Model):
    """A render variable (AOV)."""

    name: str
    source: str
    """The quantity that the renderer computes."""
    data_type: str
    """As the scene states it."""


class Output(Model):
    """One product of a render: a file per frame with one or more passes."""

    name: str
    """Unique in the scene."""
    prim: str
    path: str
    """As the scene states it, with the frame token. Empty when it states none."""
    format: str | None
    """From the path's extension ("exr"), None while unknown."""
    passes: tuple[str, ...]
    variables: tuple[Pass, ...] = ()
    camera: str | None = None
    """None when none is chosen."""
    resolution: Resolution | None = None
    # left, bottom, right, top as shares of the picture; None for all of it
    region: tuple[float, float, float, float] | None = None
    colour_space: str | None = None
    """Of its pictures, None where the scene does not say."""
    compression: str | None = None
    """The file format's own word for it."""
    bit_depth: int | None = None
    """Bits of the channel with the fewest."""
    product_type: str = "raster"
    """`raster`, `deepRaster` or a renderer's own kind of product."""
    pixel_aspect: float = 1.0
    """Width of a pixel by its height."""
    changing: tuple[str, ...] = ()
    """Parts of it that differ between frames of the range, though a render has one of each: its name, its size."""


class Status(StrEnum):
    """Status of an asset's files. partial: some members of a set are missing."""

    FOUND = "found"
    PARTIAL = "partial"
    MISSING = "missing"
    LET_GO = "let-go"


@lru_cache(1 << 17)
def _path(text: str) -> Path:
    return Path(text)


def _as_path(value: Any) -> Path:
    if isinstance(value, Path):
        return value
    if not isinstance(value, str):
        raise ValueError("a path is a text")
    return _path(value)


# the same few paths stand in a survey by the hundred thousand: each is taken apart once
FilePath = Annotated[
    Path,
    PlainValidator(_as_path, json_schema_input_type=str),
    PlainSerializer(str, return_type=str, when_used="json"),
]


class AssetMember(Model):
    """One file of an asset; frame or tile say which of a set it is."""

    path: FilePath
    frame: int | None = None
    tile: int | None = None
    plays: tuple[float, ...] = ()
    """Times of the scene from which on it plays, one for each place that plays the sequence at times of its own.

    It plays until another member does, and the first one before its time too. Empty where a file belongs to the frame
    of its own number.
    """
    bytes: int
    mtime_ns: int


class Asset(Model):
    """One occurrence: one place in the scene that names a file, and the files that it stands for."""

    # `files` and `bytes` are written out for scripts, and are no input when it is read back
    model_config = ConfigDict(frozen=True, extra="ignore", defer_build=True)

    id: str
    """Stable between versions of a scene."""
    authored: str
    """The path as written."""
    value: str
    """The path in force after expressions and relinks."""
    layer: FilePath
    """The file that the path is written in."""
    owner: str
    """The prim or property there."""
    field: str
    """The kind of opinion: reference, subLayers, default, timeSamples, …"""
    context: str = ""
    """The context that the path was resolved in, where that changes the answer."""
    evaluated: str = ""
    """The value of an expression before any relink, where the path is an expression."""
    within: str = ""
    leads: str = ""
    time: float | None = None
    """Time of the sample that names it."""
    used_by: tuple[str, ...] = ()
    """Some of the prims in the composed scene that it reaches."""
    kind: str
    resolved: FilePath | None
    """Absolute path, or the pattern of a set. None when the path can point nowhere on this system."""
    members: tuple[AssetMember, ...] = ()
    missing_members: tuple[str, ...] = ()
    status: Status
    trouble: str | None = None
    """The reason why members are missing."""
    needed: bool = True
    """True if this render request uses it."""
    because: str = ""
    """The reason why it is needed, or is not."""
    relinked: bool = False
    identifier: str = ""
    """The identifier of an asset system that the path stands for, where a resolver was asked."""
    version: str = ""
    """The version of what it stands for, as the asset system calls it."""
    version_before: str | None = None
    """The one that it had when it was last collected, or first seen, where that is another one."""

    @property
    def resolved_but_unread(self) -> bool:
        """Return whether the file is there but could not be read as what it should be."""
        return self.status is Status.MISSING and bool(self.members)

    @property
    def missing_path(self) -> str:
        """Return where in a crate the scene points for a file that is not there: nowhere outside it."""
        name = paths.file_name(self.value) or "unnamed"
        plain = "".join(c if c.isprintable() and c not in '<>:"|?*`$[]{}\\' else "_" for c in name)
        return f"missing/{self.id}/{plain[:120]}"

    @computed_field  # type: ignore[prop-decorator]
    @property
    def files(self) -> int:
        """Number of files that are there."""
        return len(self.members)

    @computed_field  # type: ignore[prop-decorator]
    @property
    def bytes(self) -> int:
        """Their size on disk."""
        return sum(member.bytes for member in self.members)


class SimulationState(StrEnum):
    """live: solved again by every machine. stale: cached from other inputs. partial: cached in part of the range."""

    LIVE = "live"
    CACHED = "cached"
    STALE = "stale"
    PARTIAL = "partial"


class Simulation(Model):
    """Something whose look at a frame depends on the frame before."""

    name: str
    kind: str
    state: SimulationState
    start: int
    """The frame at which its motion begins, which may be before the range."""
    cache: Path | None = None
    covers: tuple[int, int] | None = None
    """First and last frame in the cache."""
    gaps: tuple[int, ...] = ()
    """Frames in between that the cache lacks."""
    depends_on: tuple[str, ...] = ()
    prims: tuple[str, ...] = ()
    """Prims that it sets."""
    why: str = ""
    trouble: tuple[str, ...] = ()
    """Parts that cannot be baked here, by prim."""
    refused: tuple[str, ...] = ()
    """Why it cannot be baked here at all, by prim."""
    fingerprint: str = ""
    """Digest of everything that it is computed from."""
    slot: str = ""
    """The slot of the scene that names the cache, where the format has such."""
    cache_named: bool = False
    """True if it names a cache and is solved all the same."""


class Generator(Model):
    """Something that a node without the same plug-ins, fonts or scripts cannot evaluate."""

    name: str
    kind: str
    frozen: bool
    """True if it is plain data already."""
    can_freeze: bool
    """True if the host's own command line can turn it into plain data in the staged copy."""


class Setting(Model):
    """A raw renderer setting as the scene states it."""

    owner: str
    name: str
    value: Any
    means: str | None = None
    """The canonical name, None where no settings map knows it."""
    canonical: Any = None
    """The value in canonical terms."""


class Software(Model):
    """A program the scene says it was made with or renders with."""

    name: str
    version: str
    role: str


class Feature(Model):
    """Something the scene uses that not every version of a program has."""

    name: str
    software: str = ""
    """The program that it belongs to. Empty for a feature of the scene format itself."""
    since: str | None = None
    """The first version that has it, None where the scene does not say."""
    experimental: bool = False
    """True if its makers call it so."""
    where: str = ""
    """One prim or file that uses it."""
    required: bool = False
    """The scene itself says that it cannot be shown right without it."""


class Material(Model):
    """A material made for certain renderers only."""

    name: str
    contexts: tuple[str, ...]
    """The renderers that it is made for."""


class Variant(Model):
    """An alternate look of a prim."""

    prim: str
    set: str
    selected: str
    choices: tuple[str, ...]


class Look(Model):
    """One choice of a variant set, surveyed as if it were selected."""

    prim: str
    set: str
    choice: str
    selected: bool
    cameras: tuple[str, ...] = ()
    frames: FrameRange | None = None
    animated: tuple[int, int] | None = None
    resolution: Resolution | None = None
    settings: dict[str, Any] = Field(default_factory=dict)
    """Canonical settings."""
    missing: int = 0
    """Number of needed files that are not there."""
    error: str | None = None
    """The reason why it cannot be read, if so."""


class MemoryNeed(Model):
    """Least memory of a machine in bytes, before the renderer's own needs."""

    textures: int
    """Needed textures decoded at full size with all mip levels, identical files once."""
    texture_files: int
    geometry: int | None
    """Arrays of everything that renders at the first frame, instances once, before subdivision."""
    unknown: tuple[str, ...] = ()
    """Textures whose header cannot be read."""

    @computed_field  # type: ignore[prop-decorator]
    @property
    def least(self) -> int:
        """Textures, and geometry with a search structure of its own size."""
        return self.textures + 2 * (self.geometry or 0)


class Totals(Model):
    """Sums over the scene. Each file counts once, however often it is named; bytes are on disk."""

    assets: int
    files: int
    bytes: int
    missing: int
    needed_missing: int
    live_simulations: int


class LinkKind(StrEnum):
    """Kind of a broken link."""

    COMPOSITION = "composition"
    """Opinions of another layer or prim."""
    TARGET = "target"
    """Target of a relationship or connection, without which a render lacks something."""
    OTHER_TARGET = "other-target"
    """Target of any other relationship."""
    UNITS = "units"
    """A layer in other units or with another up axis, brought in as if it had the scene's own."""


class BrokenLink(Model):
    """A place in the scene that leads to something which is not there, or not as it should be."""

    kind: LinkKind
    where: str
    """The prim or property that holds it."""
    what: str
    """The trouble, in words."""
    needed: bool = True
    """True if something that renders depends on it."""


class Why(StrEnum):
    """Reason why the files behind a file are unknown."""

    BROKEN = "broken"
    """The file is there and cannot be read."""
    NO_READER = "no-reader"
    """Nothing here reads files of this format."""


class Unread(Model):
    """A scene file that could not be read, so that prims behind it are unseen."""

    path: Path
    why: Why
    detail: str = ""
    """The reader's own reason, in words; empty for a file without a reader."""

    def __str__(self) -> str:
        if self.why is Why.NO_READER:
            return f"{self.path}: no reader for this format here, prims behind it are unseen"
        return f"{self.path}: {self.detail}"


class Survey(Model):
    """All that was found in a scene."""

    scene: Path
    format: str
    staged: bool
    frames: FrameRange
    animated: tuple[int, int] | None = None
    up_axis: str
    meters_per_unit: float
    cameras: tuple[Camera, ...]
    resolution: Resolution | None
    outputs: tuple[Output, ...]
    assets: tuple[Asset, ...]
    simulations: tuple[Simulation, ...]
    generators: tuple[Generator, ...] = ()
    settings: tuple[Setting, ...]
    canonical: dict[str, Any] = Field(default_factory=dict)
    """Settings in canonical terms, `unknown` where no map covers them."""
    software: tuple[Software, ...]
    renderer: str | None = None
    """The renderer that the scene is set up for, None where it is unknown."""
    features: tuple[Feature, ...] = ()
    materials: tuple[Material, ...] = ()
    """Materials that only certain renderers read."""
    material_contexts: tuple[str, ...] = ()
    """The material contexts that this renderer reads, empty where that is unknown."""
    fonts: tuple[str, ...] = ()
    """Families that the host looks up on the machine."""
    scripts: tuple[str, ...] = ()
    """Prims or files that run code when the scene opens."""
    unknown_types: dict[str, str] = Field(default_factory=dict)
    """Types of prims that no schema here knows, with one prim of each."""
    said: dict[str, str] = Field(default_factory=dict)
    """Parts of what is to be rendered that are said from outside of the scene, with where: decisions or project."""
    asked_frames: str | None = None
    """The frame list that is ordered from outside, None for all of the range."""
    unknown_simulations: dict[str, str] = Field(default_factory=dict)
    """Types and schemas that no schema here knows and whose names speak of a simulation, with one prim of each."""
    text_files: dict[str, str] = Field(default_factory=dict)
    """Files that are there and that only a text names, which no settings map declares, by attribute."""
    inactive_outputs: tuple[str, ...] = ()
    """Outputs that the render settings name and that are switched off."""
    colour_configuration: str | None = None
    """The file as written, None where the scene names none."""
    settings_prim: str | None = None
    """Path of the render settings."""
    fraction: tuple[float, float] | None = None
    """The authored range when its ends are no whole frames."""
    variants: tuple[Variant, ...]
    motion: str
    """`still`, `camera` (only the camera moves) or `things`."""
    unread: tuple[Unread, ...] = ()
    broken_links: tuple[BrokenLink, ...] = ()
    render_settings_choices: tuple[str, ...] = ()
    """The render settings that there are, where there are several and the scene chooses none of them."""
    totals: Totals
    frame_tokens: dict[str, int] = Field(default_factory=dict)
    """The frame tokens that the project declares, each with its least number of digits."""
    layers: tuple[Path, ...] = ()
    """The files that the scene itself consists of, in the order in which they were met."""

    @property
    def tokens(self) -> FrameTokens:
        """The frame tokens that count in this scene's file names."""
        return FrameTokens.of(self.frame_tokens)


def totals(assets: tuple[Asset, ...], simulations: tuple[Simulation, ...]) -> Totals:
    """Sum up assets and simulations."""
    sizes = {member.path: member.bytes for asset in assets for member in asset.members}
    missing = [asset for asset in assets if asset.status in (Status.MISSING, Status.PARTIAL)]
    return Totals(
        assets=len(assets),
        files=len(sizes),
        bytes=sum(sizes.values()),
        missing=len(missing),
        needed_missing=sum(asset.needed for asset in missing),
        live_simulations=sum(simulation.state is not SimulationState.CACHED for simulation in simulations),
    )
