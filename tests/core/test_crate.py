"""Collecting and proving."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import sys
from pathlib import Path

import psutil
import pytest

from conftest import ANY, make_ready, open_trusted, tree, usda
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate import confine
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import FILE_NAME, UNFINISHED, read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.crate.proving import Proof
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.practice.demo.scene import write_demo_scene


def test_the_crate_is_the_same_bytes_wherever_and_however_often_it_is_collected(tmp_path: Path) -> None:
    made = []
    for place in ("here", "over/there"):
        folder = tmp_path / place
        context = make_ready(write_demo_scene(folder / "show"))
        collect(context, folder / "quay.crate")
        made.append(tree(folder / "quay.crate"))
        again = collect(context, folder / "quay.crate")
        assert (again.copied_bytes, again.reused_bytes > 0) == (0, True)
        made.append(tree(folder / "quay.crate"))
    assert made[0].keys() == made[2].keys()
    assert made[0] == made[1] == made[2] == made[3]
    assert not any(str(tmp_path).encode() in data for data in made[0].values())


def test_r1_the_sources_are_byte_identical_afterwards(packed: tuple[SceneContext, Path], tmp_path: Path) -> None:
    context, _ = packed
    show = context.scene.parents[3]
    before = tree(show)
    collect(context, tmp_path / "quay.crate")
    after = tree(show)
    assert {k: v for k, v in after.items() if "/collected/" not in k} == {
        k: v for k, v in before.items() if "/collected/" not in k
    }


def test_r2_every_path_in_the_crate_is_relative_and_inside(packed: tuple[SceneContext, Path]) -> None:
    survey = open_trusted(packed[1] / read_packing_list(packed[1]).scene).survey_as_found()
    for asset in survey.assets:
        assert asset.authored.startswith(("./", "../"))
        assert all(member.path.is_relative_to(packed[1]) for member in asset.members)


def test_a_layer_whose_paths_hold_is_copied_bit_by_bit(packed: tuple[SceneContext, Path]) -> None:
    context, crate = packed
    listed = {file.path: file for file in read_packing_list(crate).files}
    assert not listed["shots/quay_010/animation.usda"].rewritten
    assert (crate / "shots/quay_010/animation.usda").read_bytes() == context.scene.with_name(
        "animation.usda"
    ).read_bytes()
    assert listed["assets/box/box.usdc"].rewritten
    assert listed["elsewhere/textures/rope.png"].source == "elsewhere:textures/rope.png"


def test_missing_files_are_listed_by_need_and_lead_nowhere_outside(context: SceneContext, tmp_path: Path) -> None:
    result = collect(context, tmp_path / "c.crate")
    assert not result.complete
    assert {Path(one.authored.replace("\\", "/")).name: one.needed for one in result.missing} == {
        "crate_side.png": True, "rope.png": True, "pier_sketch.png": False,
    }  # fmt: skip
    proof = prove(tmp_path / "c.crate", os.environ, ANY, test=False)
    assert not proof.whole and not proof.outside
    assert len(proof.unresolved) == 2


def test_r5_what_is_missing_outside_the_frames_asked_for_does_not_block(tmp_path: Path) -> None:
    scene = tmp_path / "show" / "s.usda"
    scene.parent.mkdir()
    body = 'def Sphere "S" { asset a.timeSamples = { 1: @./one.png@, 50: @./gone.png@ }\n}'
    scene.write_text(usda(f"(\nstartTimeCode = 1\nendTimeCode = 100\n)\n{body}"))
    (scene.parent / "one.png").write_bytes(b"x")
    early = RenderRequest(name="early", frames="1-10", width=1, height=1, outputs=())
    late = early.model_copy(update={"name": "late", "frames": "60"})
    found = [collect(open_trusted(scene), tmp_path / f"{r.name}.crate", (r,)).complete for r in (early, late)]
    assert found == [True, False]


def test_two_files_of_one_name_stay_two(tmp_path: Path) -> None:
    for place, data in (("a/x.png", b"one"), ("b/x.png", b"two"), ("far/b/x.png", b"three"), ("far2/b/x.png", b"four")):
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / place).write_bytes(data)
    show = tmp_path / "show"
    show.mkdir()
    names = [f"asset f{n} = @{tmp_path / p}@" for n, p in enumerate(("far/b/x.png", "far2/b/x.png", "a/x.png"))]
    (show / "s.usda").write_text(usda('def Sphere "S" { ' + "\n".join(names) + " }"))
    collect(open_trusted(show / "s.usda"), tmp_path / "out.crate")
    found = {name: data for name, data in tree(tmp_path / "out.crate").items() if name.endswith(".png")}
    assert sorted(found.values()) == [b"four", b"one", b"three"]


def test_collect_goes_on_after_it_was_stopped_and_clears_what_is_stale(
    packed: tuple[SceneContext, Path], crate: Path
) -> None:
    context, whole = packed
    expected = tree(whole)
    (crate / "textures/paper.png").unlink()
    (crate / FILE_NAME).unlink()
    (crate / UNFINISHED).write_bytes(b"")
    with pytest.raises(UnreadableInput, match="not finished"):
        read_packing_list(crate)
    collect(context, crate)
    assert tree(crate) == expected


def test_x3_a_refresh_that_was_interrupted_is_not_taken_for_finished_and_leaves_nothing_stale(
    packed: tuple[SceneContext, Path], crate: Path
) -> None:
    expected = tree(crate)
    (crate / "textures/old.png").write_bytes(b"of the time before")
    content = read_json(crate / FILE_NAME, "packing list")
    content["files"].append({**content["files"][0], "path": "textures/old.png"})
    write_json(crate / FILE_NAME, content)
    (crate / UNFINISHED).write_bytes(b"")
    with pytest.raises(UnreadableInput, match="not finished"):
        read_packing_list(crate)
    collect(packed[0], crate)
    assert tree(crate) == expected


@pytest.mark.parametrize("name", ["show", "full"])
def test_x4_collect_never_writes_into_a_folder_of_something_else(
    name: str, context: SceneContext, tmp_path: Path
) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "diary.txt").write_text("mine")
    before = tree(tmp_path)
    with pytest.raises(WrongUsage):
        collect(context, tmp_path / name)
    assert tree(tmp_path) == before


def test_r10_a_whole_crate_is_proven_with_a_test_frame(crate: Path) -> None:
    proof = prove(crate, os.environ, ANY)
    assert proof.whole, proof
    assert proof.test_frame is not None and proof.test_frame.good
    assert proof.enforced or proof.why_not


@pytest.mark.parametrize("damage", ["change", "remove", "add", "leak", "link", "retime"])
def test_r10_the_proof_fails_for_every_kind_of_damage(
    damage: str, packed: tuple[SceneContext, Path], crate: Path
) -> None:
    texture, layer = crate / "textures/paper.png", crate / "assets/lantern/lantern.usda"
    original = packed[0].project.root / "textures" / "paper.png"  # type: ignore[operator]
    if damage == "change":
        texture.write_bytes(texture.read_bytes() + b" ")
    elif damage == "remove":
        texture.unlink()
    elif damage == "add":
        (crate / "stowaway.bin").write_bytes(b"x")
    elif damage == "link":
        texture.unlink()
        texture.symlink_to(original)
    elif damage == "leak":
        layer.write_text(layer.read_text().replace("../../textures/paper.png", original.as_posix()))
        _pack_anew(crate, "assets/lantern/lantern.usda")
    else:
        scene = crate / "shots/quay_010/lantern_quay_v001.staged.usda"
        scene.write_text(scene.read_text().replace("endTimeCode = 1048", "endTimeCode = 1047"))
        _pack_anew(crate, "shots/quay_010/lantern_quay_v001.staged.usda")
    proof = prove(crate, os.environ, ANY, test=False)
    assert not proof.whole
    told = {
        "change": proof.changed, "remove": proof.changed, "add": proof.unexpected, "link": proof.changed,
        "leak": proof.outside or proof.unresolved, "retime": proof.differs,
    }  # fmt: skip
    assert told[damage]


def _pack_anew(crate: Path, name: str) -> None:
    """Make the packing list agree with a file that was changed: only the survey can still see it."""
    from tidy_crate.core.files import hash_file

    content = read_json(crate / FILE_NAME, "packing list")
    for file in content["files"]:
        if file["path"] == name:
            file["blake3"], file["bytes"] = hash_file(crate / name), (crate / name).stat().st_size
    write_json(crate / FILE_NAME, content)


def test_the_proofs_walls_hold_a_render_command_that_looks_outside(crate: Path, tmp_path: Path) -> None:
    secret = tmp_path / "secret.txt"
    secret.write_text("outside")
    content = read_json(crate / FILE_NAME, "packing list")
    content["render"] |= {"command": ["{python}", "-c", f"print(open({str(secret)!r}).read())"]}
    write_json(crate / FILE_NAME, content)
    proof = prove(crate, os.environ, ANY)
    if not proof.enforced:
        pytest.skip(f"this kernel cannot enforce it: {proof.why_not}")
    assert proof.test_frame is not None and not proof.test_frame.good
    # it ran, and what it was denied may be a file of the scene that is not in the crate
    assert proof.test_frame.started and not proof.whole
    assert f"denied {secret}" in (proof.test_frame.why or "")
    assert any("PermissionError" in line for line in proof.test_frame.said)
    content["render"]["reads"] = [str(secret)]
    write_json(crate / FILE_NAME, content)
    opened = prove(crate, os.environ, ANY)
    assert opened.test_frame is not None and "nothing was written" in (opened.test_frame.why or "")
    # what was open to it is in the report
    assert opened.declared == (str(secret),) and not proof.declared and sys.executable in opened.opened
    content["render"]["reads"] = [str(tmp_path)]
    write_json(crate / FILE_NAME, content)
    with pytest.raises(WrongUsage, match="holds the crate"):
        prove(crate, os.environ, ANY)


SPY = """
import os, pathlib, signal, socket, sys
found = []
for entry in pathlib.Path("/proc").iterdir():
    try:
        if "secret-of-another" in (entry / "environ").read_text(): found.append("environ")
    except OSError: pass
try:
    os.kill(VICTIM, 0); found.append("signal")
except OSError: pass
try:
    if pathlib.Path("/dev/shm/tidy-crate-test").exists(): found.append("shm")
except OSError: pass
try:
    socket.create_connection(("127.0.0.1", PORT), 2); found.append("network")
except OSError: pass
sys.exit("reached: " + ", ".join(found) if found else "reached nothing")
"""


@pytest.mark.skipif(sys.platform != "linux", reason="what the Linux kernel offers")
def test_the_renderer_of_a_proof_reaches_no_process_no_network_and_no_shared_memory(crate: Path) -> None:
    shared = Path("/dev/shm/tidy-crate-test")
    shared.write_text("x")
    victim = subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE, env={"X": "secret-of-another"})
    try:
        with socket.create_server(("127.0.0.1", 0)) as server:
            spy = SPY.replace("VICTIM", str(victim.pid)).replace("PORT", str(server.getsockname()[1]))
            content = read_json(crate / FILE_NAME, "packing list")
            content["render"] |= {"command": ["{python}", "-c", spy]}
            write_json(crate / FILE_NAME, content)
            proof = prove(crate, os.environ, ANY)
    finally:
        victim.kill()
        victim.communicate()
        shared.unlink()
    assert proof.test_frame is not None
    said = " ".join(proof.test_frame.said)
    # what is said to be out of reach is
    ways = {"environ": "other processes", "signal": "signals", "shm": "shared memory", "network": "network"}
    reached = {wall for word, wall in ways.items() if word in said.partition("reached:")[2]}
    assert "reached" in said and not reached & set(proof.out_of_reach), said
    if set(ways.values()) <= set(proof.out_of_reach):
        assert "reached nothing" in said


GRASPS = Path(__file__).parents[1] / "data" / "grasps.py"


@pytest.mark.skipif(sys.platform != "linux", reason="what the Linux kernel offers")
def test_the_renderer_of_a_proof_has_no_terminal_no_device_and_no_rights_and_leaves_nothing_behind(crate: Path) -> None:
    # a terminal that is this one's: what is in the crate must not type into it
    import pty

    content = read_json(crate / FILE_NAME, "packing list")
    content["render"] |= {"command": ["{python}", str(GRASPS)]}
    write_json(crate / FILE_NAME, content)
    code = (
        "import json, os, sys; from pathlib import Path; from conftest import ANY; "
        "from tidy_crate.core.crate.prove import prove; os.close(os.open('/dev/tty', os.O_RDWR)); "
        "Path(sys.argv[2]).write_text(prove(Path(sys.argv[1]), os.environ, ANY).model_dump_json())"
    )
    said = crate.with_name("proof.json")
    child, terminal = pty.fork()
    if child == 0:
        os.execve(
            sys.executable, [sys.executable, "-c", code, str(crate), str(said)],
            os.environ | {"PYTHONPATH": str(Path(__file__).parents[1])},
        )  # fmt: skip
    printed = b""
    with contextlib.suppress(OSError):
        while more := os.read(terminal, 4096):
            printed += more
    os.close(terminal)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0, printed.decode()
    proof = Proof.model_validate_json(said.read_bytes())
    if not proof.enforced or "other devices" not in proof.out_of_reach:
        pytest.skip(f"this kernel cannot enforce it: {proof.why_not}")
    assert proof.test_frame is not None
    assert "grasped nothing" in " ".join(proof.test_frame.said), proof.test_frame
    assert {"the terminal", "other devices", "special rights"} <= set(proof.out_of_reach)
    lines = []
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            lines.append(" ".join(one.cmdline()))
    assert not any("time.sleep(99.75)" in line for line in lines)


@pytest.mark.skipif(sys.platform != "linux", reason="what the Linux kernel offers")
def test_a_device_that_the_render_command_declares_is_there(crate: Path) -> None:
    known = map(Path, ("/dev/tty0", "/dev/rtc0", "/dev/fuse", "/dev/ptmx"))
    device = next((path for path in known if path.exists()), None)
    if device is None:
        pytest.skip("this machine has no device to try it with")
    content = read_json(crate / FILE_NAME, "packing list")
    code = f"import os, sys; sys.exit('there' if os.path.exists({str(device)!r}) else 'not there')"
    content["render"] |= {"command": ["{python}", "-c", code]}
    said = {}
    for reads in ([], [str(device)]):
        content["render"]["reads"] = reads
        write_json(crate / FILE_NAME, content)
        proof = prove(crate, os.environ, ANY)
        if "other devices" not in proof.out_of_reach or "shared memory" not in proof.out_of_reach:
            pytest.skip("this kernel allows no devices of its own")
        assert proof.test_frame is not None
        said[bool(reads)] = proof.test_frame.said[-1]
    assert said == {False: "not there", True: "there"}


def test_a_renderer_that_cannot_start_takes_nothing_from_the_crate(crate: Path, tmp_path: Path) -> None:
    content = read_json(crate / FILE_NAME, "packing list")
    for words in (["no-such-renderer-anywhere"], ["{python}", "-c", "import no_such_part_of_the_renderer"]):
        content["render"] |= {"command": words}
        write_json(crate / FILE_NAME, content)
        proof = prove(crate, os.environ, ANY)
        assert proof.test_frame is not None and not proof.test_frame.started and not proof.test_frame.good
        assert proof.whole and not proof.holds


@pytest.mark.skipif(os.name == "nt", reason="the program is a shell script")
def test_a_renderer_reads_the_installation_that_it_is_part_of(crate: Path, tmp_path: Path) -> None:
    place = tmp_path / "opt" / "painter"
    for folder in ("bin", "lib", "share"):
        (place / folder).mkdir(parents=True)
    (place / "share" / "palette").write_text("blue")
    program = place / "bin" / "paint"
    program.write_text(f'#!/bin/sh\ncat "{place}/share/palette"\n')
    program.chmod(0o755)
    content = read_json(crate / FILE_NAME, "packing list")
    content["render"] |= {"command": [str(program)]}
    write_json(crate / FILE_NAME, content)
    proof = prove(crate, os.environ, ANY)
    # it ran to its end, and painted nothing
    assert proof.test_frame is not None and "nothing was written" in (proof.test_frame.why or "")


@pytest.mark.skipif(sys.platform != "linux", reason="names are bytes on Linux")
def test_a_crate_below_a_folder_that_is_not_utf_8_is_named(
    packed: tuple[SceneContext, Path], crate: Path, tmp_path: Path
) -> None:
    folder = Path(os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9"))
    folder.mkdir()
    with pytest.raises(WrongUsage, match="not UTF-8"):
        collect(packed[0], folder / "quay.crate")
    assert not list(folder.iterdir())
    crate.rename(folder / "quay.crate")
    proof = prove(folder / "quay.crate", os.environ, ANY)
    assert not proof.whole and any("not UTF-8" in one for one in proof.unresolved), proof


def test_a_system_without_walls_says_so() -> None:
    assert confine.confine([], [], platform="elsewhere").why_not is not None


@pytest.mark.parametrize("path", ["../out.txt", "/etc/out.txt", "a/../../out", "c:\\out"])
def test_x4_a_hostile_packing_list_is_refused(path: str, crate: Path) -> None:
    content = read_json(crate / FILE_NAME, "packing list")
    content["files"][0]["path"] = path
    write_json(crate / FILE_NAME, content)
    with pytest.raises(UnreadableInput):
        read_packing_list(crate)


def test_a_full_disk_is_told_before_the_first_byte(context: SceneContext, tmp_path: Path) -> None:
    from tidy_crate.core.crate.system import System
    from tidy_crate.core.errors import TidyCrateError

    with pytest.raises(TidyCrateError, match="free"):
        collect(context, tmp_path / "c.crate", system=System(free_bytes=lambda _: 0))
    assert not (tmp_path / "c.crate" / FILE_NAME).exists()


def test_r3_value_clips_travel_beside_the_scene_and_play_the_same_in_the_crate(tmp_path: Path) -> None:
    from pxr import Usd
    from test_survey import CLIPPED, write_clips

    show = tmp_path / "show"
    (show / "far").mkdir(parents=True)
    write_clips(show / "far", range(1, 5))
    # an absolute template must be rewritten, the clips themselves need not be
    text = CLIPPED.replace('"./sea/', f'"{(show / "far/sea").as_posix()}/').replace("@./sea/", "@./far/sea/")
    scene = show / "s.usda"
    scene.write_text(usda(f"(\nstartTimeCode = 1\nendTimeCode = 4\n)\n{text}"))
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert result.complete
    shutil.rmtree(show)
    stage = Usd.Stage.Open(str(result.scene))
    height = stage.GetPrimAtPath("/Sea").GetAttribute("height")
    assert [height.Get(frame) for frame in (1, 2, 3, 4)] == [1.0, 2.0, 3.0, 4.0]


def test_a_command_that_cannot_be_used_says_nothing_about_the_crate(crate: Path) -> None:
    content = read_json(crate / FILE_NAME, "packing list")
    content["render"] |= {"command": ["{python}", "-c", "print('{lens}')"]}
    write_json(crate / FILE_NAME, content)
    proof = prove(crate, os.environ, ANY)
    assert proof.whole and not proof.holds and proof.test_frame is not None
    assert not proof.test_frame.usable and "{lens}" in (proof.test_frame.why or "")
