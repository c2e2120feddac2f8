"""What a practice farm is like: its nodes, prices and the faults that are switched on."""

from __future__ import annotations

import os
import re
import secrets
from pathlib import Path
from typing import Literal

from pydantic import Field, field_validator

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.files import read_json, write_bytes, write_json
from tidy_crate.core.model import Model, validated
from tidy_crate.core.money import Amount
from tidy_crate.practice.farm.laws import Law

FILE_NAME = "settings.json"
TOKEN_FILE = "token"
CARD_NAME = "practice.farm.toml"
_FAULT = re.compile(r"(black|invalid|truncated|damaged):(-?\d+)(?::([\w./-]+))?")


class Fault(Model):
    """One planted fault, on the first attempt of a frame. damaged: in transit, so that the farm's own hash is right."""

    kind: str
    frame: int
    output: str | None = None


def parse_fault(text: str) -> Fault:
    """Read `KIND:FRAME` or `KIND:FRAME:OUTPUT`."""
    match = _FAULT.fullmatch(text)
    if not match:
        raise WrongUsage(
            "not a fault", repr(text), "write black:FRAME, invalid:FRAME, truncated:FRAME or damaged:FRAME"
        )
    return Fault(kind=match[1], frame=int(match[2]), output=match[3])


class FarmSettings(Model):
    """speed: of a node against this machine; seconds are farm time; price per machine and hour in EUR.

    output_path: the form of output paths that it takes, as farm cards have it.
    """

    nodes: int = Field(default=4, ge=1, le=10_000)
    speed: float = Field(default=1.0, gt=0)
    startup_seconds: float = Field(default=40, ge=0)
    price_per_hour: Amount = Field(default="24.00", ge=0, validate_default=True)
    billing_increment_seconds: int = Field(default=1, ge=1)
    balance: Amount = Field(default="250.00", ge=0, validate_default=True)
    output_path: Literal["any", "name", "relative"] = "relative"
    synthetic_seconds: float = Field(default=0, ge=0)
    """Mean seconds of a frame on nodes that render nothing, for tests of large jobs; 0 for real nodes."""
    synthetic_law: Law | None = None
    """How synthetic frames of a shot differ; None for a spread around the mean that knows no shot."""
    synthetic_load: float = Field(default=0, ge=0)
    """Seconds in which a synthetic node loads the scene, for each batch."""
    node_spread: float = Field(default=0, ge=0, lt=1)
    """By which share synthetic nodes differ in speed."""
    quoted_seconds: float = Field(default=10, gt=0)
    """Seconds of a frame that its own quotes assume."""
    seed: int = 1
    """For the times of synthetic nodes."""
    faults: tuple[Fault, ...] = ()

    @field_validator("faults", mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if isinstance(value, list | tuple):
            return tuple(parse_fault(one) if isinstance(one, str) else one for one in value)
        return value


def load_settings(folder: Path) -> FarmSettings:
    """The settings of the farm in a folder, the usual ones where it has none yet."""
    path = folder / FILE_NAME
    if not path.is_file():
        return FarmSettings()
    return validated(FarmSettings, read_json(path, "practice farm's settings"), "practice farm's settings", path)


def save_settings(folder: Path, settings: FarmSettings) -> None:
    """Keep the settings for the next start."""
    write_json(folder / FILE_NAME, settings.model_dump(mode="json"))


def token_of(folder: Path) -> str:
    """The farm's token, made up on its first start. Only this user may read the file."""
    path = folder / TOKEN_FILE
    try:
        # readable by nobody else from its first moment on
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        pass
    else:
        with os.fdopen(handle, "wb") as stream:
            stream.write(secrets.token_urlsafe(24).encode())
    return path.read_text(encoding="utf-8").strip()


def write_card(folder: Path, settings: FarmSettings, url: str) -> Path:
    """Write the farm's card beside its state."""
    text = f"""\
# The practice farm in this folder, as it was last started.
name = "practice"
title = "Practice farm"
practice = true
url = "{url}"
currency = "EUR"
rates_from = 2026-11-01

[sign_in]
token_file = "{TOKEN_FILE}"

[transfer]
upload_mbit = 200
download_mbit = 200

[operator]
name = "this machine"
kind = "own"

[outputs]
path = "{settings.output_path}"
formats = ["exr"]

[limits]
pixels = 33177600

[[program]]
name = "practice"
role = "renderer"
versions = ["1.*"]

[[machine]]
name = "standard"
nodes = {settings.nodes}
score = {settings.speed * 100:g}
memory_gb = 8
price_per_hour = "{settings.price_per_hour}"
billing_increment_seconds = {settings.billing_increment_seconds}
startup_seconds = {settings.startup_seconds:g}
"""
    path = folder / CARD_NAME
    write_bytes(path, text.encode())
    return path


def takes_path(rule: str, path: str) -> bool:
    """Whether an output's path is in the form that the farm takes."""
    parts = path.replace("\\", "/").split("/")
    if rule == "name":
        return len(parts) == 1 and bool(path)
    return rule == "any" or (path[:1] not in ("/", "\\", "") and ".." not in parts and ":" not in parts[0])
