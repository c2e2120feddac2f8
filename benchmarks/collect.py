"""Collecting with hashing beside `cp -r` of the same tree, and collecting again: `python benchmarks/collect.py`.

Large files first (their number, 64 MiB each), then many small ones. Each side starts with the sources in the
system's file cache.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from scenes import write_large_scene

from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect

LARGE = 64 << 20


def write_large_files(folder: Path, count: int) -> Path:
    """A scene that names `count` large files."""
    folder.mkdir(parents=True)
    block = os.urandom(1 << 20)
    lines = ["#usda 1.0", 'def Sphere "S"', "{"]
    for number in range(count):
        with (folder / f"cache{number:03d}.bin").open("wb") as out:
            for part in range(LARGE // len(block)):
                # no two blocks alike, so that nothing can be stored once
                out.write(number.to_bytes(4, "big") + part.to_bytes(4, "big") + block[8:])
        lines.append(f"    asset f{number} = @./cache{number:03d}.bin@")
    scene = folder / "scene.usda"
    scene.write_text("\n".join([*lines, "}"]) + "\n")
    return scene


def timed(action: Callable[[], object]) -> float:
    """Seconds that an action takes, with what it wrote on its way to the disk."""
    began = time.perf_counter()
    action()
    return time.perf_counter() - began


def main() -> None:
    """Print a line per tree."""
    print(f"{'tree':>24} {'collect':>9} {'cp -r':>9} {'ratio':>6} {'again':>9} {'ratio':>6}")
    trees: list[tuple[str, Callable[[Path], Path]]] = [
        ("2 x 64 MiB", lambda folder: write_large_files(folder, 2)),
        ("20 x 64 MiB", lambda folder: write_large_files(folder, 20)),
        ("400 small files", lambda folder: write_large_scene(folder, 4)),
        ("4,000 small files", lambda folder: write_large_scene(folder, 40)),
    ]
    for name, write in trees:
        with tempfile.TemporaryDirectory() as place:
            copying, first, again = measure(write(Path(place, "show")), Path(place))
            ratios = first / copying, again / first
            print(f"{name:>24} {first:>7.2f} s {copying:>7.2f} s {ratios[0]:>6.2f} {again:>7.2f} s {ratios[1]:>6.2f}")


def measure(scene: Path, place: Path) -> tuple[float, float, float]:
    """Seconds of `cp -r`, of collecting, and of collecting again."""
    copying = min(timed(lambda: _copy(scene.parent, place / "copy")) for _ in range(2))
    first = timed(lambda: collect(open_scene(scene), place / "c.crate"))
    again = timed(lambda: collect(open_scene(scene), place / "c.crate"))
    return copying, first, again


def _copy(source: Path, target: Path) -> None:
    if target.exists():
        shutil.rmtree(target)
    if sys.platform == "win32":
        shutil.copytree(source, target)
    else:
        os.spawnlp(os.P_WAIT, "cp", "cp", "-r", str(source), str(target))


if __name__ == "__main__":
    main()
