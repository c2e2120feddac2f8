"""Starting and stopping a practice farm in the background."""

from __future__ import annotations

import subprocess
import sys
import time
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
import psutil

from tidy_crate.core.errors import FarmError, UnreadableInput
from tidy_crate.core.files import read_json
from tidy_crate.core.process import own_helper
from tidy_crate.practice.farm.settings import (
    CARD_NAME,
    NEXT_TOKEN,
    FarmSettings,
    load_settings,
    save_settings,
    token_of,
)

RUNNING = "running.json"
LOG = "farm.log"
PATIENCE = 60.0


@dataclass(frozen=True)
class RunningFarm:
    """A practice farm that answers."""

    url: str
    card: Path
    folder: Path
    was_running: bool
    """True if it was started before."""


def start(folder: Path, settings: FarmSettings, port: int = 0) -> RunningFarm:
    """Start the farm of a folder and wait until it answers. One that runs already is left as it is."""
    folder = folder.absolute()
    # crates and frames of others may be in it: a folder that is made here is its user's alone
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    found = running(folder)
    if found is not None:
        return RunningFarm(found, folder / CARD_NAME, folder, was_running=True)
    (folder / RUNNING).unlink(missing_ok=True)
    # it stays the same farm, whatever its settings are changed to
    save_settings(folder, settings.model_copy(update={"identity": load_settings(folder).identity}))
    token_of(folder)
    # its own session, so that closing the terminal does not end it
    apart: dict[str, Any] = (
        {"creationflags": getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)}
        if sys.platform == "win32"
        else {"start_new_session": True}
    )
    line, environment = own_helper("tidy_crate.practice.farm", str(folder), str(port))
    with (folder / LOG).open("ab") as log:
        process = subprocess.Popen(
            line, env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd=folder, **apart
        )
    deadline = time.monotonic() + PATIENCE
    while time.monotonic() < deadline:
        url = running(folder)
        if url is not None:
            return RunningFarm(url, folder / CARD_NAME, folder, was_running=False)
        if process.poll() is not None:
            break
        time.sleep(0.05)
    last = (folder / LOG).read_text(encoding="utf-8", errors="replace").strip().splitlines()[-1:]
    raise FarmError(f"the practice farm did not start ({' '.join(last)[:200]})", folder, f"its log is {folder / LOG}")


def switch_faults(folder: Path, faults: dict[str, float]) -> None:
    """Switch faults of the line of a running farm; 0 switches one off. Raises FarmError when it does not run."""
    _ask(folder, "/faults", json=faults)


def pay(folder: Path, amount: Decimal) -> None:
    """Pay money in at a running farm. Raises FarmError when it does not run."""
    _ask(folder, f"/pay?amount={amount}")


def _ask(folder: Path, path: str, **what: Any) -> None:
    folder = folder.absolute()
    file = folder / RUNNING
    if not file.is_file():
        raise FarmError("this practice farm does not run", folder, "start it: tidy-crate practice start")
    url = str(read_json(file, "state of the practice farm")["url"])
    try:
        answer = httpx.post(url + path, headers=_headers(folder, url), timeout=10, trust_env=False, **what)
        answer.raise_for_status()
    except httpx.HTTPError as error:
        raise FarmError(f"the practice farm does not answer ({error})", folder) from error


def stop(folder: Path) -> bool:
    """Stop the farm of a folder. Returns whether one was running."""
    folder = folder.absolute()
    url = running(folder)
    if url is None:
        return False
    pid = int(read_json(folder / RUNNING, "state of the practice farm")["pid"])
    httpx.post(f"{url}/shutdown", headers=_headers(folder, url), timeout=10, trust_env=False)
    deadline = time.monotonic() + PATIENCE
    while time.monotonic() < deadline:
        # the file goes last, but the process must be gone too before its folder can be removed everywhere
        if not (folder / RUNNING).exists() and _has_ended(pid):
            return True
        time.sleep(0.05)
    raise FarmError("the practice farm does not stop", folder, f"end its process {pid} by hand")


def _has_ended(pid: int) -> bool:
    try:
        return bool(psutil.Process(pid).status() == psutil.STATUS_ZOMBIE)
    except psutil.NoSuchProcess:
        return True


def running(folder: Path) -> str | None:
    """The address of the farm of a folder, if it answers and is this very farm."""
    path = folder / RUNNING
    if not path.is_file():
        return None
    try:
        url = str(read_json(path, "state of the practice farm")["url"])
        return url if _accepted(url, _headers(folder, url)) else None
    except (httpx.HTTPError, UnreadableInput, KeyError, TypeError):
        return None


def _headers(folder: Path, url: str) -> dict[str, str]:
    """Return what signs in: by the farm's token, or by the one that follows it where that has expired."""
    own = {"Authorization": f"Bearer {token_of(folder)}"}
    following = folder / NEXT_TOKEN
    if not following.is_file() or _accepted(url, own):
        return own
    return {"Authorization": f"Bearer {following.read_text(encoding='utf-8').strip()}"}


def _accepted(url: str, headers: dict[str, str]) -> bool:
    return httpx.get(f"{url}/hello", headers=headers, timeout=2, trust_env=False).status_code == 200
