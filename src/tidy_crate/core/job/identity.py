"""What tells tasks apart everywhere: ledger, wire and JSON."""

from __future__ import annotations

from pydantic import Field

from tidy_crate.core.model import Model


class TaskId(Model):
    """One frame of one request; tile and share say which part of it where it is split."""

    request: str = Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,39}$")
    frame: int
    tile: int | None = None
    share: int | None = None

    def __str__(self) -> str:
        parts = [self.request, str(self.frame)]
        if self.tile is not None:
            parts.append(f"tile{self.tile}")
        if self.share is not None:
            parts.append(f"share{self.share}")
        return "/".join(parts)
