"""A clean shot, and for every check the one change that it must find: scene, sheet, brief, project, card or files."""

from __future__ import annotations

import json
import os
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Any

from conftest import usda
from tidy_crate.core.check.result import CheckResult
from tidy_crate.core.check.run import Against, check_crate, check_scene
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.test_frames import probe_folder
from tidy_crate.core.estimate.model import Wishes
from tidy_crate.core.estimate.probe_result import TIMINGS, ProbeFrame, ProbeResult
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.files import write_json

TODAY = date(2026, 11, 20)

# settings of a renderer that there is not, told to the tool by a map of the project
MAP = """\
renderer = "brush"
namespace = "brush:"
materials = ["general", "brush"]

files = ["brush:picture"]

[means]
"brush:rays" = "samples"
"brush:bounce" = "light_transport"
"brush:clean" = "denoiser"
"brush:on" = "device"
"brush:tile" = "bucket_size"
"brush:detail" = "quality"
"brush:percent" = "resolution_scale"
"brush:packing" = "compression"
"brush:release" = "renderer_version"

[values]
"brush:bounce" = { 0 = "path tracing", 1 = "interpolated", 2 = "stored" }
"brush:detail" = { draft = "screen", final = "render" }

[units]
"brush:percent" = "percent"

[features]
"brush:caustics" = { name = "caustics", since = "7.2" }
"brush:sparkle" = { name = "sparkle", experimental = true }
"""
PROJECT = """\
settings_maps = ["brush.toml"]
brief = "brief.toml"

[confidential]
kinds = ["own", "provider"]
places = ["DE"]
agreement = true
"""
BRIEF = """\
passes = ["beauty", "depth"]
format = "exr"
colour_space = "lin_rec709_scene"
naming = "{output}.####.exr"
moving_camera = true

[frames]
start = 1
end = 10
fps = 24

[resolution]
width = 64
height = 36
"""
CARD = """\
name = "gull"
currency = "EUR"
rates_from = 2026-11-01

[operator]
name = "Gull Ltd"
kind = "provider"
places = ["DE-BY"]
agreement = true

[nodes]
system = "linux"
fonts = ["Lantern Sans"]
unpacked_in = "/jobs/"

[outputs]
path = "any"

[limits]
minutes_per_frame = 60

[[machine]]
name = "tern"
nodes = 4
score = 100
memory_gb = 64
gpus = 1
gpu_memory_gb = 24
disk_gb = 100
price_per_hour = "2.00"

[[program]]
name = "quay"
role = "host"
versions = ["3.*"]
features = { points = "2.0" }

[[program]]
name = "brush"
role = "renderer"
versions = ["7.*"]

[[balance]]
amount = "500.00"
on = 2026-11-01
"""
CLEAN = """(
    startTimeCode = 1
    endTimeCode = 10
    timeCodesPerSecond = 24
    renderSettingsPrimPath = "/Render/S"
    customLayerData = { string creator = "quay 3.2" }
)
def Camera "Cam" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 9), 10: (0, 0, 8) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
    double shutter:open = 0
    double shutter:close = 0.5 }
def Sphere "Ball" { asset a = @./a.png@ }
def "Render" {
    def RenderSettings "S" { rel camera = </Cam>
        rel products = [</Render/p>, </Render/q>]
        uniform int2 resolution = (64, 36)
        uniform bool disableMotionBlur = false
        uniform token renderingColorSpace = "lin_rec709_scene"
        custom int brush:rays = 64
        custom int brush:bounce = 0
        custom string brush:clean = "none"
        custom string brush:on = "cpu"
        custom int brush:tile = 64
        custom string brush:detail = "final"
        custom int brush:percent = 100
        custom string brush:packing = "zip"
        custom string brush:release = "7.1" }
    def RenderProduct "p" { token productName = "p/p.####.exr"
        rel orderedVars = [</Render/beauty>, </Render/depth>] }
    def RenderProduct "q" { token productName = "q/q.####.exr"
        rel orderedVars = </Render/beauty> }
    def RenderVar "beauty" { string sourceName = "beauty" }
    def RenderVar "depth" { string sourceName = "depth" }
}
"""
SHEET: dict[str, Any] = {
    "scene_sheet": 1,
    "scene": "s.quay",
    "host": {"name": "quay", "version": "3.2"},
    "renderer": {"name": "brush", "version": "7.1"},
    "frames": {"start": 1, "end": 10, "fps": 24},
    "resolution": {"width": 64, "height": 36},
    "cameras": [{"name": "Lens", "moves": [1, 10]}],
    "outputs": [{"name": "p", "path": "p/p.####.exr", "camera": "Lens", "colour_space": "lin_rec709_scene",
                 "passes": [{"name": "beauty"}, {"name": "depth", "data_type": "float"}]}],
    "assets": [{"slot": "wood", "path": "./a.png", "kind": "texture"}],
}  # fmt: skip


def png(width: int = 1, height: int = 1) -> bytes:
    """A small picture; its head may claim any size."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0\0")) + chunk(b"IEND", b"")


@dataclass
class Shot:
    """The change that a trap makes. sheet: used in place of the USD scene once a trap has touched it."""

    folder: Path
    scene: str = CLEAN
    name: str = "s.usda"
    sheet: dict[str, Any] | None = None
    gltf: dict[str, Any] | None = None
    project: str = PROJECT
    brief: str = BRIEF
    card: str = CARD
    asks_farm: bool = True
    frame_seconds: float | None = None
    after_collect: Callable[[Path], None] | None = None
    files: dict[str, bytes] = field(default_factory=dict)

    def write(self) -> Path:
        """Write all of it, and say where the scene lies."""
        texts = {
            "tidy-crate.toml": self.project,
            "brush.toml": MAP,
            "brief.toml": self.brief,
            "gull.farm.toml": self.card,
        }
        for name, text in texts.items():
            (self.folder / name).write_text(text)
        for name, data in {"a.png": png(), "s.quay": b"host"}.items():
            (self.folder / name).write_bytes(data)
        for name, data in self.files.items():
            (self.folder / name).parent.mkdir(parents=True, exist_ok=True)
            (self.folder / name).write_bytes(data)
        if self.gltf is not None:
            scene = self.folder / "s.gltf"
            scene.write_text(json.dumps(self.gltf))
            return scene
        scene = self.folder / (self.name if self.sheet is None else "s.sheet.json")
        scene.write_text(usda(self.scene) if self.sheet is None else json.dumps(self.sheet))
        return scene

    def check(self) -> CheckResult:
        """Check the scene, or its crate where a trap needs one, against everything."""
        context = open_scene(self.write())
        against = Against(
            cards=(read_card(self.folder / "gull.farm.toml"),), today=TODAY, wishes=Wishes(accept_practice=True)
        )
        if self.frame_seconds is None and self.after_collect is None:
            return check_scene(context, against if self.asks_farm else Against())
        crate, origin = self.folder.parent / "s.crate", self.folder.parent / "origin.json"
        collect(context, crate, origin=origin)
        if self.after_collect is not None:
            self.after_collect(self.folder)
        if self.frame_seconds is not None:
            _write_timings(crate, self.frame_seconds)
        return check_crate(crate, against, origin)


def _write_timings(crate: Path, seconds: float) -> None:
    frames = tuple(
        ProbeFrame(request="main", frame=frame, seconds=seconds * factor, memory_bytes=1 << 20, width=64, height=36,
                   samples=None, basis="measured")
        for frame, factor in ((2, 0.8), (5, 1.0), (9, 0.9))
    )  # fmt: skip
    probe = ProbeResult(
        crate=crate.name,
        frames=frames,
        load_seconds=1.0,
        cores_used=1.0,
        basis="measured",
        renderer="brush",
        contents=read_packing_list(crate).digest,
    )
    write_json(probe_folder(crate) / TIMINGS, probe.model_dump(mode="json"))


Trap = Callable[[Shot], None]


def scene(*pairs: str) -> Trap:
    """Replace texts of the USD scene: old, new, old, new."""
    return _replace("scene", pairs)


def card(*pairs: str) -> Trap:
    """Replace texts of the farm card."""
    return _replace("card", pairs)


def brief(*pairs: str) -> Trap:
    """Replace texts of the brief."""
    return _replace("brief", pairs)


def _replace(what: str, pairs: tuple[str, ...]) -> Trap:
    def trap(shot: Shot) -> None:
        text = getattr(shot, what)
        for old, new in zip(pairs[::2], pairs[1::2], strict=True):
            assert old in text, old
            text = text.replace(old, new, 1)
        setattr(shot, what, text)

    return trap


def sheet(**changes: Any) -> Trap:
    """Use the sheet, with other values for some of its keys."""

    def trap(shot: Shot) -> None:
        shot.sheet = {**SHEET, **changes}

    return trap


def named(name: str) -> Trap:
    """Give the scene another file name."""

    def trap(shot: Shot) -> None:
        shot.name = name

    return trap


def files_at(named: dict[str, bytes]) -> Trap:
    """Files by their path in the shot."""
    return lambda shot: shot.files.update(named)


def files(**content: bytes) -> Trap:
    """Lay files beside the scene; `__` in a name stands for a full stop, `___` for a slash."""

    def trap(shot: Shot) -> None:
        shot.files |= {name.replace("___", "/").replace("__", "."): data for name, data in content.items()}

    return trap


def timed(seconds: float) -> Trap:
    """Collect, and lay test frames of so many seconds beside the crate."""

    def trap(shot: Shot) -> None:
        shot.frame_seconds = seconds

    return trap


def after_collect(change: Callable[[Path], None]) -> Trap:
    """Collect, and then change something in the project's folder."""

    def trap(shot: Shot) -> None:
        shot.after_collect = change

    return trap


def without_farm(shot: Shot) -> None:
    """Ask no farm."""
    shot.asks_farm = False


def project(text: str) -> Trap:
    """Put lines after those of the project's file."""

    def trap(shot: Shot) -> None:
        shot.project += text

    return trap


def before(text: str) -> Trap:
    """Put lines before those of the project's file."""

    def trap(shot: Shot) -> None:
        shot.project = text + shot.project

    return trap


def gltf(**content: Any) -> Trap:
    """Use a glTF scene that says so much."""

    def trap(shot: Shot) -> None:
        shot.gltf = {"asset": {"version": "2.0"}, **content}

    return trap


def all_of(*traps: Trap) -> Trap:
    """Several changes."""

    def trap(shot: Shot) -> None:
        for one in traps:
            one(shot)

    return trap


def _newer(name: str, than: str) -> Trap:
    def trap(shot: Shot) -> None:
        for at, other in enumerate((than, name)):
            path = shot.folder / other
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(shot.files.get(other, b"x"))
            os.utime(path, (1_700_000_000 + at * 60,) * 2)
        shot.files = {key: data for key, data in shot.files.items() if key not in (name, than)}

    return trap


def _autosave(shot: Shot) -> None:
    path = shot.folder / "s.autosave.usda"
    path.write_bytes(b"x")
    os.utime(path, (4_000_000_000,) * 2)


P, Q = '"p/p.####.exr"', '"q/q.####.exr"'
PRODUCT_Q = "rel orderedVars = </Render/beauty> }"
SIMULATION = {"name": "buoy", "state": "live", "start": -9}
BIG = png() + b"\0" * (1 << 20)
TILED = card("minutes_per_frame = 60", "minutes_per_frame = 2")

TRAPS: dict[str, Trap] = {
    # C1
    "render-not-stated": gltf(),
    "output-none": scene("rel products = [</Render/p>, </Render/q>]", ""),
    "render-settings-not-chosen": scene(
        'def "Render" {', 'def RenderSettings "Draft" { }\ndef "Render" {', 'renderSettingsPrimPath = "/Render/S"', ""
    ),
    "output-changes-over-time": scene(
        f"token productName = {Q}", 'token productName.timeSamples = { 1: "q/q.####.exr", 5: "q/r.####.exr" }'
    ),
    "output-deep-in-flat-format": scene(
        f"token productName = {Q}", 'token productName = "q/q.####.png"\ntoken productType = "deepRaster"'
    ),
    "output-pixels-not-square": scene(
        "uniform int2 resolution", "uniform float pixelAspectRatio = 2\nuniform int2 resolution"
    ),
    "output-path-empty": scene(Q, '""'),
    "output-no-frame-token": scene(Q, '"q/q.exr"'),
    "output-frame-token-short": scene(Q, '"q/q.#.exr"'),
    "output-same-file": scene(Q, '"P/p.####.exr"'),
    "output-path-absolute": scene(Q, '"/mnt/q.####.exr"'),
    "output-path-climbs": scene(Q, '"../../q.####.exr"'),
    "output-name-not-portable": scene(Q, '"q/q?.####.exr"'),
    "output-switched-off": scene('def RenderProduct "q" {', 'def RenderProduct "q" ( active = false ) {'),
    "output-format-unknown": scene(Q, '"q/q.####.pix"'),
    "output-movie": all_of(scene(Q, '"q/q.mp4"'), without_farm),
    "output-no-passes": scene(PRODUCT_Q, "}"),
    "output-passes-do-not-fit": scene(P, '"p/p.####.jpg"'),
    "output-alpha-lost": scene(
        Q,
        '"q/q.####.jpg"',
        'RenderVar "beauty"',
        'RenderVar "alpha" { string sourceName = "a" }\ndef RenderVar "beauty"',
        PRODUCT_Q,
        "rel orderedVars = [</Render/beauty>, </Render/alpha>] }",
    ),
    "output-pass-twice": scene('sourceName = "depth"', 'sourceName = "beauty"'),
    "output-pass-without-source": scene('string sourceName = "depth"', ""),
    "output-data-in-eight-bit": scene(P, '"p/p.####.png"'),
    "output-data-compressed-with-loss": scene('"zip"', '"dwaa"'),
    "output-data-in-half": scene('sourceName = "depth"', 'sourceName = "depth"\ntoken dataType = "half"'),
    "output-colour-space-unset": scene('uniform token renderingColorSpace = "lin_rec709_scene"', ""),
    "output-cameras-differ": scene(
        'def RenderProduct "q" {', 'def Camera "Other" { }\ndef RenderProduct "q" {\nrel camera = </Render/Other>\n'
    ),
    "output-sizes-differ": scene(
        'def RenderProduct "q" {', 'def RenderProduct "q" {\nuniform int2 resolution = (32, 18)\n'
    ),
    "brief-output-missing": brief("[frames]", '[[output]]\nname = "matte"\n\n[frames]'),
    "brief-pass-missing": brief('"depth"]', '"depth", "normal"]'),
    "brief-format-differs": scene(Q, '"q/q.####.png"'),
    "brief-bit-depth-differs": all_of(
        sheet(outputs=[{**SHEET["outputs"][0], "bit_depth": 16}]),
        brief('format = "exr"', 'format = "exr"\nbit_depth = 32'),
    ),
    "brief-colour-space-differs": scene("lin_rec709_scene", "srgb_rec709_scene"),
    "output-home-folders-collide": all_of(before('home_folders = "all"\n'), scene(Q, '"q/p.####.exr"')),
    "brief-naming-differs": scene(Q, '"q/other.####.exr"'),
    "farm-changes-output-path": card('path = "any"', 'path = "name"'),
    "farm-outputs-collide": all_of(card('path = "any"', 'path = "name"'), scene(Q, '"q/p.####.exr"')),
    "farm-format-not-taken": card('path = "any"', 'path = "any"\nformats = ["png"]'),
    # C2
    "frames-none": scene("endTimeCode = 10", ""),
    "frames-too-many": scene("endTimeCode = 10", "endTimeCode = 10000000"),
    "frames-reversed": scene("endTimeCode = 10", "endTimeCode = -3"),
    "frames-between-whole-ones": scene("endTimeCode = 10", "endTimeCode = 10.5"),
    "frames-no-whole-one": scene(
        "startTimeCode = 1\n", "startTimeCode = 1.2\n", "endTimeCode = 10", "endTimeCode = 1.8"
    ),
    "frames-skip-time-codes": scene("timeCodesPerSecond = 24", "timeCodesPerSecond = 48\nframesPerSecond = 24"),
    "frames-between-time-codes": scene("timeCodesPerSecond = 24", "timeCodesPerSecond = 24\nframesPerSecond = 25"),
    "frames-single": scene("endTimeCode = 10", "endTimeCode = 1"),
    "frames-stepped": sheet(frames={"start": 1, "end": 10, "step": 3, "fps": 24}),
    "frames-rate-odd": scene("timeCodesPerSecond = 24", "timeCodesPerSecond = 26"),
    "frames-nothing-moves": scene("10: (0, 0, 8)", "10: (0, 0, 9)"),
    "frames-beyond-animation": scene("endTimeCode = 10", "endTimeCode = 20"),
    "frames-animation-cut": scene("endTimeCode = 10", "endTimeCode = 8"),
    "brief-frames-differ": brief("end = 10", "end = 12"),
    "brief-count-differs": brief("start = 1\nend = 10", "count = 12"),
    "brief-rate-differs": brief("fps = 24", "fps = 25"),
    "farm-makes-no-movie": scene(Q, '"q/q.mp4"'),
    "farm-renumbers": card('path = "any"', 'path = "any"\nfrom_zero = true'),
    "farm-no-negative-frames": all_of(
        card('path = "any"', 'path = "any"\nnegative_frames = false'), scene("startTimeCode = 1", "startTimeCode = -4")
    ),
    "farm-too-many-frames": card("minutes_per_frame", "frames = 9\nminutes_per_frame"),
    # C3
    "camera-none": scene(
        'def Camera "Cam"', 'def Xform "Cam"', "double shutter:open = 0", "", "double shutter:close = 0.5", ""
    ),
    "camera-not-chosen": scene("rel camera = </Cam>", ""),
    "camera-gone": scene("rel camera = </Cam>", "rel camera = </Gone>"),
    "camera-pose-unclear": scene(
        'token[] xformOpOrder = ["xformOp:translate"]',
        'token[] xformOpOrder = ["xformOp:translate", "xformOp:spin"]\ndouble xformOp:spin = 3',
    ),
    "camera-live": scene(
        'def Camera "Cam" {',
        'def Camera "Cam" { token tidy:simulation = "springFollow"\n'
        "bool tidy:simulation:live = true\ndouble tidy:simulation:start = -9\n"
        "rel tidy:spring:target = </Ball>\n",
    ),
    "camera-still-beside-moving": scene(
        "rel camera = </Cam>", "rel camera = </Still>", 'def Sphere "Ball"', 'def Camera "Still" { }\ndef Sphere "Ball"'
    ),
    "camera-moves-elsewhere": scene(
        "startTimeCode = 1\n", "startTimeCode = 11\n", "endTimeCode = 10", "endTimeCode = 20"
    ),
    "camera-shutter-closed": scene("shutter:close = 0.5", "shutter:close = 0"),
    "brief-camera-still": scene("10: (0, 0, 8)", "10: (0, 0, 9)"),
    # C4
    "resolution-none": scene("uniform int2 resolution = (64, 36)", ""),
    "resolution-scaled-down": scene("brush:percent = 100", "brush:percent = 50"),
    "resolution-impossible": scene("int2 resolution = (64, 36)", "int2 resolution = (100000, 36)"),
    "resolution-scaled-up": scene("brush:percent = 100", "brush:percent = 200"),
    "resolution-odd": scene("(64, 36)", "(64, 37)"),
    "picture-cropped": scene(
        "uniform int2 resolution", "uniform float4 dataWindowNDC = (0, 0, 0.5, 1)\nuniform int2 resolution"
    ),
    "brief-resolution-differs": brief("width = 64", "width = 1920"),
    "farm-too-many-pixels": card("minutes_per_frame", "pixels = 2000\nminutes_per_frame"),
    # C5
    "file-missing": scene("@./a.png@", "@./b.png@"),
    "file-missing-unused": scene("asset a =", 'token visibility = "invisible"\nasset b = @./b.png@\nasset a ='),
    "layer-unread": all_of(
        scene('def Sphere "Ball" {', 'def Sphere "Ball" ( references = @./torn.usda@ ) {'),
        files(torn__usda=b"#usda 1.0\ndef {"),
    ),
    "layer-unseen": all_of(
        scene('def Sphere "Ball" {', 'def Sphere "Ball" ( references = @./sea.abc@ ) {'), files(sea__abc=b"Ogawa\xff")
    ),
    "file-named-by-text": all_of(
        scene(
            'def Sphere "Ball"', 'def Cube "Sign" { custom string sign:picture = "./lit/sign.png" }\ndef Sphere "Ball"'
        ),
        lambda s: s.files.update({"lit/sign.png": png()}),
    ),
    "file-absolute-path": scene("@./a.png@", "@/nowhere/a.png@"),
    "file-on-drive": scene("@./a.png@", "@Q:/show/a.png@"),
    "file-from-web": scene("@./a.png@", "@https://files.example/a.png@"),
    "file-by-identifier": scene("@./a.png@", "@asset:lantern/a.png@"),
    "file-found-by-search-path": all_of(
        scene("@./a.png@", "@found.png@"), files(shared___found__png=png()), before('search_paths = ["shared"]\n')
    ),
    "sequence-gaps": all_of(
        scene("@./a.png@", "@./w.#.png@"), files(**{f"w__{n}__png": png() for n in (1, 2, 3, 5, 6, 7, 8, 9, 10)})
    ),
    "sequence-range-not-covered": all_of(
        scene("@./a.png@", "@./w.#.png@"), files(**{f"w__{n}__png": png() for n in range(1, 6)})
    ),
    "composition-error": scene('def Sphere "Ball" {', 'def Sphere "Ball" ( references = </Gone> ) {'),
    "composition-error-unused": scene(
        'def Sphere "Ball" {', 'class "Spare" ( references = </Gone> ) { }\ndef Sphere "Ball" {'
    ),
    "target-gone": scene(
        "rel orderedVars = </Render/beauty> }", "rel orderedVars = [</Render/beauty>, </Render/gone>] }"
    ),
    "target-gone-unused": scene("asset a =", "rel proxyPrim = </Gone>\nasset a ="),
    "units-differ": all_of(
        scene(
            "customLayerData",
            "metersPerUnit = 1\n    customLayerData",
            'def Sphere "Ball" {',
            'def "Crate" ( references = @./box.usda@ ) { }\ndef Sphere "Ball" {',
        ),
        files(box__usda=usda('( defaultPrim = "B"\n metersPerUnit = 0.01 )\ndef Cube "B" { }').encode()),
    ),
    "file-from-outside": scene("@./a.png@", "@../outside.png@"),
    "file-private": all_of(scene("@./a.png@", "@./.keys/k.png@"), files_at({".keys/k.png": png()})),
    "file-of-another-kind": all_of(scene("@./a.png@", "@./n.png@"), files_at({"n.png": b"dear diary"})),
    "file-names-clash": all_of(scene("@./a.png@", "@./a.png@\nasset b = @./A.png@"), files(A__png=png())),
    "file-empty": all_of(scene("@./a.png@", "@./e.png@"), files(e__png=b"")),
    "file-name-not-portable": all_of(scene("@./a.png@", "@./a:b.png@"), files_at({"a:b.png": png()})),
    "file-path-long": project("[limits]\npath_length = 4\n"),
    "file-older-than-source": all_of(
        scene("@./a.png@", "@./w.tx@"), files(w__tx=b"II*\0", w__tif=b"II*\0"), _newer("w.tif", "w.tx")
    ),
    "file-newer-version-beside": all_of(
        scene("@./a.png@", "@./w_v002.png@"), lambda s: s.files.update({"w_v002.png": png(), "w_v003.png": png()})
    ),
    "file-placeholder": all_of(
        scene("@./a.png@", "@./b.png@"), files(b__png=b"version https://git-lfs.example/v1\noid")
    ),
    "file-not-what-it-says": all_of(scene("@./a.png@", "@./b.png@"), files(b__png=b"\xff\xd8\xff\xe0")),
    "file-duplicate": all_of(scene("@./a.png@", "@./b.png@\nasset b = @./c.png@"), files(b__png=BIG, c__png=BIG)),
    "scene-newer-beside": all_of(named("s_v009.usda"), lambda s: s.files.update({"s_v010.usda": b"#usda 1.0\n"})),
    "scene-autosave-newer": _autosave,
    "scene-changed-since-collect": after_collect(lambda folder: (folder / "a.png").write_bytes(png() + b"more")),
    "farm-path-too-long": card(
        'unpacked_in = "/jobs/"',
        f'unpacked_in = "/{"j" * 90}/"',
        "minutes_per_frame",
        "path_length = 80\nminutes_per_frame",
    ),
    "farm-name-not-possible": all_of(
        scene("@./a.png@", "@./a?b.png@"),
        card('system = "linux"', 'system = "windows"'),
        lambda s: s.files.update({"a?b.png": png()}),
    ),
    "farm-upload-too-large": card("minutes_per_frame", "upload_gb = 0.0000001\nminutes_per_frame"),
    # C6
    "simulation-live": sheet(simulations=[SIMULATION]),
    "simulation-stale": sheet(simulations=[{**SIMULATION, "state": "stale"}]),
    "simulation-partial": sheet(simulations=[{**SIMULATION, "state": "partial", "covers": [1, 5]}]),
    "simulation-range-not-covered": sheet(
        simulations=[{**SIMULATION, "state": "cached", "covers": [1, 5], "slot": "wood"}]
    ),
    "simulation-solves-beside-cache": sheet(simulations=[{**SIMULATION, "slot": "wood"}]),
    "simulation-cache-stays-behind": sheet(simulations=[{**SIMULATION, "state": "cached", "covers": [1, 10]}]),
    "simulation-starts-late": sheet(simulations=[{**SIMULATION, "start": 5}]),
    "simulation-unknown": scene(
        'def Sphere "Ball"', 'def Cube "Silk" ( apiSchemas = ["LoomClothAPI"] ) {\n}\ndef Sphere "Ball"'
    ),
    "generator-not-frozen": sheet(generators=[{"name": "sign", "kind": "text"}]),
    "generator-will-be-frozen": sheet(
        generators=[{"name": "sign", "kind": "text"}], commands={"freeze": ["freeze", "{names}"], "relink": ["relink"]}
    ),
    # C7
    "program-version-unknown": scene('"quay 3.2"', '"quay"'),
    "feature-experimental": scene("custom int brush:rays", "custom bool brush:sparkle = 1\ncustom int brush:rays"),
    "scene-runs-script": sheet(scripts=["on open"]),
    "material-of-other-renderer": sheet(materials=[{"name": "oak", "renderers": ["chisel"]}]),
    "prim-type-unknown": scene('def Sphere "Ball"', 'def Puppet "Strings" { }\ndef Sphere "Ball"'),
    "farm-programs-unknown": lambda s: setattr(s, "card", s.card[: s.card.index("[[program]]")]),
    "program-not-offered": card('name = "brush"', 'name = "chisel"'),
    "version-lacks-feature": all_of(
        scene("custom int brush:rays", "custom bool brush:caustics = 1\ncustom int brush:rays"),
        card('versions = ["7.*"]', 'versions = ["7.1.*"]'),
    ),
    "version-newer": card('versions = ["3.*"]', 'versions = ["3.1.*"]'),
    "version-older": card('versions = ["3.*"]', 'versions = ["3.3.*"]'),
    "version-not-comparable": sheet(host={"name": "quay", "version": "nightly"}),
    "feature-required-unknown": all_of(
        gltf(extensionsRequired=["KHR_draco_mesh_compression"]), brief('passes = ["beauty", "depth"]\n', "")
    ),
    "pass-not-offered": card('versions = ["7.*"]', 'versions = ["7.*"]\npasses = ["beaut?", "N*"]'),
    "feature-not-supported": all_of(
        card("[outputs]", 'lacks = ["Points"]\n[outputs]'),
        scene('def Sphere "Ball"', 'def Points "Dust" { }\ndef Sphere "Ball"'),
    ),
    # C8
    "settings-unknown": scene("custom int brush:rays = 64", ""),
    "samples-very-high": scene("brush:rays = 64", "brush:rays = 9000"),
    "samples-none": scene("brush:rays = 64", "brush:rays = 0"),
    "light-interpolated-in-animation": scene("brush:bounce = 0", "brush:bounce = 1"),
    "light-stored-while-things-move": scene(
        "brush:bounce = 0",
        "brush:bounce = 2",
        'def Sphere "Ball" {',
        'def Sphere "Ball" { double radius.timeSamples = { 1: 1, 10: 2 }\n',
    ),
    "bucket-does-not-suit-device": scene("brush:tile = 64", "brush:tile = 16", '"cpu"', '"gpu"'),
    "screen-quality-in-render": scene('"final"', '"draft"'),
    "proxies-rendered": scene(
        "uniform int2 resolution", 'uniform token[] includedPurposes = ["default", "proxy"]\nuniform int2 resolution'
    ),
    "guides-rendered": scene(
        "uniform int2 resolution", 'uniform token[] includedPurposes = ["default", "guide"]\nuniform int2 resolution'
    ),
    "preview-materials-rendered": scene(
        "uniform int2 resolution", 'uniform token[] materialBindingPurposes = ["preview"]\nuniform int2 resolution'
    ),
    "farm-too-many-samples": card("minutes_per_frame", "samples = 32\nminutes_per_frame"),
    # C9
    "font-not-collected": sheet(fonts=["Lantern Sans"]),
    "colour-configuration-from-machine": scene("lin_rec709_scene", "ShowGrade"),
    "colour-space-not-in-configuration": all_of(
        scene(
            "customLayerData", "colorConfiguration = @./show.ocio@\n    customLayerData", "lin_rec709_scene", "Grade"
        ),
        files(
            show__ocio=b"ocio_profile_version: 2\nroles:\n  default: flat\n"
            b"colorspaces:\n  - !<ColorSpace>\n    name: flat\n"
        ),
    ),
    "colour-configuration-invalid": all_of(
        scene("customLayerData", "colorConfiguration = @./show.ocio@\n    customLayerData"),
        files(
            show__ocio=b"ocio_profile_version: 2\nroles:\n  default: gone\n"
            b"colorspaces:\n  - !<ColorSpace>\n    name: lin_rec709_scene\n"
        ),
    ),
    "font-not-on-nodes": sheet(fonts=["Pier Serif"]),
    "fonts-unknown": all_of(sheet(fonts=["Lantern Sans"]), card('fonts = ["Lantern Sans"]\n', "")),
    # C10
    "texture-very-large": all_of(scene("@./a.png@", "@./w.png@"), files(w__png=png(20000, 4))),
    "machine-none-fits": all_of(
        scene("@./a.png@", "@./w.png@"), files(w__png=png(16000, 16000)), card("memory_gb = 64", "memory_gb = 0.1")
    ),
    "machine-some-do-not-fit": all_of(
        scene('"cpu"', '"gpu"'),
        card(
            "[[program]]",
            '[[machine]]\nname = "reed"\nnodes = 1\nscore = 1\nmemory_gb = 64\nprice_per_hour = "1"\n\n[[program]]',
        ),
    ),
    "frame-needs-tiles": all_of(timed(300.0), TILED),
    "memory-not-all-known": all_of(scene("@./a.png@", "@./b.png@"), files(b__png=png()[:20])),
    # C11
    "balance-too-low": all_of(timed(900.0), card("500.00", "1.00")),
    "balance-tight": all_of(timed(900.0), card("500.00", "5.00")),
    "cost-unknown": lambda shot: None,
    "rates-old": card("rates_from = 2026-11-01", "rates_from = 2026-01-01"),
    "rates-of-the-future": card("rates_from = 2026-11-01", "rates_from = 2027-01-01"),
    # C14
    "operator-not-allowed": card('kind = "provider"', 'kind = "private"'),
    "place-not-allowed": card('"DE-BY"', '"IS"'),
    "agreement-missing": card("agreement = true", "agreement = false"),
}
