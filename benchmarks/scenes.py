"""Large scenes to measure on, written by a script and the same every time."""

from __future__ import annotations

import math
import os
import shutil
from pathlib import Path

TEXTURES_PER_LAYER = 100
# the smallest picture there is; what follows its end makes each file different
PICTURE = bytes.fromhex(
    "89504e470d0a1a0a0000000d494844520000000100000001080000000"
    "03a7e9b550000000a49444154789c636000000002000148afa4710000000049454e44ae426082"
)


def write_large_scene(folder: Path, layers: int, textures: int = TEXTURES_PER_LAYER) -> Path:
    """A scene of `layers` referenced layers, each with `textures` textured things. Returns its root layer."""
    (folder / "tex").mkdir(parents=True, exist_ok=True)
    for number in range(layers):
        lines = ["#usda 1.0", '(\n    defaultPrim = "Set"\n)', 'def Xform "Set"', "{"]
        for index in range(textures):
            name = f"tex/l{number:04d}_{index:03d}.png"
            (folder / name).write_bytes(PICTURE + name.encode())
            lines.append(_THING.format(i=index, file=f"./{name}"))
        lines.append("}")
        (folder / f"layer{number:04d}.usda").write_text("\n".join(lines) + "\n")
    root = ["#usda 1.0", "(", "    startTimeCode = 1", "    endTimeCode = 100", ")", 'def Xform "World"', "{"]
    for number in range(layers):
        root.append(
            f'    def Xform "Set{number:04d}" (\n        references = @./layer{number:04d}.usda@\n    )\n    {{\n    }}'
        )
    scene = folder / "scene.usda"
    scene.write_text("\n".join([*root, "}"]) + "\n")
    return scene


_THING = """\
    def Sphere "Thing{i}" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {{
        rel material:binding = <../Look{i}>
    }}
    def Material "Look{i}"
    {{
        token outputs:surface.connect = <Surface.outputs:surface>
        def Shader "Surface"
        {{
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor.connect = <../Texture.outputs:rgb>
            token outputs:surface
        }}
        def Shader "Texture"
        {{
            uniform token info:id = "UsdUVTexture"
            asset inputs:file = @{file}@
            float3 outputs:rgb
        }}
    }}"""

LARGE = 64 << 20
FRAMES = 100


def write_particles(folder: Path, count: int) -> Path:
    """A scene in which `count` particles are in the air from the first frame on. Returns its root layer."""
    return _simulation(
        folder,
        f"""def Points "Rain"
{{
    custom token tidy:simulation = "particles"
    custom double tidy:simulation:start = -49
    custom double tidy:particles:rate = {count / 2}
    custom double tidy:particles:life = 2
    custom double3 tidy:particles:size = (5, 0, 5)
    custom double tidy:particles:spread = 0.5
    custom double tidy:particles:drag = 0.4
    custom double tidy:particles:floor = -4
    custom double tidy:particles:bounce = 0.4
}}""",
    )


def write_jiggle(folder: Path, side: int) -> Path:
    """A scene with a sheet of `side` x `side` points that is held at one edge and shaken. Returns its root layer."""
    points = ", ".join(f"({x}, {y}, 0)" for y in range(side) for x in range(side))
    starts = [y * side + x for y in range(side - 1) for x in range(side - 1)]
    corners = ", ".join(f"{at}, {at + 1}, {at + side + 1}, {at + side}" for at in starts)
    weights = ", ".join(["0"] * side + ["1"] * (side * side - side))
    samples = ", ".join(f"{frame}: (0, 0, {0.5 * math.sin(0.4 * frame)})" for frame in range(FRAMES + 3))
    return _simulation(
        folder,
        f"""def Xform "Pole"
{{
    double3 xformOp:translate.timeSamples = {{ {samples} }}
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Mesh "Sheet"
    {{
        point3f[] points = [{points}]
        int[] faceVertexCounts = [{", ".join(["4"] * len(starts))}]
        int[] faceVertexIndices = [{corners}]
        custom token tidy:simulation = "jiggle"
        custom double tidy:simulation:start = 1
        custom double tidy:jiggle:frequency = 1.5
        custom double tidy:jiggle:stretch = 0.1
        custom float[] tidy:jiggle:weights = [{weights}]
    }}
}}""",
    )


def _simulation(folder: Path, prim: str) -> Path:
    folder.mkdir(parents=True)
    scene = folder / "scene.usda"
    head = f"#usda 1.0\n(\n    startTimeCode = 1\n    endTimeCode = {FRAMES}\n    timeCodesPerSecond = 25\n)\n"
    scene.write_text(f"{head}{prim}\n")
    return scene


def write_large_files(folder: Path, count: int) -> Path:
    """A scene that names `count` files of 64 MiB. Returns its root layer."""
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


def write_layered_frames(folder: Path, count: int) -> None:
    """Frames of 1920 x 1080 with 21 half channels: smooth shades with a little noise, as a render has them."""
    import numpy as np
    import OpenEXR

    folder.mkdir(parents=True)
    chance = np.random.default_rng(1)
    rows, columns = np.mgrid[0:1080, 0:1920]
    channels = {}
    for number in range(21):
        shade = np.sin(columns / 90 + number) + np.cos(rows / 70) + chance.normal(0, 0.02, rows.shape) + 2
        channels[f"p{number:02d}.{'RGB'[number % 3]}"] = shade.astype(np.float16)
    first = folder / "f.0001.exr"
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(first))
    for number in range(2, count + 1):
        shutil.copyfile(first, folder / f"f.{number:04d}.exr")


# a scene of one output, up to frame {last}
SHOT = """#usda 1.0
(
    startTimeCode = 1
    endTimeCode = {last}
    timeCodesPerSecond = 24
    upAxis = "Z"
    renderSettingsPrimPath = "/Render/Settings"
)
def Camera "Camera"
{{
}}
def Scope "Render"
{{
    def RenderSettings "Settings"
    {{
        rel camera = </Camera>
        rel products = </Render/Beauty>
        uniform int2 resolution = (64, 36)
    }}
    def RenderProduct "Beauty"
    {{
        token productName = "renders/beauty.######.exr"
        rel orderedVars = </Render/colour>
    }}
    def RenderVar "colour"
    {{
        string sourceName = "beauty"
    }}
}}
"""
