"""The ledger: every job, where it was sent, and what became of each product. It survives any crash.

SQLite in the user's folder by default, PostgreSQL by URL where a team shares one. Its schema is migrated on first use.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Connection, Select, func, inspect, select, text
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session, joinedload

from tidy_crate.core.database import PATIENCE, Database
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.files import legible, quoted
from tidy_crate.core.job.tables import AttemptRow, JobRow, ProductRow, SubmissionRow

if TYPE_CHECKING:
    from tidy_crate.core.crate.packing import PackingList

# any number that no other program uses: it serialises the migrations of one PostgreSQL database
_MIGRATION_LOCK = 4_117_023_551
_FIRST = "0001"
MOST_NUMBERS = 1000


class Ledger(Database):
    """The ledger at a path or database URL, made where it does not exist and migrated where it is older.

    Raises UnreadableInput when it is no ledger, damaged, locked, or written by a newer version; FarmError when the
    database's server cannot be reached.
    """

    def __init__(self, where: Path | str, patience: float = PATIENCE) -> None:
        """patience: seconds that it waits for another process that is writing."""
        super().__init__(where, "ledger", patience=patience)
        try:
            with self.connection() as connection:
                _migrate(connection, self.where)
        except BaseException:
            self.close()
            raise


def _migrate(connection: Connection, where: object) -> None:
    """Bring the schema to the present version, in one transaction, however many processes start at once."""
    if connection.dialect.name == "postgresql":
        connection.execute(text("SELECT pg_advisory_xact_lock(:key)"), {"key": _MIGRATION_LOCK})
    names = set(inspect(connection).get_table_names())
    current = None
    if "ledger_version" in names:
        current = connection.execute(text("SELECT version_num FROM ledger_version")).scalar()
    elif "job" in names:
        columns = {column["name"] for column in inspect(connection).get_columns("job")}
        if not {"id", "packing"} <= columns:
            raise UnreadableInput("the database holds something else than a ledger", where, "name another database")
        current = _FIRST  # from before versions were kept
    if current == LATEST:
        return
    # a heavy import, only needed when there is something to migrate
    from alembic import command
    from alembic.config import Config
    from alembic.script import ScriptDirectory

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    config.attributes["connection"] = connection
    known = {script.revision for script in ScriptDirectory.from_config(config).walk_revisions()}
    if current is not None and current not in known:
        remedy = "it was written by a newer tidy-crate: install that one"
        raise UnreadableInput(f"the ledger is of version {current}, this tool knows up to {LATEST}", where, remedy)
    if current == _FIRST and "ledger_version" not in names:
        command.stamp(config, _FIRST)
    command.upgrade(config, "head")


LATEST = "0011"


def new_job(ledger: Ledger, crate: Path, content: PackingList) -> str:
    """Enter a job and return its name: the crate's with a running number. No number is given to two jobs."""
    for _ in range(MOST_NUMBERS):
        try:
            with ledger.writing() as session:
                last = session.scalar(select(func.max(JobRow.number)).where(JobRow.name == content.name)) or 0
                row = JobRow(
                    id=f"{content.name}-{last + 1}",
                    name=content.name,
                    number=last + 1,
                    created=now(),
                    crate=str(crate),
                    packing=content.model_dump_json(),
                )
                session.add(row)
                session.flush()
                return row.id
        except UnreadableInput as error:
            # another process took the number in between, which only a shared server allows
            if not isinstance(error.__cause__, IntegrityError):
                raise
    raise TidyCrateError("no free number for the job", content.name)


def job_named(session: Session, name: str) -> JobRow:
    """A job by its name. Raises WrongUsage when there is none."""
    job = session.get(JobRow, legible(name))
    if job is None:
        raise _no_job(name)
    return job


def _no_job(name: str) -> WrongUsage:
    """Return the error for a name that no job has. A path of something else is named as what it is."""
    from tidy_crate.core.crate.packing import is_crate
    from tidy_crate.core.scene.formats.registry import is_scene

    path = Path(name)
    if path.is_dir() and is_crate(path):
        return WrongUsage("this is a crate, not a job", name, f"tidy-crate send {quoted(path)} --farm CARD makes one")
    if path.is_file() and is_scene(path):
        remedy = f"collect it first: tidy-crate collect {quoted(path)} -o CRATE, then send the crate"
        return WrongUsage("this is a scene, not a job", name, remedy)
    return WrongUsage("no job has that name", name, "tidy-crate jobs lists them")


def submissions_of(ledger: Ledger, name: str) -> tuple[JobRow, tuple[SubmissionRow, ...]]:
    """A job and its submissions, detached from the database. Raises WrongUsage when there is no such job."""
    with ledger.reading() as session:
        job = job_named(session, name)
        return job, tuple(job.submissions)


def all_jobs(session: Session) -> list[JobRow]:
    """All jobs, the newest first."""
    return list(session.scalars(select(JobRow).order_by(JobRow.created.desc(), JobRow.name, JobRow.number.desc())))


def products_at_home(session: Session, job: str) -> int:
    """Return how many products of a job are on this side and in use."""
    return session.scalar(products_of(job, func.count()).where(ProductRow.home, ProductRow.in_use)) or 0


def products_of(job: str, *columns: Any) -> Select[Any]:
    """A query for the products of a job, of all its submissions: some columns, or rows with their attempts."""
    query = select(*columns) if columns else select(ProductRow).options(joinedload(ProductRow.attempt))
    return (
        query.select_from(ProductRow)
        .join(AttemptRow)
        .join(SubmissionRow, SubmissionRow.id == AttemptRow.submission_id)
        .where(SubmissionRow.job_id == job)
    )


def in_pages(values: Iterable[int], size: int = 500) -> Iterator[list[int]]:
    """Ids in pieces that fit the parameters of one statement."""
    page: list[int] = []
    for value in values:
        page.append(value)
        if len(page) == size:
            yield page
            page = []
    if page:
        yield page


def new_key() -> str:
    """A key for an order, which no other has."""
    return secrets.token_hex(12)


def now() -> str:
    """This moment as it is stored: UTC, ISO 8601."""
    return datetime.now(UTC).isoformat(timespec="microseconds")
