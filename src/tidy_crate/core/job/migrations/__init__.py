"""Migrations of the ledger's schema, run by Alembic. See `ledger`."""
