"""Decisions: the small file beside a scene that people read, edit and keep under version control."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date
from pathlib import Path
from typing import Annotated, Any, Literal

import tomlkit
from pydantic import Field, model_validator
from tomlkit.exceptions import TOMLKitError

from tidy_crate.core.asset.paths import scene_stem, version_of, without_version
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import only_one, os_reason, read_input, write_bytes
from tidy_crate.core.model import Model, validated
from tidy_crate.core.scene.staging import (
    PICTURE,
    ChooseCamera,
    Edit,
    LetGo,
    OutputPath,
    Relink,
    RenderOrder,
    RenderParts,
    SetSetting,
)
from tidy_crate.core.schema import Schema
from tidy_crate.core.toml import read_toml
from tidy_crate.core.work.command import RenderCommand

HEADER = """\
Decisions about this scene: relinks, waivers with their reasons, overrides.
Edit it freely, comments stay. Relative paths start at the scene's folder.
"""


class RelinkDecision(Model):
    """An occurrence (by id, or by a pattern for the path as written) takes another file, or a whole folder moved."""

    asset: str | None = None
    authored: str | None = None
    folder: str | None = None
    to: str
    because: str = ""


class LetGoDecision(Model):
    """A missing file is done without."""

    asset: str | None = None
    authored: str | None = None
    because: str = Field(min_length=1)


class Waiver(Model):
    """A finding is accepted: by code, or by code and subject."""

    code: str
    subject: str | None = None
    because: str = Field(min_length=1)
    by: str = ""
    on: date | None = None
    """The day it was waived."""


class OutputDecision(Model):
    """Overrides of one output."""

    path: str
    because: str = ""


MendEdit = Annotated[OutputPath | ChooseCamera | SetSetting, Field(discriminator="kind")]


class MendDecision(Model):
    """A fix that check made by itself: the finding, and the edit of the staged copy."""

    code: str
    subject: str
    because: str = ""
    edit: MendEdit

    def as_written(self) -> dict[str, Any]:
        """For the decisions file: without what goes without saying."""
        plain = self.model_dump(mode="json", exclude_none=True)
        plain["edit"] = {key: value for key, value in plain["edit"].items() if key not in ("origin", "because")}
        return plain


class VersionDecisions(Model):
    """Decisions for one version of the scene only."""

    relink: tuple[RelinkDecision, ...] = ()
    let_go: tuple[LetGoDecision, ...] = ()
    waive: tuple[Waiver, ...] = ()
    output: dict[str, OutputDecision] = Field(default_factory=dict)
    mend: tuple[MendDecision, ...] = ()


class RenderTable(RenderCommand, RenderParts):
    """The table `render`: the command line that renders, what is to be rendered, or both."""

    command: tuple[str, ...] = ()
    """The program and its arguments, one word each; empty where only what is to be rendered is said."""

    @model_validator(mode="after")
    def _names_a_program(self) -> RenderTable:
        of_a_command = set(RenderCommand.model_fields) - {"command"}
        if not self.command and (said := sorted(of_a_command & self.model_fields_set)):
            raise ValueError(f"{', '.join(said)} is of a command line, and render.command names none")
        return self

    def as_command(self) -> RenderCommand | None:
        """Return the command line, None where there is none."""
        if not self.command:
            return None
        return RenderCommand(**{name: getattr(self, name) for name in RenderCommand.model_fields})

    def as_order(self, origin: Literal["decisions", "project"], path: Callable[[str], str]) -> RenderOrder | None:
        """Return what is to be rendered, None where nothing is said of it.

        path: returns that of an output, by its name, as the project's naming rule has it.
        """
        if not self.says:
            return None
        named = {name: path(name) for name in (PICTURE, *self.output)}
        return RenderOrder(
            origin=origin, named=named, **{name: getattr(self, name) for name in RenderParts.model_fields}
        )


class Decisions(VersionDecisions):
    """The whole decisions file."""

    render: RenderTable | None = None
    version: dict[str, VersionDecisions] = Field(default_factory=dict)

    def for_version(self, version: str | None) -> Decisions:
        """With the decisions for one version of the scene added after those that hold for all."""
        extra = self.version.get(version) if version else None
        if extra is None:
            return self
        return self.model_copy(
            update={
                "relink": self.relink + extra.relink,
                "let_go": self.let_go + extra.let_go,
                "waive": self.waive + extra.waive,
                "output": {**self.output, **extra.output},
                "mend": self.mend + extra.mend,
            }
        )

    def edits(self, scene: Path) -> tuple[Edit, ...]:
        """The decisions as edits of a staging plan."""
        found: list[Edit] = [
            Relink(asset=r.asset, authored=r.authored, folder=r.folder, to=Path(scene.parent, r.to), because=r.because)
            for r in self.relink
        ]
        found += [LetGo(asset=g.asset, authored=g.authored, because=g.because) for g in self.let_go]
        found += [m.edit.model_copy(update={"origin": "mend", "because": m.because}) for m in self.mend]
        found += [OutputPath(output=name, path=o.path, because=o.because) for name, o in self.output.items()]
        return tuple(found)


# seconds to wait for another command that changes the same decisions
PATIENCE = 10.0
# the first version has no earlier one
SCHEMA = Schema("decisions file", "schema", 1)


def tidy_folder(scene: Path, tidy_dir: Path | None = None) -> Path:
    """Return where decisions and caches of a scene live: `NAME.tidy` beside it, or below `tidy_dir`."""
    return (tidy_dir or scene.parent) / f"{without_version(scene_stem(scene.name))}.tidy"


class DecisionsFile:
    """The decisions file of one scene: read as a model, changed in place so that comments survive."""

    def __init__(self, scene: Path, tidy_dir: Path | None = None, may_write: Callable[[], None] = lambda: None) -> None:
        """may_write: raises NotTrusted where the folder for decisions and caches is not one to write to."""
        self.scene = scene
        self.may_write = may_write
        self.path = tidy_folder(scene, tidy_dir) / "decisions.toml"

    def read(self) -> Decisions:
        """The decisions that hold for this version of the scene. Raises UnreadableInput on a broken file."""
        if not self.path.exists():
            return Decisions()
        whole = read_toml(Decisions, self.path, SCHEMA.what, SCHEMA)
        return whole.for_version(version_of(scene_stem(self.scene.name)))

    def add(self, table: str, entries: list[dict[str, Any]]) -> None:
        """Append entries to an array of tables ("relink", "let_go", "waive"). Equal ones are not written twice."""
        with self._changing() as document:
            rows = document.setdefault(table, tomlkit.aot())
            have = rows.unwrap()
            for entry in entries:
                if entry in have:
                    continue
                row = tomlkit.table()
                row.trivia.indent = "\n"
                row.update(entry)
                rows.append(row)

    def drop(self, table: str, key: str, values: set[str]) -> None:
        """Remove the entries of an array of tables whose `key` has one of these values."""
        self.drop_where(table, lambda row: row.get(key) in values)

    def drop_where(self, table: str, gone: Callable[[dict[str, Any]], bool]) -> None:
        """Remove the entries of an array of tables of which `gone` says so."""
        with self._changing() as document:
            rows = document.get(table)
            if rows is None:
                return
            for at in reversed(range(len(rows))):
                if gone(rows[at].unwrap()):
                    del rows[at]
            if not rows:
                del document[table]

    def set(self, path: tuple[str, ...], values: dict[str, Any]) -> None:
        """Set values in a table, made where it is not there yet: `("output", "Matte")`."""
        with self._changing() as document:
            table: Any = document
            for key in path:
                if key not in table:
                    table[key] = tomlkit.table(is_super_table=key != path[-1])
                table = table[key]
            table.update(values)

    @contextmanager
    def _changing(self) -> Iterator[tomlkit.TOMLDocument]:
        """Read the file, and write what the block makes of it. Changes of several commands at once are all kept."""
        self.may_write()
        with only_one(self.path.with_name(".decisions.lock"), "changes the decisions", self.path, PATIENCE):
            document = self._document()
            yield document
            self._write(document)

    def _document(self) -> tomlkit.TOMLDocument:
        if not self.path.exists():
            document = tomlkit.document()
            for line in HEADER.splitlines():
                document.add(tomlkit.comment(line))
            return document
        try:
            return tomlkit.parse(read_input(self.path).decode("utf-8"))
        except OSError as error:
            raise UnreadableInput(f"cannot read the decisions ({os_reason(error)})", self.path) from error
        except (TOMLKitError, ValueError) as error:
            raise UnreadableInput(f"the decisions are not valid TOML ({error})", self.path) from error

    def _write(self, document: tomlkit.TOMLDocument) -> None:
        text = tomlkit.dumps(document)
        # never leave a file behind that the next command cannot read
        content = SCHEMA.without_version(tomlkit.parse(text).unwrap(), self.path)
        validated(Decisions, content, SCHEMA.what, self.path)
        write_bytes(self.path, text.encode())
