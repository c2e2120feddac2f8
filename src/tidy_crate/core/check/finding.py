"""Findings, and the register of checks that make them."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Survey


class Severity(StrEnum):
    """error: blocks. warning: blocks nothing, and can be waived with a reason. note: for information."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Finding(Model):
    """One result of a check. subject: the prim, file or setting it is about. why: what goes wrong if it stays."""

    code: str
    severity: Severity
    subject: str
    message: str
    why: str
    remedy: str
    waived: bool = False
    waived_because: str | None = None
    farm: str | None = None


@dataclass(frozen=True)
class Trouble:
    """What a check found at one place."""

    subject: str
    message: str
    remedy: str


@dataclass(frozen=True)
class Checked:
    """What checks look at. survey: as staged; found: as the artist saved it (the same for a crate)."""

    survey: Survey
    found: Survey
    root: Path | None
    is_crate: bool = False


@dataclass(frozen=True)
class Check:
    """A registered check."""

    code: str
    severity: Severity
    need: str
    why: str
    run: Callable[[Checked], Iterator[Trouble]]


CATALOGUE: dict[str, Check] = {}


def check(
    code: str, severity: Severity, need: str
) -> Callable[[Callable[[Checked], Iterator[Trouble]]], Callable[[Checked], Iterator[Trouble]]]:
    """Register a check. Its docstring says what goes wrong on the farm when it is ignored."""

    def register(function: Callable[[Checked], Iterator[Trouble]]) -> Callable[[Checked], Iterator[Trouble]]:
        why = " ".join((inspect.getdoc(function) or "").split())
        CATALOGUE[code] = Check(code, severity, need, why, function)
        return function

    return register
