"""SQLite files that survive a crash and bear several processes at once."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Engine, create_engine, event


def open_database(path: Path, synchronous: str = "FULL") -> Engine:
    """An engine for a database file, made where it is not there yet.

    synchronous: SQLite's setting; FULL loses nothing that was committed even when the power fails.
    """
    engine = create_engine(f"sqlite:///{path}")

    def prepare(connection: object, _: object) -> None:
        cursor = connection.cursor()  # type: ignore[attr-defined]
        for setting in ("journal_mode=WAL", f"synchronous={synchronous}", "busy_timeout=10000", "foreign_keys=ON"):
            cursor.execute(f"PRAGMA {setting}")
        cursor.close()

    event.listen(engine, "connect", prepare)
    return engine
