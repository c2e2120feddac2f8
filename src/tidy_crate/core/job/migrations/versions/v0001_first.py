"""The first schema: jobs, submissions, and one row per product."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "job",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("created", sa.String(), nullable=False),
        sa.Column("crate", sa.String(), nullable=False),
        sa.Column("packing", sa.String(), nullable=False),
        sa.Column("into", sa.String()),
        sa.Column("estimate_low", sa.String()),
        sa.Column("estimate_likely", sa.String()),
        sa.Column("estimate_high", sa.String()),
    )
    op.create_table(
        "submission",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.String(), sa.ForeignKey("job.id"), nullable=False),
        sa.Column("farm", sa.String(), nullable=False),
        sa.Column("card", sa.String(), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("order", sa.String(), nullable=False),
        sa.Column("farm_job", sa.String()),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("cost", sa.String(), nullable=False),
        sa.Column("currency", sa.String(), nullable=False),
        sa.Column("uploaded_bytes", sa.Integer(), nullable=False),
        sa.Column("reused_bytes", sa.Integer(), nullable=False),
    )
    op.create_table(
        "product",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.String(), sa.ForeignKey("job.id"), nullable=False),
        sa.Column("request", sa.String(), nullable=False),
        sa.Column("frame", sa.Integer(), nullable=False),
        sa.Column("tile", sa.Integer(), nullable=False),
        sa.Column("share", sa.Integer(), nullable=False),
        sa.Column("output", sa.String(), nullable=False),
        sa.Column("attempt", sa.Integer(), nullable=False),
        sa.Column("path", sa.String()),
        sa.Column("blake3", sa.String()),
        sa.Column("bytes", sa.Integer()),
        sa.Column("verdict", sa.String()),
        sa.Column("reasons", sa.String()),
        sa.UniqueConstraint("job_id", "request", "frame", "tile", "share", "output"),
    )
