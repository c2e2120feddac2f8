"""Databases that survive a crash and serve several processes at once: SQLite by default, PostgreSQL by URL."""

from __future__ import annotations

import stat
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import Connection, Dialect, Engine, String, Text, create_engine, event
from sqlalchemy.engine import URL, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError
from sqlalchemy.orm import Session
from sqlalchemy.types import TypeDecorator

from tidy_crate.core.errors import FarmBusy, TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.files import path_of, text_of

# seconds that one process waits for another that is writing
PATIENCE = 15.0
# seconds during which an empty file may be one that another process is making
BEING_MADE = 60.0
_BEGIN = "tidy_crate_begin"


T = TypeVar("T")
_DAMAGED = "is not a database, or is damaged"
_RESTORE = "restore it from a backup, or move it away to start a new one"


def kept(read: Callable[[Any], T], value: Any, what: str) -> T:
    """Turn a stored value into what it stands for. what: names it in the error ("a time").

    Raises UnreadableInput for a value that this tool did not write.
    """
    try:
        return read(value)
    except (ValueError, ArithmeticError, TypeError) as error:
        raise UnreadableInput(
            f"the database is damaged: it holds something that is not {what}", None, _RESTORE
        ) from error


class Money(TypeDecorator[Decimal]):
    """An exact amount, kept as text: SQLite has no decimal numbers."""

    impl = String(40)
    cache_ok = True

    def process_bind_param(self, value: Decimal | None, dialect: Dialect) -> str | None:
        """See TypeDecorator."""
        return None if value is None else str(value)

    def process_result_value(self, value: str | None, dialect: Dialect) -> Decimal | None:
        """See TypeDecorator."""
        return None if value is None else kept(_amount, value, "an amount")


def _amount(text: str) -> Decimal:
    found = Decimal(text)
    if not found.is_finite():
        raise ValueError("an amount is finite")
    return found


class PathText(TypeDecorator[str]):
    """A path, whatever bytes it holds."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: str | None, dialect: Dialect) -> str | None:
        """See TypeDecorator."""
        return None if value is None else text_of(value)

    def process_result_value(self, value: str | None, dialect: Dialect) -> str | None:
        """See TypeDecorator."""
        return None if value is None else path_of(value)


class Database:
    """A database by path or URL, opened on first use. `what` names it in errors ("ledger").

    synchronous: SQLite's setting; FULL loses nothing that was committed even when the power fails.
    patience: seconds to wait for another process that is writing.
    """

    def __init__(self, where: Path | str, what: str, synchronous: str = "FULL", patience: float = PATIENCE) -> None:
        self.what = what
        self._url = _url(where, what)
        self.where = where if isinstance(where, Path) else self._url.render_as_string(hide_password=True)
        self._engine = self._open(where, synchronous, patience)
        self._writer = self._engine.execution_options(**{_BEGIN: "BEGIN IMMEDIATE"})

    @property
    def is_sqlite(self) -> bool:
        """Return whether it is a file of this machine."""
        return self._url.get_backend_name() == "sqlite"

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """One transaction that only reads. Its objects stay usable afterwards."""
        with self._told(), Session(self._engine, expire_on_commit=False) as session:
            yield session

    @contextmanager
    def writing(self) -> Iterator[Session]:
        """One transaction that is committed when the block ends well, and taken back when it does not.

        Others that write wait. Never hold one across a call over the network.
        """
        with self._told(), Session(self._writer, expire_on_commit=False) as session, session.begin():
            yield session

    @contextmanager
    def connection(self) -> Iterator[Connection]:
        """One transaction without objects, for a change of the schema."""
        with self._told(), self._writer.begin() as connection:
            yield connection

    def close(self) -> None:
        """Close all connections. Windows does not remove a file that is open."""
        self._engine.dispose()

    def _open(self, where: Path | str, synchronous: str, patience: float) -> Engine:
        with self._told():
            if isinstance(where, Path):
                try:
                    where.parent.mkdir(parents=True, exist_ok=True)
                except OSError as error:
                    what = f"cannot open the {self.what} ({(error.strerror or str(error)).lower()})"
                    raise UnreadableInput(what, where, "check its folder") from error
                self._refuse_empty(where)
            try:
                # a server may close a connection that was idle: it is tried before it is used
                engine = create_engine(self._url, pool_pre_ping=not self.is_sqlite)
            except (NoSuchModuleError, ImportError) as error:
                remedy = "install the driver: pip install 'psycopg[binary]'"
                raise WrongUsage(f"no driver for this database is installed ({error})", self.where, remedy) from error
        if self.is_sqlite:
            _prepare_sqlite(engine, synchronous, patience)
        return engine

    def _refuse_empty(self, where: Path) -> None:
        """Raise UnreadableInput for a file that has lost all that was in it; a new one would look like no jobs."""
        try:
            found = where.stat()
        except OSError:
            return
        if not found.st_size and stat.S_ISREG(found.st_mode) and time.time() - found.st_mtime > BEING_MADE:
            what = f"the {self.what} is empty: a full disk or a broken copy has left nothing of it"
            raise UnreadableInput(what, where, _RESTORE)

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Turn the library's errors into ours."""
        try:
            yield
        except SQLAlchemyError as error:
            raise self._plain(error) from error
        except UnicodeDecodeError as error:
            raise UnreadableInput(f"the {self.what} {_DAMAGED}", self.where, _RESTORE) from error
        except (AttributeError, LookupError, TypeError, ValueError) as error:
            # rows that do not fit together look like a mistake of the reader
            if self._is_damaged():
                raise UnreadableInput(f"the {self.what} {_DAMAGED}", self.where, _RESTORE) from error
            raise

    def _is_damaged(self) -> bool:
        """Return whether a database that is a file breaks its own rules. Takes time in line with its size."""
        if not self.is_sqlite:
            return False
        try:
            with self._engine.connect() as connection:
                found = connection.exec_driver_sql("PRAGMA quick_check(1)").scalar()
                return found != "ok" or bool(connection.exec_driver_sql("PRAGMA foreign_key_check").first())
        except SQLAlchemyError:
            return True

    def _plain(self, error: SQLAlchemyError) -> TidyCrateError:
        cause = error.orig if isinstance(error, DBAPIError) else error
        text = " ".join(str(cause).split())
        lower = text.lower()
        for words, what, remedy in _TROUBLES:
            if any(word in lower for word in words):
                return UnreadableInput(f"the {self.what} {what}", self.where, remedy)
        if isinstance(error, DBAPIError) and not self.is_sqlite and (error.connection_invalidated or _is_gone(lower)):
            what = f"the {self.what} cannot be reached ({text[:160]})"
            return FarmBusy(what, self.where, "nothing is lost: run the command again when its server is back")
        return UnreadableInput(f"the {self.what} cannot be used ({text[:200]})", self.where)


# the library's words, what that means, and what to do
_TROUBLES = (
    (("file is not a database", "malformed", "file is encrypted"), _DAMAGED, _RESTORE),
    (("database is locked", "database table is locked"), "is in use by another process",
     "run the command again when the other one has ended"),
    (("readonly", "read-only", "attempt to write a readonly"), "cannot be written", "check its permissions"),
    (("disk is full", "no space left", "disk i/o error"), "cannot be written: the disk is full",
     "make room and run the command again"),
    (("unable to open database file",), "cannot be opened", "check its folder and permissions"),
    (("password authentication failed", "no password supplied"), "does not accept the user or password",
     "check TIDY_CRATE_LEDGER"),
    (("does not exist",), "is not there", "create the database, or check TIDY_CRATE_LEDGER"),
)  # fmt: skip


def _is_gone(text: str) -> bool:
    words = (
        "connection",
        "starting up",
        "shutting down",
        "recovery mode",
        "terminating",
        "server closed",
        "could not connect",
        "refused",
        "timeout expired",
    )
    return any(word in text for word in words)


def _url(where: Path | str, what: str) -> URL:
    if isinstance(where, Path):
        return URL.create("sqlite", database=str(where))
    try:
        url = make_url(where)
    except (ArgumentError, ValueError) as error:
        raise WrongUsage(
            f"the address of the {what} is not a database URL", None, "write postgresql://USER@HOST/NAME"
        ) from error
    if url.get_backend_name() == "postgresql" and url.drivername == "postgresql":
        url = url.set(drivername="postgresql+psycopg")
    if url.get_backend_name() not in ("postgresql", "sqlite"):
        raise WrongUsage(
            f"the {what} can be kept in SQLite or PostgreSQL, not in {url.get_backend_name()}", None,
            "write postgresql://USER@HOST/NAME",
        )  # fmt: skip
    return url


def _prepare_sqlite(engine: Engine, synchronous: str, patience: float) -> None:
    def connect(connection: Any, _: object) -> None:
        # the driver would begin transactions by rules of its own
        connection.isolation_level = None
        cursor = connection.cursor()
        for setting in (
            f"busy_timeout={round(patience * 1000)}",
            "journal_mode=WAL",
            f"synchronous={synchronous}",
            "foreign_keys=ON",
        ):
            cursor.execute(f"PRAGMA {setting}")
        cursor.close()

    def begin(connection: Connection) -> None:
        # who writes takes the lock at once: an upgrade in the middle would fail where another one has written
        connection.exec_driver_sql(connection.get_execution_options().get(_BEGIN, "BEGIN"))

    event.listen(engine, "connect", connect)
    event.listen(engine, "begin", begin)
