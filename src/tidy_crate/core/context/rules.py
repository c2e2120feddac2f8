"""Rules of a project: severities and limits of checks, confidentiality, names of outputs."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from tidy_crate.core.context.brief import Brief
from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.model import Model
from tidy_crate.core.work.folders import FolderPattern

# ISO 3166-1, with the part of a country that ISO 3166-2 adds
Country = Annotated[str, Field(pattern=r"^[A-Z]{2}(-[A-Z0-9]{1,3})?$")]
NAMING = "renders/{output}/{scene}_{output}.####.{format}"


class CheckLimits(Model):
    """From where on a check speaks."""

    samples: Annotated[int, Field(ge=1)] = 4096
    """Per pixel."""
    path_length: Annotated[int, Field(ge=1)] = 240
    """Characters from the project's root."""
    rates_days: Annotated[int, Field(ge=0)] = 90
    """Age of a card's prices in days."""
    texture_pixels: Annotated[int, Field(ge=1)] = 16384
    """Pixels along an edge of a texture."""
    duplicate_bytes: Annotated[int, Field(ge=1)] = 1 << 20
    """Smaller files are not compared."""
    bucket_on_gpu: Annotated[int, Field(ge=1)] = 64
    """Least pixels along a bucket's edge on a GPU."""
    bucket_on_cpu: Annotated[int, Field(ge=1)] = 256
    """Most pixels along a bucket's edge on a CPU."""


class Confidential(Model):
    """Confidentiality of a project: operators, kinds of farms and countries. What is empty allows everything."""

    operators: tuple[str, ...] = ()
    """Names."""
    kinds: tuple[Literal["own", "partner", "provider", "private"], ...] = ()
    """Kinds of operators, see the card."""
    places: tuple[Country, ...] = ()
    """Countries by ISO 3166."""
    agreement: bool = False
    """True if a signed agreement is needed."""


class CheckRules(Model):
    """The rules in force."""

    severity: dict[str, Literal["error", "warning", "note"]] = Field(default_factory=dict)
    """By code."""
    limits: CheckLimits = CheckLimits()
    confidential: Confidential = Confidential()
    naming: str = NAMING
    """Name of an output that has no path, see `Brief.naming`."""
    brief: Brief | None = None
    review: ReviewRules = ReviewRules()
    home_folders: FolderPattern = ""
    """Folders below the one that frames are retrieved into; empty for the usual ones."""
