"""The folders that a job's frames are retrieved into."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    """Add the column."""
    op.add_column("job", sa.Column("home_folders", sa.Text, nullable=True))
