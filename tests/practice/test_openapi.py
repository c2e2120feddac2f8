"""The farm protocol's description in the repository is the one that the practice farm serves."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tidy_crate.practice.farm.openapi import description

FILE = Path(__file__).parents[2] / "docs" / "farm-protocol.openapi.json"
# worded by the libraries that make the description, differently from version to version
WORDING = {"title", "description", "ctx", "input"}


def essence(value: Any) -> Any:
    """A description without what only words it."""
    if isinstance(value, dict):
        return {key: essence(inner) for key, inner in value.items() if key not in WORDING or isinstance(inner, dict)}
    return [essence(inner) for inner in value] if isinstance(value, list) else value


def test_the_description_in_the_repository_is_up_to_date() -> None:
    now, kept = (
        {key: inner for key, inner in essence(one).items() if key in ("paths", "components")}
        for one in (description(), json.loads(FILE.read_text(encoding="utf-8")))
    )
    for one in (now, kept):
        for name in ("HTTPValidationError", "ValidationError"):
            one["components"]["schemas"].pop(name, None)
    assert now == kept, "write it again: python -m tidy_crate.practice.farm.openapi > docs/farm-protocol.openapi.json"


def test_nothing_in_it_is_only_for_practice() -> None:
    text = FILE.read_text(encoding="utf-8").lower()
    assert "practice" not in text and "shutdown" not in text and "farm time" not in text
