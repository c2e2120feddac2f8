"""Caps, refunds, offers and releases of submissions; nodes that are off the clock."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from tidy_crate.core.database import Money

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("submission", sa.Column("cap", Money, nullable=True))
    op.add_column("submission", sa.Column("refunded", Money, nullable=False, server_default="0"))
    op.add_column("submission", sa.Column("why", sa.Text, nullable=False, server_default=""))
    op.add_column("submission", sa.Column("offer", sa.Text, nullable=True))
    op.add_column("submission", sa.Column("given_up", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("submission", sa.Column("billing", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("submission", sa.Column("seen", sa.String(40), nullable=True))
    op.add_column("submission", sa.Column("told", sa.String(40), nullable=False, server_default=""))
    op.add_column("node", sa.Column("gone", sa.Boolean, nullable=False, server_default=sa.false()))
