"""The base of every model that is read from, or written to, disk or wire."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from tidy_crate.core.errors import UnreadableInput


class Model(BaseModel):
    """Frozen, and strict about unknown keys: a misspelt key is an error, not silence."""

    # built when first used: a command needs few of all models
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


def printable(text: str) -> str:
    """Return a text. Raises ValueError for one that would do something to a terminal."""
    if not text.isprintable():
        raise ValueError("it holds characters that cannot be shown")
    return text


# a name given by others: it is shown, stored, and part of addresses
Name = Annotated[str, Field(min_length=1, max_length=200), AfterValidator(printable)]


# of a frame; it fits every ledger
FrameNumber = Annotated[int, Field(ge=-(2**31), lt=2**31)]


class Wire(Model):
    """A model that is read from a farm: numbers are finite and texts are bounded."""

    model_config = ConfigDict(allow_inf_nan=False, str_max_length=200_000)


M = TypeVar("M", bound=BaseModel)


def validated(kind: type[M], content: Any, what: str, where: Path | str) -> M:
    """Turn foreign data into a model. Raises UnreadableInput that names the first wrong key in plain words."""
    try:
        return kind.model_validate(content)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        key = ".".join(str(part) for part in first["loc"]) or "the whole document"
        raise UnreadableInput(f"the {what} is wrong at '{key}': {first['msg'].lower()}", where) from error
