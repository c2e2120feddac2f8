"""A PostgreSQL server of the tests' own, on loopback, for as long as a block runs."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from ports import free_port


def programs() -> Path | None:
    """The folder of the server's programs, None where it is not installed."""
    found = shutil.which("initdb")
    if found:
        return Path(found).parent
    installed = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return installed[-1].parent if installed else None


@dataclass
class Server:
    """A server. It can be stopped and started in the middle of a test."""

    folder: Path
    bin: Path
    port: int
    process: subprocess.Popen[bytes] | None = None

    def url(self, database: str) -> str:
        return f"postgresql://postgres@127.0.0.1:{self.port}/{database}"

    def start(self) -> None:
        self.process = subprocess.Popen(
            [*_as_user(), str(self.bin / "postgres"), "-D", str(self.folder), "-p", str(self.port), "-h", "127.0.0.1",
             "-k", "", "-c", "fsync=off", "-c", "max_connections=60"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            try:
                self.execute("postgres", "SELECT 1")
                return
            except OSError:
                time.sleep(0.05)
        raise RuntimeError("the server did not start")

    def stop(self) -> None:
        """At once, as when the power fails: open connections are cut."""
        if self.process is not None:
            self._control("stop", "-m", "immediate")
            self.process.wait(30)
            self.process = None

    def execute(self, database: str, statement: str) -> None:
        import psycopg

        try:
            with psycopg.connect(self.url(database), autocommit=True, connect_timeout=5) as connection:
                connection.execute(statement.encode())
        except psycopg.OperationalError as error:
            raise OSError(str(error)) from error

    def _control(self, *words: str) -> None:
        subprocess.run(
            [*_as_user(), str(self.bin / "pg_ctl"), "-D", str(self.folder), *words],
            check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def _as_user() -> list[str]:
    """The server refuses to run as root."""
    root = hasattr(os, "geteuid") and os.geteuid() == 0
    return ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"] if root else []


@contextmanager
def server(folder: Path) -> Iterator[Server]:
    """A fresh server with its data in a folder."""
    bin_folder = programs()
    assert bin_folder is not None
    folder.mkdir(parents=True)
    if hasattr(os, "geteuid") and os.geteuid() == 0:
        shutil.chown(folder, "postgres", "postgres")
        for above in folder.parents:
            # the server's user must be able to reach its data
            if above.stat().st_uid == 0 and above != Path("/"):
                above.chmod(above.stat().st_mode | 0o011)
    data = folder / "data"
    line = [str(bin_folder / "initdb"), "-D", str(data), "-U", "postgres", "--auth=trust", "-E", "UTF8", "--no-sync"]
    subprocess.run([*_as_user(), *line], check=True, stdout=subprocess.DEVNULL, cwd=folder)
    found = Server(data, bin_folder, free_port())
    found.start()
    try:
        yield found
    finally:
        found.stop()
