"""The farm of a submission, told from others of the same name, and who was signed in there."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("submission", sa.Column("site", sa.Text, nullable=False, server_default=""))
    op.add_column("submission", sa.Column("account", sa.String(200), nullable=False, server_default=""))
