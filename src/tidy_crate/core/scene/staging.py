"""The staging plan: the ordered edits that turn a scene as found into the scene as sent."""

from __future__ import annotations

import fnmatch
from collections.abc import Collection, Iterable
from functools import cached_property
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar

from pydantic import AfterValidator, Field

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.frames import is_frame_list, parse_frames
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.model import Model

# what the picture itself is called where nothing else is said, and what renderers call its source
PICTURE, PICTURE_SOURCE = "beauty", "color"
# frames per second where nobody says, for scenes whose own time is seconds
USUAL_RATE = 24.0


def source_of(name: str) -> str:
    """Return what a renderer calls what a pass of this name shows."""
    return PICTURE_SOURCE if name == PICTURE else name


class _Edit(Model):
    """Common part of all edits."""

    because: str = ""
    """The reason that a person or a stage gave for it."""


class _OfAsset(_Edit):
    """Addresses occurrences by id, or by a pattern for the path as written (`*` and `?`)."""

    asset: str | None = None
    authored: str | None = None

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.asset or self.authored or ""

    def concerns(self, asset: str, authored: str) -> bool:
        """Return whether it addresses this occurrence. The id wins: a pattern counts only where no id is given."""
        if self.asset is not None:
            return self.asset == asset
        return self.authored is not None and (self.authored == authored or fnmatch.fnmatchcase(authored, self.authored))


class Relink(_OfAsset):
    """An occurrence names another file."""

    kind: Literal["relink"] = "relink"
    origin: Literal["relink"] = "relink"
    to: Path
    """Absolute path."""
    folder: str | None = None
    """Used instead of an id or a pattern: a leading folder of the path as written, which `to` replaces."""

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.folder or super().subject

    def concerns(self, asset: str, authored: str) -> bool:
        """Return whether it addresses this occurrence."""
        if self.folder is not None:
            return paths.swap_prefix(authored, self.folder, "/") is not None
        return super().concerns(asset, authored)

    def target(self, authored: str) -> str:
        """The path that an occurrence it concerns takes."""
        whole = str(self.to)
        return whole if self.folder is None else paths.swap_prefix(authored, self.folder, whole) or whole


class Resolved(_Edit):
    """An occurrence of an identifier stands for a file, as the resolver of an asset system says now."""

    kind: Literal["resolved"] = "resolved"
    origin: Literal["resolver"] = "resolver"
    asset: str
    """The occurrence's id."""
    identifier: str
    resolver: str
    to: Path | None = None
    """Absolute path; None where it stands for nothing."""
    version: str = ""
    """As the asset system calls it."""
    was: str | None = None
    """The version that it had when it was last collected, or first seen, where that is another one."""
    trouble: str = ""
    """Why it stands for nothing."""

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.identifier


class LetGo(_OfAsset):
    """A missing file is accepted as missing."""

    kind: Literal["let-go"] = "let-go"
    origin: Literal["relink"] = "relink"


class UseCache(_Edit):
    """A simulation is switched off and its cache composed over the scene."""

    kind: Literal["use-cache"] = "use-cache"
    origin: Literal["bake"] = "bake"
    simulation: str
    layer: Path
    """Absolute path."""
    fingerprint: str
    covers: tuple[int, int]
    prims: tuple[str, ...] = ()
    """Prims whose values are in the cache."""
    files: dict[Path, int] = Field(default_factory=dict)
    """Absolute paths of the files that the layer needs beside it, with sizes."""
    unsolved: tuple[str, ...] = ()
    """Parts of the simulation that the bake could not solve, by prim."""

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.simulation


class _Change(_Edit):
    """A change of something the scene says. was: it holds only as long as the scene says so; None: whatever it says.

    So a mend of one version does not undo what the artist fixed in the next.
    """

    origin: Literal["override", "mend"] = "override"
    was: str | float | bool | tuple[str, ...] | None = None

    def holds(self, now: Any) -> bool:
        """Return whether it is in force, given what the scene says now; nothing said counts as an empty text."""
        if self.was is None:
            return True
        now = tuple(map(str, now)) if isinstance(now, list | tuple) else now
        return self.was == ("" if now is None else now)


class OutputPath(_Change):
    """An output is written to another path."""

    kind: Literal["output-path"] = "output-path"
    output: str
    path: str

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.output


class ChooseCamera(_Change):
    """An output is rendered through another camera."""

    kind: Literal["choose-camera"] = "choose-camera"
    output: str
    camera: str

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return self.output


class SetSetting(_Change):
    """A setting takes another value."""

    kind: Literal["set-setting"] = "set-setting"
    owner: str
    """As the survey shows it."""
    name: str
    """As the survey shows it."""
    value: str | float | bool | tuple[str, ...]

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return f"{self.owner} {self.name}"


class OrderedProduct(Model):
    """One output that a person orders from outside of the scene."""

    path: str = ""
    """With a frame token; empty for the project's naming rule, or for what the scene says already."""
    passes: tuple[Annotated[str, Field(min_length=1)], ...] = ()
    """Names of the passes; empty for the picture alone, or for what the scene says already."""


class RenderParts(Model):
    """The parts of a request that can be said from outside of a scene."""

    frames: Annotated[str, AfterValidator(is_frame_list)] | None = None
    """A frame list, such as `1-48`."""
    fps: float | None = Field(default=None, gt=0, le=1000)
    """Frames per second, for a scene whose own time is seconds. A scene with time codes has its own rate."""
    camera: str | None = None
    """By its path, or by its name where no other camera has it."""
    resolution: tuple[Annotated[int, Field(ge=1, le=65536)], Annotated[int, Field(ge=1, le=65536)]] | None = None
    """Pixels: width and height."""
    output: dict[str, OrderedProduct] = Field(default_factory=dict)
    """By the output's name."""

    @property
    def says(self) -> tuple[str, ...]:
        """The parts of a request that it states."""
        return tuple(name for name in RenderParts.model_fields if getattr(self, name))

    @property
    def range(self) -> tuple[int, int] | None:
        """The first and the last frame; None where no frames are stated."""
        numbers = parse_frames(self.frames) if self.frames is not None else ()
        return (min(numbers), max(numbers)) if numbers else None


class RenderOrder(_Edit, RenderParts):
    """An order of what is to be rendered, said from outside of a scene that states nothing of it, or something else."""

    kind: Literal["render"] = "render"
    origin: Literal["decisions", "project"] = "decisions"
    named: dict[str, str] = Field(default_factory=dict)
    """By the project's naming rule, the paths of outputs for which neither the scene nor the order states one."""

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return "render"

    def chosen(self, cameras: Iterable[str]) -> str | None:
        """Return the path of the camera that is meant. cameras: the paths of all.

        Raises UnreadableInput that lists them where it is none of them, or several.
        """
        if self.camera is None:
            return None
        there = list(cameras)
        found = [one for one in there if one == self.camera] or [
            one for one in there if self.camera in (one.rpartition("/")[2], one.partition(" ")[2])
        ]
        if len(found) == 1:
            return found[0]
        what = f"{len(found)} cameras are called {self.camera!r}" if found else f"there is no camera {self.camera!r}"
        listed = ", ".join(there[:20]) or "none"
        raise UnreadableInput(f"{what}, which the {self.origin} ask for", self.camera, f"the scene's cameras: {listed}")

    def outputs(self, stated: Collection[str]) -> dict[str, OrderedProduct]:
        """Return the outputs to be written, by name. stated: the names of those that the scene states itself."""
        wanted = self.output or ({} if stated else {PICTURE: OrderedProduct()})
        return {
            name: one if one.path or name in stated else one.model_copy(update={"path": self.named.get(name, "")})
            for name, one in wanted.items()
        }


class SearchPath(_Edit):
    """Bare paths are looked for in these folders too, in order, after the folder of the file that names them."""

    kind: Literal["search-path"] = "search-path"
    origin: Literal["project"] = "project"
    folders: tuple[Path, ...]
    """Absolute paths."""

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return "search path"


class ChooseVariant(_Edit):
    """Another look of a prim is selected."""

    kind: Literal["choose-variant"] = "choose-variant"
    origin: Literal["request"] = "request"
    prim: str
    set: str
    """Name of the prim's variant set."""
    choice: str

    @property
    def subject(self) -> str:
        """Return what the edit is about, for the record."""
        return f"{self.prim}{{{self.set}={self.choice}}}"


Edit = Annotated[
    Relink
    | LetGo
    | UseCache
    | OutputPath
    | ChooseCamera
    | SetSetting
    | ChooseVariant
    | SearchPath
    | RenderOrder
    | Resolved,
    Field(discriminator="kind"),
]
E_co = TypeVar("E_co", bound=_Edit)


C = TypeVar("C", bound=_Change)


def _strongest(edits: Iterable[C]) -> C | None:
    found = list(edits)
    return next((e for e in reversed(found) if e.origin == "override"), found[-1] if found else None)


class StagingPlan(Model):
    """Typed edits in the order they take effect; of two that meet, the later one holds."""

    edits: tuple[Edit, ...] = ()

    def of(self, kind: type[E_co]) -> tuple[E_co, ...]:
        """The edits of one type, in order."""
        return tuple(edit for edit in self.edits if isinstance(edit, kind))

    def relink(self, asset: str, authored: str) -> Relink | None:
        """The relink in force for an occurrence: one of its own before one of its folder."""
        if not self._relinks:
            return None
        found = [edit for edit in self._relinks if edit.concerns(asset, authored)]
        return next((edit for edit in found if edit.folder is None), next(iter(found), None))

    def value(self, asset: str, authored: str, otherwise: str) -> tuple[str, bool]:
        """The path in force for an occurrence, and whether a relink made it so."""
        relink = self.relink(asset, authored)
        if relink is not None:
            return relink.target(authored), True
        resolved = self.resolved(asset)
        return (str(resolved.to), True) if resolved is not None and resolved.to is not None else (otherwise, False)

    def resolved(self, asset: str) -> Resolved | None:
        """Return what the resolver of an asset system says of an occurrence."""
        return self._resolved.get(asset)

    @cached_property
    def _resolved(self) -> dict[str, Resolved]:
        return {edit.asset: edit for edit in self.of(Resolved)}

    @cached_property
    def _relinks(self) -> tuple[Relink, ...]:
        # asked for every occurrence of a scene
        return tuple(reversed(self.of(Relink)))

    @cached_property
    def search(self) -> tuple[Path, ...]:
        """The folders in which bare paths are looked for too."""
        return tuple(folder for edit in self.of(SearchPath) for folder in edit.folders)

    def let_go(self, asset: str, authored: str) -> LetGo | None:
        """The decision to do without an occurrence's file."""
        return next((e for e in reversed(self.of(LetGo)) if e.concerns(asset, authored)), None)

    @property
    def changes(self) -> bool:
        """Return whether anything that the scene says of its rendering is changed."""
        return any(isinstance(edit, _Change | RenderOrder) for edit in self.edits)

    @property
    def render(self) -> RenderOrder | None:
        """The order from outside, the later edit before the earlier one in each of its parts."""
        orders = self.of(RenderOrder)
        if not orders:
            return None
        parts = [{name: getattr(order, name) for name in order.says} for order in orders]
        return orders[-1].model_copy(update={name: value for part in parts for name, value in part.items()})

    @property
    def said(self) -> dict[str, str]:
        """By part of a request that is said from outside of the scene, where it is said."""
        return {name: order.origin for order in self.of(RenderOrder) for name in order.says}

    def output_path(self, output: str) -> OutputPath | None:
        """The path that an output is given; what a person overrides wins over a mend."""
        return _strongest(e for e in self.of(OutputPath) if e.output == output)

    def camera(self, output: str) -> ChooseCamera | None:
        """The camera that an output is given."""
        return _strongest(e for e in self.of(ChooseCamera) if e.output == output)

    def setting(self, owner: str, name: str) -> SetSetting | None:
        """The value that a setting is given."""
        return _strongest(e for e in self.of(SetSetting) if (e.owner, e.name) == (owner, name))

    def cache(self, simulation: str) -> UseCache | None:
        """The cache in force for a simulation."""
        return next((e for e in reversed(self.of(UseCache)) if e.simulation == simulation), None)
