"""All checks there are: this tool's own, and those that other packages bring."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from functools import cache
from importlib import import_module
from types import MappingProxyType

from tidy_crate.core.check.finding import CATALOGUE, Check
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.plugins import plugins

# a package registers checks by naming a module here, in which `check` and `farm_check` decorate functions
GROUP = "tidy_crate.checks"
_OWN = (
    "outputs", "frames", "cameras", "ordered", "files", "sequences", "links", "contents", "simulations", "programs",
    "settings", "farm_files", "farm_programs", "farm_machines", "farm_terms",
)  # fmt: skip


@cache
def catalogue() -> Mapping[str, Check]:
    """Every check by its code. Raises UnreadableInput when a package's checks cannot be loaded."""
    for name in _OWN:
        import_module(f"tidy_crate.core.check.{name}")
    plugins(GROUP)
    # the same order whatever was imported first
    return MappingProxyType(dict(sorted(CATALOGUE.items(), key=lambda item: (*_group(item[1].need), item[0]))))


def check_of(code: str) -> Check:
    """A check by its code. Raises WrongUsage that names the nearest."""
    found = catalogue().get(code)
    if found is None:
        near = difflib.get_close_matches(code, catalogue(), 1)
        remedy = f"did you mean {near[0]}?" if near else "check --catalogue lists them"
        raise WrongUsage("there is no check of that code", code, remedy)
    return found


def in_groups() -> dict[str, list[Check]]:
    """The checks by the group they belong to, in the order of the work."""
    found: dict[str, list[Check]] = {}
    for one in catalogue().values():
        found.setdefault(one.need, []).append(one)
    return found


def _group(need: str) -> tuple[bool, str, int]:
    """Groups in the order of the work, those of other stages after them, those of other packages last."""
    number = need[1:]
    return need[:1] != "C", need[:1], int(number) if number.isdigit() else 1000
