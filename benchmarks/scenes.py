"""Large scenes to measure on, written by a script and the same every time."""

from __future__ import annotations

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
