"""Copying files into a crate: once, complete, resumable, by links where that is asked for."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import ANY, Run, open_trusted, tree, usda
from tidy_crate.core.crate.archive import write_archive
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.copying import Way
from tidy_crate.core.crate.packing import UNFINISHED, read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.crate.system import System
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import copy_and_hash
from tidy_crate.core.progress import Step

BIG = 3 << 20


def show(tmp_path: Path, files: dict[str, bytes], head: str = "") -> Path:
    """A scene that names some files."""
    scene = tmp_path / "show" / "s.usda"
    for name, data in files.items():
        (scene.parent / name).parent.mkdir(parents=True, exist_ok=True)
        (scene.parent / name).write_bytes(data)
    lines = "\n".join(f"asset f{number} = @./{name}@" for number, name in enumerate(files))
    scene.write_text(usda(f'{head}def Sphere "S" {{\n{lines}\n}}'))
    return scene


@pytest.mark.parametrize("way", list(Way))
def test_every_way_gives_the_same_crate_and_leaves_the_originals(tmp_path: Path, way: Way) -> None:
    scene = show(tmp_path, {"a.bin": os.urandom(BIG), "sub/b.bin": b"b" * 9000, "sub/empty.bin": b""})
    before = tree(scene.parent)
    crate = tmp_path / "c.crate"
    first = collect(open_trusted(scene), crate, way=way)
    assert first.copied_bytes == BIG + 9000 + scene.stat().st_size
    assert tree(scene.parent / "sub") == {"b.bin": before["sub/b.bin"], "empty.bin": b""}
    assert (crate / "a.bin").read_bytes() == before["a.bin"]
    same = (crate / "a.bin").samefile(scene.parent / "a.bin")
    assert same is (way is Way.HARD_LINK)
    assert prove(crate, os.environ, ANY, test=False).whole
    assert collect(open_trusted(scene), crate, way=way).copied_bytes == 0
    # a changed original is brought in again, and the other way round nothing flows back
    (scene.parent / "sub/b.bin").unlink()
    (scene.parent / "sub/b.bin").write_bytes(b"c" * 8000)
    collect(open_trusted(scene), crate, way=way)
    assert (crate / "sub/b.bin").read_bytes() == b"c" * 8000
    assert prove(crate, os.environ, ANY, test=False).whole


def test_r6_one_content_is_one_file_on_the_disk_under_all_its_names(tmp_path: Path) -> None:
    data = os.urandom(100_000)
    scene = show(tmp_path, {"a.bin": data, "b.bin": data, "c.bin": b"small", "d.bin": b"small"})
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate)
    assert (crate / "a.bin").samefile(crate / "b.bin") and not (crate / "c.bin").samefile(crate / "d.bin")
    # one of them changes: the other one keeps what it was
    (scene.parent / "b.bin").write_bytes(b"new" * 5000)
    collect(open_trusted(scene), crate)
    assert (crate / "a.bin").read_bytes() == data and (crate / "b.bin").read_bytes() == b"new" * 5000
    assert prove(crate, os.environ, ANY, test=False).whole


def test_r7_only_the_frames_that_are_rendered_travel_when_that_is_asked(tmp_path: Path) -> None:
    files = {f"seq/p.{n:04d}.exr": b"p" * n for n in range(1, 21)}
    files |= {f"short/q.{n:04d}.exr": b"q" * n for n in range(1, 8)}
    scene = show(tmp_path, files, "(\n startTimeCode = 6\n endTimeCode = 9\n)\n")
    lines = "asset p = @./seq/p.####.exr@\nasset q = @./short/q.####.exr@"
    settings = 'def RenderSettings "R" {\nint2 resolution = (4, 4)\nrel products = </P>\n}\n'
    settings += 'def RenderProduct "P" { token productName = "x.####.exr" }'
    head = "(\n startTimeCode = 6\n endTimeCode = 9\n)\n"
    scene.write_text(usda(f'{head}def Sphere "S" {{\n{lines}\n}}\n{settings}'))
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate, needed_frames_only=True)
    names = {file.path for file in read_packing_list(crate).files}
    # one beyond each end; the sequence that does not hold all frames is held or looped, so all of it travels
    assert {name for name in names if name.startswith("seq/")} == {f"seq/p.{n:04d}.exr" for n in range(5, 11)}
    assert len([name for name in names if name.startswith("short/")]) == 7
    (note,) = read_packing_list(crate).missing
    assert note.because.startswith("14 files") and not note.needed
    assert prove(crate, os.environ, ANY, test=False).whole
    collect(open_trusted(scene), crate)
    assert len(read_packing_list(crate).files) > 27 and not read_packing_list(crate).missing


def test_x3_a_killed_collect_goes_on_where_it_stopped(tmp_path: Path) -> None:
    scene = show(tmp_path, {f"f{n}.bin": os.urandom(BIG) for n in range(40)})
    crate = tmp_path / "c.crate"
    program = (
        "import sys, time\n"
        "from pathlib import Path\n"
        "from tidy_crate.core.crate import collect_cache\n"
        "from tidy_crate.core.crate.collect import collect\n"
        "from tidy_crate.core.context.scene import open_scene\n"
        "collect_cache.SECONDS_BETWEEN_SAVES = 0\n"
        "def slowly(step):\n"
        "    print(step.done, flush=True); time.sleep(0.2)\n"
        "collect(open_scene(Path(sys.argv[1])), Path(sys.argv[2]), (), slowly)\n"
    )
    line = [sys.executable, "-c", program, str(scene), str(crate)]
    with subprocess.Popen(line, stdout=subprocess.PIPE, text=True) as child:
        assert child.stdout is not None
        for _ in range(5):
            child.stdout.readline()
        child.send_signal(signal.SIGTERM if sys.platform == "win32" else signal.SIGKILL)
    assert (crate / UNFINISHED).exists()
    with pytest.raises(UnreadableInput, match="not finished"):
        read_packing_list(crate)
    result = collect(open_trusted(scene), crate)
    assert result.reused_bytes >= 4 * BIG and result.copied_bytes < 40 * BIG
    assert prove(crate, os.environ, ANY, test=False).whole


def test_x3_after_a_power_cut_a_copy_counts_only_once_it_is_read_again(tmp_path: Path) -> None:
    scene = show(tmp_path, {"a.bin": os.urandom(9000), "b.bin": os.urandom(9000)})
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate)
    (kept,) = (open_trusted(scene).tidy / "collected").glob("*.json")
    content = json.loads(kept.read_text())
    kept.write_text(json.dumps(content | {"finished": False}))
    target = crate / "a.bin"
    state = target.stat()
    with target.open("r+b") as stream:  # blocks that never reached the disk, under the same size and time
        stream.write(bytes(9000))
    os.utime(target, ns=(state.st_atime_ns, state.st_mtime_ns))
    restarted = System(started=lambda: time.time() + 9000)
    assert collect(open_trusted(scene), crate, system=restarted).copied_bytes == 9000
    assert prove(crate, os.environ, ANY, test=False).whole


def test_a_file_that_changes_while_it_is_collected_is_named_and_the_rest_is_in(tmp_path: Path) -> None:
    scene = show(tmp_path, {f"f{n}.bin": os.urandom(50_000) for n in range(6)})
    crate = tmp_path / "c.crate"

    def meddle(step: Step) -> None:
        (scene.parent / "f0.bin").write_bytes(b"saved again in the meantime")

    with pytest.raises(UnreadableInput, match="changed while"):
        collect(open_trusted(scene), crate, progress=meddle)
    assert (crate / UNFINISHED).exists()
    assert collect(open_trusted(scene), crate).copied_bytes < 100_000


def test_a_file_that_cannot_be_read_does_not_keep_the_others_away(tmp_path: Path) -> None:
    scene = show(tmp_path, {f"f{n}.bin": os.urandom(50_000) for n in range(6)})
    crate = tmp_path / "c.crate"

    def failing(source: Path, target: Path) -> tuple[str, int]:
        if source.name in ("f1.bin", "f3.bin"):
            raise OSError(5, "Input/output error")
        return copy_and_hash(source, target)

    with pytest.raises(UnreadableInput, match="2 files could not be copied") as caught:
        collect(open_trusted(scene), crate, system=System(copy=failing))
    assert "input/output error" in caught.value.what
    assert collect(open_trusted(scene), crate).copied_bytes == 100_000


def test_r10_an_archive_is_proven_as_it_is(tmp_path: Path, run: Run) -> None:
    scene = show(tmp_path, {"a.bin": os.urandom(9000)})
    collect(open_trusted(scene), tmp_path / "c.crate")
    for ending in (".zip", ".tar.zst"):
        archive = tmp_path / f"c{ending}"
        write_archive(tmp_path / "c.crate", archive)
        assert run.here("prove", archive, "--json").json["whole"]
        archive.write_bytes(archive.read_bytes()[:-400])
        broken = run.here("prove", archive)
        assert broken.code == 2 and "broken" in broken.err
    assert run.here("prove", tmp_path / "none.crate").code == 2


def test_the_options_are_told_from_the_command_line(tmp_path: Path, run: Run) -> None:
    scene = show(tmp_path, {"a.bin": os.urandom(9000)})
    done = run.here("collect", scene, "-o", tmp_path / "c.crate", "--using", "hard-link", "--json")
    assert done.code == 0 and (tmp_path / "c.crate/a.bin").samefile(tmp_path / "show/a.bin")
    wrong = run.here("collect", scene, "--using", "magic")
    assert wrong.code == 2 and "copy, reflink, hard-link" in wrong.err
    shared = run.here(
        "collect", scene, "-o", tmp_path / "show/d.crate", "--on-share", f"{tmp_path}=/mnt/jobs", "--json"
    )
    assert shared.code == 0 and shared.json["copied_bytes"] == 0


def test_one_scenes_crate_is_not_replaced_by_another_scenes(tmp_path: Path, run: Run) -> None:
    first, second = (show(tmp_path / name, {f"{name}.bin": name.encode()}) for name in ("heron", "egret"))
    first, second = (scene.rename(scene.with_name(f"{scene.parent.name}_v001.usda")) for scene in (first, second))
    crate = tmp_path / "one.crate"
    assert run("collect", str(first), "-o", str(crate)).code == 0
    before = tree(crate)
    refused = run("collect", str(second), "-o", str(crate))
    assert refused.code == 2 and first.name in refused.err and second.name in refused.err and "--replace" in refused.err
    assert tree(crate) == before
    # a later version of the same scene is the same scene
    later = first.with_name(first.name.replace("v001", "v002"))
    later.write_bytes(first.read_bytes())
    assert run("collect", str(later), "-o", str(crate)).code == 0
    # of the same name, in another folder: not the same, unless the first one is gone from there
    (tmp_path / "copy").mkdir()
    other = tmp_path / "copy" / first.name
    other.write_bytes(first.read_bytes())
    (tmp_path / "copy" / "heron.bin").write_bytes(b"other")
    assert run("collect", str(other), "-o", str(crate)).code == 2
    assert run("collect", str(second), "-o", str(crate), "--replace").code == 0
    assert {one.path for one in read_packing_list(crate).files} >= {"egret.bin"}
    assert not (crate / "heron.bin").exists()


def test_two_scenes_do_not_write_into_one_crate_at_once(tmp_path: Path) -> None:
    from filelock import FileLock

    from tidy_crate.core.errors import Blocked

    scene, origin = show(tmp_path, {"a.bin": b"a"}), tmp_path / "origins" / "c.json"
    origin.parent.mkdir()
    with FileLock(origin.with_suffix(".lock")), pytest.raises(Blocked, match="collects into this crate"):
        collect(open_trusted(scene), tmp_path / "c.crate", origin=origin)
