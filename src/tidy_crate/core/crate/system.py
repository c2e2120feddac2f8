"""Questions of collect to the operating system: a seam for tests."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import psutil

from tidy_crate.core.files import copy_and_hash


def _free_bytes(path: Path) -> int:
    return shutil.disk_usage(path).free


@dataclass(frozen=True)
class System:
    """A machine."""

    started: Callable[[], float] = psutil.boot_time
    """When it was last started, in seconds since the epoch."""
    free_bytes: Callable[[Path], int] = _free_bytes
    """Free bytes of the disk under a folder."""
    copy: Callable[[Path, Path], tuple[str, int]] = copy_and_hash
    """Copies a file, and returns its BLAKE3 and bytes."""


THIS = System()
