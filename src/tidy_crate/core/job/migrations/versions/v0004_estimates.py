"""Estimated cost and time of a submission, to learn from. Earlier submissions teach nothing."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the column."""
    op.add_column("submission", sa.Column("estimate", sa.Text, nullable=True))
