"""A disk that does not tell names apart by case, where this machine can show one."""

from __future__ import annotations

import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import is_whole, make_ready, open_trusted
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.practice.demo.scene import write_demo_scene

# the package raises OSError where the library that it calls is not installed
try:
    import fuse  # noqa: F401
except (ImportError, OSError):
    pytest.skip("there is no FUSE here: install libfuse2 and the package fusepy", allow_module_level=True)


@pytest.fixture
def folded(tmp_path: Path) -> Iterator[Path]:
    """An empty folder on such a disk."""
    below, shown = tmp_path / "below", tmp_path / "shown"
    below.mkdir()
    shown.mkdir()
    disk = Path(__file__).parents[1] / "folded_disk.py"
    process = subprocess.Popen([sys.executable, disk, below, shown], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    deadline = time.monotonic() + 20
    while not shown.is_mount():
        if process.poll() is not None or time.monotonic() > deadline:
            process.kill()
            pytest.skip("this machine mounts no such disk")
        time.sleep(0.05)
    yield shown
    unmount = next(name for name in ("fusermount3", "fusermount", "umount") if shutil.which(name))
    subprocess.run([unmount, *(["-u"] if unmount != "umount" else []), shown], check=False)
    process.terminate()
    process.wait()


def test_c5_names_in_another_case_are_found_told_and_packed_as_they_are_written(folded: Path) -> None:
    demo = write_demo_scene(folded / "show")
    textures = demo.project / "textures"
    (textures / "planks.png").rename(textures / "PLANKS.PNG")
    assert "PLANKS.PNG" in {path.name for path in textures.iterdir()} and (textures / "planks.png").is_file()
    told = [one for one in check_scene(open_trusted(demo.scene)).findings if one.code == "file-other-case"]
    assert len(told) == 1 and told[0].message.endswith("PLANKS.PNG")
    context = make_ready(demo)
    crate = folded / "quay.crate"
    first = collect(context, crate)
    assert first.complete and is_whole(crate)
    # a node tells cases apart: the crate has the name that its scene has
    assert "planks.png" in {path.name for path in (crate / "textures").iterdir()}
    # the same crate by another case of its name: it is refreshed, and no second one is made
    assert collect(context, folded / "QUAY.CRATE").complete and is_whole(crate)
    assert len([path for path in folded.iterdir() if path.name.casefold() == "quay.crate"]) == 1
