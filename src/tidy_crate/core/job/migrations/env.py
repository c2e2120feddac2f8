"""Runs the migrations in the transaction that the ledger has opened."""

from __future__ import annotations

from alembic import context

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=None,
    version_table="ledger_version",
    transactional_ddl=True,
    # the caller's own transaction holds everything, the lock included
    transaction_per_migration=False,
)
context.run_migrations()
