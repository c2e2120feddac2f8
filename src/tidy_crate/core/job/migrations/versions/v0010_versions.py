"""Versions, which tell one file from another of the same name and size, where the farm gives no digest."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    """Add the column."""
    op.add_column("product", sa.Column("version", sa.String(100), nullable=False, server_default=""))
