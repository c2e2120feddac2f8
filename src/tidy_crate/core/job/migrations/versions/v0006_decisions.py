"""Decisions of people about frames, and frames accepted for good."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Add the columns and the table."""
    op.add_column("product", sa.Column("decision", sa.String(20), nullable=True))
    op.add_column("product", sa.Column("because", sa.Text, nullable=True))
    op.create_table(
        "acceptance",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(180), nullable=False),
        sa.Column("view", sa.String(40), nullable=False, server_default=""),
        sa.Column("output", sa.String(200), nullable=False),
        sa.Column("frame", sa.Integer, nullable=False),
        sa.Column("because", sa.Text, nullable=False),
        sa.Column("accepted", sa.String(40), nullable=False),
        sa.UniqueConstraint("name", "view", "output", "frame"),
    )
