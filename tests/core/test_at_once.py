"""Several commands at once on one scene, one crate or one folder: all is kept, or it is said that another is at it."""

from __future__ import annotations

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from conftest import usda
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.decisions import DecisionsFile
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.errors import Blocked
from tidy_crate.core.files import only_one

HOLDER = """
import sys, time
from pathlib import Path
from tidy_crate.core.files import only_one
with only_one(Path(sys.argv[1]), "x", "x"):
    print("held", flush=True)
    time.sleep(60)
"""
SCENE = """( startTimeCode = 1
 endTimeCode = 3
 timeCodesPerSecond = 24 )
def Xform "Lead" { }
def Xform "Tail" { token tidy:simulation = "springFollow"
rel tidy:spring:target = </Lead> }
"""


def hold(lock: Path) -> subprocess.Popen[str]:
    lock.parent.mkdir(parents=True, exist_ok=True)
    held = subprocess.Popen([sys.executable, "-c", HOLDER, lock], stdout=subprocess.PIPE, text=True)
    assert held.stdout is not None and held.stdout.readline() == "held\n"
    return held


def test_decisions_of_several_commands_at_once_are_all_kept(tmp_path: Path) -> None:
    def decide(number: int) -> None:
        DecisionsFile(tmp_path / "s.usda").add("waive", [{"code": f"code-{number}", "because": "x", "by": "Wren"}])

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(decide, range(24)))
    kept = DecisionsFile(tmp_path / "s.usda").read().waive
    assert {one.code for one in kept} == {f"code-{number}" for number in range(24)}


@pytest.mark.parametrize(
    ("lock", "busy"),
    [("s.tidy/caches/.bake.lock", "bakes this scene"), ("s.tidy/collected/.s.crate.lock", "collects into this crate")],
)
def test_a_second_command_says_that_another_is_at_it_and_leaves_everything(
    lock: str, busy: str, tmp_path: Path
) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(usda(SCENE))

    def run() -> object:
        return bake(open_scene(scene)) if "bake" in lock else collect(open_scene(scene), tmp_path / "s.crate")

    held = hold(tmp_path / lock)
    try:
        with pytest.raises(Blocked, match=busy):
            run()
        assert not (tmp_path / "s.crate").exists() and not list((tmp_path / "s.tidy").rglob("*.usda"))
    finally:
        held.kill()
        held.communicate()
    # a lock ends with the process that held it, however that ended
    assert run()


@pytest.mark.skipif(os.name == "nt" or os.geteuid() == 0, reason="there every folder can be written")
def test_where_no_lock_can_be_made_the_work_itself_says_why(tmp_path: Path) -> None:
    tmp_path.chmod(0o500)
    try:
        with only_one(tmp_path / "a" / "lock", "works", "x"):
            pass
    finally:
        tmp_path.chmod(0o700)
