"""Files that outlive a version of the tool: each states the version of its schema, and older ones are upgraded."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tidy_crate.core.errors import UnreadableInput

Upgrade = Callable[[dict[str, Any]], dict[str, Any]]


@dataclass(frozen=True)
class Schema:
    """One kind of file, with the steps that lead from each earlier version to the present one."""

    what: str
    """The file's name in errors ("packing list")."""
    key: str
    """The key that states the version. A file without it is of version 1."""
    version: int
    """The version that this tool writes."""
    upgrades: Mapping[int, Upgrade] = field(default_factory=dict)
    """By version, the step to the next one."""

    def without_version(self, content: Any, where: Path | str) -> Any:
        """Return the content as the present version has it, without the key that states the version."""
        found = self.upgraded(content, where)
        return {key: value for key, value in found.items() if key != self.key} if isinstance(found, dict) else found

    def upgraded(self, content: Any, where: Path | str) -> Any:
        """Return the content as the present version has it.

        Raises UnreadableInput for a version that is newer, or that never existed.
        """
        if not isinstance(content, dict):
            return content
        found = content.get(self.key, 1)
        if type(found) is not int or found < 1:
            raise UnreadableInput(f"the {self.what} states the version {found!r}, which does not exist", where)
        if found > self.version:
            raise UnreadableInput(
                f"the {self.what} is of version {found}, this tool reads up to {self.version}",
                where,
                "it was written by a newer tidy-crate: install that one",
            )
        for version in range(found, self.version):
            content = self.upgrades[version](dict(content))
        return {**content, self.key: self.version} if self.key in content or found < self.version else content
