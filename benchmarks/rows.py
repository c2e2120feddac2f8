"""Rows of the table: whole commands in fresh processes, each beside its reference."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from scenes import (
    FRAMES,
    write_jiggle,
    write_large_files,
    write_large_scene,
    write_layered_frames,
    write_particles,
)

from farms import (
    CARD,
    CURL,
    MIB,
    curl_fetches,
    curl_sends,
    empty_farm,
    finished_job,
    finished_large_job,
    long_shots,
    nothing_at_home,
    stop_farm,
    tool,
    write_scene,
)

PYTHON = sys.executable
OURS = [PYTHON, "-m", "tidy_crate"]
DEPENDENCIES = "import sys; from pxr import UsdUtils; UsdUtils.ComputeAllDependencies(sys.argv[1])"
HASHING = """
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from blake3 import blake3
files = [path for path in Path(sys.argv[1]).rglob("*") if path.is_file()]
def one(path):
    return blake3().update_mmap(path).hexdigest() if path.stat().st_size else ""
with ThreadPoolExecutor() as pool:
    print(len(list(pool.map(one, files))))
"""
DECODING = """
import sys
from multiprocessing import get_context
from pathlib import Path
def one(path):
    import OpenEXR
    OpenEXR.set_global_thread_count(0)
    return len(OpenEXR.File(path, separate_channels=True).channels())
if __name__ == "__main__":
    with get_context("fork").Pool() as pool:
        pool.map(one, sorted(map(str, Path(sys.argv[1]).glob("*.exr"))), chunksize=1)
"""


@dataclass(frozen=True)
class Row:
    """One thing that is measured."""

    what: str
    prepare: Callable[[Path], None]
    """Makes what is needed in an empty folder, once."""
    ours: list[str]
    """The command; `{}` in a word is the folder."""
    reference: list[str]
    aim: float
    """The most that the command may take, as a multiple of its reference."""
    before: Callable[[Path], None] = lambda folder: None
    """Is done before each run of the command, and not timed."""
    before_reference: Callable[[Path], None] = lambda folder: None
    after: Callable[[Path], None] = lambda folder: None
    """Is done once all is measured."""


def forget(folder: Path) -> None:
    """Let nothing be known from an earlier run."""
    shutil.rmtree(folder / "home", ignore_errors=True)
    shutil.rmtree(folder / "x.crate", ignore_errors=True)
    shutil.rmtree(folder / "show" / "scene.tidy", ignore_errors=True)


def remove_copy(folder: Path) -> None:
    """Let `cp` start with nothing."""
    shutil.rmtree(folder / "copy", ignore_errors=True)


def change_a_layer(folder: Path) -> None:
    """Change the text of one layer of many."""
    layer = folder / "show" / "layer0000.usda"
    text = layer.read_text(encoding="utf-8")
    layer.write_text(text + "# changed\n", encoding="utf-8")
    os.utime(layer, (1.7e9 + len(text), 1.7e9 + len(text)))


def _scene(layers: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        write_large_scene(folder / "show", layers)

    return prepare


def _files(count: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        write_large_files(folder / "show", count)

    return prepare


def _frames(count: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        write_layered_frames(folder / "frames", count)

    return prepare


def _crate(count: int, size: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        scene = write_scene(folder / "show", {f"c{number:05d}.bin": size for number in range(count)})
        tool(folder, "collect", scene, "-o", folder / "x.crate")

    return prepare


def _job(frames: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        finished_job(folder, frames)

    return prepare


def _large_job(frames: int) -> Callable[[Path], None]:
    def prepare(folder: Path) -> None:
        finished_large_job(folder, frames)

    return prepare


def _estimate(frames: int) -> list[str]:
    ways = ["--farm", "{}/harbour.farm.toml", "--seconds-per-frame", "60s", "--nodes", "1000", "--batch", "10"]
    return [*OURS, "estimate", f"{{}}/shot-{frames}.crate", *ways, "--json"]


def _prove(count: int) -> Row:
    return Row(
        f"prove without a test frame, {count} x 64 MiB",
        _files(count),
        [*OURS, "prove", "{}/x.crate", "--no-test-frame", "--json"],
        [PYTHON, "-c", HASHING, "{}/x.crate"],
        1.5,
    )


def _send(what: str, count: int, size: int, aim: float) -> Row:
    ours = [*OURS, "send", "{}/x.crate", "--farm", CARD, "--again", "--yes", "--json"]
    return Row(f"send, {what}", _crate(count, size), ours, CURL, aim, empty_farm, curl_sends, stop_farm)


def _retrieve(what: str, prepare: Callable[[Path], None], aim: float) -> Row:
    ours = [*OURS, "retrieve", "scene-1", "--into", "{}/frames", "--json"]
    return Row(f"retrieve, {what}", prepare, ours, CURL, aim, nothing_at_home, curl_fetches, stop_farm)


def _bake(what: str, kind: str, count: int, aim: float) -> Row:
    """count: particles, or points along an edge."""
    write = {"particles": write_particles, "jiggle": write_jiggle}[kind]

    def prepare(folder: Path) -> None:
        write(folder / "show", count)

    plain = [PYTHON, str(Path(__file__).with_name("plain_bake.py")), kind, str(count), str(FRAMES), "{}/plain"]
    return Row(what, prepare, [*OURS, "bake", SCENE, "--json"], plain, aim, forget)


def _check(files: str, layers: int) -> Row:
    ours = [*OURS, "check", SCENE, "--json"]
    return Row(f"check, {files}, after a survey", _scene(layers), ours, SURVEY, 0.1, before_reference=forget)


def _collect(what: str, prepare: Callable[[Path], None], aim: float) -> Row:
    return Row(f"collect, {what}, first", prepare, COLLECT, COPY, aim, forget, remove_copy)


def _collect_again(what: str, prepare: Callable[[Path], None], aim: float) -> Row:
    """Beside a first one."""
    return Row(f"collect, {what}, nothing changed", prepare, COLLECT, COLLECT, aim, before_reference=forget)


def _review(count: int) -> Row:
    ours = [*OURS, "review", "{}/frames", "--json"]
    reference = [PYTHON, "-c", DECODING, "{}/frames"]
    return Row(f"review, {count} frames of 1080p, 21 half channels", _frames(count), ours, reference, 1.2)


SCENE = "{}/show/scene.usda"
SURVEY = [*OURS, "survey", SCENE, "--json"]
COLLECT = [*OURS, "collect", SCENE, "-o", "{}/x.crate", "--json"]
USD = [PYTHON, "-c", DEPENDENCIES, SCENE]
COPY = ["cp", "-r", "{}/show", "{}/copy"]
ROWS = {
    "survey": Row("survey, 40,400 files in 400 layers, first", _scene(400), SURVEY, USD, 1.5, forget),
    "survey-again": Row("survey, 40,400 files, nothing changed", _scene(400), SURVEY, USD, 0.5),
    "survey-one": Row("survey, 40,400 files, one of 400 layers changed", _scene(400), SURVEY, USD, 0.7, change_a_layer),
    "survey-again-small": Row("survey, 4,040 files, nothing changed", _scene(40), SURVEY, USD, 0.5),
    "survey-one-small": Row(
        "survey, 4,040 files, one of 40 layers changed", _scene(40), SURVEY, USD, 0.7, change_a_layer
    ),
    "survey-small": Row("survey, 4,040 files in 40 layers, first", _scene(40), SURVEY, USD, 1.5, forget),
    "check": _check("40,400 files", 400),
    "check-small": _check("4,040 files", 40),
    "collect-less": _collect("2 x 64 MiB", _files(2), 1.3),
    "collect-less-again": _collect_again("2 x 64 MiB", _files(2), 0.05),
    "collect": _collect("20 x 64 MiB", _files(20), 1.3),
    "collect-again": _collect_again("20 x 64 MiB", _files(20), 0.05),
    "collect-small": _collect("4,040 small files", _scene(40), 6),
    "collect-small-again": _collect_again("4,040 small files", _scene(40), 0.25),
    "collect-40k": _collect("40,400 small files", _scene(400), 6),
    "collect-40k-again": _collect_again("40,400 small files", _scene(400), 0.25),
    "bake-particles-small": _bake("bake, 10,000 particles", "particles", 10_000, 1.5),
    "bake-particles": _bake("bake, 100,000 particles", "particles", 100_000, 1.5),
    "bake-jiggle-small": _bake("bake, 5,000 points that jiggle", "jiggle", 71, 3),
    "bake-jiggle": _bake("bake, 50,000 points that jiggle", "jiggle", 224, 3),
    "prove-less": _prove(2),
    "prove": _prove(20),
    "estimate": Row(
        "estimate, 100,000 frames on 1,000 machines, beside 10,000 frames",
        long_shots,
        _estimate(100_000),
        _estimate(10_000),
        10,
    ),
    "send-large-less": _send("1 x 128 MiB", 1, 128 * MIB, 1.0),
    "send-large": _send("8 x 128 MiB", 8, 128 * MIB, 1.0),
    "send-small-less": _send("2,000 x 10 kB", 2_000, 10_000, 0.5),
    "send-small": _send("20,000 x 10 kB", 20_000, 10_000, 0.5),
    "retrieve-large-less": _retrieve("2 frames of 1080p, 21 half channels", _large_job(2), 1.2),
    "retrieve-large": _retrieve("16 frames of 1080p, 21 half channels", _large_job(16), 1.2),
    "retrieve-small-less": _retrieve("400 files of 4 kB", _job(400), 0.5),
    "retrieve-small": _retrieve("4,000 files of 4 kB", _job(4_000), 0.5),
    "review-less": _review(5),
    "review": _review(48),
    "help": Row("--help", lambda folder: None, [*OURS, "--help"], [PYTHON, "-c", "import typer"], 1.5),
    "jobs": Row("jobs", lambda folder: None, [*OURS, "jobs"], [PYTHON, "-c", "import typer"], 3),
}
