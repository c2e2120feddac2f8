"""The mark of a file at home: its size, time and inode when it was verified. Earlier files are read again once."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Add the column."""
    op.add_column("product", sa.Column("mark", sa.String(120), nullable=True))
