"""Attempts and products of several submissions side by side; numbers of jobs that cannot be given twice.

What an earlier version kept becomes the products of the job's first submission. Its orders did not name their tasks,
so they cannot be repeated and are emptied; the farm's name for the job stays.
"""

from __future__ import annotations

import re
from itertools import groupby
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Make the new tables, bring over what the old ones hold, and drop those."""
    connection = op.get_bind()
    old = {name: connection.execute(sa.text(f'SELECT * FROM "{name}"')).mappings().all() for name in _OLD}
    for name in reversed(_OLD):
        op.drop_table(name)
    _make_tables()
    meta = sa.MetaData()
    meta.reflect(connection)
    _bring_over(connection, meta, old)


_OLD = ("job", "submission", "product")


def _make_tables() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.String(200), primary_key=True),
        sa.Column("name", sa.String(180), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("created", sa.String(40), nullable=False),
        sa.Column("crate", sa.Text(), nullable=False),
        sa.Column("packing", sa.Text(), nullable=False),
        sa.Column("into", sa.Text()),
        sa.Column("reviewed", sa.String(40)),
        sa.Column("estimate_low", sa.String(40)),
        sa.Column("estimate_likely", sa.String(40)),
        sa.Column("estimate_high", sa.String(40)),
        sa.Column("estimate_currency", sa.String(3)),
        sa.UniqueConstraint("name", "number"),
    )
    op.create_table(
        "submission",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("job_id", sa.String(200), sa.ForeignKey("job.id"), nullable=False, index=True),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("farm", sa.String(60), nullable=False),
        sa.Column("card", sa.Text(), nullable=False),
        sa.Column("key", sa.String(80), nullable=False, unique=True),
        sa.Column("order", sa.Text(), nullable=False),
        sa.Column("farm_job", sa.String(200)),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("cost", sa.String(40), nullable=False),
        sa.Column("currency", sa.String(3), nullable=False),
        sa.Column("tasks", sa.Integer(), nullable=False),
        sa.Column("products", sa.Integer(), nullable=False),
        sa.Column("uploaded_bytes", sa.BigInteger(), nullable=False),
        sa.Column("reused_bytes", sa.BigInteger(), nullable=False),
        sa.Column("cursor", sa.String(200), nullable=False),
        sa.Column("began", sa.String(40)),
        sa.UniqueConstraint("job_id", "number"),
    )
    op.create_table(
        "attempt",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("submission_id", sa.Integer(), sa.ForeignKey("submission.id"), nullable=False),
        sa.Column("request", sa.String(40), nullable=False),
        sa.Column("view", sa.String(40), nullable=False),
        sa.Column("frame", sa.Integer(), nullable=False),
        sa.Column("tile", sa.Integer(), nullable=False),
        sa.Column("share", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("latest", sa.Boolean(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("node", sa.String(200)),
        sa.Column("began", sa.String(40)),
        sa.Column("ended", sa.String(40)),
        sa.Column("billed", sa.Float()),
        sa.Column("cost", sa.String(40), nullable=False),
        sa.Column("error", sa.Text()),
        sa.Column("log", sa.String(200), nullable=False),
        sa.UniqueConstraint("submission_id", "request", "view", "frame", "tile", "share", "number"),
    )
    op.create_index("attempt_by_state", "attempt", ["submission_id", "state"])
    op.create_table(
        "product",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("attempt_id", sa.Integer(), sa.ForeignKey("attempt.id"), nullable=False),
        sa.Column("output", sa.String(200), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
        sa.Column("blake3", sa.String(64), nullable=False),
        sa.Column("home", sa.Boolean(), nullable=False),
        sa.Column("path", sa.Text()),
        sa.Column("in_use", sa.Boolean(), nullable=False),
        sa.Column("verdict", sa.String(20)),
        sa.Column("reasons", sa.Text()),
        sa.UniqueConstraint("attempt_id", "output"),
    )
    op.create_index("product_by_home", "product", ["home"])
    op.create_table(
        "node",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("submission_id", sa.Integer(), sa.ForeignKey("submission.id"), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("began", sa.String(40), nullable=False),
        sa.Column("until", sa.String(40), nullable=False),
        sa.Column("tasks", sa.Integer(), nullable=False),
        sa.Column("cost", sa.String(40), nullable=False),
        sa.UniqueConstraint("submission_id", "name", "began"),
    )


def _bring_over(connection: sa.Connection, meta: sa.MetaData, old: dict[str, Any]) -> None:
    tables = meta.tables
    counts: dict[str, int] = {}
    for row in old["product"]:
        counts[row["job_id"]] = counts.get(row["job_id"], 0) + 1
    for row in old["job"]:
        match = re.fullmatch(r"(.*)-(\d+)", row["id"])
        name, number = (match[1], int(match[2])) if match else (row["id"], 1)
        reviewed = any(one["verdict"] for one in old["product"] if one["job_id"] == row["id"])
        values = dict(row) | {"name": name, "number": number, "reviewed": row["created"] if reviewed else None}
        connection.execute(sa.insert(tables["job"]).values(**values))
    first: dict[str, int] = {}
    for row in old["submission"]:
        number = 1 + sum(1 for one in old["submission"] if one["job_id"] == row["job_id"] and one["id"] < row["id"])
        products = counts.get(row["job_id"], 0)
        values = dict(row) | {"number": number, "order": "", "cursor": "", "tasks": 0, "products": products}
        connection.execute(sa.insert(tables["submission"]).values(**values))
        first.setdefault(row["job_id"], row["id"])

    def task(row: Any) -> tuple[Any, ...]:
        return (row["job_id"], row["request"], row["frame"], row["tile"], row["share"], row["attempt"])

    home = sorted((row for row in old["product"] if row["path"] and row["job_id"] in first), key=task)
    for key, rows in groupby(home, key=task):
        job, request, frame, tile, share, number = key
        attempt = connection.execute(
            sa.insert(tables["attempt"]).values(
                submission_id=first[job], request=request, view="", frame=frame, tile=tile, share=share, number=number,
                latest=True, state="done", cost="0", log="",
            )
        ).inserted_primary_key  # fmt: skip
        assert attempt is not None
        for row in rows:
            connection.execute(
                sa.insert(tables["product"]).values(
                    attempt_id=attempt[0], output=row["output"], key="", bytes=row["bytes"], blake3=row["blake3"],
                    home=True, path=row["path"], in_use=True, verdict=row["verdict"], reasons=row["reasons"],
                )
            )  # fmt: skip
    if connection.dialect.name == "postgresql":
        # rows came with ids of their own, so the counters have to catch up
        for name in ("submission",):
            connection.execute(
                sa.text(f"SELECT setval(pg_get_serial_sequence('{name}', 'id'), COALESCE(MAX(id), 1)) FROM {name}")
            )
