"""Three more shots of Lantern Quay, and the list of a night that carries them: one of them needs a decision."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from tidy_crate.practice.demo.scene import PROJECT_FILE

FIRST, LAST = 1001, 1012
LIST, PROJECT = "night.toml", "night_show/lantern_quay"
RULES = """\
# What may be decided without a person while a scene is carried. All else waits.
[carry]
relink = "sure"
look_in = ["../../archive"]
mend = true
rerender = 2

[carry.waive]
output-colour-space-unset = "the show grades scene-linear frames as they are"
"""

_SHOT = """#usda 1.0
(
    defaultPrim = "Quay"
    startTimeCode = {first}
    endTimeCode = {last}
    timeCodesPerSecond = 25
    framesPerSecond = 25
    metersPerUnit = 0.01
    upAxis = "Z"
    renderSettingsPrimPath = "/Render/Settings"
    subLayers = [@../lighting.usda@]
)

def Xform "Quay"
{{
    over "Lights" (
        variants = {{
            string mood = "{mood}"
        }}
    )
    {{
    }}

    def Xform "Pier" (
        prepend payload = @../../assets/pier/pier.usda@
    )
    {{
    }}

    def Xform "Ferry" (
        prepend references = @../../assets/ferry/ferry.usda@
    )
    {{
        double3 xformOp:translate.timeSamples = {{ {first}: ({start}, 760, -60), {last}: ({end}, 760, -58) }}
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }}
{lanterns}
    def Camera "Camera"
    {{
        float focalLength = {lens}
        float horizontalAperture = 36
        float verticalAperture = 20.25
        float2 clippingRange = (5, 50000)
        double3 xformOp:translate = ({x}, {y}, {z})
        float3 xformOp:rotateXYZ = (84, 0, {turn})
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]
    }}
{more}}}

def Scope "Render"
{{
    def RenderSettings "Settings"
    {{
        rel camera = </Quay/Camera>
        rel products = </Render/Beauty>
        uniform int2 resolution = (160, 90)
        custom int practice:samples = 2
        custom string practice:version = "1.0"
    }}

    def RenderProduct "Beauty"
    {{
        token productName = "renders/{name}_beauty.####.exr"
        rel orderedVars = [</Render/Colour>, </Render/Alpha>]
    }}

    def RenderVar "Colour"
    {{
        string sourceName = "beauty"
        token dataType = "color3f"
    }}

    def RenderVar "Alpha"
    {{
        string sourceName = "alpha"
        token dataType = "float"
    }}
}}
"""
_LANTERN = """
    def Xform "Lantern{index}" (
        prepend references = @../../assets/lantern/lantern.usda@
    )
    {{
        double3 xformOp:translate = ({x}, 190, 280)
        float3 xformOp:rotateXYZ.timeSamples = {{ {first}: (-8, 0, 0), {middle}: (9, 4, 0), {last}: (-6, -3, 0) }}
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]
    }}
"""
# planted: a poster that is nowhere
_POSTER = """
    def Mesh "Poster" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        point3f[] points = [(-60, 186, 60), (60, 186, 60), (60, 186, 220), (-60, 186, 220)]
        texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1)] (
            interpolation = "vertex"
        )
        uniform token subdivisionScheme = "none"
        rel material:binding = </Quay/Looks/Poster>
    }

    def Scope "Looks"
    {
        def Material "Poster"
        {
            token outputs:surface.connect = </Quay/Looks/Poster/Surface.outputs:surface>

            def Shader "Surface"
            {
                uniform token info:id = "UsdPreviewSurface"
                color3f inputs:diffuseColor.connect = </Quay/Looks/Poster/Texture.outputs:rgb>
                token outputs:surface
            }

            def Shader "Texture"
            {
                uniform token info:id = "UsdUVTexture"
                asset inputs:file = @../../textures/poster.png@
                color3f outputs:rgb
            }
        }
    }
"""


@dataclass(frozen=True)
class _Shot:
    name: str
    mood: str
    lens: int
    at: tuple[int, int, int]
    turn: int
    ferry: tuple[int, int]
    lanterns: tuple[int, ...]
    poster: bool = False


_SHOTS = (
    _Shot("quay_020", "dusk", 35, (-260, -620, 260), -6, (-300, -180), (-280, 0)),
    _Shot("quay_030", "night", 50, (240, -900, 240), 8, (60, 240), (0, 280)),
    _Shot("quay_040", "fog", 28, (0, -560, 220), 0, (-100, 60), (-280, 280), poster=True),
)


def write_night(project: Path, folder: Path, card: str) -> Path:
    """Write a project of three shots, with what the demo's shot is built of, and the list that carries them.

    project: the demo's. folder: for the list. card: the farm's card, as the list names it. Return the list.
    """
    night = project.parent / PROJECT
    for part in ("assets", "textures"):
        shutil.copytree(project / part, night / part, dirs_exist_ok=True)
    pier = night / "assets" / "pier" / "pier.usda"
    pier.write_text(pier.read_text().replace((project / "textures").absolute().as_posix(), "../../textures"))
    lighting = night / "shots" / "lighting.usda"
    lighting.parent.mkdir(exist_ok=True)
    shutil.copyfile(project / "shots" / "quay_010" / "lighting.usda", lighting)
    lighting.write_text(lighting.read_text().replace("../../textures", "../textures"))
    table = PROJECT_FILE.partition("[render]")[2].partition("# Where")[0]
    (night / "tidy-crate.toml").write_text(f'name = "Lantern Quay, night"\n\n[render]{table}{RULES}', encoding="utf-8")
    for shot in _SHOTS:
        path = night / "shots" / shot.name / f"{shot.name}_v001.usda"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(_text(shot), encoding="utf-8")
    entries = [f'[[shot]]\nscene = "{PROJECT}/shots/{one.name}/{one.name}_v001.usda"\n' for one in _SHOTS]
    head = (
        'title = "Lantern Quay, Thursday night"\n'
        'budget = "6 EUR"\n'
        f'farms = ["{card}"]\n'
        'into = "night/frames/{shot}"\n'
        'deliver = "night/delivery/{shot}"\n'
        'report = "night/{shot}.html"\n'
    )
    found = folder / LIST
    found.write_text("\n".join([head, *entries]), encoding="utf-8")
    return found


def _text(shot: _Shot) -> str:
    lanterns = "".join(
        _LANTERN.format(index=at, x=x, first=FIRST, middle=(FIRST + LAST) // 2, last=LAST)
        for at, x in enumerate(shot.lanterns)
    )
    return _SHOT.format(
        name=shot.name,
        first=FIRST,
        last=LAST,
        mood=shot.mood,
        start=shot.ferry[0],
        end=shot.ferry[1],
        lanterns=lanterns,
        lens=shot.lens,
        x=shot.at[0],
        y=shot.at[1],
        z=shot.at[2],
        turn=shot.turn,
        more=_POSTER if shot.poster else "",
    )
