"""Decisions that a farm is still to be told, made while it did not answer."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    """Add the column."""
    op.add_column("submission", sa.Column("to_tell", sa.Text, nullable=False, server_default=""))
