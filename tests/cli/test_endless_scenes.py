"""X4: scenes made to hang or to fill the memory come to a clear error or a bounded answer, in seconds, below 2 GiB."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Run, usda

pytestmark = pytest.mark.skipif(sys.platform == "win32", reason="pipes, devices and limits of POSIX")
SETTINGS = """(defaultPrim = "W"
 startTimeCode = 1
 endTimeCode = {last}
 renderSettingsPrimPath = "/Render/S")
def Camera "C" {{}}
def Scope "Render" {{
    def RenderSettings "S" ( customData = {{ {data} }} ) {{
        rel products = </Render/P>
        int2 resolution = ({size}) }}
    def RenderProduct "P" {{ token productName = "{name}"
        rel camera = </C> }} }}
def Scope "W" {{ {body} }}"""


def shot(last: str = "3", size: str = "4, 4", name: str = "p.####.png", body: str = "", data: str = "") -> str:
    return SETTINGS.format(last=last, size=size, name=name, body=body, data=data)


def of_files(body: str, **files: bytes) -> Callable[[Path], None]:
    """A scene with files beside it."""

    def write(folder: Path) -> None:
        (folder / "s.usda").write_text(usda(shot(body=body)))
        for name, data in files.items():
            (folder / name.replace("__", ".")).write_bytes(data)

    return write


def with_pipe(text: str, name: str, device: str = "") -> Callable[[Path], None]:
    """A scene with a pipe, or a link to a device, in the place of one of its files."""

    def write(folder: Path) -> None:
        (folder / "s.usda").write_text(usda(text))
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        if device:
            (folder / name).symlink_to(device)
        else:
            os.mkfifo(folder / name)

    return write


def plain(text: str) -> Callable[[Path], None]:
    return lambda folder: [(folder / "s.usda").write_text("#usda 1.0\n" + text), None][1]


def nested(levels: int) -> str:
    return 'def "A" {\n' * levels + "}\n" * levels


BOMB = 'def "L0" {\n}\n' + "".join(
    f'def "L{level}" {{\n'
    + "".join(f'def "r{one}" (\n references = </L{level - 1}>\n)\n{{\n}}\n' for one in range(10))
    + "}\n"
    for level in range(1, 13)
)
CLIPS = """def "W" (
 clips = {
  dictionary default = {
   asset[] assetPaths = [@./c.usda@]
   double2[] active = [(0, nan)]
   string primPath = "/W"
  }
 }
)
{
 double x
}
"""
LINK = "asset a = @./{}@"
LAYER = "(\n subLayers = [@./p.usda@]\n)\n"
MTLX = b"<materialx>%b</materialx>"
DEEP = b'<nodegraph name="a">' * 5000 + b"</nodegraph>" * 5000
WIDE = b'<input name="f" type="filename" value="a.png"/>' * 150_000
# what is written, the codes that check may end with, and what it says
CASES: dict[str, tuple[Callable[[Path], None], set[int], str]] = {
    "10^18 frames": (plain(usda(shot("1000000000000000000"))[10:]), {1}, "1000000000000000000 frames"),
    "10^30 frames": (plain(usda(shot("1" + "0" * 30))[10:]), {1}, "frames-too-many"),
    "endless range": (plain(usda(shot("inf"))[10:]), {1}, "frame range"),
    "pixels": (plain(usda(shot(size="2147483647, 2147483647"))[10:]), {1}, ""),
    "14 tokens": (plain(usda(shot(name="p" + ".####" * 14 + ".png"))[10:]), {0, 1}, ""),
    "nested settings": (plain(usda(shot(data="dictionary a = { " * 900 + "int b = 1 " + "} " * 900))[10:]), {1}, ""),
    "pipe as texture": (with_pipe(shot(body=LINK.format("p.png")), "p.png"), {1}, "a device or a pipe"),
    "pipe as layer": (with_pipe(LAYER, "p.usda"), {2}, "a pipe or a device"),
    "device as layer": (with_pipe(LAYER, "p.usda", "/dev/zero"), {2}, "a pipe or a device"),
    "pipe as project": (with_pipe(shot(), "tidy-crate.toml"), {2}, "a device or a pipe"),
    "device as decisions": (with_pipe(shot(), "s.tidy/decisions.toml", "/dev/zero"), {2}, "a device or a pipe"),
    "pipe as record": (with_pipe(shot(), "s.tidy/caches/a.record.json"), {2}, "a device or a pipe"),
    "device as scene": (lambda folder: (folder / "s.usda").symlink_to("/dev/zero"), {2}, "a device or a pipe"),
    "10^12 prims": (plain(BOMB), {2}, r"about 10^11 prims"),
    "20,000 nested prims": (plain(nested(20_000)), {2}, "nested so deeply"),
    "200,000 nested prims": (plain(nested(200_000)), {2}, "crashed"),
    "no number for a clip": (plain(CLIPS), {2}, "crashed"),
    "a line of 64 MB": (of_files(LINK.format("a.obj"), a__obj=b"mtllib " + bytes(64 << 20)), {1}, "longer than 1 MiB"),
    "many lines": (of_files(LINK.format("a.obj"), a__obj=b"mtllib a b c d\n" * 400_000), {1}, "more than 100000 files"),
    "deep MaterialX": (of_files(LINK.format("a.mtlx"), a__mtlx=MTLX % DEEP), {1}, "nested more than 100 deep"),
    "wide MaterialX": (of_files(LINK.format("a.mtlx"), a__mtlx=MTLX % WIDE), {1}, "more than 100000 files"),
    "frame numbers": (
        of_files(LINK.format("a.%d.png"), **{f"a.{n}__png": b"\x89PNG\r\n\x1a\n" for n in (1, 2, 10**14)}), {0, 1}, ""
    ),
}  # fmt: skip


# where a library ends the process; the others in this one, which is quicker
ALONE = {"200,000 nested prims", "no number for a clip", "10^12 prims"}


@pytest.mark.parametrize("name", CASES)
def test_a_scene_that_should_hang_does_not(name: str, tmp_path: Path, run: Run) -> None:
    write, codes, says = CASES[name]
    write(tmp_path)
    (tmp_path / "c.usda").write_text('#usda 1.0\ndef "W" {\n double x.timeSamples = {1: 2}\n}\n')
    began, most = time.monotonic(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    done = (run if name in ALONE else run.here)("check", tmp_path / "s.usda", "--json")
    assert time.monotonic() - began < 30
    # kilobytes on Linux, bytes elsewhere
    if sys.platform == "linux":
        assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - most < 1 << 20
    assert done.code in codes, (done.out[-600:], done.err[-600:])
    json.loads(done.out)
    assert says in done.out and "unexpected error" not in done.out


def test_a_command_ends_with_the_process_that_watches_it(tmp_path: Path, run: Run) -> None:
    """However that ends: no second process goes on and holds the locks."""
    import psutil

    (tmp_path / "s.usda").write_text(usda(shot(body="\n".join(f"asset a{n} = @./t{n}.png@" for n in range(30_000)))))
    line = [sys.executable, "-m", "tidy_crate", "survey", str(tmp_path / "s.usda"), "--json"]
    with subprocess.Popen(line, env=run.environment, stdout=subprocess.DEVNULL) as process:
        watched = psutil.Process(process.pid)
        while not (children := watched.children()) and process.poll() is None:
            time.sleep(0.01)
        time.sleep(0.3)
        process.kill()
    _, alive = psutil.wait_procs(children, timeout=5)
    assert children and not alive
