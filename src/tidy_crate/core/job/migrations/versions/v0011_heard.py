"""When a farm was last heard, by our own clock."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    """Add the column."""
    op.add_column("submission", sa.Column("heard", sa.String(40), nullable=True))
