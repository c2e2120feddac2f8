"""Check of an installation: libraries, optional parts, sandbox, disk, ledger, keyring.

`python -m tidy_crate.core.installation` is the helper process that imports them: a broken one may end it.
"""

from __future__ import annotations

import importlib
import importlib.metadata
import json
import platform
import shutil
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from enum import StrEnum
from pathlib import Path
from typing import IO

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import os_reason
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.model import Model
from tidy_crate.core.process import cores, end_with_waiting_caller, own_helper

LEAST_PYTHON = (3, 11)
# bytes that a disk should have free
LEAST_FREE = 10 << 30
SECONDS = 120.0
# by package, the module that is imported and what it is for
LIBRARIES = {
    "usd-core": ("pxr.Usd", "USD scenes"),
    "OpenEXR": ("OpenEXR", "OpenEXR frames"),
    "opencolorio": ("PyOpenColorIO", "colour configurations"),
    "Pillow": ("PIL.Image", "PNG, JPEG and TIFF frames"),
    "numpy": ("numpy", "frames, simulations and estimates"),
    "scipy": ("scipy.spatial", "rigid bodies: hulls of their shapes"),
    "matplotlib": ("matplotlib.figure", "plots of estimates and bakes"),
    "mujoco": ("mujoco", "rigid bodies"),
    "embreex": ("embreex.rtcore_scene", "the practice renderer"),
    "blake3": ("blake3", "hashes"),
    "zstandard": ("zstandard", "archives"),
    "httpx": ("httpx", "farms over HTTP"),
    "paramiko": ("paramiko", "places on SFTP servers"),
    "SQLAlchemy": ("sqlalchemy.orm", "the ledger"),
}
OPTIONAL = {
    "s3fs": ("s3fs", "places in S3 buckets", "pip install s3fs"),
    "distributed": ("distributed", "your own machines under Dask", "pip install distributed"),
    "psycopg": ("psycopg", "a shared ledger in PostgreSQL", "pip install 'psycopg[binary]'"),
}


class State(StrEnum):
    """State of one part of the installation."""

    WORKS = "works"
    MISSING = "missing"
    """An optional part that is not installed, or that this system does not have."""
    BROKEN = "broken"


class Part(Model):
    """One part of the installation."""

    group: str
    name: str
    state: State
    found: str
    """Version, path or reason, in plain words."""
    remedy: str = ""
    """A command or a hint; empty where nothing is to be done."""


def examine(ledger: Path | str, home: Path) -> Iterator[Part]:
    """Yield the parts of this installation as they are examined. Farms are not asked.

    ledger: its file or database URL. home: the user's folder of this tool.
    """
    yield _python()
    yield _keyring()
    yield from _libraries()
    yield _folder("folder of this tool", home)
    yield _folder("temporary folder", Path(tempfile.gettempdir()))
    yield _ledger(ledger)


def _python() -> Part:
    version = platform.python_version()
    found = f"Python {version}, {platform.system()} {platform.release()}, {cores()} cores"
    if sys.version_info < LEAST_PYTHON:
        wanted = ".".join(map(str, LEAST_PYTHON))
        return Part(group="system", name="Python", state=State.BROKEN, found=found, remedy=f"install Python {wanted}")
    return Part(group="system", name="Python", state=State.WORKS, found=found)


def _libraries() -> Iterator[Part]:
    line, environment = own_helper("tidy_crate.core.installation")
    with subprocess.Popen(line, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as helper:
        # a library that hangs while it is imported must not hang this
        ending = threading.Timer(SECONDS, helper.kill)
        ending.start()
        assert helper.stdout is not None
        answers = _Answers(helper.stdout)
        for name, (_, use) in LIBRARIES.items():
            yield _library(name, use, answers.get(name), State.BROKEN, "pip install --force-reinstall " + name)
        for name, (_, use, remedy) in OPTIONAL.items():
            yield _library(name, use, answers.get(name), State.MISSING, remedy)
        yield _movies()
        sandbox = answers.get("sandbox") or {"error": "it could not be tried"}
        ending.cancel()
    yield Part(
        group="proof", name="sandbox", state=State.MISSING if sandbox["error"] else State.WORKS,
        found=sandbox["error"] or "prove can deny everything but the crate",
        remedy="prove still works; it then reports enforced: false" if sandbox["error"] else "",
    )  # fmt: skip


class _Answers:
    """The helper's answers, read as far as they are asked for."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._lines = iter(stream.readline, b"")
        self._found: dict[str, dict[str, str]] = {}

    def get(self, name: str) -> dict[str, str] | None:
        """Return the answer for a library; None where the helper ended without one."""
        while name not in self._found:
            line = next(self._lines, None)
            if line is None:
                return None
            if line.startswith(b"{"):
                said = json.loads(line.decode("utf-8", "replace"))
                self._found[said["name"]] = said
        return self._found[name]


def _library(name: str, use: str, said: dict[str, str] | None, otherwise: State, remedy: str) -> Part:
    group = "libraries" if otherwise is State.BROKEN else "optional"
    if said is None:
        crashed = "importing it ends the process, or an earlier library does"
        return Part(group=group, name=name, state=State.BROKEN, found=f"for {use}; {crashed}", remedy=remedy)
    if said["error"]:
        # an optional library that is there and cannot be imported is broken
        state = State.BROKEN if said["version"] else otherwise
        found = f"for {use}; {said['error'] if said['version'] else 'not installed'}"
        return Part(group=group, name=name, state=state, found=found, remedy=remedy)
    return Part(group=group, name=name, state=State.WORKS, found=f"{said['version']}, for {use}")


def _movies() -> Part:
    path = shutil.which("ffmpeg")
    return Part(
        group="optional", name="ffmpeg", state=State.WORKS if path else State.MISSING,
        found=path or "for previews as .mp4; not installed",
        remedy="" if path else "install ffmpeg, or use previews as .webp",
    )  # fmt: skip


def _folder(name: str, folder: Path) -> Part:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            free = shutil.disk_usage(folder).free
    except OSError as error:
        what = f"{folder}: {os_reason(error)}"
        return Part(group="disk", name=name, state=State.BROKEN, found=what, remedy="give yourself write permission")
    found = f"{folder}, {free / (1 << 30):.0f} GiB free"
    if free < LEAST_FREE:
        remedy = f"make room: less than {LEAST_FREE >> 30} GiB are free"
        return Part(group="disk", name=name, state=State.BROKEN, found=found, remedy=remedy)
    return Part(group="disk", name=name, state=State.WORKS, found=found)


def _ledger(where: Path | str) -> Part:
    shown = where if isinstance(where, Path) else where.rpartition("@")[2]
    try:
        Ledger(where).close()
    except TidyCrateError as error:
        return Part(group="disk", name="ledger", state=State.BROKEN, found=error.what, remedy=error.remedy or "")
    return Part(group="disk", name="ledger", state=State.WORKS, found=f"{shown}")


def _keyring() -> Part:
    import keyring

    backend = type(keyring.get_keyring())
    name = f"{backend.__module__}.{backend.__qualname__}"
    if backend.__module__.startswith(("keyring.backends.fail", "keyring.backends.null")):
        remedy = "keep tokens in environment variables or in files that only you can read"
        return Part(group="system", name="keyring", state=State.MISSING, found="this system has none", remedy=remedy)
    return Part(group="system", name="keyring", state=State.WORKS, found=name)


def main() -> None:
    """Import every library and try the sandbox. Print a line of JSON for each."""
    end_with_waiting_caller()
    known = {name: module for name, (module, _) in LIBRARIES.items()}
    known |= {name: module for name, (module, *_) in OPTIONAL.items()}
    for name, module in known.items():
        said = {"name": name, "version": "", "error": ""}
        try:
            said["version"] = importlib.metadata.version(name)
            importlib.import_module(module)
        except importlib.metadata.PackageNotFoundError:
            said["error"] = "not installed"
        except Exception as error:  # noqa: BLE001 - a broken library may raise anything, and is reported
            said["error"] = f"{type(error).__name__}: {' '.join(str(error).split())[:160]}"
        _tell(said)
    from tidy_crate.core.crate.confine import confine

    # at the very end: from here on this process can read nothing
    _tell({"name": "sandbox", "error": confine((), ()).why_not or ""})


def _tell(said: dict[str, str]) -> None:
    sys.stdout.write(json.dumps(said) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    main()
