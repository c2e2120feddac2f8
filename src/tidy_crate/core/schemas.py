"""JSON Schemas of all files that people and other programs read and write.

`python -m tidy_crate.core.schemas FOLDER` writes them.
"""

from __future__ import annotations

import ast
import inspect
import json
import re
import sys
import textwrap
from functools import cache
from pathlib import Path
from typing import Any

from pydantic.json_schema import GenerateJsonSchema, JsonSchemaValue
from pydantic_core import core_schema

from tidy_crate.core.context import decisions
from tidy_crate.core.context.brief import Brief
from tidy_crate.core.context.decisions import Decisions
from tidy_crate.core.context.project import ProjectFile
from tidy_crate.core.context.user import UserFile
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.estimate.probe_result import ProbeResult
from tidy_crate.core.farm import card
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.model import Model
from tidy_crate.core.scene.formats.sheet.model import Sheet
from tidy_crate.core.scene.settings import SettingsMap
from tidy_crate.core.workflow.shot_list import ShotList

FORMATS: dict[str, type[Model]] = {
    "decisions": Decisions,
    "project-file": ProjectFile,
    "settings-map": SettingsMap,
    "brief": Brief,
    "scene-sheet": Sheet,
    "packing-list": PackingList,
    "timings": ProbeResult,
    "farm-card": FarmCard,
    "configuration": UserFile,
    "shot-list": ShotList,
}
# the model has no field for the version of these files, which is checked before
VERSIONED = {"decisions": decisions.SCHEMA, "farm-card": card.SCHEMA}


_IN_JSON = {"None": "null", "True": "true", "False": "false"}


class _WithFields(GenerateJsonSchema):
    """Describes each property by the docstring below its field."""

    def model_schema(self, schema: core_schema.ModelSchema) -> JsonSchemaValue:
        """See GenerateJsonSchema."""
        return _described(super().model_schema(schema), schema["cls"])

    def dataclass_schema(self, schema: core_schema.DataclassSchema) -> JsonSchemaValue:
        """See GenerateJsonSchema."""
        return _described(super().dataclass_schema(schema), schema["cls"])


def _described(found: JsonSchemaValue, cls: type) -> JsonSchemaValue:
    for base in reversed(cls.__mro__):
        if base.__module__.startswith(Model.__module__.partition(".")[0]):
            for name, text in _field_docs(base).items():
                if name in found.get("properties", {}):
                    found["properties"][name]["description"] = text
    return found


@cache
def _field_docs(cls: type) -> dict[str, str]:
    """Return the docstrings below the fields of a class, with values as JSON writes them."""
    (body,) = ast.parse(textwrap.dedent(inspect.getsource(cls))).body
    assert isinstance(body, ast.ClassDef)
    found = {}
    for field, after in zip(body.body, body.body[1:], strict=False):
        is_text = isinstance(after, ast.Expr) and isinstance(after.value, ast.Constant)
        if is_text and isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name):
            text = inspect.cleandoc(after.value.value)  # type: ignore[attr-defined]
            found[field.target.id] = re.sub(r"\b(None|True|False)\b", lambda one: _IN_JSON[one[0]], text)
    return found


def json_schema(name: str) -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of a file format, by its name in `FORMATS`."""
    found = FORMATS[name].model_json_schema(schema_generator=_WithFields)
    if (version := VERSIONED.get(name)) is not None:
        found["properties"][version.key] = {"type": "integer", "const": version.version}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **found}


def text_of(name: str) -> str:
    """Return a schema as the text of its file."""
    return json.dumps(json_schema(name), indent=1, sort_keys=True, ensure_ascii=False) + "\n"


def write_schemas(folder: Path) -> None:
    """Write the schema of every file format into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in FORMATS:
        (folder / f"{name}.schema.json").write_text(text_of(name), encoding="utf-8")


if __name__ == "__main__":
    write_schemas(Path(sys.argv[1]))
