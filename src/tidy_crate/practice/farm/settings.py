"""Settings of a practice farm: nodes, prices and faults."""

from __future__ import annotations

import json
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
NEXT_TOKEN = "token.next"
CARD_NAME = "practice.farm.toml"
SPOILT = ("black", "invalid", "truncated", "damaged", "small", "misnumbered", "hostile", "lost")
_FAULT = re.compile(rf"({'|'.join(SPOILT)}):(-?\d+)(?::([\w./-]+))?")
# faults of the line, each with what its value means
LINE_FAULTS = {
    "drop": "share of requests whose connection breaks off",
    "error": "share of requests that are answered with 500",
    "busy": "share of requests that are answered with 429 and Retry-After",
    "slow": "bytes a second at which a product is given out",
    "room": "bytes of files that the farm's disk holds",
    "expire": "requests after which the token is no longer accepted, until `token.next` takes its place",
    "jump": "factor on every price from now on",
}


class Fault(Model):
    """One planted fault, on the first attempt of a frame.

    damaged: in transit, so that the farm's own hash is right. small: of half the size. misnumbered: the frame before,
    under this number; for the first frame of a shot the one after. hostile: names that lead elsewhere. lost: its node
    goes away while it renders it.
    """

    kind: str
    frame: int
    output: str | None = None


def parse_fault(text: str) -> Fault:
    """Read `KIND:FRAME` or `KIND:FRAME:OUTPUT`."""
    match = _FAULT.fullmatch(text)
    if not match:
        raise WrongUsage("not a fault", repr(text), f"write KIND:FRAME with one of {', '.join(SPOILT)}")
    return Fault(kind=match[1], frame=int(match[2]), output=match[3])


def parse_line_fault(text: str) -> tuple[str, float]:
    """Read `KIND=VALUE`, a fault of the line; see LINE_FAULTS."""
    kind, _, value = text.partition("=")
    try:
        number = float(value)
    except ValueError:
        number = -1.0
    if kind not in LINE_FAULTS or not 0 <= number < 1e15:
        known = ", ".join(f"{name}=N ({what})" for name, what in LINE_FAULTS.items())
        raise WrongUsage("not a fault of the line", repr(text), f"write one of {known}")
    return kind, number


class FarmProgram(Model):
    """A program of the farm's own, that renders scene sheets: never a command line that a crate brings."""

    name: str = Field(min_length=1)
    version: str = Field(min_length=1)
    command: tuple[str, ...] = Field(min_length=1)
    """The program and its arguments, with the placeholders of render commands."""
    frame_done: str | None = None
    """See RenderCommand."""
    timeout_seconds: float = Field(default=600, gt=0)


class FarmPriority(Model):
    """A way to be served sooner or later."""

    name: str = Field(min_length=1, max_length=60)
    price: float = Field(default=1.0, gt=0, le=100)
    """Factor."""
    rank: int = Field(default=50, ge=0, le=100)
    """50 is usual, more is sooner."""


class FarmSettings(Model):
    """Settings of a practice farm. Seconds are farm time, prices are EUR per machine and hour."""

    nodes: int = Field(default=4, ge=1, le=10_000)
    speed: float = Field(default=1.0, gt=0)
    """Speed of a node relative to this machine."""
    node_speeds: tuple[float, ...] = ()
    """Factors on the speed of the nodes, in turn: unequal machines."""
    startup_seconds: float = Field(default=40, ge=0)
    arrive_seconds: float = Field(default=0, ge=0)
    """Over which the nodes of a job come one after another."""
    price_per_hour: Amount = Field(default="24.00", ge=0, validate_default=True)
    billing_increment_seconds: int = Field(default=1, ge=1)
    balance: Amount = Field(default="250.00", ge=0, validate_default=True)
    priorities: tuple[FarmPriority, ...] = ()
    reclaimable_price: float = Field(default=0.5, ge=0, le=1)
    """Factor on the price of reclaimable machines."""
    reclaims_per_hour: float = Field(default=0, ge=0, le=3600)
    """Number of times that a reclaimable machine is taken back in an hour of farm time, on average."""
    waits_for: tuple[Literal["quote", "payment"], ...] = ()
    """Conditions that a job waits for before it begins. With `quote` its price is fixed, and paid in advance."""
    output_path: Literal["any", "name", "relative"] = "relative"
    """The form of output paths that it takes, as in farm cards."""
    from_zero: bool = False
    """It numbers the frames of every job from zero."""
    programs: tuple[FarmProgram, ...] = ()
    synthetic_seconds: float = Field(default=0, ge=0)
    """Mean seconds of a frame on nodes that render nothing, for tests of large jobs; 0 for real nodes."""
    synthetic_law: Law | None = None
    """Law by which synthetic frames of a shot differ; None for a spread around the mean that knows no shot."""
    synthetic_load: float = Field(default=0, ge=0)
    """Seconds in which a synthetic node loads the scene, for each batch."""
    clock: float = Field(default=0, ge=0)
    """Seconds of farm time in a second, for synthetic nodes; 0 for as fast as they can."""
    node_spread: float = Field(default=0, ge=0, lt=1)
    """By which share synthetic nodes differ in speed."""
    quoted_seconds: float = Field(default=10, gt=0)
    """Seconds of a frame that its own quotes assume."""
    identity: str = Field(default_factory=lambda: secrets.token_hex(8), max_length=80)
    """Tells this farm from others, wherever it answers."""
    seed: int = 1
    """For the times of synthetic nodes, for reclaiming and for faults of the line."""
    faults: tuple[Fault, ...] = ()
    line_faults: dict[str, float] = Field(default_factory=dict)
    """Faults of the line, see LINE_FAULTS. They are switched on and off while it runs, too."""

    @field_validator("faults", mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if isinstance(value, list | tuple):
            return tuple(parse_fault(one) if isinstance(one, str) else one for one in value)
        return value

    def priority(self, name: str) -> FarmPriority | None:
        """A priority by name; the usual one for an empty name, None for one that the farm does not have."""
        if not name:
            return self.priorities[0] if self.priorities else FarmPriority(name="usual")
        return next((one for one in self.priorities if one.name == name), None)


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
        # readable by the owner only from the start
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
identity = "{settings.identity}"
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
{"" if settings.programs else 'formats = ["exr"]'}
from_zero = {str(settings.from_zero).lower()}

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
arrive_seconds = {settings.arrive_seconds:g}
"""
    if settings.reclaims_per_hour:
        rate = f"price = {settings.reclaimable_price:g}, per_hour = {settings.reclaims_per_hour:g}"
        text += f"reclaimable = {{ {rate} }}\n"
    for one in settings.priorities:
        text += f"\n[[priority]]\nname = {json.dumps(one.name)}\nprice = {one.price:g}\n"
    for program in settings.programs:
        name, version = json.dumps(program.name), json.dumps(program.version)
        text += f'\n[[program]]\nname = {name}\nrole = "renderer"\nversions = [{version}]\n'
    path = folder / CARD_NAME
    write_bytes(path, text.encode())
    return path


def takes_path(rule: str, path: str) -> bool:
    """Return whether an output's path is in the form that the farm takes."""
    parts = path.replace("\\", "/").split("/")
    if rule == "name":
        return len(parts) == 1 and bool(path)
    return rule == "any" or (path[:1] not in ("/", "\\", "") and ".." not in parts and ":" not in parts[0])
